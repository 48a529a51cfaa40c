"""Which rows of a delivery stay out because another has their key: the first of them stays, the last, or none.

Where the first stays, a repeat is told as the rows stream by. Where another does, or none, the delivery is read once
before: the hashes of all keys are shared out into files by their first bits, and each file is looked through by itself.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Check
from nomotheta.frozen import frozen
from nomotheta.keys import IN_TABLE, PARTITIONS, Ascending, Hashes, InOrder, Ints, Keys, SeenKeys, split, take_in
from nomotheta.load.aside import table_of
from nomotheta.load.copies import FILE, FIRST, KEY, OTHER, RECORD, Waiting
from nomotheta.load.work import Worked, shown_column, shown_rows
from nomotheta.source.joined import Parts

Hashed = tuple[Hashes, Ints]  # of some rows, and which
_ENTRY = np.dtype([("hash", np.uint64), ("by", np.int64), ("low", np.uint64), ("record", np.int64)])


@dataclass(slots=True)
class Owners:
    """On which line of which file a record began, for the message about a row that repeats it.

    Records are counted from 1 through all files of the delivery.
    """

    first: list[int] = field(default_factory=list)
    blocks: list[tuple[str, int, Any, Parts | None]] = field(default_factory=list)

    def add(self, before: int, worked: Worked) -> None:
        """Take in a block before which so many records stand."""
        batch = worked.batch
        self.first.append(before)
        lines = None if batch.a_line_each else batch.line_numbers(np.arange(batch.count))
        self.blocks.append((worked.file, worked.first_line, lines, worked.parts))

    def told(self, records: Ints, files: Any) -> Any:
        """Each of n records as a line, with the name of its file where that is another than the one given; as texts.

        A record that is not a record of the delivery is told as an empty text.
        """
        lines, names = np.zeros(len(records), np.int64), pa.array(files, pa.string())
        owners = np.array([""] * len(records), object)
        at = np.searchsorted(self.first, records - 1, side="right") - 1
        for number in np.unique(at[records > 0]).tolist():
            mine = np.flatnonzero((at == number) & (records > 0))
            of, first, own_lines, parts = self.blocks[number]
            within = records[mine] - 1 - self.first[number]
            found = first + within if own_lines is None else own_lines[within]
            if parts is None:
                owners[mine], lines[mine] = of, found
            else:
                owners[mine] = parts.files(within).to_pylist()
                lines[mine] = parts.places(within, found, found)[0]
        own = pa.array(owners, pa.string())
        line = pc.binary_join_element_wise("line ", pa.array(lines).cast(pa.string()), "")
        elsewhere = pc.binary_join_element_wise(line, own, " of ")
        told = pc.if_else(pc.equal(own, names), line, elsewhere)
        return pc.if_else(pa.array(records > 0), told, "")


@frozen
class Decided:
    """The records that stay out, in their order, and for whose sake."""

    records: Ints
    others: Ints

    def of(self, records: Ints) -> Ints:
        """For each of N records the one for whose sake it stays out; 0 for one that does not."""
        if not len(self.records):
            return np.zeros(len(records), np.int64)
        at = np.minimum(np.searchsorted(self.records, records), len(self.records) - 1)
        return np.where(self.records[at] == records, self.others[at], 0)


@dataclass(slots=True)
class Repeats:
    """The rows that stay out, for each key. `decided` says it beforehand, where not the first row of a key stays.

    Keys that come `in_order` are not `hashed` before one does not. Every row that stays out is kept in `waiting`, with
    the `columns` that the file holds, to be compared with the one whose key it has; of rows of a key of which none
    stays, the `cells` of the key in `apart`, to find two keys that share a hash.
    """

    keys: Sequence[Check] = ()
    seen: Sequence[SeenKeys] = ()
    cells: Callable[[Any, Check], Any] = lambda table, key: table.select(list(key.columns))
    columns: Sequence[str] = ()
    decided: Decided | None = None
    owners: Owners = field(default_factory=Owners)
    in_order: InOrder | None = None
    hashed: Callable[[Any, Check], Hashed] | None = None
    waiting: Waiting = field(default_factory=Waiting)
    apart: list[tuple[Any, NDArray[np.uint64]]] = field(default_factory=list)
    in_table: int = 0

    def of(
        self, worked: Worked, before: int, private: frozenset[str]
    ) -> tuple[NDArray[np.bool_], Any]:  # fmt: skip
        """Of the good rows of a block, before which so many records stand: those that stay out, and a table of faults.

        There is no table where none stays out; why each does in full is told when all rows are in.
        """
        gone = np.zeros(worked.good.num_rows, np.bool_)
        records = worked.records + before + 1
        if self._in_order(worked, records):
            return gone, None
        found = self.found(worked, records)
        faults, rows, numbers, firsts_of = [], [], [], []
        for number, (key, (repeated, firsts, own)) in enumerate(zip(self.keys, found, strict=True)):
            if not len(repeated):
                continue
            gone[repeated] = True
            self.in_table += int((firsts == IN_TABLE).sum())
            if key.keep == "none":
                self.apart.append((self.cells(worked.good.take(pa.array(repeated)), key), own))
            faults.append(_faults(key, worked, repeated, private))
            rows.append(repeated)
            firsts_of.append(firsts)
            numbers.append(np.full(len(repeated), number, np.int16))
        if not faults:
            return gone, None
        self._wait(worked, np.concatenate(rows), np.concatenate(numbers), np.concatenate(firsts_of), before)
        return gone, pa.concat_tables(faults)

    def found(self, worked: Worked, records: Ints) -> list[tuple[Ints, Ints, Hashes]]:
        """For each key, the rows of a block that stay out, for the sake of which records, and those keys."""
        hashes = self._hashes(worked)
        return self._decided(hashes, records) if self.decided is not None else take_in(self.seen, hashes, records)

    def _wait(self, worked: Worked, rows: Ints, numbers: Any, firsts: Ints, before: int) -> None:
        """Keep rows that stay out, in the order in which their faults are written: by record, then by key."""
        order = np.argsort(worked.records[rows], kind="stable")
        rows, numbers, firsts = rows[order], numbers[order], firsts[order]
        records = worked.records[rows]
        wanted = list(dict.fromkeys([*self.columns, *(name for key in self.keys for name in key.columns)]))
        files = worked.files_of(records)
        more = {
            KEY: pa.array(numbers), FIRST: pa.array(firsts), RECORD: pa.array(records + before + 1),
            FILE: pa.array(files, pa.string()), OTHER: self.owners.told(np.where(firsts == IN_TABLE, 0, firsts), files),
        }  # fmt: skip
        taken = worked.good.select(wanted).take(pa.array(rows))
        for name, column in more.items():
            taken = taken.append_column(name, column)
        self.waiting.add(taken)

    def _in_order(self, worked: Worked, records: Ints) -> bool:
        """Whether the keys are greater than all before; the first that are not have all of them hashed."""
        if self.in_order is None:
            return False
        own = worked.hashes[0]
        if isinstance(own, Ascending) and self.in_order.goes_on(own.values, records):
            return True
        for values, before in self.in_order.blocks:
            self.seen[0].add_keys(self._hashed(values), before)
        self.in_order = None
        return False

    def _hashes(self, worked: Worked) -> list[Keys]:
        return [self._hashed(each.values) if isinstance(each, Ascending) else each for each in worked.hashes]

    def _hashed(self, values: Ints) -> Keys:
        """Whole numbers that are the only key."""
        assert self.hashed is not None  # noqa: S101 - there is a key
        return Keys.of(*self.hashed(pa.table({self.keys[0].columns[0]: values}), self.keys[0]))

    def _decided(self, keys: Sequence[Keys], records: Ints) -> list[tuple[Ints, Ints, Hashes]]:
        """What was found beforehand, and what is in the table."""
        assert self.decided is not None  # noqa: S101 - only then is it asked
        own = keys[0]
        known, _ = self.seen[0].find_keys(own)
        stay = self.decided.of(records[own.rows])
        stay[known] = IN_TABLE
        out = np.flatnonzero(stay)
        out = out[np.argsort(own.rows[out])]
        return [(own.rows[out], stay[out], own.hashes[out])]

    def collided(self) -> bool:
        """Whether, where no row of a key stays, the rows that stay out have more keys than hashes."""
        if not self.apart:
            return False
        cells = pa.concat_tables([each for each, _ in self.apart])
        keys = cells.group_by(cells.column_names).aggregate([]).num_rows
        return bool(keys != len(np.unique(np.concatenate([hashes for _, hashes in self.apart]))))


def _faults(key: Check, worked: Worked, rows: Ints, private: frozenset[str]) -> Any:
    """That some rows repeat a key, as a table of faults."""
    column = key.columns[0] if len(key.columns) == 1 else ""
    if key.whole_row:
        values = pa.nulls(len(rows), pa.string())
    elif column:
        values = shown_column(worked.good[column], rows)
    else:
        values = shown_rows(worked.good, key.columns, rows, private)
    return table_of(worked.records[rows], column, values, "repeated", key.name, "repeats a key")


def decide(key: Check, blocks: Iterable[tuple[int, Worked]], owners: Owners) -> Decided:
    """Read a delivery through to find the rows that stay out.

    Args:
        key: of which the last row stays, or none.
        blocks: each with how many records come before it.
        owners: taught where every record is.
    """
    found: list[tuple[Ints, Ints]] = []
    with ExitStack() as stack:
        files: list[IO[bytes]] = [
            stack.enter_context(tempfile.TemporaryFile(prefix="nomotheta-")) for _ in range(PARTITIONS)
        ]
        for before, worked in blocks:
            owners.add(before, worked)
            own = worked.hashes[0]
            assert not isinstance(own, Ascending)  # noqa: S101 - they are asked for only where the first row stays
            entries = np.empty(len(own.hashes), _ENTRY)
            entries["hash"], entries["record"] = own.hashes, worked.records[own.rows] + before + 1
            by = worked.good[key.by].combine_chunks().take(pa.array(own.rows)) if key.by else None
            entries["by"], entries["low"] = (0, 0) if by is None else sortable(by)
            for file, part in zip(files, split(entries, entries["hash"]), strict=True):
                part.tofile(file)
        for file in files:
            file.seek(0)
            every = np.fromfile(file, _ENTRY)
            found.append(stay_out(every["hash"], every["record"], every["by"], every["low"], key.keep))
    records, others = (np.concatenate(parts) for parts in zip(*found, strict=True))
    order = np.argsort(records)
    return Decided(records[order], others[order])


def stay_out(
    hashes: Hashes, records: Ints, by: Ints, low: NDArray[np.uint64], keep: str
) -> tuple[Ints, Ints]:  # fmt: skip
    """Of all rows of some keys, ranked by pairs such as `sortable` makes: those that stay out, and for whose sake."""
    order = np.lexsort((records, low, by, hashes))
    hashes, records = hashes[order], records[order]
    same = np.zeros(len(hashes) + 1, np.bool_)  # as the one before
    same[1:-1] = hashes[1:] == hashes[:-1]
    followed = same[1:]
    if keep == "last":
        ends = np.flatnonzero(~followed)
        kept = records[ends[np.searchsorted(ends, np.flatnonzero(followed))]]
        return records[followed], kept
    several = followed | same[:-1]
    at = np.flatnonzero(several)
    starts = np.flatnonzero(~same[:-1])
    first = starts[np.searchsorted(starts, at, side="right") - 1]
    other = np.where(at == first, first + 1, first)
    return records[at], records[other]


def sortable(column: Any) -> tuple[Ints, NDArray[np.uint64]]:
    """Numbers and moments as pairs of the same order, the second deciding among equal first; null comes first."""
    of = column.type
    null = column.is_null().to_numpy(zero_copy_only=False)
    if pa.types.is_decimal(of):  # 128 bits, the upper half with the sign
        words = np.frombuffer(column.buffers()[1], np.uint64)[2 * column.offset : 2 * (column.offset + len(column))]
        first, second = words[1::2].view(np.int64).copy(), words[0::2].copy()
    elif pa.types.is_floating(of):
        bits = np.asarray(pc.fill_null(column, 0.0), np.float64).view(np.int64)
        first, second = np.where(bits < 0, np.iinfo(np.int64).min - bits, bits), np.ones(len(column), np.uint64)
    else:
        days = column.cast(pa.int32()) if pa.types.is_date32(of) else column
        first = np.array(pc.fill_null(days.cast(pa.int64()), 0), np.int64)
        second = np.ones(len(column), np.uint64)
    first[null], second[null] = np.iinfo(np.int64).min, 0
    return first, second
