"""What the values of a column come to: how many, and their sum, their range, or how many letters or truths they are."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.read import arrow_type

_KEPT = 1_000  # lowest and highest values of blocks that are kept until they are compared
_SUMMED_DIGITS = 28  # of decimals: the sum of ten thousand million of them has 38, as many as any place adds
_EVERY_WHOLE, _SCALE = 2**53, 971  # see docs/fingerprint.md
_MEASURES: Mapping[str, str] = {
    "integer": "sum", "decimal": "sum", "text": "length", "binary": "length", "boolean": "true",
}  # fmt: skip


def measure_of(kind: Kind) -> str:
    """What is told of a column besides its count: a range where a sum depends on the order, or is beyond all digits."""
    return "range" if kind.name == "decimal" and kind.digits > _SUMMED_DIGITS else _MEASURES.get(kind.name, "range")


@frozen
class ColumnTotal:
    """How many values a column has, and what they come to, as canonical texts: one, or the lowest and the highest."""

    count: int
    values: tuple[str | None, ...]


class Totals:
    """The totals of rows that come in blocks."""

    def __init__(self, kinds: Mapping[str, Kind]) -> None:
        self.kinds = kinds
        self._counts = dict.fromkeys(kinds, 0)
        self._sums: dict[str, Any] = dict.fromkeys(kinds)
        self._ranges: dict[str, list[Any]] = {name: [] for name in kinds if measure_of(kinds[name]) == "range"}

    def add(self, batch: Any) -> None:
        """Take in some rows: a `pa.RecordBatch`, or a `pa.Table`."""
        for name, kind in self.kinds.items():
            column = batch.column(name)
            count = len(column) - column.null_count
            self._counts[name] += count
            if count and name in self._ranges:
                found = pc.min_max(column.drop_null())
                self._ranges[name] += [found["min"], found["max"]]
            elif count:
                self._sums[name] = (self._sums[name] or 0) + _sum(column, measure_of(kind))
            if len(self._ranges.get(name, ())) > _KEPT:
                self._ranges[name] = self._bounds(name)

    def join(self, other: Totals) -> None:
        """Take in what others rows came to."""
        for name in self.kinds:
            self._counts[name] += other._counts[name]
            if name in self._ranges:
                self._ranges[name] += other._ranges[name]
                if len(self._ranges[name]) > _KEPT:
                    self._ranges[name] = self._bounds(name)
            elif other._sums[name] is not None:
                self._sums[name] = (self._sums[name] or 0) + other._sums[name]

    def _bounds(self, name: str) -> list[Any]:
        if not self._ranges[name]:
            return []
        found = pc.min_max(pa.array(self._ranges[name], arrow_type(self.kinds[name])))
        return [found["min"], found["max"]]

    def found(self) -> dict[str, ColumnTotal]:
        """Of each column, what its values came to."""
        return {name: ColumnTotal(self._counts[name], self._told(name)) for name in self.kinds}

    def _told(self, name: str) -> tuple[str | None, ...]:
        if name in self._ranges:
            bounds = [each.as_py() for each in self._bounds(name)] or [None, None]
            return tuple(None if each is None else canonical(each, self.kinds[name]) for each in bounds)
        return (None if self._sums[name] is None else str(self._sums[name]),)


def _sum(column: Any, measure: str) -> Any:
    """What the values of a column come to, exactly; there are some."""
    if measure == "true":
        return pc.sum(column).as_py()
    if measure == "length":
        lengths = pc.binary_length(column) if pa.types.is_binary(column.type) else pc.utf8_length(column)
        return pc.sum(lengths).as_py()
    if pa.types.is_decimal(column.type):
        return pc.sum(column.cast(pa.decimal128(38, column.type.scale))).as_py()
    values = pc.fill_null(column, 0).to_numpy()
    return (int((values >> 32).sum()) << 32) + int((values & 0xFFFFFFFF).sum())


def canonical(value: Any, kind: Kind) -> str:
    """The canonical text of a value, as docs/fingerprint.md has it."""
    match value:
        case bool():
            return str(int(value))
        case datetime.datetime():
            plain = value.astimezone(datetime.UTC).replace(tzinfo=None) if value.tzinfo else value
            return _without_zeros(plain.isoformat(" "))
        case datetime.time():
            return _without_zeros(value.isoformat())
        case float():
            return _real(value)
        case Decimal():
            return f"{value:.{kind.scale}f}"
        case bytes():
            return value.hex()
    return str(value)


def _without_zeros(text: str) -> str:
    return text.rstrip("0") if "." in text else text


def _real(value: float) -> str:
    if value == 0:
        return "0"
    if value != value or abs(value) == float("inf"):  # noqa: PLR0124 - NaN is not itself
        return repr(value)
    whole = abs(value) >= _EVERY_WHOLE
    digits, _, power = repr(abs(value) * 2.0**-_SCALE if whole else abs(value)).partition("e")
    before, _, behind = digits.partition(".")
    behind = re.sub("0+$", "", behind)
    figures = (before + behind).lstrip("0")
    bare = figures.rstrip("0")
    exponent = int(power or 0) - len(behind) + len(figures) - len(bare)
    return f"{'b' if whole else ''}{'-' if value < 0 else ''}{bare}e{exponent}"
