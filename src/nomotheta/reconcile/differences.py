"""Which rows are on one side only, paired by key, and in which columns they differ."""

from __future__ import annotations

import math
import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.show import show
from nomotheta.reconcile.cause import Others, Pair, causes_of
from nomotheta.reconcile.reconciliation import Cell, RowDifference
from nomotheta.reconcile.side import FILE, LINE, Compared
from nomotheta.rules.finding import HIDDEN

_REAL = re.compile(r"(b?)(-?)([0-9]+)e(-?[0-9]+)")
Texts = tuple[str | None, ...]  # the canonical texts of a row
Origin = tuple[str, int | None]  # its file and line, where it has them


@frozen
class Differences:
    """The rows that differ, how many of each sort and in all (None where not all were looked at), in which columns."""

    rows: tuple[RowDifference, ...]
    sorts: Mapping[str, int]
    count: int | None
    columns: frozenset[str]
    cause: str = ""


def compared(
    source: Any, target: Any, what: Compared, *, whole: bool, limit: int | None, others: Others
) -> Differences:  # fmt: skip
    """What is on one side only, paired by key where there is one.

    Args:
        source: rows of the source as a `pa.Table` of canonical texts, by the names of the columns.
        target: rows of the target, of the same buckets.
        what: the columns that are compared.
        whole: whether these are all rows that differ.
        limit: how many are told, None for all.
        others: whether a side has rows with another value of a column, where none were looked at.
    """
    names = list(what.kinds)
    known: dict[str | None, str | None] = {}
    sides = [_rows(source, names, known), _rows(target, names, known)]
    left = [_less(sides[0], sides[1]), _less(sides[1], sides[0])]
    at = [names.index(name) for name in what.key] or range(len(names))

    def of(row: Texts) -> Texts:
        return tuple(row[each] for each in at)

    in_source = {of(row) for row, _ in sides[0]}
    partners: dict[Texts, list[Texts]] = defaultdict(list)
    for row, _ in left[1] if what.key else []:
        partners[of(row)].append(row)
    found: list[tuple[str, Texts, Texts | None, Origin]] = []
    changed: list[Pair] = []
    for row, origin in left[0]:
        of_key = partners.get(of(row))
        if of_key:
            changed.append((row, of_key.pop()))
            found.append(("changed", *changed[-1], origin))
        else:
            found.append(("missing", row, None, origin))
    unpaired = (
        Counter(row for rows in partners.values() for row in rows) if what.key else Counter(r for r, _ in left[1])
    )
    for row, origin in left[1]:
        if unpaired[row]:
            unpaired[row] -= 1
            found.append(("repeated" if of(row) in in_source else "unexpected", row, None, origin))
    columns = {names[each] for pair in changed for each in _unequal(*pair)}
    if not changed and len(left[0]) == len(left[1]):  # nothing tells which row became which, but what is in them may
        columns = {
            name
            for each, name in enumerate(names)
            if len({frozenset(Counter(row[each] for row, _ in rows).items()) for rows in left}) > 1
        }
    shown = tuple(_told(each, what, names) for each in found[:limit])
    sorts = Counter(sort for sort, *_ in found)
    missing, more = (
        [(row, origin) for sort, row, _, origin in found if sort in sorts_of]
        for sorts_of in ({"missing"}, {"unexpected", "repeated"})
    )
    cause = causes_of(what, changed, (missing, more), sides, others) if whole else ""
    return Differences(shown, dict(sorts), len(found) if whole else None, frozenset(columns), cause)


def _rows(table: Any, names: Sequence[str], known: dict[str | None, str | None]) -> list[tuple[Texts, Origin]]:
    """The rows of a side; most of their texts are on the other side too, and are kept once."""
    columns = [[known.setdefault(text, text) for text in table.column(name).to_pylist()] for name in names]
    rows = list(zip(*columns, strict=True))
    if FILE not in table.column_names:
        return [(row, ("", None)) for row in rows]
    origins = zip(table.column(FILE).to_pylist(), table.column(LINE).to_pylist(), strict=True)
    return list(zip(rows, origins, strict=True))


def _less(rows: Sequence[tuple[Texts, Origin]], others: Sequence[tuple[Texts, Origin]]) -> list[tuple[Texts, Origin]]:
    """The rows that the others do not have as often."""
    counts = Counter(row for row, _ in others)
    left = []
    for row, origin in rows:
        if counts[row] > 0:
            counts[row] -= 1
        else:
            left.append((row, origin))
    return left


def _unequal(row: Texts, other: Texts) -> list[int]:
    return [at for at, (text, its) in enumerate(zip(row, other, strict=True)) if text != its]


def _told(found: tuple[str, Texts, Texts | None, Origin], what: Compared, names: Sequence[str]) -> RowDifference:
    sort, row, other, (file, line) = found

    def shown(text: str | None, name: str) -> str | None:
        return HIDDEN if name in what.private else told(text, what.kinds[name])

    key = tuple((name, shown(row[names.index(name)], name)) for name in what.key or names)
    unequal = _unequal(row, other) if other is not None else []
    cells = tuple(
        Cell(names[at], shown(row[at], names[at]), shown(other[at], names[at])) for at in unequal if other is not None
    )
    return RowDifference(sort, key, cells, file, line)  # type: ignore[arg-type]


def told(text: str | None, kind: Kind) -> str | None:
    """A canonical text as people read it."""
    if text is None:
        return None
    if kind.name == "boolean":
        return {"1": "true", "0": "false"}.get(text, text)
    if kind.name == "timestamptz" and text[:1].isdigit():
        return f"{text}Z"
    real = _REAL.fullmatch(text) if kind.name == "real" else None
    if real is not None:
        scaled, sign, digits, power = real.groups()
        value = float(f"{sign}{digits}e{power}")
        return show(math.ldexp(value, 971) if scaled else value)
    return text
