"""What is not the same and may be so: how often, and whether values that may be apart are within their tolerance."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from nomotheta.charter.differ import MayDiffer
from nomotheta.conditions import ConditionError, Node, check, own, quoted
from nomotheta.conditions.kind import MOST_DIGITS
from nomotheta.errors import PlaceError, counted
from nomotheta.frozen import frozen
from nomotheta.kinds.show import show
from nomotheta.reconcile.given import Given
from nomotheta.reconcile.match import Columns, Matched, Pair
from nomotheta.reconcile.reconciliation import Cell, RowDifference
from nomotheta.reconcile.side import Compared, Side, Unalike, held_rows
from nomotheta.rules.finding import HIDDEN

_S, _T = (own(word) for word in ("source side", "target side"))


def excused(source: Given, target: Given, match: Matched) -> dict[str, dict[str, int]]:
    """Of each column with declared changes, how many of the source's values they change; and of empty texts."""
    found: dict[str, dict[str, int]] = {}
    for given, at in ((source, 0), (target, 1)):
        asked = [(pair, told, node) for pair in match.pairs for told, node in _questions(pair, given.columns, at)]
        counts = given.counts([node for *_, node in asked]) if asked else []
        for (pair, told, _), count in zip(asked, counts, strict=True):
            if count:
                found.setdefault(pair.name, {})[told] = count
    return found


def _questions(pair: Pair, columns: Columns, at: int) -> Iterator[tuple[str, Node]]:
    may, known = pair.may, columns.known()
    name = (columns.spelled(pair.name) if at == 0 else columns.spelled(may.target or pair.name)) or ""
    if at == 0 and may.changes and not may.from_ and name in known:
        once = may.model_copy(update={"empty_is_null": False}).of_source(name)
        try:
            node = check(f"({once}) is distinct from {quoted(name)}", known)
        except ConditionError:  # of another kind: every value is another
            node = check(f"{quoted(name)} is not null", known)
        yield changes_told(may), node
    if may.empty_is_null and name in known:
        yield f"empty in the {('source', 'target')[at]}", check(f"{quoted(name)} = ''", known)


def changes_told(may: MayDiffer) -> str:
    """What is done to a column's values on the way, in words."""
    parts = [
        "trimmed" if may.trimmed else "",
        f"put into {may.case} case" if may.case else "",
        f"replaced by a list of {len(may.mapped)}" if may.mapped else "",
        f"multiplied by {may.times:f}" if may.times is not None else "",
        _rounded(may.rounded),
    ]
    return ", ".join(filter(None, parts))


def _rounded(places: int | None) -> str:
    if places is None:
        return ""
    return f"rounded to {counted(places, 'decimal place')}" if places else "rounded to whole numbers"


@frozen
class Apart:
    """Values that may be apart: of each column how many are and may, and are too far; and the first such rows."""

    within: Mapping[str, int]
    beyond: Mapping[str, int]
    rows: tuple[RowDifference, ...] = ()
    count: int = 0


def tolerated(
    source: Given, target: Given, match: Matched, key: Compared, limit: int | None, *, differ: bool
) -> Apart | None:  # fmt: skip
    """Hold the columns that may be apart against each other, row by row of one key; None where there are none.

    Where the sides `differ` anyway, rows whose key is repeated are left out.

    Raises:
        PlaceError: the key is repeated, so that it does not tell which row belongs to which.
    """
    pairs = [pair for pair in match.pairs if pair.may.tolerant]
    if not pairs:
        return None
    kinds = {name: key.kinds[name] for name in match.key} | {pair.name: pair.kind for pair in pairs}
    what = Compared(kinds, match.key, key.private)
    chosen = [*(pair for pair in match.pairs if pair.name in match.key), *pairs]
    sides = [source.side(what, chosen, 0), target.side(what, chosen, 1)]
    tests = {pair.name: _tests(pair) for pair in pairs}
    sums = [f"count(CASE WHEN {sql} THEN 1 END)" for pair in pairs for sql in tests[pair.name]]
    same = " AND ".join(f"{_of(_S, name)} IS NOT DISTINCT FROM {_of(_T, name)}" for name in match.key)
    named = ", ".join(map(quoted, match.key))
    alone = f" QUALIFY count(*) OVER (PARTITION BY {named}) = 1" if differ else ""
    rowsets = [f"(SELECT * FROM {quoted(side)}{alone}) AS {quoted(side)}" for side in (_S, _T)]
    joined = f"FROM {rowsets[0]} JOIN {rowsets[1]} ON {same}"
    keys = [_of(_S, name) for name in match.key]
    with _both(sides) as ask:
        counts = ask(["count(*)", f"count(DISTINCT ({', '.join(keys)}))", *sums], joined)
        rows, keyed, *found = [int(each) for each in counts[0]]
        if rows > keyed:
            raise PlaceError(
                f"the key {', '.join(match.key)} is repeated in {counted(rows - keyed, 'row')}: which belongs to "
                f"which, and so whether {pairs[0].name} is within its tolerance, cannot be decided",
                where=source.columns.told, mend="name columns by which every row is told apart: key = […]",
            )  # fmt: skip
        within = {pair.name: found[2 * at] for at, pair in enumerate(pairs)}
        beyond = {pair.name: found[2 * at + 1] for at, pair in enumerate(pairs)}
        if not any(beyond.values()):
            return Apart(within, beyond)
        far = " OR ".join(tests[pair.name][1] for pair in pairs)
        cells = [_of(side, pair.name) for pair in pairs for side in (_S, _T)]
        flags = [tests[pair.name][1] for pair in pairs]
        most = f" LIMIT {limit}" if limit is not None else ""
        listed = ask([*keys, *cells, *flags], f"{joined} WHERE {far}{most}")
    differing = tuple(_row(row, match.key, pairs, key.private) for row in listed)
    return Apart(within, beyond, differing, max(beyond.values()) if len(pairs) == 1 else len(differing))


def _tests(pair: Pair) -> tuple[str, str]:
    """Whether two values are not the same and may be, and whether they are too far apart, in the engine's SQL."""
    source, target = (_of(side, pair.name) for side in (_S, _T))
    differ = f"{source} IS DISTINCT FROM {target}"
    wide = "DOUBLE" if pair.kind.name == "real" else f"DECIMAL({MOST_DIGITS},{pair.kind.scale})"
    apart = f"abs(CAST({source} AS {wide}) - CAST({target} AS {wide}))"
    near = [f"{apart} <= {pair.may.within:f}"] if pair.may.within is not None else []
    if pair.may.within_share is not None:
        double = f"abs(CAST({source} AS DOUBLE) - CAST({target} AS DOUBLE))"
        near.append(f"{double} <= {pair.may.within_share:f} * abs(CAST({source} AS DOUBLE))")
    close = f"coalesce({' OR '.join(near)}, FALSE)"
    finite = f"coalesce(isfinite({source}) AND isfinite({target}), FALSE)" if pair.kind.name == "real" else "TRUE"
    return f"{differ} AND {finite} AND {close}", f"{differ} AND NOT ({finite} AND {close})"


def _of(side: str, name: str) -> str:
    return f"{quoted(side)}.{quoted(name)}"


@contextlib.contextmanager
def _both(sides: Sequence[Side]) -> Iterator[Callable[[Sequence[str], str], list[tuple[Any, ...]]]]:
    """Gives the rows of SELECTs over both sides.

    Raises:
        PlaceError: a value is none of its column's kind.
    """
    try:
        with held_rows(dict(zip((_S, _T), sides, strict=True))) as fetch:

            def ask(said: Sequence[str], rows: str) -> list[tuple[Any, ...]]:
                listed = ", ".join(f"{sql} AS {quoted(own(str(at)))}" for at, sql in enumerate(said))
                return [tuple(row.values()) for row in fetch(f"SELECT {listed} {rows}").to_pylist()]

            yield ask
    except Unalike:
        told = (
            f"{', '.join(sides[0].what.kinds)}: a value cannot be read as its column's kind; no tolerance was checked"
        )
        raise PlaceError(told, mend="correct it, or compare the column without a tolerance") from None


def _row(row: Sequence[Any], key: Sequence[str], pairs: Sequence[Pair], private: frozenset[str]) -> RowDifference:
    def told(name: str, value: Any) -> str | None:
        return HIDDEN if name in private else None if value is None else show(value)

    values, flags = row[len(key) :], row[len(key) + 2 * len(pairs) :]
    cells = tuple(
        Cell(pair.name, told(pair.name, values[2 * at]), told(pair.name, values[2 * at + 1]))
        for at, pair in enumerate(pairs)
        if flags[at]
    )
    return RowDifference(
        "changed", tuple((name, told(name, value)) for name, value in zip(key, row, strict=False)), cells
    )
