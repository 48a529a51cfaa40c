"""What the values of columns come to, asked of a place, and two sides' side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

from nomotheta.conditions import Kind, own, quoted
from nomotheta.kinds.show import show
from nomotheta.kinds.totals import ColumnTotal, measure_of
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.reconcile.differences import told
from nomotheta.reconcile.reconciliation import ColumnTotals
from nomotheta.rules.finding import HIDDEN


def totals_in_sql(kinds: Mapping[str, Kind], prints: Fingerprint, *, octets: bool = False) -> Iterator[str]:
    """Per column, how many values it has and what they come to, as texts; texts by their bytes, where it is `octets`.

    A server that keeps texts in UTF-8 knows how many bytes a text has, and has to walk through it for its characters.
    """
    for name, kind in kinds.items():
        column = quoted(name)
        yield f"count({column}) AS {quoted(own(f'{name} n'))}"
        match measure_of(kind):
            case "sum":
                found = [prints.text(prints.sum(column, kind))]
            case "length" if kind.name == "binary":
                found = [prints.text(f"sum(octet_length({column}))")]
            case "length":
                length = prints.octets if octets else prints.characters
                found = [prints.text(f"sum({length(column)})")]
            case "true":
                found = [prints.text(f"sum(CAST({column} AS INTEGER))")]
            case _ if kind.name == "uuid":  # not all order uuids
                found = [f"{least}({prints.of(column, kind)})" for least in ("min", "max")]
            case _:
                found = [prints.of(f"{least}({column})", kind) for least in ("min", "max")]
        for at, each in enumerate(found):
            yield f"{each} AS {quoted(own(f'{name} {at}'))}"


def distinct_in_sql(
    kinds: Mapping[str, Kind], prints: Fingerprint, exactly: Callable[[str], str]
) -> Iterator[str]:  # fmt: skip
    """Per column, how many different values it has: of their canonical texts, which are told apart by code point."""
    for at, (name, kind) in enumerate(kinds.items()):
        yield f"count(DISTINCT {exactly(prints.shown(name, kind))}) AS {quoted(own(str(at)))}"


def read_totals(kinds: Mapping[str, Kind], row: Mapping[str, Any]) -> dict[str, ColumnTotal]:
    """The totals out of the row that a SELECT of `totals_in_sql` gives."""
    return {
        name: ColumnTotal(
            int(row[own(f"{name} n")]),
            tuple(row[own(f"{name} {at}")] for at in range(2 if measure_of(kind) == "range" else 1)),
        )
        for name, kind in kinds.items()
    }


def joined_totals(parts: Sequence[ColumnTotal], kind: Kind) -> ColumnTotal:
    """What the values of a column come to in several loads."""
    count = sum(part.count for part in parts)
    if not all(part.values for part in parts):
        return ColumnTotal(count, ())
    known = [[part.values[at] for part in parts if part.values[at] is not None] for at in range(len(parts[0].values))]
    if measure_of(kind) != "range":
        return ColumnTotal(count, (str(sum(Decimal(text or 0) for text in known[0])) if known[0] else None,))
    lowest, highest = (sorted(texts, key=lambda text: _order(text or "", kind)) or [None] for texts in known)
    return ColumnTotal(count, (lowest[0], highest[-1]))


def _order(text: str, kind: Kind) -> Any:
    """What canonical texts of a kind are sorted by."""
    if kind.name == "decimal":
        return Decimal(text)
    if kind.name == "real":
        return float(told(text, kind) or 0)
    return text


def compared_totals(
    name: str, kind: Kind, source: ColumnTotal, target: ColumnTotal, *, hide: bool, octets: bool = False
) -> ColumnTotals:  # fmt: skip
    """A column's totals; of a private one they are compared and not told, for few rows give their values away."""
    measure: Any = measure_of(kind)
    sides: list[list[Any]] = [list(side.values) for side in (source, target)]
    if measure == "range":
        said = [[told(text, kind) for text in side] for side in sides]
    else:  # a place may write a sum with more zeros behind the point
        sides = [[text and Decimal(text) for text in side] for side in sides]
        said = [[show(number) for number in side] for side in sides]
    parts = 2 if measure == "range" else 1
    shown = [(HIDDEN,) * parts if hide else tuple(side) for side in said]
    same = source.count == target.count and sides[0] == sides[1]
    if measure == "length" and (octets or kind.name == "binary"):
        measure = "bytes"
    return ColumnTotals(name, measure, source.count, target.count, shown[0], shown[1], same)


def with_more(
    totals: ColumnTotals, source: int | None, target: int | None, source_print: int | None, target_print: int | None,
    *, hide: bool,
) -> ColumnTotals:  # fmt: skip
    """The same with how many different values there are, and fingerprints of 64 bits, where these are known.

    Those of a private column are not told: whoever has a value in mind could see whether it is the only one there.
    """
    numbers = (source_print, target_print)
    prints = [None if each is None else HIDDEN if hide else f"{each:016x}" for each in numbers]
    return replace(
        totals, equal=totals.equal and source == target, source_distinct=source, target_distinct=target,
        source_fingerprint=prints[0], target_fingerprint=prints[1],
    )  # fmt: skip
