"""Which rows repeat a key, told as the rows stream by.

Keys are known by a 64-bit hash. The hashes seen so far lie in sorted runs, each at least twice as long as the next, so
that n keys cost n log n and 16 bytes each. Two keys with one hash are found out afterwards, by asking the place whether
the key of every repeated row really stands in the table; then the load starts over with another seed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Hashes = NDArray[np.uint64]
Ints = NDArray[np.int64]
IN_TABLE = -1


@dataclass(slots=True)
class SeenKeys:
    """The keys seen so far, each with the number of the record that had it first; IN_TABLE for those in the table."""

    runs: list[tuple[Hashes, Ints]] = field(default_factory=list)

    def add(self, hashes: Hashes, records: Ints) -> tuple[Ints, Ints]:
        """Take in the keys of some rows.

        Returns:
            The positions of the rows whose key was seen before, and the record that had it first.
        """
        order = np.argsort(hashes, kind="stable")
        ordered = hashes[order]
        fresh = np.ones(len(ordered), np.bool_)
        fresh[1:] = ordered[1:] != ordered[:-1]
        first = records[order][np.maximum.accumulate(np.where(fresh, np.arange(len(ordered)), 0))]
        known, owners = self.find(ordered)
        first = np.where(known, owners, first)
        repeated = known | ~fresh
        new = ~repeated
        self._keep(ordered[new], records[order][new])
        positions = order[repeated]
        back = np.argsort(positions)
        return positions[back], first[repeated][back]

    def find(self, hashes: Hashes) -> tuple[NDArray[np.bool_], Ints]:
        """Whether each key was seen before, and the record that had it first."""
        found, first = np.zeros(len(hashes), np.bool_), np.zeros(len(hashes), np.int64)
        for run, owners in self.runs:
            at = np.minimum(np.searchsorted(run, hashes), len(run) - 1)
            known = run[at] == hashes
            first = np.where(known, owners[at], first)
            found |= known
        return found, first

    def _keep(self, hashes: Hashes, records: Ints) -> None:
        if not len(hashes):
            return
        self.runs.append((hashes, records))
        while len(self.runs) > 1 and len(self.runs[-2][0]) < 2 * len(self.runs[-1][0]):
            (left, left_records), (right, right_records) = self.runs.pop(-2), self.runs.pop()
            merged = np.concatenate([left, right])
            order = np.argsort(merged, kind="stable")
            self.runs.append((merged[order], np.concatenate([left_records, right_records])[order]))


def take_in(seen: Sequence[SeenKeys], hashes: Sequence[tuple[Hashes, Ints]], records: Ints) -> list[tuple[Ints, Ints]]:
    """Take in the keys of a batch's rows, but those of rows that repeat one.

    Args:
        seen: what was seen so far, for each key.
        hashes: for each key, the hashes and the rows they belong to.
        records: the number of each row's record.

    Returns:
        For each key, the rows that repeat it and the records that had it first. A row that repeats several is told of
        once; and since it stays out, none of its keys counts as seen.
    """
    if len(seen) == 1:
        own, rows = hashes[0]
        positions, firsts = seen[0].add(own, records[rows])
        return [(rows[positions], firsts)]
    suspects = _suspects(seen, hashes)
    for known, (own, rows) in zip(seen, hashes, strict=True):
        sure = ~np.isin(rows, suspects)
        known.add(own[sure], records[rows[sure]])
    return _one_by_one(seen, hashes, records, suspects)


def _suspects(seen: Sequence[SeenKeys], hashes: Sequence[tuple[Hashes, Ints]]) -> Ints:
    """The rows that have any key of an earlier row, in order."""
    found = [np.zeros(0, np.int64)]
    for known, (own, rows) in zip(seen, hashes, strict=True):
        later = np.ones(len(own), np.bool_)
        later[np.unique(own, return_index=True)[1]] = False
        found.append(rows[later | known.find(own)[0]])
    return np.unique(np.concatenate(found))


def _one_by_one(
    seen: Sequence[SeenKeys], hashes: Sequence[tuple[Hashes, Ints]], records: Ints, suspects: Ints
) -> list[tuple[Ints, Ints]]:
    """Which of the suspects repeat a key of a row that went in; the others go in, in their order."""
    repeats: list[list[tuple[int, int]]] = [[] for _ in seen]
    keys: list[dict[int, tuple[int, int | None]]] = []
    for known, (own, rows) in zip(seen, hashes, strict=True):
        mine = np.isin(rows, suspects)
        found, firsts = known.find(own[mine])
        owners = [first if there else None for there, first in zip(found.tolist(), firsts.tolist(), strict=True)]
        keys.append(dict(zip(rows[mine].tolist(), zip(own[mine].tolist(), owners, strict=True), strict=True)))
    went_in: list[dict[int, int]] = [{} for _ in seen]
    for row in suspects.tolist():
        for at, key in enumerate(keys):
            own_hash, owner = key.get(row, (None, None))
            owner = went_in[at].get(own_hash, owner) if own_hash is not None else None
            if owner is not None:
                repeats[at].append((row, owner))
                break
        else:
            for at, key in enumerate(keys):
                if row in key:
                    went_in[at][key[row][0]] = int(records[row])
    for known, kept in zip(seen, went_in, strict=True):
        known.add(np.array(list(kept), np.uint64), np.array(list(kept.values()), np.int64))
    return [
        (np.array([row for row, _ in each], np.int64), np.array([first for _, first in each], np.int64))
        for each in repeats
    ]
