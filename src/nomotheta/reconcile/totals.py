"""What the values of a column come to: how many, and their sum, their range, or how many letters or truths they are."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind, own, quoted
from nomotheta.kinds.read import arrow_type
from nomotheta.kinds.show import show
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.reconcile.differences import told
from nomotheta.reconcile.reconciliation import ColumnTotals
from nomotheta.rules.finding import HIDDEN

_BOUNDS = own("bounds")
_KEPT = 1_000  # lowest and highest values of blocks that are kept until they are compared
_SUMMED_DIGITS = 28  # of decimals: the sum of ten thousand million of them has 38, as many as any place adds
_MEASURES: Mapping[str, str] = {
    "integer": "sum", "decimal": "sum", "text": "length", "binary": "length", "boolean": "true",
}  # fmt: skip


def measure_of(kind: Kind) -> str:
    """What is told of a column besides its count: a range where a sum depends on the order, or is beyond all digits."""
    return "range" if kind.name == "decimal" and kind.digits > _SUMMED_DIGITS else _MEASURES.get(kind.name, "range")


def totals_in_sql(kinds: Mapping[str, Kind], prints: Fingerprint) -> Iterator[str]:
    """Per column, how many values it has and what they come to, as texts."""
    for name, kind in kinds.items():
        column = quoted(name)
        yield f"count({column}) AS {quoted(own(f'{name} n'))}"
        match measure_of(kind):
            case "sum":
                found = [prints.text(f"sum({column})")]
            case "length" if kind.name == "binary":
                found = [prints.text(f"sum(octet_length({column}))")]
            case "length":
                found = [prints.text(f"sum({prints.characters(column)})")]
            case "true":
                found = [prints.text(f"sum(CAST({column} AS INTEGER))")]
            case _ if kind.name == "uuid":  # not all order uuids
                found = [f"{least}({prints.of(column, kind)})" for least in ("min", "max")]
            case _:
                found = [prints.of(f"{least}({column})", kind) for least in ("min", "max")]
        for at, each in enumerate(found):
            yield f"{each} AS {quoted(own(f'{name} {at}'))}"


def compared_totals(
    name: str, kind: Kind, source: Mapping[str, Any], target: Mapping[str, Any], *, hide: bool
) -> ColumnTotals:
    """A column's totals; of a private one they are compared and not told, for few rows give their values away."""
    measure: Any = measure_of(kind)
    parts = [own(f"{name} {at}") for at in range(2 if measure == "range" else 1)]
    sides = [[side[part] for part in parts] for side in (source, target)]
    if measure == "range":
        said = [[told(text, kind) for text in side] for side in sides]
    else:  # a place may write a sum with more zeros behind the point
        sides = [[text and Decimal(text) for text in side] for side in sides]
        said = [[show(number) for number in side] for side in sides]
    counts = source[own(f"{name} n")], target[own(f"{name} n")]
    shown = [tuple(HIDDEN if hide else text for text in side) for side in said]
    return ColumnTotals(name, measure, *counts, shown[0], shown[1], counts[0] == counts[1] and sides[0] == sides[1])


class Totals:
    """The totals of rows that come in blocks."""

    def __init__(self, kinds: Mapping[str, Kind]) -> None:
        self.kinds = kinds
        self._counts = dict.fromkeys(kinds, 0)
        self._sums: dict[str, Any] = dict.fromkeys(kinds)
        self._ranges: dict[str, list[Any]] = {name: [] for name in kinds if measure_of(kinds[name]) == "range"}

    def add(self, batch: Any) -> None:
        """Take in some rows: a `pa.RecordBatch`."""
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

    def _bounds(self, name: str) -> list[Any]:
        if not self._ranges[name]:
            return []
        found = pc.min_max(pa.array(self._ranges[name], arrow_type(self.kinds[name])))
        return [found["min"], found["max"]]

    def told(self) -> dict[str, Any]:
        """By the names of `totals_in_sql`, the same texts."""
        from nomotheta.place.embedded.duckdb import DuckPlace  # only now: a load does without it

        found: dict[str, Any] = {}
        engine = DuckPlace("totals", None)
        try:
            for name in self._ranges:
                kind = self.kinds[name]
                bounds = pa.table({name: pa.array(self._bounds(name) or [None], arrow_type(kind))})
                sql = f"SELECT {', '.join(totals_in_sql({name: kind}, engine.fingerprint))} FROM {quoted(_BOUNDS)}"
                found |= engine.fetch(sql, **{_BOUNDS: bounds}).to_pylist()[0]
        finally:
            engine.close()
        for name in self.kinds:
            found[own(f"{name} n")] = self._counts[name]
            if name not in self._ranges:
                found[own(f"{name} 0")] = None if self._sums[name] is None else str(self._sums[name])
        return found


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
