"""Declarations that many charters share: files that are named where they apply, or that name the tables themselves.

What they hold is added to a charter before it is read, and keeps its place in its own file, so that a complaint about
it points there, and makes every charter wrong that it is for. A column that a charter declares itself is its own.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path as FilePath
from typing import Any

from nomotheta.charter.positions import Path, Position
from nomotheta.charter.read import Problem, Source, read_source
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen

_LISTS = ("keys", "references", "rules", "excused")
_KEYS = ("tables", "columns", "layouts", *_LISTS)


@frozen
class Shared:
    """A shared file: what it declares, where it is written, and the names of tables that it is for, with * and ?.

    `problems` are what is wrong with it as a whole; what it declares is checked with each charter.
    """

    values: Mapping[str, Any]
    source: Source
    tables: tuple[str, ...] = ()
    problems: tuple[Problem, ...] = ()

    def is_for(self, table: str) -> bool:
        """Whether it names a table."""
        return any(fnmatch.fnmatchcase(table, pattern) for pattern in self.tables)


def is_shared(values: Mapping[str, Any]) -> bool:
    """Whether a file in the folder of the charters is none, but shared by the tables that it names."""
    return "tables" in values and "table" not in values


def unreadable_shared(problem: Problem, text: str) -> Shared | None:
    """A file that cannot be read, but seems to be shared: by whom is not known, so it may be by all."""
    if not re.search(r"^\s*tables\s*=", text, re.M):
        return None
    return Shared({}, Source(problem.file, text, {}), ("*",), (problem,))


def shared_of(values: Mapping[str, Any], source: Source) -> Shared:
    """What a shared file declares."""
    problems = []
    for key, value in values.items():
        if key not in _KEYS:
            mend = did_you_mean(key, _KEYS, "shared here: " + ", ".join(_KEYS))
            path: Path = (key, 0) if isinstance(value, list) else (key,)
            problems.append(source.problem(path, f"unknown key '{key}' in a file that charters share", mend))
        elif not isinstance(value, list if key in {*_LISTS, "tables"} else dict):
            form = "a list in [...]" if key in {*_LISTS, "tables"} else "a table"
            problems.append(source.problem((key,), f"'{key}' must be {form}", "see the charter reference"))
    tables = values.get("tables", [])
    if not isinstance(tables, list) or not all(isinstance(each, str) for each in tables):
        tables = []
    return Shared({} if problems else values, source, tuple(tables), tuple(problems))


def with_shared(
    values: Mapping[str, Any], source: Source, folder: FilePath, also: Sequence[Shared]
) -> tuple[dict[str, Any], Source, list[Problem]]:
    """A charter's values with those of the files that it uses, and of those in `also`; and what is wrong with them."""
    problems: list[Problem] = []
    used = []
    names = values.get("use", [])
    for at, name in enumerate(names if isinstance(names, list) else []):
        if not isinstance(name, str):
            continue  # which is told by its type
        path = folder / name
        if FilePath(name).is_absolute() or not path.resolve().is_relative_to(folder.resolve()):
            told = f"'{name}' is not kept with the charters"
            problems.append(source.problem(("use", at), told, "put it into their folder"))
            continue
        try:
            shared = shared_of(*read_source(path, f"{FilePath(source.file).parent}/{name}"))
        except DeclarationError as error:
            told = f"{name}: {error.what}"
            mend = error.mend or f"write {folder.name}/{name}, or take it out"
            problems.append(source.problem(("use", at), told, mend))
            continue
        used.append(shared)
    merged: dict[str, Any] = dict(values)
    for each in [*used, *also]:
        problems += [replace(problem, charter=source.file) for problem in each.problems]
        source = _add(merged, each, source)
    return merged, source, problems


def _add(merged: dict[str, Any], shared: Shared, source: Source) -> Source:
    """Add what a shared file declares; the source with the places of it."""
    places: dict[Path, Position] = {}

    def moved(old: Path, new: Path) -> None:
        for path, position in shared.source.positions.items():
            if path[: len(old)] == old:
                places[(*new, *path[len(old) :])] = replace(position, file=shared.source.file)

    own = merged.get("columns", {})
    for name, column in shared.values.get("columns", {}).items():
        if isinstance(own, dict) and name not in own:
            own = merged["columns"] = {**own, name: column}
            moved(("columns", name), ("columns", name))
    for key in _LISTS:
        before = merged.get(key, [])
        more = shared.values.get(key, [])
        if more and isinstance(before, list):
            merged[key] = [*before, *more]
            for at in range(len(more)):
                moved((key, at), (key, len(before) + at))
    delivery = merged.get("delivery")
    layout = delivery.get("layout") if isinstance(delivery, dict) else None
    if isinstance(delivery, dict) and isinstance(layout, str) and layout in shared.values.get("layouts", {}):
        merged["delivery"] = {**delivery, "layout": shared.values["layouts"][layout]}
        moved(("layouts", layout), ("delivery", "layout"))
    texts = {**source.texts, shared.source.file: shared.source.text}
    return replace(source, positions={**source.positions, **places}, texts=texts)
