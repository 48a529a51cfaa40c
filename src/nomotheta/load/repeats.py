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
from nomotheta.keys import IN_TABLE, PARTITIONS, Ascending, Hashes, InOrder, Ints, Keys, SeenKeys, split, take_in
from nomotheta.load.aside import Fault
from nomotheta.load.work import Worked, shown_values
from nomotheta.source import Parts

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

    def told(self, record: int, file: str) -> str:
        """A record as a line, with the name of its file where that is another."""
        at = int(np.searchsorted(self.first, record - 1, side="right")) - 1
        of, first, lines, parts = self.blocks[at]
        within = record - 1 - self.first[at]
        number = int(first + within if lines is None else lines[within])
        if parts is not None:
            of, number = parts.line(within, number)
        return f"line {number}" if of == file else f"line {number} of {of}"


@dataclass(frozen=True, slots=True)
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

    Keys that come `in_order` are not `hashed` before one does not. Of every row that stays out the cells of its key are
    kept in `doubtful`, to find two keys that share a hash.
    """

    keys: Sequence[Check]
    seen: Sequence[SeenKeys]
    decided: Decided | None = None
    owners: Owners = field(default_factory=Owners)
    in_order: InOrder | None = None
    hashed: Callable[[Any, Check], Hashed] | None = None
    doubtful: list[tuple[Check, Any, NDArray[np.uint64]]] = field(default_factory=list)
    in_table: int = 0

    def of(self, worked: Worked, before: int, private: frozenset[str]) -> tuple[NDArray[np.bool_], list[Fault]]:
        """Of the good rows of a block, before which so many records stand: those that stay out, and why."""
        gone, faults = np.zeros(worked.good.num_rows, np.bool_), []
        records = worked.records + before + 1
        if self._in_order(worked, records):
            return gone, []
        hashes = self._hashes(worked)
        found = self._decided(hashes, records) if self.decided is not None else take_in(self.seen, hashes, records)
        for key, (repeated, firsts, own) in zip(self.keys, found, strict=True):
            if not len(repeated):
                continue
            gone[repeated] = True
            self.in_table += int((firsts == IN_TABLE).sum())
            cells = worked.good.select(list(key.columns)).take(pa.array(repeated))
            self.doubtful.append((key, cells, own))
            faults += self._faults(key, cells, worked, worked.records[repeated], firsts, private)
        return gone, faults

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
        """What was found beforehand, and what stands in the table."""
        assert self.decided is not None  # noqa: S101 - only then is it asked
        own = keys[0]
        known, _ = self.seen[0].find_keys(own)
        stay = self.decided.of(records[own.rows])
        stay[known] = IN_TABLE
        out = np.flatnonzero(stay)
        out = out[np.argsort(own.rows[out])]
        return [(own.rows[out], stay[out], own.hashes[out])]

    def _faults(
        self, key: Check, cells: Any, worked: Worked, records: Ints, firsts: Ints, private: frozenset[str]
    ) -> list[Fault]:
        values: list[str | None] = [None] * len(records)
        if not key.whole_row:
            values = [shown_values(key.columns, list(row.values()), private) for row in cells.to_pylist()]
        column = key.columns[0] if len(key.columns) == 1 else ""
        files = worked.files_of(records)
        told = [self._told(key, first, file) for first, file in zip(firsts.tolist(), files, strict=True)]
        return [
            Fault(int(record), column, value, "repeated", key.name, why)
            for value, record, why in zip(values, records, told, strict=True)
        ]

    def _told(self, key: Check, first: int, file: str) -> str:
        what = "row" if key.whole_row else "key"
        if first == IN_TABLE:
            return f"its {what} is in the table already"
        other = self.owners.told(first, file)
        if key.keep == "last":
            return f"its key comes again, later, in {other}"
        same = key.keep == "none"
        return f"has the same key as {other}; none of them is loaded" if same else f"repeats the {what} of {other}"

    def collided(self) -> bool:
        """Whether, where no row of a key stays, the rows that stay out have more keys than hashes."""
        apart = [(cells, hashes) for key, cells, hashes in self.doubtful if key.keep == "none"]
        if not apart:
            return False
        cells = pa.concat_tables([each for each, _ in apart])
        keys = cells.group_by(cells.column_names).aggregate([]).num_rows
        return bool(keys != len(np.unique(np.concatenate([hashes for _, hashes in apart]))))


def decide(key: Check, blocks: Iterable[tuple[int, Worked]], owners: Owners) -> Decided:
    """Read a delivery through to find the rows that stay out.

    Args:
        key: of which the last row stays, or none.
        blocks: each with how many records stand before it.
        owners: taught where every record stands.
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
            entries["by"], entries["low"] = (0, 0) if by is None else _sortable(by)
            for file, part in zip(files, split(entries, entries["hash"]), strict=True):
                part.tofile(file)
        for file in files:
            file.seek(0)
            found.append(_stay_out(np.fromfile(file, _ENTRY), key.keep))
    records, others = (np.concatenate(parts) for parts in zip(*found, strict=True))
    order = np.argsort(records)
    return Decided(records[order], others[order])


def _stay_out(entries: NDArray[Any], keep: str) -> tuple[Ints, Ints]:
    """Of all rows of some keys: those that stay out, and for whose sake."""
    order = np.lexsort((entries["record"], entries["low"], entries["by"], entries["hash"]))
    hashes, records = entries["hash"][order], entries["record"][order]
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


def _sortable(column: Any) -> tuple[Ints, NDArray[np.uint64]]:
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
