"""Rows set aside: one entry a fault, with everything needed to find the row and to mend it. Kept as Parquet."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.ahead import import_ahead
from nomotheta.frozen import frozen

Ints = NDArray[np.int64]

REPEATED = "repeated"  # the reason of a row until it is known whether it is a copy
_FLUSH = 20_000  # faults
_READ = 16_384


@frozen
class Reject:
    """One fault of one row.

    `line` and `record` count from 1, the record below the header; `offset` is the byte of the file's UTF-8 text at
    which the record begins. `column` is the charter's name and `header` the file's; both are empty for a fault of the
    whole row. `reason` is one of the documented codes, `rule` the check that set it aside. `cells` are the row's values
    by the charter's columns, as far as they could be told; `load` is the one whose row is in the way, or 0.
    """

    file: str
    line: int
    record: int
    offset: int
    column: str
    header: str
    value: str | None
    reason: str
    rule: str
    message: str
    original: str
    cells: tuple[str | None, ...] = ()
    load: int = 0


_TYPES = dict.fromkeys(("line", "record", "offset", "load"), pa.int64()) | {"cells": pa.list_(pa.string())}
SCHEMA = pa.schema([(each.name, _TYPES.get(each.name, pa.string())) for each in fields(Reject)])


_SHARED = ["file", "column", "header", "reason", "rule", "message"]  # columns of few different texts


class RejectFile:
    """Writes rejects beside `path` and puts them in place when the load has ended; an empty file is not kept."""

    def __init__(self, path: Path) -> None:
        self.path, self._part = path, part_of(path)
        self._pending: list[Any] = []
        self._writer: Any = None

    def add(self, tables: Iterable[Any]) -> None:
        """Keep some more, as tables of SCHEMA."""
        for table in tables:
            if self._writer is None and not self._pending:
                import_ahead("pyarrow.parquet")  # only now: most nights nothing is set aside
            self._pending.append(table)
            if sum(each.num_rows for each in self._pending) >= _FLUSH:
                self._flush()

    def _flush(self) -> None:
        if not self._pending:
            return
        if self._writer is None:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._writer = _writer(self._part)
        self._writer.write_table(pa.concat_tables(self._pending))
        self._pending = []

    def tell_repeats(self, reasons: Sequence[Any], messages: Sequence[Any], loads: Sequence[Any]) -> None:
        """Write why the rows stay out that repeat a key, in their order, in place of that they do."""
        told = _Repeats(*(pa.concat_arrays(each) for each in (reasons, messages, loads)))
        if self._writer is None:
            self._pending = [told.into(table) for table in self._pending]
            return
        import pyarrow.parquet as pq

        self.finish()
        written = self._part.with_suffix(".told")
        with pq.ParquetFile(self._part) as file:
            self._writer = _writer(written)
            for batch in file.iter_batches(_FLUSH, use_threads=False):
                self._writer.write_table(told.into(pa.Table.from_batches([batch])))
            self._writer.close()
        written.replace(self._part)

    @property
    def written(self) -> Path:
        """Where they are before the load has ended; there is no such file where none was set aside."""
        return self._part

    def keep(self) -> None:
        """Put the file in place."""
        self.finish()
        if self._writer is None:
            self.path.unlink(missing_ok=True)  # of an older ledger that gave the same number
        else:
            self._writer = None
            self._part.replace(self.path)

    def finish(self) -> None:
        """Write all that is still to be written; after that, nothing but the name is missing."""
        self._flush()
        if self._writer is not None:
            self._writer.close()

    def discard(self) -> None:
        """Forget what was written."""
        self._pending = []
        if self._writer is not None:
            self._writer.close()
            self._writer = None
        self._part.unlink(missing_ok=True)


def _writer(path: Path) -> Any:
    """A file of rejects that only its owner may read."""
    import pyarrow.parquet as pq

    os.close(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600))
    return pq.ParquetWriter(path, SCHEMA, use_dictionary=_SHARED, write_statistics=False)


@dataclass(slots=True)
class _Repeats:
    """Why rows stay out that repeat a key, as far as it was not written yet."""

    reasons: Any
    messages: Any
    loads: Any
    done: int = 0

    def into(self, table: Any) -> Any:
        """Faults with the reasons of those that say no more than that a key is repeated."""
        own = pc.equal(table["reason"], REPEATED)
        count = pc.sum(own).as_py() or 0
        if not count:
            return table
        at = pc.if_else(own, pc.cumulative_sum(own.cast(pa.int64())), None)
        at = pc.add(at, self.done - 1)
        self.done += count
        for name, told in (("reason", self.reasons), ("message", self.messages), ("load", self.loads)):
            place = table.schema.get_field_index(name)
            changed = pc.if_else(own, told.take(at), table[name])
            table = table.set_column(place, SCHEMA.field(place), changed)
        return table


def part_of(path: Path) -> Path:
    """Where the rejects of a load stand until it has ended."""
    return path.with_suffix(".part")


def recover(path: Path, *, stands: bool) -> None:
    """The rejects of a load that was cut off: put in place where it was committed, forgotten where it was not."""
    part = part_of(path)
    if part.exists():
        part.replace(path) if stands else part.unlink()


Rows = Collection[tuple[str, int]]  # by file and record


def open_faults(
    path: Path, came: Rows | None = None, columns: Sequence[str] | None = None, only: Rows | None = None
) -> Iterator[Any]:  # fmt: skip
    """The faults of a load in the order of the file, as `pa.Table`s: of `only` some rows, not of those that came."""
    if not path.exists():
        return
    import pyarrow.parquet as pq

    gone, chosen = _by_file(came or ()), None if only is None else _by_file(only)
    wanted = list(dict.fromkeys(["file", "record", *columns])) if columns else None
    with pq.ParquetFile(path) as file:
        for batch in file.iter_batches(_READ, columns=wanted, use_threads=False):
            table = pa.Table.from_batches([batch])
            if gone:
                table = table.filter(pa.array(~_among(table, gone)))
            if chosen is not None:
                table = table.filter(pa.array(_among(table, chosen)))
            if table.num_rows:
                yield table


def _by_file(rows: Rows) -> dict[str, Ints]:
    """The records of some rows, by their files."""
    found: dict[str, list[int]] = {}
    for file, record in rows:
        found.setdefault(file, []).append(record)
    return {file: np.array(records) for file, records in found.items()}


def _among(table: Any, rows: Mapping[str, Ints]) -> NDArray[np.bool_]:
    """Which faults are of some rows."""
    found = np.zeros(table.num_rows, np.bool_)
    for name, records in rows.items():
        of = pc.equal(table["file"], name).to_numpy()
        if of.any():
            found |= of & np.isin(table["record"].to_numpy(), records)
    return found


REPEATS = frozenset({"copy", "conflict"})  # the reasons of rows that stay out for the sake of another


def read_rejects(path: Path, limit: int | None = None, came: Rows | None = None) -> Sequence[Reject]:
    """The rejects of a load but those that came later: all in the order of the file, or the first `limit`.

    Among the first, what does not fit comes before what only repeats another row.
    """
    if limit is None:
        return [each for table in open_faults(path, came) for each in _rejects(table)]
    found: list[Reject] = []
    words = pa.array(sorted(REPEATS))
    for repeats in (False, True):
        for table in open_faults(path, came):
            if len(found) >= limit:
                return found
            own = pc.is_in(table["reason"], words)
            rows = table.filter(own if repeats else pc.invert(own))
            found += _rejects(rows.slice(0, limit - len(found)))
    return found


def _rejects(table: Any) -> list[Reject]:
    return [Reject(**row | {"cells": tuple(row["cells"])}) for row in table.to_pylist()]


def kept_out_by(path: Path, loads: Collection[int]) -> list[tuple[str, int]]:
    """The rows (file and record) that were set aside because rows of some loads have their keys, and for no other."""
    wanted, found, others = pa.array(sorted(loads), pa.int64()), dict[tuple[str, int], None](), set[tuple[str, int]]()
    for table in open_faults(path, None, ("reason", "load")):
        by = pc.is_in(table["load"], wanted).to_pylist()
        for file, record, its in zip(table["file"].to_pylist(), table["record"].to_pylist(), by, strict=True):
            if its:
                found[file, record] = None
            else:
                others.add((file, record))
    return [row for row in found if row not in others]


FAULTS_SHOWN = ("line", "message", "original", "cells")  # that a file to be mended is made of


Cells = tuple[str | None, ...]


def cells_set_aside(path: Path, reasons: frozenset[str]) -> Mapping[tuple[str, int], tuple[str, Cells]]:
    """By file and record, the reason and the cells of the rows that were set aside for some reasons."""
    found: dict[tuple[str, int], tuple[str, Cells]] = {}
    wanted = pa.array(sorted(reasons))
    if not any(pc.any(pc.is_in(each["reason"], wanted)).as_py() for each in open_faults(path, None, ("reason",))):
        return found  # the cells of all that was set aside are much to read
    for table in open_faults(path, None, ("reason", "cells")):
        for row in table.filter(pc.is_in(table["reason"], wanted)).to_pylist():
            found.setdefault((row["file"], row["record"]), (row["reason"], tuple(row["cells"])))
    return found


def count_faults(path: Path, came: Rows) -> int:
    """How many faults there are of rows that did not come later."""
    return sum(table.num_rows for table in open_faults(path, came, ("record",)))


def left_out(path: Path) -> dict[str, Any]:
    """By file, the numbers of the records that were set aside, each once and in order, as NumPy arrays."""
    if not path.exists():
        return {}
    import pyarrow.parquet as pq

    table = pq.read_table(path, columns=["file", "record"])
    grouped = table.group_by("file").aggregate([("record", "distinct")])
    names, records = grouped.column("file").to_pylist(), grouped.column("record_distinct")
    return {name: records[at].values.sort().to_numpy() for at, name in enumerate(names)}
