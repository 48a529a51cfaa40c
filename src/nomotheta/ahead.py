"""What will be needed soon, begun beside what is done now: the files of a load, and modules.

The files are read once before all else anyway, and can be while the program is still being imported. What is wrong with
a workspace, a charter or a module is told by those who read it in earnest; here it only means that nothing is begun.
"""

from __future__ import annotations

import atexit
import contextlib
import datetime
import importlib
import re
import sys
import threading
import tomllib
import zoneinfo
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from nomotheta.formats import FORMATS

_OPTIONS = ("--day", "--workspace", "-w", "--place")  # of a load, with a value


def import_ahead(module: str) -> None:
    """Begin to import a module that will be asked for, while other threads work or wait for something."""
    if module in sys.modules:
        return

    def imported() -> None:
        with contextlib.suppress(ImportError):
            importlib.import_module(module)

    thread = threading.Thread(target=imported, daemon=True)
    thread.start()
    atexit.register(thread.join)  # a library in another language may not be left in the middle of its start


def foresee(arguments: Sequence[str]) -> None:
    """Begin what a command line asks for, as far as that can be seen before its parser is imported.

    Args:
        arguments: those of the command `nomotheta`.
    """
    if list(arguments[:1]) != ["load"]:
        return
    given, table, rest = dict.fromkeys(_OPTIONS, ""), "", iter(arguments[1:])
    for each in rest:
        name, equals, value = each.partition("=")
        if name in given:
            given[name] = value if equals else next(rest, "")
        elif not each.startswith("-"):
            table = table or each
    if table and not any(word.partition("=")[0] in {"--again", "--file"} for word in arguments):
        with contextlib.suppress(ValueError):
            day = datetime.date.fromisoformat(given["--day"]) if given["--day"] else None
            look_ahead(Path(given["--workspace"] or given["-w"]), table, day)


def look_ahead(folder: Path, table: str, day: datetime.date | None) -> None:
    """Begin to survey the files that a table's delivery is probably made of.

    Args:
        folder: the workspace's, or one below it.
        table: as its charter names it.
        day: the delivery's; None for today in the workspace's time zone.
    """
    with contextlib.suppress(Exception):
        above = (folder.resolve(), *folder.resolve().parents)
        root = next(each for each in above if (each / "nomotheta.toml").is_file())
        settings = _read(root / "nomotheta.toml")
        charter = next(each for each in map(_read, (root / "charters").glob("*.toml")) if each.get("table") == table)
        from nomotheta.unpack import survey_ahead

        today = day or datetime.datetime.now(zoneinfo.ZoneInfo(settings.get("time_zone", "UTC"))).date()
        survey_ahead(_files(root, charter["delivery"], settings, today))


def _read(path: Path) -> dict[str, Any]:
    with path.open("rb") as file:
        return tomllib.load(file)


def _files(root: Path, delivery: dict[str, Any], settings: dict[str, Any], day: datetime.date) -> Iterator[Path]:
    layout = delivery.get("layout", {})
    layout = settings.get("layouts", {}).get(layout, {}) if isinstance(layout, str) else layout
    if not FORMATS[layout.get("format", "delimited")].text:
        return
    from nomotheta.unpack import matching

    files = delivery["files"]
    for pattern in [files] if isinstance(files, str) else files:
        filled = re.sub(r"\{day(?::([^{}]*))?\}", lambda match: day.strftime(match[1] or "%Y-%m-%d"), pattern)
        yield from matching(root, filled)
