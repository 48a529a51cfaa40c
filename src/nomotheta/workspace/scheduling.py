"""When a workspace is to be run, as the clocks of an operating system are told: units for systemd, a line for cron."""

from __future__ import annotations

import datetime
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path

from nomotheta.charter import Charter
from nomotheta.errors import DeclarationError
from nomotheta.frozen import frozen

AFTER = datetime.timedelta(minutes=5)  # so long after the last file was due, unless a time is given
FORMS = ("systemd", "cron")


@frozen
class Start:
    """A run a day: its time on the clock of the workspace, and whether it is for the day before."""

    at: datetime.time
    day_before: bool


def starts_of(charters: Sequence[Charter], at: datetime.time | None) -> list[Start]:
    """The runs that a workspace needs: one after the files of a day are due, one after those due on the next day.

    Args:
        charters: of its tables.
        at: the time, where it is given; else a little after the last file is due.

    Raises:
        DeclarationError: no time is given, and no file is due.
    """
    due = {False: list[datetime.time](), True: list[datetime.time]()}
    for charter in charters:
        if charter.delivery is not None and charter.delivery.due is not None:
            told = charter.delivery.due
            due[told.startswith("next day")].append(datetime.time.fromisoformat(told[-5:]))
    if not any(due.values()):
        if at is None:
            raise DeclarationError("no charter says when its files are due, so there is no time for a run",
                                   mend='write due = "06:30" under [delivery], or give --at 06:35')  # fmt: skip
        return [Start(at, day_before=False)]
    return [Start(at or _later(max(times)), day_before=before) for before, times in due.items() if times]


def _later(time: datetime.time) -> datetime.time:
    """A little later, but on the same day."""
    moved = datetime.datetime.combine(datetime.date(2026, 1, 1), time) + AFTER
    return moved.time() if moved.day == 1 else datetime.time(23, 59)


def schedule(form: str, name: str, root: Path, zone: str, starts: Sequence[Start]) -> str:
    """The text that an operating system is given.

    Args:
        form: `systemd` or `cron`.
        name: of the workspace.
        root: its folder.
        zone: its time zone.
        starts: the runs.
    """
    return _systemd(name, root, zone, starts) if form == "systemd" else _cron(name, root, zone, starts)


def _words(start: Start) -> list[str]:
    day = ["--day", "yesterday"] if start.day_before else []
    return [sys.executable, "-m", "nomotheta", "run", *day, "--quiet"]


def _cron(name: str, root: Path, zone: str, starts: Sequence[Start]) -> str:
    lines = [f"# {_line(name)}: add these lines with `crontab -e`.", f"# The times are those of {zone}.",
             f"CRON_TZ={zone}"]  # fmt: skip
    for each in starts:
        command = f"cd {shlex.quote(str(root))} && {shlex.join(_words(each))}".replace("%", r"\%")
        lines.append(f"{each.at.minute} {each.at.hour} * * * {command}")
    return "\n".join(lines) + "\n"


def _systemd(name: str, root: Path, zone: str, starts: Sequence[Start]) -> str:
    parts = []
    for each in starts:
        unit = "nomotheta-day-before" if each.day_before else "nomotheta"
        told = _line(name).replace("%", "%%")
        command = " ".join(_quoted(word) for word in _words(each))
        parts.append(
            f"# ~/.config/systemd/user/{unit}.service\n[Unit]\nDescription={told}: load, check and reconcile\n\n"
            f"[Service]\nType=oneshot\nWorkingDirectory={str(root).replace('%', '%%')}\nExecStart={command}\n\n"
            f"# ~/.config/systemd/user/{unit}.timer\n[Unit]\nDescription={told}, every day\n\n"
            f"[Timer]\nOnCalendar=*-*-* {each.at:%H:%M}:00 {zone}\nPersistent=true\n\n"
            f"[Install]\nWantedBy=timers.target\n\n"
            f"# then: systemctl --user daemon-reload && systemctl --user enable --now {unit}.timer\n"
        )
    return "\n".join(parts)


def _quoted(word: str) -> str:
    """A word of a command as systemd reads it."""
    word = word.replace("\\", r"\\").replace('"', r"\"").replace("%", "%%").replace("$", "$$")
    return f'"{word}"' if any(sign in word for sign in " '\t;") else word


def _line(text: str) -> str:
    """A text without line ends."""
    return " ".join(text.split())
