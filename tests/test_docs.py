"""What the documents show holds: charters lint, programs run, and every command and option that is named exists."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest
from typer.main import get_command

from conftest import Space
from nomotheta.cli.app import app

ROOT = Path(__file__).resolve().parent.parent
TEXTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
BLOCKS = [
    (path.name, match[1], match[2])
    for path in TEXTS
    for match in re.finditer(r"^```(\w+)\n(.*?)^```", path.read_text(encoding="utf-8"), re.M | re.S)
]
COMMANDS = get_command(app).commands  # type: ignore[attr-defined]


def blocks(language: str) -> list[tuple[str, str]]:
    return [(name, text) for name, of, text in BLOCKS if of == language]


def test_every_sort_of_snippet_is_tried() -> None:
    assert {language for _, language, _ in BLOCKS} <= {"toml", "python", "sh"}
    assert blocks("toml")
    assert blocks("python")


@pytest.mark.parametrize(("name", "text"), blocks("toml"))
def test_a_charter_that_is_shown_lints(demo: Space, space: Space, name: str, text: str) -> None:
    for path in demo.root.glob("charters/*.toml"):
        space.write(f"charters/{path.name}", path.read_text())
    for step in re.findall('sql *= "(.*)"', text):
        space.write(step, "SELECT :day, :load_no")
    space.write("nomotheta.toml", (demo.root / "nomotheta.toml").read_text())
    if re.search(r"\[(stores|places)\.", text):
        space.write("nomotheta.toml", (demo.root / "nomotheta.toml").read_text() + text)
    elif "[source]" in text:
        space.write("comparisons/shown.toml", text)
    else:
        space.charter(text)

    ended = space.run("lint")

    assert ended.code == 0, ended.text


@pytest.mark.parametrize(("name", "text"), blocks("python"))
def test_a_program_that_is_shown_runs(demo: Space, name: str, text: str) -> None:
    ended = subprocess.run(
        [sys.executable, "-c", text], cwd=demo.root.parent, capture_output=True, text=True, check=False
    )

    assert ended.returncode == 0, ended.stderr
    assert len(ended.stdout.splitlines()) >= 3


def test_every_command_and_option_that_is_named_exists() -> None:
    said = [
        (path.name, match[1], match[2])
        for path in TEXTS
        for match in re.finditer(r"`nomotheta ([a-z]+)([^`]*)`", path.read_text(encoding="utf-8"))
    ]
    wrong = [
        (name, command, option)
        for name, command, rest in said
        for option in (None, *re.findall(r"--[a-z-]+", rest))
        if command not in COMMANDS
        or (option and option not in {each for parameter in COMMANDS[command].params for each in parameter.opts})
    ]

    assert len(said) > 20
    assert wrong == []
