"""What loads leave in a Delta table: their marks, the files that they brought, and what of older versions is kept.

Delta's protocol has a place for it: an application's own transaction number in a commit. Ours names a small file beside
the table's log (`_nomotheta/NUMBER.json`), which is written before the commit and never changes. So rows and marks
appear in one act, and of two writers that start from the same version one is refused. The files that a load brought are
listed in a file of their own, since there may be many.
"""

from __future__ import annotations

import datetime
import io
import json
import secrets
from collections.abc import Mapping
from dataclasses import field, replace
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.place.base import Mark
from nomotheta.place.delta.store import Store

APPLICATION = "nomotheta"  # the name under which Delta keeps the number of our newest transaction
FOLDER = "_nomotheta"  # beside the log; what begins with an underscore is no data to anybody's cleaning
_FORMAT = "nomotheta/marks/1"


@frozen
class Kept:
    """Rows that a load replaced: those of an older version that met a condition in the engine's SQL, or all."""

    version: int
    columns: tuple[str, ...]
    where: str | None


@frozen
class Memory:
    """The marks in a table, by load where its files are listed, and by name what is kept; `number` is its file."""

    number: int | None = None
    marks: tuple[Mark, ...] = ()
    listed: Mapping[int, str] = field(default_factory=dict)
    kept: Mapping[str, Kept] = field(default_factory=dict)
    highest: int = 0  # the highest number that any load has had

    def of(self, table: str) -> list[Mark]:
        """The marks of a table, or of rows that are kept under a name, oldest first."""
        return sorted((mark for mark in self.marks if mark.table == table), key=lambda mark: mark.load_no)

    def with_mark(self, mark: Mark) -> Memory:
        """With one more."""
        return replace(self, marks=(*self.marks, mark), highest=max(self.highest, mark.load_no))

    def without(self, mark: Mark) -> Memory:
        """Without those of a load in a table."""
        same = (mark.table, mark.load_no, mark.workspace)
        left = tuple(each for each in self.marks if (each.table, each.load_no, each.workspace) != same)
        return replace(self, marks=left)


def remembered(store: Store, table: str, number: int | None) -> Memory:
    """What a table's newest transaction of ours says.

    Raises:
        PlaceError: its file is gone, or is none of ours.
    """
    if number is None:
        return Memory()
    path = _path(table, number)
    data = store.read(path)
    where = f"{table} in place {store.place}"
    if data is None:
        raise PlaceError(
            f"the marks of loads are gone: {path} is not there", where=where,
            mend="put it back from a copy; without it nobody can say which loads are in the table",
        )  # fmt: skip
    try:
        told = json.loads(data)
        if told["format"] != _FORMAT:
            raise PlaceError(f"{path} is of another version: {told['format']}", where=where,
                             mend="update nomotheta")  # fmt: skip
        marks = tuple(_mark(each) for each in told["marks"])
        kept = {
            name: Kept(each["version"], tuple(each["columns"]), each["where"]) for name, each in told["kept"].items()
        }
        listed = {int(load): name for load, name in told["files"].items()}
        return Memory(number, marks, listed, kept, int(told["highest"]))
    except (ValueError, KeyError, TypeError) as error:
        raise PlaceError(f"{path} cannot be read: {error}", where=where, mend="put it back from a copy") from None


def keep(store: Store, table: str, memory: Memory) -> Memory:
    """Write it under a new number, which a commit is then to name."""
    number = secrets.randbits(62)
    told = {
        "format": _FORMAT, "highest": memory.highest, "marks": [_told(mark) for mark in memory.marks],
        "files": {str(load): name for load, name in memory.listed.items()},
        "kept": {
            name: {"version": each.version, "columns": list(each.columns), "where": each.where}
            for name, each in memory.kept.items()
        },
    }  # fmt: skip
    store.write(_path(table, number), json.dumps(told, ensure_ascii=False, indent=1).encode())
    return replace(memory, number=number)


def keep_files(store: Store, table: str, load_no: int, rows: Any) -> str:
    """Write which files a load brought (a `pa.Table`); the name of that list."""
    name = f"files-{load_no}-{secrets.token_hex(6)}.parquet"
    written = io.BytesIO()
    pq.write_table(rows, written, compression="zstd")
    store.write(f"{table}/{FOLDER}/{name}", written.getvalue())
    return name


def files_of(store: Store, table: str, name: str) -> Any:
    """A list of files, as it was kept.

    Raises:
        PlaceError: it is gone.
    """
    data = store.read(f"{table}/{FOLDER}/{name}")
    if data is None:
        raise PlaceError(f"the list of files that a load brought is gone: {FOLDER}/{name}",
                         where=f"{table} in place {store.place}", mend="put it back from a copy")  # fmt: skip
    return pq.read_table(pa.BufferReader(data))


def _path(table: str, number: int) -> str:
    return f"{table}/{FOLDER}/{number}.json"


def _told(mark: Mark) -> dict[str, Any]:
    return {
        "load": mark.load_no, "workspace": mark.workspace, "table": mark.table, "content": mark.content,
        "once": mark.once, "day": mark.day.isoformat(), "at": mark.at.astimezone(datetime.UTC).isoformat(),
        "rows": mark.rows, "replaced": mark.replaced,
    }  # fmt: skip


def _mark(told: Mapping[str, Any]) -> Mark:
    return Mark(
        int(told["load"]), told["workspace"], told["table"], told["content"], told["once"],
        datetime.date.fromisoformat(told["day"]), datetime.datetime.fromisoformat(told["at"]), int(told["rows"]),
        told["replaced"],
    )  # fmt: skip
