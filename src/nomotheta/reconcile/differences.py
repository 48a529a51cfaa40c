"""Which rows are on one side only, paired by key, and in which columns they differ."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Mapping, Sequence

from nomotheta.conditions import Kind, own
from nomotheta.frozen import frozen
from nomotheta.kinds.show import show
from nomotheta.reconcile.reconciliation import Cell, RowDifference
from nomotheta.rules.finding import HIDDEN

HASH = own("hash")
_MOST_SHOWN = 20
_REAL = re.compile(r"(b?)(-?)([0-9]+)e(-?[0-9]+)")
Row = Mapping[str, str | None]  # canonical texts by column, and the row's HASH


@frozen
class Differences:
    """The first rows that differ, how many there are (None where not all were looked at), and in which columns."""

    shown: tuple[RowDifference, ...]
    count: int | None
    columns: frozenset[str]


def compared(
    files: Sequence[Row], table: Sequence[Row], key: Sequence[str], kinds: Mapping[str, Kind], private: frozenset[str],
    *, whole: bool,
) -> Differences:  # fmt: skip
    """What is on one side only, paired by key where there is one.

    Args:
        files: rows that the files hold.
        table: rows of the table, of the same buckets.
        key: the columns of a key, if there is one.
        kinds: the columns that are compared.
        private: those whose values are not told.
        whole: whether these are all rows that differ.
    """
    only_files, only_table = _less(files, table), _less(table, files)

    def shown(row: Row, name: str) -> str | None:
        return HIDDEN if name in private else told(row[name], kinds[name])

    def keyed(row: Row) -> tuple[tuple[str, str | None], ...]:
        return tuple((name, shown(row, name)) for name in key or kinds)

    def of(row: Row) -> tuple[str | None, ...]:
        return tuple(row[name] for name in key)

    partners: dict[tuple[str | None, ...], list[Row]] = {}
    for row in only_table if key else []:
        partners.setdefault(of(row), []).append(row)
    found: list[RowDifference] = []
    paired: set[int] = set()
    columns: set[str] = set()
    for row in only_files:
        others = partners.get(of(row), []) if key else []
        if not others:
            found.append(RowDifference("only in files", keyed(row)))
            continue
        other = others.pop()
        paired.add(id(other))
        unequal = [name for name in kinds if row[name] != other[name]]
        columns.update(unequal)
        cells = tuple(Cell(name, shown(row, name), shown(other, name)) for name in unequal)
        found.append(RowDifference("differs", keyed(row), cells))
    found += [RowDifference("only in table", keyed(row)) for row in only_table if id(row) not in paired]
    if not paired:  # nothing tells which row became which, but what the columns hold in all may differ
        sides = (only_files, only_table)
        columns.update(
            name for name in kinds if len({frozenset(Counter(row[name] for row in rows).items()) for rows in sides}) > 1
        )
    return Differences(tuple(found[:_MOST_SHOWN]), len(found) if whole else None, frozenset(columns))


def _less(rows: Sequence[Row], others: Sequence[Row]) -> list[Row]:
    """The rows that the others do not have as often."""
    counts = Counter(row[HASH] for row in others)
    left = []
    for row in rows:
        if counts[row[HASH]] > 0:
            counts[row[HASH]] -= 1
        else:
            left.append(row)
    return left


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
