"""Which rows repeat a key, told as the rows stream by.

Keys are known by a 64-bit hash. The hashes seen so far lie in sorted runs, each at least twice as long as the next, so
that n keys cost n log n and 16 bytes each. Two keys with one hash are found out afterwards, by asking the place whether
the key of every repeated row really stands in the table; then the load starts over with another seed.
"""

from __future__ import annotations

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
        repeated = ~fresh
        for run, owners in self.runs:
            at = np.minimum(np.searchsorted(run, ordered), len(run) - 1)
            known = run[at] == ordered
            first = np.where(known, owners[at], first)
            repeated |= known
        new = ~repeated
        self._keep(ordered[new], records[order][new])
        positions = order[repeated]
        back = np.argsort(positions)
        return positions[back], first[repeated][back]

    def _keep(self, hashes: Hashes, records: Ints) -> None:
        if not len(hashes):
            return
        self.runs.append((hashes, records))
        while len(self.runs) > 1 and len(self.runs[-2][0]) < 2 * len(self.runs[-1][0]):
            (left, left_records), (right, right_records) = self.runs.pop(-2), self.runs.pop()
            merged = np.concatenate([left, right])
            order = np.argsort(merged, kind="stable")
            self.runs.append((merged[order], np.concatenate([left_records, right_records])[order]))
