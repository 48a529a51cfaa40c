"""Rules that look at earlier loads: values that are usual, and distributions that drift."""

from __future__ import annotations

import contextlib
import json
import math
from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nomotheta.charter import Check, Compiled, value_written
from nomotheta.conditions import Node, own, quoted
from nomotheta.errors import counted
from nomotheta.place.render import Now
from nomotheta.rules.finding import Finding, Samples, verdict_of
from nomotheta.rules.question import Earlier, Question, Surroundings
from nomotheta.rules.scan import told_value

if TYPE_CHECKING:
    from nomotheta.rules.sketch import Drift, Sketch

_LISTED = 8  # earlier loads that a finding lists
_LOADS, _MOST = 28, 400  # loads that a distribution is compared with, and a value
_DISTANCE, _CHANCE = 0.1, 1e-4  # a drift that is nearer or likelier is none
_TIMES, _BEYOND = 2.0, 0.05  # and it is further off than those of earlier loads from each other
_VALUE = own("value")


def with_last(now: Now, compiled: Compiled, around: Surroundings | None) -> Now:
    """What a run fixes, with the values of the load before that conditions speak of."""
    last: dict[str, Any] = {}
    for check in compiled.checks:
        nodes = _last_nodes(check)
        if nodes and around is not None:
            for earlier in reversed(around.past(compiled.charter.table, check.name, now.load_no, 1)):
                values = json.loads(earlier.measured)
                for name in nodes.keys() & values.keys():
                    with contextlib.suppress(ValueError):  # the column was of another kind then
                        last[name] = value_written(nodes[name].kind, values[name])
    return replace(now, last=last) if last else now


def _last_nodes(check: Check) -> dict[str, Node]:
    return {node.value: node for node in (check.node.walk() if check.node else ()) if node.op == "last"}


def usual(question: Question, check: Check) -> Finding:
    """A value of the load against those of earlier loads."""
    assert check.node is not None and check.usual is not None  # noqa: S101 - only such come here
    scope = question.scope_of(check)
    with question.read_by_us() if question.differs(check) else contextlib.nullcontext():
        sql = f"SELECT {question.asked.render(check.node, question.now)} AS {quoted(_VALUE)} "
        sql += question.asked.rowset(question.table, question.where(scope))
        value = question.asked.answer(sql).first()[_VALUE]
    return as_usual(question, check, value, sql)


def as_usual(question: Question, check: Check, value: Any, sql: str) -> Finding:
    """The finding of a value that is worked out already."""
    assert check.node is not None and check.usual is not None  # noqa: S101
    from nomotheta.rules.usual import usual_range

    shown = told_value(question, check.node, value)
    known = [each for each in _past(question, check, _MOST) if each.measured]
    measured = "" if value is None else str(value)
    if value is None or not math.isfinite(value):
        told = f"{check.text} is {shown}, which is never usual"
        return question.made(check, verdict=verdict_of(check, 1, 1), breaks=1, rows=1, message=told, sql=sql)
    if len(known) < check.usual.least:
        told = f"{check.text} is {shown}; {_too_few(len(known), check.usual.least)}"
        return question.made(check, verdict="warn", breaks=0, rows=1, message=told, sql=sql, measured=measured)
    found = usual_range([each.day for each in known], [float(each.measured) for each in known], question.now.day)
    met = found.holds(float(value))
    by = f" on a {question.now.day:%A}" if found.by_weekday else ""
    low, high = (_rounded(check.node, bound) for bound in (found.low, found.high))
    message = f"{check.text} is {shown}; usual{by} is {low} to {high}, by {counted(len(known), 'earlier load')}"
    rows = tuple((str(each.load_no), str(each.day), each.measured) for each in known[: -_LISTED - 1 : -1])
    return question.made(
        check, verdict=verdict_of(check, int(not met), 1), breaks=int(not met), rows=1, message=message, sql=sql,
        measured=measured, samples=Samples(("load", "day", check.text), rows) if not met else Samples((), ()),
    )  # fmt: skip


def _too_few(there: int, least: int) -> str:
    are = "is" if there == 1 else "are"
    return f"there {are} {counted(there, 'earlier load')} to compare with, and {least} are needed"


def _rounded(node: Node, bound: float) -> str:
    return f"{bound:,.0f}" if node.kind.name == "integer" or abs(bound) >= 1000 else f"{bound:,.4g}"


def _past(question: Question, check: Check, most: int) -> Sequence[Earlier]:
    """What earlier loads had, the oldest first."""
    if question.around is None:
        return ()
    return question.around.past(question.table, check.name, question.now.load_no, most)


def drifts(question: Question, check: Check) -> Finding:
    """The distribution of a column's values in a load against those of earlier loads."""
    return as_drift(question, check, *_sketched(question, check))


def as_drift(question: Question, check: Check, now: Sketch, sql: str) -> Finding:
    """The finding of a distribution that is known already."""
    from nomotheta.rules.sketch import Sketch

    assert check.drift is not None  # noqa: S101
    past = [Sketch.of_text(each.measured) for each in _past(question, check, _LOADS) if each.measured]
    past = [each for each in past if each.count and (not now.count or bool(each.edges) == bool(now.edges))]
    made: dict[str, Any] = {"rows": now.count, "sql": sql, "measured": now.text() if now.count else ""}
    if not now.count and past:
        told = f"there are no values, and {counted(len(past), 'earlier load')} had some"
        return question.made(check, verdict=verdict_of(check, 1, 1), breaks=1, message=told, **made)
    if not now.count:
        return question.made(check, verdict="pass", breaks=0, message="there were no values to check", **made)
    if len(past) < check.drift.least:
        told = _too_few(len(past), check.drift.least)
        return question.made(check, verdict="warn", breaks=0, message=told, **made)
    broken, found, farthest = moved(now, past)
    loads = counted(len(past), "earlier load")
    told = f"its distance from {loads} is {found.distance:.2f}, usually up to {farthest:.2f}"
    told += f"; gone: {', '.join(found.gone[:6])}" if found.gone else ""
    return question.made(
        check, verdict=verdict_of(check, int(broken), 1), breaks=int(broken), message=told,
        samples=_compared(check, now, past) if broken else Samples((), ()), **made,
    )  # fmt: skip


def moved(now: Sketch, past: Sequence[Sketch]) -> tuple[bool, Drift, float]:
    """Whether a distribution is not as usual, how far it is from those before, and how far one of those is at most."""
    from nomotheta.rules.sketch import drift

    found = drift(now, past)
    others = sorted(drift(each, [*past[:at], *past[at + 1 :]]).distance for at, each in enumerate(past))
    limit = max(_DISTANCE, _TIMES * others[len(others) // 2], others[-1] + _BEYOND)
    return (found.distance > limit and found.chance() < _CHANCE) or bool(found.gone), found, others[-1]


def _sketched(question: Question, check: Check) -> tuple[Sketch, str]:
    """What there is to keep of a column, and the statement that found it."""
    from nomotheta.rules.sketch import WORDS, Sketch, number_of

    kind = question.declared(check)
    with _ranking(question, check):
        sql = sketch_statement(question, check)
        rows = question.asked.answer(sql).rows
        if not _is_counted(question, check):
            count, edges = rows[0]
            listed = json.loads(edges) if isinstance(edges, str) else edges or ()
            return Sketch(int(count), tuple(number_of(edge, kind) for edge in listed)), sql
        total = question.asked.answer(f"SELECT count(*) {_present(question, check)}").rows[0][0]
    plain = bool if kind.name == "boolean" else str
    kept = {str(plain(value)): int(times) for value, times in rows[:WORDS]}
    return Sketch(int(total), words=kept, others=int(total) - sum(kept.values())), sql


def sketch_statement(question: Question, check: Check) -> str:
    """The statement that finds what there is to keep of a column."""
    from nomotheta.rules.sketch import SHARES, WORDS

    (name,), asked, rowset = check.columns, question.asked, _present(question, check)
    if not _is_counted(question, check):
        return f"SELECT count(*), {asked.quantiles(quoted(name), SHARES)} AS {quoted(_VALUE)} {rowset}"
    exact, times = asked.exactly(quoted(name), question.shape[name]), quoted(own("times"))
    counted_sql = f"SELECT {exact} AS {quoted(_VALUE)}, count(*) AS {times} {rowset} GROUP BY {exact}"
    return f"{counted_sql} ORDER BY {times} DESC, {quoted(_VALUE)} LIMIT {WORDS + 1}"


def _is_counted(question: Question, check: Check) -> bool:
    """Whether the values of a column are counted, and not ranked."""
    return question.declared(check).name in {"text", "boolean"}


def _ranking(question: Question, check: Check) -> AbstractContextManager[None]:
    """The embedded engine in place of a database that ranks no values."""
    place = question.place
    ranked = not _is_counted(question, check) and question.asked is place and not place.ranks
    return question.read_by_us() if ranked else contextlib.nullcontext()


def _present(question: Question, check: Check) -> str:
    """The rows that have a value in the column."""
    where = question.where(question.scope_of(check), f"{quoted(check.columns[0])} IS NOT NULL")
    return question.asked.rowset(question.table, where)


def _compared(check: Check, now: Sketch, past: Sequence[Sketch]) -> Samples:
    """Where the values lie now, and where they lay before."""
    from nomotheta.rules.sketch import SHARES

    if now.edges:
        rows = []
        for share in (0, 25, 50, 75, 100):
            before = sorted(each.edges[share] for each in past)[len(past) // 2]
            rows.append((f"{SHARES[share]:.0%} lie below", f"{before:,.6g}", f"{now.edges[share]:,.6g}"))
        return Samples(("of the values", "before", "now"), tuple(rows))
    total = sum(each.count for each in past)
    before_of = {name: sum(each.words.get(name, 0) for each in past) / total for each in past for name in each.words}
    names = {*before_of, *now.words}
    moved = sorted(names, key=lambda name: -abs(now.words.get(name, 0) / now.count - before_of.get(name, 0)))[:_LISTED]
    return Samples(
        (check.columns[0], "before", "now"),
        tuple((name, f"{before_of.get(name, 0):.2%}", f"{now.words.get(name, 0) / now.count:.2%}") for name in moved),
    )
