"""Rows counted by groups on both sides, so that a day, a file or a load that is missing or doubled is seen at once."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.reconcile.differences import told
from nomotheta.reconcile.side import Side
from nomotheta.tabular import Tabular

_DAY = 10  # characters of a moment's day
_MOMENTS = frozenset({"timestamp", "timestamptz"})


@frozen
class GroupCount:
    """How many rows of one value both sides have."""

    value: str | None
    source: int
    target: int


@frozen
class RowCounts(Tabular):
    """Rows by groups: `by` is a column, or `day`, `file` or `load`; of those that differ there are `differing`."""

    table: str
    place: str
    over: str
    by: str
    verdict: Literal["pass", "fail"]
    source: str
    target: str
    source_rows: int
    target_rows: int
    differing: int
    groups: tuple[GroupCount, ...]
    format: str = "nomotheta/row-counts/1"
    COLUMNS: ClassVar[Mapping[str, str]] = {"value": "text", "source": "integer", "target": "integer"}

    def caption(self) -> str:
        """The table, by what its rows are counted, and the verdict."""
        return f"{self.table} by {self.by}: {self.verdict}"

    def as_rows(self) -> list[dict[str, Any]]:
        """The groups."""
        return [{"value": each.value, "source": each.source, "target": each.target} for each in self.groups]


def counted_by(side: Side, name: str) -> dict[str | None, int]:
    """How many rows a side has of each value of a column; of moments, of each day in UTC.

    Raises:
        DeclarationError: it has no such column, or its values are not told.
    """
    what = side.what
    if name not in what.kinds:
        mend = did_you_mean(name, what.kinds, "columns: " + ", ".join(what.kinds))
        raise DeclarationError(f"there is no column {name} that both sides have", where="--by", mend=mend)
    if name in what.private:
        raise DeclarationError(f"{name} is private: its values are not told", where="--by", mend="name another column")
    kind = what.kinds[name]

    def said(prints: Fingerprint) -> str:
        text = prints.shown(name, kind)
        text = f"left({text}, {_DAY})" if kind.name in _MOMENTS else text
        return f"{side.exactly(text)} AS {quoted(own('group'))}, count(*) AS {quoted(own('rows'))}"

    found = side.ask(said, None, " GROUP BY 1")
    counts: dict[str | None, int] = {}
    for value, rows in zip(*(column.to_pylist() for column in found.columns), strict=True):
        shown = told(value, kind if kind.name not in _MOMENTS else Kind("date"))
        counts[shown] = counts.get(shown, 0) + int(rows)
    return counts


def paired(source: Mapping[str | None, int], target: Mapping[str | None, int]) -> tuple[GroupCount, ...]:
    """The counts of both sides, in the order of their values."""
    values = sorted({*source, *target}, key=lambda value: (value is not None, value or ""))
    return tuple(GroupCount(value, source.get(value, 0), target.get(value, 0)) for value in values)


def row_counts(
    table: str, place: str, over: str, by: str, sides: tuple[str, str], groups: tuple[GroupCount, ...]
) -> RowCounts:  # fmt: skip
    """What came of counting."""
    differing = sum(each.source != each.target for each in groups)
    return RowCounts(
        table, place, over, by, "fail" if differing else "pass", sides[0], sides[1],
        sum(each.source for each in groups), sum(each.target for each in groups), differing, groups,
    )  # fmt: skip
