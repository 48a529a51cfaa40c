"""Which rows repeat a key, told as the rows stream by.

Keys are known by a 64-bit hash. The hashes seen so far lie in sorted runs, each at least twice as long as the next, so
that n keys cost n log n and 16 bytes each. Many are kept in partitions, by the first bits of their hashes, so that a
run is merged in little memory; very many are kept in files, of which the system holds in memory what there is room for.
Two keys with one hash are found out afterwards, by asking the place whether the key of every repeated row really stands
in the table; then the load starts over with another seed.
"""

from __future__ import annotations

import itertools
import mmap
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.frozen import frozen

Hashes = NDArray[np.uint64]
Ints = NDArray[np.int64]
IN_TABLE = -1
_INT32 = 1 << 31


@frozen
class Ascending:
    """The keys of all rows of a block, whole numbers of which each is greater than the one before."""

    values: Ints


@frozen
class Keys:
    """The keys of a block's rows: hashes in ascending order, and the row of each; equal ones in the rows' order."""

    hashes: Hashes
    rows: NDArray[Any]

    @classmethod
    def of(cls, hashes: Hashes, rows: Ints) -> Keys:
        """From hashes and their rows, in the order of the rows."""
        order = np.argsort(hashes)
        ordered = hashes[order]
        if len(ordered) and (ordered[1:] == ordered[:-1]).any():  # who comes first counts: it takes four times as long
            order = np.argsort(hashes, kind="stable")
        return cls(ordered, rows[order].astype(np.int32))

    @property
    def nbytes(self) -> int:
        """How many bytes it takes."""
        return int(self.hashes.nbytes + self.rows.nbytes)

    def fresh(self) -> NDArray[np.bool_]:
        """Of each, whether none before it is the same."""
        fresh = np.ones(len(self.hashes), np.bool_)
        fresh[1:] = self.hashes[1:] != self.hashes[:-1]
        return fresh


@dataclass(slots=True)
class InOrder:
    """Keys that came in ascending order so far, so that none of them can be another; with their records."""

    blocks: list[tuple[Ints, Ints]] = field(default_factory=list)

    def goes_on(self, keys: Ints, records: Ints) -> bool:
        """Take in further keys if they are greater than all before."""
        if self.blocks and len(keys) and keys[0] <= self.blocks[-1][0][-1]:
            return False
        if len(keys):
            self.blocks.append((keys, records))
        return True


@dataclass(slots=True)
class _Runs:
    """Sorted runs of hashes, each with the number of the record that had it first."""

    runs: list[tuple[Hashes, Ints]] = field(default_factory=list)

    def find(self, hashes: Hashes) -> tuple[NDArray[np.bool_], Ints]:
        found, first = np.zeros(len(hashes), np.bool_), np.zeros(len(hashes), np.int64)
        for run, owners in self.runs:
            at = np.minimum(np.searchsorted(run, hashes), len(run) - 1)
            known = run[at] == hashes
            if known.any():
                first[known] = owners[at[known]]
                found |= known
            _let_go(run)
        return found, first

    def keep(self, hashes: Hashes, records: Ints, *, in_files: bool) -> None:
        if not len(hashes):
            return
        self.runs.append((hashes, records))
        while len(self.runs) > 1 and len(self.runs[-2][0]) < 2 * len(self.runs[-1][0]):
            (left, left_records), (right, right_records) = self.runs.pop(-2), self.runs.pop()
            merged = np.concatenate([left, right])
            order = np.argsort(merged, kind="stable")
            run = merged[order], np.concatenate([left_records, right_records])[order]
            self.runs.append((_in_file(run[0]), _in_file(run[1])) if in_files and len(merged) > _LONG else run)
            _let_go(left, left_records, right, right_records)

    def shared_out(self) -> list[_Runs]:
        """The same in partitions."""
        parts = [_Runs() for _ in range(PARTITIONS)]
        for run, owners in self.runs:
            for part, own, records in zip(parts, split(run, run), split(owners, run), strict=True):
                if len(own):
                    part.runs.append((own, records))
        return parts


_BITS = 6  # of a hash: 64 partitions
_MANY, _VERY_MANY = 1 << 21, 1 << 21  # keys: from here in partitions, from here in files
_LONG = 1 << 16  # keys that are worth a file


def partitions(ordered: Hashes) -> list[int]:
    """Where each partition begins among sorted hashes, and where the last ends."""
    starts = np.arange(1 << _BITS, dtype=np.uint64) << np.uint64(64 - _BITS)
    return [*np.searchsorted(ordered, starts).tolist(), len(ordered)]


def split(values: NDArray[Any], ordered: Hashes) -> list[NDArray[Any]]:
    """N values that belong to N sorted hashes, by partition."""
    return [values[first:last] for first, last in itertools.pairwise(partitions(ordered))]


PARTITIONS = 1 << _BITS


def _in_file(values: NDArray[Any]) -> NDArray[Any]:
    """The same values in a file without a name, which goes when nobody looks at them any more."""
    with tempfile.TemporaryFile(prefix="nomotheta-") as file:
        values.tofile(file)
        file.flush()
        return np.memmap(file, values.dtype, "r", shape=values.shape)


def _let_go(*arrays: NDArray[Any]) -> None:
    """Have the system take back the memory of those that lie in files, before it has to."""
    for each in arrays:
        mapped = getattr(each, "_mmap", None)
        if mapped is not None and hasattr(mmap, "MADV_DONTNEED"):
            mapped.madvise(mmap.MADV_DONTNEED)


@dataclass(slots=True)
class SeenKeys:
    """The keys seen so far, each with the number of the record that had it first; IN_TABLE for those in the table.

    `among` is how many keys there are of the same rows: memory is shared between them.
    """

    among: int = 1
    parts: list[_Runs] = field(default_factory=lambda: [_Runs()])
    count: int = 0

    def add(self, hashes: Hashes, records: Ints) -> tuple[Ints, Ints]:
        """Take in the keys of some rows.

        Returns:
            The positions of the rows whose key was seen before, and the record that had it first.
        """
        repeated, firsts, _ = self.add_keys(Keys.of(hashes, np.arange(len(hashes))), records)
        return repeated, firsts

    def add_keys(self, keys: Keys, records: Ints) -> tuple[Ints, Ints, Hashes]:
        """Take in the keys of a block; `records` are those of its rows.

        Returns:
            The rows whose key was seen before, in order, the records that had it first, and those keys.
        """
        fresh, own = keys.fresh(), records[keys.rows]
        known, owners = self._find_ordered(keys.hashes)
        new = fresh & ~known
        self.keep(keys.hashes[new], own[new])
        if new.all():
            return np.zeros(0, np.int64), np.zeros(0, np.int64), keys.hashes[:0]
        first = own[np.maximum.accumulate(np.where(fresh, np.arange(len(fresh)), 0))]
        first, repeated = np.where(known, owners, first), ~new
        back = np.argsort(keys.rows[repeated])
        return keys.rows[repeated][back], first[repeated][back], keys.hashes[repeated][back]

    def find(self, hashes: Hashes) -> tuple[NDArray[np.bool_], Ints]:
        """Whether each key was seen before, and the record that had it first."""
        if len(self.parts) == 1:
            return self.parts[0].find(hashes)
        order = np.argsort(hashes, kind="stable")
        found, first = np.empty(len(hashes), np.bool_), np.empty(len(hashes), np.int64)
        found[order], first[order] = self._find_ordered(hashes[order])
        return found, first

    def find_keys(self, keys: Keys) -> tuple[NDArray[np.bool_], Ints]:
        """The same for the keys of a block, in the order of their hashes."""
        return self._find_ordered(keys.hashes)

    def _find_ordered(self, hashes: Hashes) -> tuple[NDArray[np.bool_], Ints]:
        if len(self.parts) == 1:
            return self.parts[0].find(hashes)
        each = [part.find(own) for part, own in zip(self.parts, split(hashes, hashes), strict=True)]
        return np.concatenate([found for found, _ in each]), np.concatenate([first for _, first in each])

    def keep(self, hashes: Hashes, records: Ints) -> None:
        """Take in new keys, in the order of their hashes."""
        if len(records) and records.max() < _INT32:
            records = records.astype(np.int32)
        self.count += len(hashes)
        if len(self.parts) == 1 and self.count > _MANY:
            self.parts = self.parts[0].shared_out()
        in_files = self.count * self.among > _VERY_MANY
        if len(self.parts) == 1:
            self.parts[0].keep(hashes, records, in_files=in_files)
            return
        for part, own, numbers in zip(self.parts, split(hashes, hashes), split(records, hashes), strict=True):
            part.keep(own, numbers, in_files=in_files)


def take_in(seen: Sequence[SeenKeys], keys: Sequence[Keys], records: Ints) -> list[tuple[Ints, Ints, Hashes]]:
    """Take in the keys of a batch's rows, but those of rows that repeat one.

    Args:
        seen: what was seen so far, for each key.
        keys: of the rows, for each key.
        records: the number of each row's record.

    Returns:
        For each key, the rows that repeat it, the records that had it first, and the hashes of those keys. A row that
        repeats several is told of once; and since it stays out, none of its keys counts as seen.
    """
    if len(seen) == 1:
        return [seen[0].add_keys(keys[0], records)]
    suspect = np.zeros(len(records), np.bool_)
    for known, own in zip(seen, keys, strict=True):
        suspect[own.rows[~own.fresh() | known.find_keys(own)[0]]] = True
    if not suspect.any():
        for known, own in zip(seen, keys, strict=True):
            known.keep(own.hashes, records[own.rows])
        return [_columns([])] * len(seen)
    for known, own in zip(seen, keys, strict=True):
        sure = ~suspect[own.rows]
        known.keep(own.hashes[sure], records[own.rows[sure]])
    return _one_by_one(seen, keys, records, suspect)


def _one_by_one(
    seen: Sequence[SeenKeys], keys: Sequence[Keys], records: Ints, suspect: NDArray[np.bool_]
) -> list[tuple[Ints, Ints, Hashes]]:
    """Which of the suspects repeat a key of a row that went in; the others go in, in their order."""
    repeats: list[list[tuple[int, int, int]]] = [[] for _ in seen]
    by_row: list[dict[int, tuple[int, int | None]]] = []
    suspects = np.flatnonzero(suspect).tolist()
    for known, own in zip(seen, keys, strict=True) if suspects else ():
        mine = suspect[own.rows]
        found, firsts = known.find(own.hashes[mine])
        owners = [first if there else None for there, first in zip(found.tolist(), firsts.tolist(), strict=True)]
        pairs = zip(own.hashes[mine].tolist(), owners, strict=True)
        by_row.append(dict(zip(own.rows[mine].tolist(), pairs, strict=True)))
    went_in: list[dict[int, int]] = [{} for _ in seen]
    for row in suspects:
        for at, key in enumerate(by_row):
            own_hash, owner = key.get(row, (None, None))
            owner = went_in[at].get(own_hash, owner) if own_hash is not None else None
            if own_hash is not None and owner is not None:
                repeats[at].append((row, owner, own_hash))
                break
        else:
            for at, key in enumerate(by_row):
                if row in key:
                    went_in[at][key[row][0]] = int(records[row])
    for known, kept in zip(seen, went_in, strict=True):
        known.add(np.array(list(kept), np.uint64), np.array(list(kept.values()), np.int64))
    return [_columns(each) for each in repeats]


def _columns(repeats: Sequence[tuple[int, int, int]]) -> tuple[Ints, Ints, Hashes]:
    rows, firsts, hashes = zip(*repeats, strict=True) if repeats else ((), (), ())
    return np.array(rows, np.int64), np.array(firsts, np.int64), np.array(hashes, np.uint64)
