"""What systemd and cron are told."""

from __future__ import annotations

import configparser
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import SETTINGS, TICKETS, Space


def due(space: Space, tickets: str, zones: str = "") -> None:
    for name, at in (("tickets", tickets), ("zones", zones)):
        text = TICKETS.replace("tickets", name).replace("[load]", f'due = "{at}"\n[load]' if at else "[load]", 1)
        space.charter(text, name)


@pytest.mark.parametrize(
    ("tickets", "zones", "words", "told"),
    [
        ("06:30", "05:00", (), [("06:35", False)]),
        ("06:30", "next day 05:00", (), [("06:35", False), ("05:05", True)]),
        ("23:58", "", (), [("23:59", False)]),
        ("", "", ("--at", "04:10"), [("04:10", False)]),
        ("next day 06:30", "", ("--at", "07:00"), [("07:00", True)]),
    ],
)
def test_a_run_starts_after_the_last_file_is_due(
    space: Space, tickets: str, zones: str, words: tuple[str, ...], told: list[tuple[str, bool]]
) -> None:
    due(space, tickets, zones)
    cron = space.run("schedule", "--for", "cron", *words).out
    systemd = space.run("schedule", *words).out

    lines = [line for line in cron.splitlines() if line[0].isdigit()]
    assert [(f"{int(line.split()[1]):02}:{int(line.split()[0]):02}", "yesterday" in line) for line in lines] == told
    assert systemd.count("OnCalendar=") == len(told) and all(f"*-*-* {at}:00 UTC" in systemd for at, _ in told)
    assert systemd.count("--day yesterday") == sum(before for _, before in told)


def test_odd_names_and_folders_are_quoted_as_each_clock_reads_them(tmp_path: Path) -> None:
    space = Space(tmp_path / 'the line\'s 5% "night"')
    space.write("nomotheta.toml", SETTINGS.replace('"Test line"', '"100% Test line"'))
    due(space, "06:30")
    cron = space.run("schedule", "--for", "cron").out.splitlines()[-1]
    systemd = space.run("schedule").out

    command = cron.split(None, 5)[5].replace(r"\%", "%")
    assert shlex.split(command)[:3] == ["cd", str(space.root), "&&"] and "%" not in cron.replace(r"\%", "")
    unit = configparser.ConfigParser(interpolation=None, strict=False)
    unit.optionxform = str  # type: ignore[assignment,method-assign]
    unit.read_string(systemd)
    assert unit["Service"]["WorkingDirectory"] == str(space.root).replace("%", "%%")
    assert "100%% Test line" in systemd


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="there is no systemd")
def test_systemd_takes_its_units(space: Space, tmp_path: Path) -> None:
    due(space, "06:30")
    name = None
    for line in space.run("schedule").out.splitlines(keepends=True):
        if line.startswith("# ~/"):
            name = Path(line[2:].strip()).name
        elif name and not line.startswith("#"):
            with (tmp_path / name).open("a") as file:
                file.write(line)
    checked = subprocess.run(
        ["systemd-analyze", "verify", str(tmp_path / "nomotheta.timer"), str(tmp_path / "nomotheta.service")],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert checked.returncode == 0, checked.stderr
    assert sys.executable in (tmp_path / "nomotheta.service").read_text()


def test_what_cannot_be_scheduled_is_said(space: Space) -> None:
    assert "no charter says when its files are due" in space.run("schedule").text
    assert "'6 am' is not a time of day → write it as 06:35" in space.run("schedule", "--at", "6 am").text
