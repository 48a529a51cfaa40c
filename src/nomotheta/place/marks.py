"""The table in which every load leaves its mark: the same in every place, but for the names of the types."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from nomotheta.conditions import Kind
from nomotheta.errors import PlaceError
from nomotheta.place.base import Mark

MARKS = "nomotheta_marks"
_SHORT = Kind("text", 190)  # as long as some databases let a unique text be
MARK_COLUMNS = {
    "load_no": Kind("integer"), "workspace": _SHORT, "table_name": _SHORT, "content": _SHORT, "once": _SHORT,
    "day": Kind("date"), "loaded_at": Kind("timestamptz"), "row_count": Kind("integer"),
}  # fmt: skip
OF_TABLE = f"SELECT {', '.join(MARK_COLUMNS)} FROM {MARKS} WHERE table_name = "
TAKEN_AWAY = f"DELETE FROM {MARKS} WHERE table_name = {{}} AND load_no = {{}} AND workspace = {{}}"
HIGHEST = f"SELECT coalesce(max(load_no), 0) + 1 AS n FROM {MARKS}"


def marks_ddl(type_name: Callable[[Kind], str], more: str = "") -> str:
    """The statement that makes the table; `more` follows its columns."""
    columns = ", ".join(f"{name} {type_name(kind)} NOT NULL" for name, kind in MARK_COLUMNS.items())
    return f"CREATE TABLE IF NOT EXISTS {MARKS} ({columns}, UNIQUE (table_name, once)){more}"


def values_of(mark: Mark) -> list[Any]:
    """A mark as the values of its row."""
    return [mark.load_no, mark.workspace, mark.table, mark.content, mark.once, mark.day, mark.at, mark.rows]


def marks_of(rows: Iterable[Sequence[Any]]) -> list[Mark]:
    """Rows as marks, oldest first."""
    return sorted((Mark(*row) for row in rows), key=lambda mark: mark.load_no)


def no_marks(error: PlaceError, ddl: str) -> PlaceError:
    """What is said where the table is not there and may not be made."""
    return PlaceError(
        f"the table of loads cannot be made: {error.what}", where=error.where,
        mend=f"have it made by one who may: {ddl}",
    )  # fmt: skip
