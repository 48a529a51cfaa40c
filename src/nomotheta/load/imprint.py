"""What is recorded of the rows of a load while they come in: fingerprints and totals, to be held against the table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.charter import Charter
from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.lanes import SCHEME, Lanes
from nomotheta.kinds.totals import ColumnTotal, Totals

NOT_FROM_FILES = ("@load.no", "@load.time", "@place")
_ALL = 2**64


def imprinted(charter: Charter) -> dict[str, Kind]:
    """The columns of which something is recorded: those whose values come with the files."""
    columns = charter.columns
    return {name: kind for name, kind in charter.kinds().items() if columns[name].from_ not in NOT_FROM_FILES}


@frozen
class Imprint:
    """The fingerprint of some rows and of each of their columns, as hexadecimal digits, and what they come to.

    Of private columns nothing but the count of values is told.
    """

    scheme: str
    rows: int
    fingerprint: str
    kinds: Mapping[str, str]
    columns: Mapping[str, str]
    totals: Mapping[str, ColumnTotal]

    def is_of(self, kinds: Mapping[str, Kind]) -> bool:
        """Whether it can be held against rows of these columns."""
        return self.scheme == SCHEME and list(self.kinds.items()) == [(name, str(kind)) for name, kind in kinds.items()]


@dataclass(slots=True)
class Made:
    """The imprint of one block, or of those so far."""

    lanes: Lanes
    totals: Totals

    @classmethod
    def of(cls, kinds: Mapping[str, Kind], rows: Any = None) -> Made:
        """Of the rows of a `pa.Table`, or of none."""
        made = cls(Lanes(kinds), Totals(kinds))
        if rows is not None:
            made.lanes.add(rows)
            made.totals.add(rows)
        return made

    def without(self, rows: Any, gone: NDArray[np.bool_]) -> Made:
        """It without some of the rows that it was made of."""
        left = Lanes(self.lanes.kinds)
        left.add(rows.filter(pa.array(gone)))
        totals = Totals(self.totals.kinds)
        totals.add(rows.filter(pa.array(~gone)))  # the lowest that goes may have been the lowest of all
        mine, kinds = self.lanes, self.lanes.kinds
        columns = {name: (mine.columns.get(name, 0) - left.columns.get(name, 0)) % _ALL for name in kinds}
        return Made(Lanes(kinds, mine.rows - left.rows, (mine.total - left.total) % _ALL, columns), totals)

    def join(self, other: Made) -> None:
        """Take in another block."""
        mine, its = self.lanes, other.lanes
        mine.rows += its.rows
        mine.total = (mine.total + its.total) % _ALL
        mine.columns = {
            name: (mine.columns.get(name, 0) + its.columns.get(name, 0)) % _ALL for name in mine.kinds
        }  # fmt: skip
        self.totals.join(other.totals)

    def told(self, private: frozenset[str]) -> Imprint:
        """As it is recorded."""
        lanes = self.lanes
        columns = {name: f"{lanes.columns.get(name, 0):016x}" for name in lanes.kinds if name not in private}
        totals = {
            name: ColumnTotal(each.count, ()) if name in private else each for name, each in self.totals.found().items()
        }
        kinds = {name: str(kind) for name, kind in lanes.kinds.items()}
        return Imprint(SCHEME, lanes.rows, f"{lanes.total:016x}", kinds, columns, totals)


def joined(imprints: Sequence[Imprint]) -> tuple[int, int, dict[str, int]]:
    """The rows of several loads, the fingerprint of all of them, and of each column that is known."""
    columns: dict[str, int] = {}
    for imprint in imprints:
        for name, print_ in imprint.columns.items():
            columns[name] = (columns.get(name, 0) + int(print_, 16)) % _ALL
    total = sum(int(imprint.fingerprint, 16) for imprint in imprints) % _ALL
    return sum(imprint.rows for imprint in imprints), total, columns


@dataclass
class Imprinting:
    """What is recorded so far of a load."""

    charter: Charter
    made: Made = field(init=False)

    def __post_init__(self) -> None:
        self.kinds = imprinted(self.charter)
        self.made = Made.of(self.kinds)

    def look(self, rows: Any) -> Made:
        """The imprint of the rows of a block."""
        return Made.of(self.kinds, rows)

    def take(self, seen: Made, rows: Any, gone: NDArray[np.bool_]) -> None:
        """Take in a block, less the rows that stay out."""
        self.made.join(seen.without(rows, gone) if gone.any() else seen)

    def told(self) -> Imprint:
        """As it is recorded."""
        return self.made.told(self.charter.private())
