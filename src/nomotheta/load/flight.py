"""Rules judged in flight: on the typed rows of each block, while the database takes the rows of others in.

What a condition comes to here is what it would come to in the place, so that the table need not be scanned again, and
each row that breaks one is known with its file and line.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import Aggregate, Node
from nomotheta.conditions.kind import BOOLEAN, INTEGER, REAL
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.keys import Ints
from nomotheta.kinds.show import show
from nomotheta.load.engine import Engine
from nomotheta.place.render import Now, Renderer
from nomotheta.rules.finding import HIDDEN, Samples
from nomotheta.rules.flown import Flown
from nomotheta.rules.question import SAMPLES
from nomotheta.rules.scan import aggregates
from nomotheta.rules.sketch import Gathered

_PLAIN = {"integer", "decimal", "text", "date", "timestamp", "boolean"}
_COMBINED = {"count", "sum", "avg", "min", "max"}  # what can be put together from the parts of several blocks


@frozen
class Seen:
    """What was seen of a block's good rows: by the number of each check the rows that it is false for, and parts."""

    broken: Mapping[int, Ints]
    parts: Sequence[Any]


@dataclass(slots=True)
class _Count:
    rows: int = 0
    breaks: int = 0
    excused: int = 0
    samples: list[tuple[str | None, ...]] = field(default_factory=list)


class Flight:
    """Judges the rows of a load as they come in."""

    def __init__(self, compiled: Compiled, checks: Sequence[Check], now: Now) -> None:
        self.compiled, self.checks, self.now = compiled, checks, now
        self.rows = [check for check in checks if check.on_rows]
        self.wholes = [check for check in checks if check.sort in {"whole", "usual"}]
        kinds = compiled.charter.kinds()
        self._gathered = [(each, Gathered(kinds[each.columns[0]])) for each in checks if each.sort == "drift"]
        self._counts = [_Count() for _ in self.rows]
        self._parts = [part for check in self.wholes for part in _parts_of(check)]
        self._totals: list[Any] = [None] * len(self._parts)
        self._plain = {node.kind.name for node in self._parts} <= _PLAIN
        self._sums = [_sql(Renderer(now), node) for node in self._parts]
        self._all, self.failed = 0, False
        probes, self._where, self._excused = list(self.rows), dict[int, int](), dict[int, int]()
        for at, check in enumerate(self.rows):
            if check.where is not None:
                self._where[at] = len(probes)
                probes.append(Check("", "each", (), "fail", node=Node("is true", [check.where], kind=BOOLEAN)))
            nodes = [each.node for each in check.excuses if each.node is not None and each.holds(now.moment.date())]
            if nodes:
                either = nodes[0] if len(nodes) == 1 else Node("or", nodes, kind=BOOLEAN)
                self._excused[at] = len(probes)
                untrue = Node("not", [Node("is true", [either], kind=BOOLEAN)], kind=BOOLEAN)
                probes.append(Check("", "each", (), "fail", node=untrue))
        self._engine = Engine([replace(check, excuses=()) for check in probes], now)
        key = next((each.columns for each in compiled.charter.real_keys()), [])
        self._key = [name for name in key if name in compiled.charter.columns]

    def look(self, table: Any) -> Seen | None:
        """What of a block's good rows breaks the rules; beside other blocks."""
        if self.failed:
            return None
        try:
            return Seen(*self._engine.looked(table, self._sums, plain=self._plain))
        except PlaceError:  # one cannot be judged here: the place says which
            self.failed = True
            return None

    def _worked_out(self, table: Any) -> Sequence[Any]:
        """The parts of the wholes, of some rows."""
        return Engine([], self.now).looked(table, self._sums, plain=self._plain)[1] if self._sums else ()

    def take(self, table: Any, seen: Seen | None, gone: NDArray[np.bool_], places: Any) -> None:
        """Count a block: its good rows, what was seen of them, which stay out all the same, and where they were."""
        if seen is None or self.failed:
            self.failed = True
            return
        stay = ~gone
        rows = int(stay.sum())
        self._all += rows
        for at, count in enumerate(self._counts):
            broken = _staying(seen.broken, at, stay)
            excused = _staying(seen.broken, self._excused.get(at, -1), stay)
            outside = len(_staying(seen.broken, self._where[at], stay)) if at in self._where else 0
            left = broken[~np.isin(broken, excused)] if len(excused) else broken
            count.rows += rows - outside
            count.breaks, count.excused = count.breaks + len(left), count.excused + len(broken) - len(left)
            for row in left[: SAMPLES - len(count.samples)].tolist():
                count.samples.append(self._shown(self.rows[at], table, row, places(row)))
        try:
            parts = seen.parts if not gone.any() else self._worked_out(table.filter(stay))
        except PlaceError:
            self.failed = True
            return
        for check, gathered in self._gathered:
            column = table.column(check.columns[0]).combine_chunks()
            gathered.take(column.filter(stay) if gone.any() else column)
        self._totals = [_together(*pair) for pair in zip(self._parts, self._totals, parts, strict=True)]

    def state(self) -> tuple[Any, ...]:
        """What was seen so far, to be joined with what was seen elsewhere."""
        return self._all, self.failed, self._counts, [each for _, each in self._gathered], self._totals

    def join(self, state: tuple[Any, ...]) -> None:
        """Take in what was seen of further rows."""
        rows, failed, counts, gathered, totals = state
        self._all, self.failed = self._all + rows, self.failed or failed
        for count, more in zip(self._counts, counts, strict=True):
            count.rows, count.breaks, count.excused = (
                count.rows + more.rows, count.breaks + more.breaks, count.excused + more.excused
            )  # fmt: skip
            count.samples += more.samples[: SAMPLES - len(count.samples)]
        for (_, mine), its in zip(self._gathered, gathered, strict=True):
            mine.join(its)
        self._totals = [_together(*each) for each in zip(self._parts, self._totals, totals, strict=True)]

    def _shown(self, check: Check, table: Any, row: int, place: tuple[str, int]) -> tuple[str | None, ...]:
        private = self.compiled.charter.private()
        cells = ((name, table[name][row].as_py()) for name in self._columns(check))
        return (*(HIDDEN if name in private else show(value) for name, value in cells), place[0], str(place[1]))

    def _columns(self, check: Check) -> list[str]:
        return list(dict.fromkeys([*self._key, *check.columns]))

    def results(self) -> dict[str, Flown]:
        """What came of each rule, by its name; nothing, where the place has to judge."""
        if self.failed:
            return {}
        found = {}
        for check, count in zip(self.rows, self._counts, strict=True):
            samples = Samples((*self._columns(check), "file", "line"), tuple(count.samples))
            found[check.name] = Flown(count.rows, count.breaks, count.excused, samples)
        for check, gathered in self._gathered:
            sketch = gathered.sketch()
            if sketch is not None:  # else the place counts
                found[check.name] = Flown(self._all, sketch=sketch)
        totals = iter(self._totals)
        for check in self.wholes:
            values = tuple(_value(node, totals) for node in aggregates(check.node) if check.node)  # type: ignore[arg-type]
            found[check.name] = Flown(self._all, values=values)
        return found


def in_flight(compiled: Compiled, columns: Sequence[str], *, over_load: bool) -> list[Check]:
    """The checks of a charter that can be judged on the rows as they come in.

    Args:
        compiled: the charter.
        columns: those that the load brings.
        over_load: whether the rows that rules look at are the load's own, unless they say otherwise.
    """
    return [
        check
        for check in compiled.checks
        if (check.otherwise != "reject" or check.excuses) and set(check.columns) <= set(columns)
        and (over_load if check.over is None else check.over == "load") and _can_fly(check)
    ]  # fmt: skip


def _can_fly(check: Check) -> bool:
    if check.on_rows:
        nodes = [check.where, *(each.node for each in check.excuses)]
        named = {name for node in nodes if node is not None for name in node.columns()}
        return named <= set(check.columns) or not named
    if check.sort == "drift":
        return True
    if check.sort not in {"whole", "usual"} or check.node is None:
        return False
    return all(node.value.name in _COMBINED and not node.value.distinct for node in aggregates(check.node))


def _staying(broken: Mapping[int, Ints], at: int, stay: NDArray[np.bool_]) -> Ints:
    rows = broken.get(at)
    return np.zeros(0, np.int64) if rows is None else rows[stay[rows]]


def _parts_of(check: Check) -> list[Node]:
    """What has to be known of each block for the aggregates of a whole."""
    found = []
    for node in aggregates(check.node) if check.node else ():
        names = ("sum", "count") if node.value.name == "avg" else (node.value.name,)
        for name in names:
            kind = INTEGER if name == "count" else _sum_kind(node) if name == "sum" else node.kind
            value = Aggregate(name, filtered=node.value.filtered)
            found.append(Node("aggregate", node.args, value=value, kind=kind))
    return found


def _sum_kind(node: Node) -> Any:
    return node.kind if node.value.name == "sum" else node.args[0].kind


def _sql(renderer: Renderer, node: Node) -> str:
    """A part in SQL; sums of whole numbers as decimals, which Arrow has as they are."""
    sql = renderer.render(node)
    whole = node.value.name == "sum" and node.args[0].kind.name == "integer"
    return f"CAST({sql} AS DECIMAL(38,0))" if whole else sql


def _together(node: Node, one: Any, other: Any) -> Any:
    """Two parts as one; null is none."""
    if one is None or other is None:
        return other if one is None else one
    if node.value.name in {"count", "sum"}:
        return one + other
    return min(one, other) if node.value.name == "min" else max(one, other)


def _value(node: Node, totals: Any) -> Any:
    """The value of an aggregate, from its parts, taken in their order."""
    total = next(totals)
    if node.value.name == "avg":
        count = next(totals)
        return float(total) / count if count else None
    if node.value.name == "count":
        return int(total or 0)
    if total is None:
        return None
    return int(total) if node.kind == INTEGER else float(total) if node.kind == REAL else total
