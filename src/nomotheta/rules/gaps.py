"""Values that follow each other by one step: those that are missing between them, or at the ends."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any

from nomotheta.charter import Check, Following
from nomotheta.conditions import Kind, check, own, quoted
from nomotheta.errors import counted
from nomotheta.kinds.show import show
from nomotheta.rules.finding import HIDDEN, Finding, Samples, verdict_of
from nomotheta.rules.question import Question

LISTED = 20  # gaps that a finding lists
_VALUE, _NEXT, _STEPS = own("value"), own("next"), own("steps")
Gap = tuple[Any, Any, int]  # the first and the last value that is missing, and how many
_EPOCH = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)


def gaps(question: Question, of: Check) -> Finding:
    """What is missing between the values of a column, in all rows or in each group."""
    assert of.follows is not None  # noqa: S101 - only such come here
    follows = of.follows
    pairs, odd = _pairs(question, of, follows), f"{quoted(_STEPS)} % {follows.step} <> 0"
    gap = f"{quoted(_STEPS)} > {follows.step}"
    missing = f"{quoted(_STEPS)} - 1 - (({quoted(_STEPS)} - 1) % {follows.step})"
    named = {
        "values": "count(*)", "least": f"min({quoted(_VALUE)})", "most": f"max({quoted(_VALUE)})",
        "missing": f"coalesce(sum(CASE WHEN {gap} THEN {missing} END), 0)", "odd": f"count(CASE WHEN {odd} THEN 1 END)",
    }  # fmt: skip
    parts = ", ".join(f"{sql} AS {quoted(own(name))}" for name, sql in named.items())
    sql = f"SELECT {parts} FROM ({pairs}) AS {quoted(own('pairs'))}"
    row = question.asked.answer(sql).first()
    values, between, odd_ones = int(row[own("values")]), int(row[own("missing")]) // follows.step, int(row[own("odd")])
    ends = _ends(question, follows, row[own("least")], row[own("most")], values)
    absent = between + sum(int(count) for *_, count in ends)
    breaks = absent + odd_ones
    told = [f"{_are(absent)} missing"] * bool(absent)
    told += [f"{_are(odd_ones)} off the step of {follows.said}"] * bool(odd_ones)
    message = " and ".join(told) if told else "" if values else "there were no rows to check"
    finding_rows = values + absent
    if breaks and of.tolerate.allows(breaks, finding_rows):
        message += f", within the tolerance of {of.tolerate}"
    samples = Samples((), ())
    if breaks:
        listed = f"SELECT * FROM ({pairs}) AS {quoted(own('pairs'))} WHERE {gap} OR {odd}"
        order = ", ".join(map(quoted, [*of.groups, _VALUE]))
        found = question.asked.answer(f"{listed} ORDER BY {order} LIMIT {LISTED}")
        samples = _samples(question, of, found.rows, ends)
    return question.made(
        of, verdict=verdict_of(of, breaks, finding_rows), breaks=breaks, rows=finding_rows, message=message, sql=sql,
        samples=samples,
    )  # fmt: skip


def _are(count: int) -> str:
    return f"{counted(count, 'value')} {'is' if count == 1 else 'are'}"


def _pairs(question: Question, of: Check, follows: Following) -> str:
    """Each value with the next, and how far they are apart."""
    asked = question.asked
    groups = [asked.exactly(quoted(name), question.shape[name]) for name in of.groups]
    named = [f"{sql} AS {quoted(name)}" for sql, name in zip(groups, of.groups, strict=True)]
    column, kind = quoted(follows.column), follows.kind
    value = column
    if follows.unit == "month":
        months = f"extract(year from {column}) * 12 + extract(month from {column}) - 1"
        value, kind = asked.render(check(months, {follows.column: kind}, "row value"), question.now), Kind("integer")
    scope = question.scope_of(of)
    rowset = asked.rowset(question.table, question.where(scope, f"{column} IS NOT NULL"))
    distinct = f"SELECT DISTINCT {', '.join([*named, f'{value} AS {quoted(_VALUE)}'])} {rowset}"
    within = f"PARTITION BY {', '.join(map(quoted, of.groups))} " if of.groups else ""
    following = f"lead({quoted(_VALUE)}) OVER ({within}ORDER BY {quoted(_VALUE)}) AS {quoted(_NEXT)}"
    columns = ", ".join(map(quoted, [*of.groups, _VALUE]))
    both = f"SELECT {columns}, {following} FROM ({distinct}) AS {quoted(own('values'))}"
    apart = check(f"{quoted(_NEXT)} - {quoted(_VALUE)}", {_NEXT: kind, _VALUE: kind}, "row value")
    steps = f"{asked.render(apart, question.now)} AS {quoted(_STEPS)}"
    return f"SELECT {columns}, {quoted(_NEXT)}, {steps} FROM ({both}) AS {quoted(own('both'))}"


def _ends(question: Question, follows: Following, least: Any, most: Any, values: int) -> list[Gap]:
    """What is missing before the first value there is, and after the last: from, to, and how many."""
    first, last = (_at(question, follows, end) for end in (follows.first, follows.last))
    if not values:
        if first is None or last is None:
            return [(end, end, 1) for end in (first, last) if end is not None]
        count = (last - first) // follows.step + 1
        return [(first, last, count)] if count > 0 else []
    lowest, highest = _number(follows, least), _number(follows, most)
    found = []
    if first is not None and first < lowest:
        count = -((first - lowest) // follows.step)
        found.append((lowest - count * follows.step, lowest - follows.step, count))
    if last is not None and last - highest >= follows.step:
        count = (last - highest) // follows.step
        found.append((highest + follows.step, highest + count * follows.step, count))
    return found


def _at(question: Question, follows: Following, end: Any) -> int | None:
    """A first or last value as a number; that of the run's day, where so many days are said."""
    if end is None:
        return None
    if follows.kind.name == "date" and isinstance(end, int):
        end = question.now.day + datetime.timedelta(end)
    if follows.unit == "month":
        return int(end.year) * 12 + int(end.month) - 1
    return _number(follows, end)


def _number(follows: Following, value: Any) -> int:
    """A value as a whole number of its unit: days and microseconds since 1970, months since the year 0."""
    if follows.unit == "microsecond":
        moment = value if value.tzinfo else value.replace(tzinfo=datetime.UTC)
        return int((moment - _EPOCH) // datetime.timedelta(microseconds=1))
    if follows.unit == "day":
        return int((value.date() if isinstance(value, datetime.datetime) else value).toordinal())
    return int(value)


def _shown(follows: Following, number: int) -> str:
    """The number as the value that it stands for."""
    if follows.unit == "microsecond":
        moment = _EPOCH + datetime.timedelta(microseconds=number)
        return str(show(moment if follows.kind.name == "timestamptz" else moment.replace(tzinfo=None)))
    if follows.unit == "day":
        return datetime.date.fromordinal(number).isoformat()
    return f"{number // 12:04}-{number % 12 + 1:02}" if follows.unit == "month" else str(number)


def _samples(question: Question, of: Check, rows: Sequence[Sequence[Any]], ends: Sequence[Gap]) -> Samples:
    """What is missing, from and to; a value that is off the step, with the one before it."""
    assert of.follows is not None  # noqa: S101
    follows, width = of.follows, len(of.groups)
    private = {name.casefold() for name in question.private}
    hidden = [name.casefold() in private for name in of.groups]
    listed: list[tuple[tuple[str | None, ...], int, int, str]] = [
        ((None,) * width, low, high, f"{count:,} missing") for low, high, count in ends
    ]
    for row in rows:
        low, high, steps = _number(follows, row[width]), _number(follows, row[width + 1]), int(row[width + 2])
        groups = tuple(HIDDEN if hide else show(value) for hide, value in zip(hidden, row, strict=False))
        count = (steps - 1) // follows.step
        if count:
            listed.append((groups, low + follows.step, low + count * follows.step, f"{count:,} missing"))
        if steps % follows.step:
            listed.append((groups, low, high, "off the step"))
    masked = follows.column.casefold() in private
    ways = [(HIDDEN, HIDDEN) if masked else (_shown(follows, low), _shown(follows, high)) for _, low, high, _ in listed]
    told = [(*groups, *way, what) for (groups, _, _, what), way in zip(listed, ways, strict=True)]
    return Samples((*of.groups, "from", "to", "what"), tuple(told[:LISTED]))
