"""Conditions on rows and on the whole: all that look at the same rows in one scan."""

from __future__ import annotations

import datetime
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

from nomotheta.charter import Check
from nomotheta.conditions import Aggregate, Node, build, own, parse_pattern, quoted
from nomotheta.kinds.show import show
from nomotheta.rules.finding import HIDDEN, Finding, message_of, verdict_of
from nomotheta.rules.question import ROWS, Question, Scope


def scanned(question: Question, checks: Sequence[Check], scope: Scope) -> list[Finding]:
    """Checks of the same rows, by one SELECT."""
    parts = [f"count(*) AS {quoted(ROWS)}"]
    for at, check in enumerate(checks):
        parts += _counted(question, check, own(str(at)))
    facts = dict(question.wanted.get(scope.label, {})) if question.asked is question.place and len(checks) > 1 else {}
    parts += [f"count(CASE WHEN {condition} THEN 1 END) AS {quoted(own(fact))}" for fact, condition in facts.items()]
    sql = f"SELECT {', '.join(parts)} {question.asked.rowset(question.table, question.where(scope))}"
    row = question.asked.answer(sql).first()
    question.counts[scope.label] = row[ROWS]
    question.learn(scope, {fact: row[own(fact)] for fact in facts})
    return [_read(question, check, row, own(str(at)), scope) for at, check in enumerate(checks)]


def _counted(question: Question, check: Check, name: str) -> list[str]:
    assert check.node is not None  # noqa: S101 - only checks with a condition come here
    condition = question.asked.render(check.node, question.now)
    if check.sort not in {"whole", "usual"}:
        counted = [f"count(CASE WHEN NOT {condition} THEN 1 END) AS {quoted(name)}"]
        if check.where is not None:
            narrowed = question.asked.render(check.where, question.now)
            counted.append(f"count(CASE WHEN {narrowed} THEN 1 END) AS {quoted(f'{name} rows')}")
        excused = question.excused(check)
        if excused is not None:
            unmet = f"NOT {condition} AND {excused} = 1"
            counted.append(f"count(CASE WHEN {unmet} THEN 1 END) AS {quoted(f'{name} excused')}")
        return counted
    values = [
        f"{question.asked.render(node, question.now)} AS {quoted(f'{name} {at}')}"
        for at, node in enumerate(aggregates(check.node))
    ]
    return [f"{condition} AS {quoted(name)}", *values]


def statement(question: Question, check: Check, name: str, scope: Scope) -> str:
    """The statement that counts what breaks a check by itself."""
    return f"SELECT {_counted(question, check, name)[0]} {question.asked.rowset(question.table, question.where(scope))}"


def counts_told(
    question: Question, check: Check, scope: Scope, counts: tuple[int, int, int], sql: str
) -> Finding:  # fmt: skip
    """The finding of a check on rows, without samples: so many break it, of so many, and so many more are excused."""
    breaks, rows, excused = counts
    finding = question.made(
        check, verdict=verdict_of(check, breaks, rows), breaks=breaks, rows=rows, sql=sql,
        message=message_of(check, breaks, rows), excused=excused,
    )  # fmt: skip
    if check.sort == "blank" and breaks and not excused:
        return replace(finding, message=f"{finding.message}{_by_sort(question, check, scope, breaks)}")
    return finding


def _read(question: Question, check: Check, row: Mapping[str, Any], name: str, scope: Scope) -> Finding:
    assert check.node is not None  # noqa: S101
    sql = statement(question, check, name, scope)
    rows = int(row[ROWS])
    if check.sort == "whole":
        return read_whole(question, check, row, name, sql)
    excused = question.excused(check)
    left_out = int(row[f"{name} excused"]) if excused is not None else 0
    breaks, rows = int(row[name]) - left_out, int(row[f"{name} rows"]) if check.where is not None else rows
    again = question.asked is question.place and question.differs(check)
    if not breaks or again:
        return question.made(
            check, verdict=verdict_of(check, breaks, rows), breaks=breaks, rows=rows, sql=sql,
            message=message_of(check, breaks, rows), excused=left_out,
        )  # fmt: skip
    finding = counts_told(question, check, scope, (breaks, rows, left_out), sql)
    condition = f"NOT {question.asked.render(check.node, question.now)}" + (f" AND {excused} = 0" if excused else "")
    question.keep(check, question.where(scope, condition))
    return replace(finding, samples=question.sampled(check.columns, question.where(scope, condition)))


def _by_sort(question: Question, check: Check, scope: Scope, breaks: int) -> str:
    """Blank texts by what they are."""
    name = check.columns[0]
    kind = question.declared(check)
    if kind.name != "text":
        return ""
    sorts = {
        "null": f"{quoted(name)} IS NULL", "empty": question.asked.render(build.among(name, kind, [""]), question.now),
        "only spaces": question.asked.render(build.matches(name, parse_pattern(" +")), question.now),
    }  # fmt: skip
    parts = [f"count(CASE WHEN {sql} THEN 1 END) AS {quoted(own(str(at)))}" for at, sql in enumerate(sorts.values())]
    rowset = question.asked.rowset(question.table, question.where(scope))
    found = question.asked.answer(f"SELECT {', '.join(parts)} {rowset}").rows[0]
    counts = dict(zip(sorts, map(int, found), strict=True))
    counts["other white space"] = breaks - sum(counts.values())
    return ": " + ", ".join(f"{count:,} {sort}" for sort, count in counts.items() if count)


def read_whole(question: Question, check: Check, row: Mapping[str, Any], name: str, sql: str) -> Finding:
    """The finding of a whole, from its answer and the values of its aggregates."""
    assert check.node is not None  # noqa: S101
    nodes = aggregates(check.node)
    values = [f"{told_of(node)} is {told_value(question, node, row[f'{name} {at}'])}" for at, node in enumerate(nodes)]
    met = row[name]
    message = ", ".join(dict.fromkeys(values))
    if any(isinstance(value, float) and not math.isfinite(value) for value in row.values()):
        met = None  # a comparison with it comes to something else in every database
    if met is None:  # nothing says that it is met
        message = f"it could not be decided: {message}" if message else "it could not be decided"
    breaks, last = int(not met), [node for node in check.node.walk() if node.op == "last"]
    verdict, measured = verdict_of(check, breaks, 1), ""
    if last:
        at = {id(node): number for number, node in enumerate(nodes)}
        now = {node.value: row[f"{name} {at[id(node.args[0])]}"] for node in last}
        measured = json.dumps({each: str(value) for each, value in now.items() if value is not None})
        if any(question.now.last.get(each) is None for each in now):
            verdict, breaks = "warn", 0
            seen = message.removeprefix("it could not be decided: ")
            message = f"there is no earlier load to compare with; {seen}"
    return question.made(
        check, verdict=verdict, breaks=breaks, rows=row[ROWS], message=message, sql=sql, measured=measured
    )  # fmt: skip


def told_value(question: Question, node: Node, value: Any) -> str:
    """A value that is worked out of all rows; of a private column only the counts are told."""
    if value is not None and not _counts(node) and question.private & set(node.columns()):
        return HIDDEN
    if node.kind.name == "duration" and value is not None:
        return str(datetime.timedelta(microseconds=int(value)))
    if node.kind.name == "timestamptz" and isinstance(value, datetime.datetime) and value.tzinfo is None:
        value = value.replace(tzinfo=datetime.UTC)  # MariaDB has no zone in its values
    if isinstance(value, int | Decimal) and not isinstance(value, bool):
        return f"{value:,f}" if isinstance(value, Decimal) else f"{value:,}"
    return show(value) or "null"


def _counts(node: Node) -> bool:
    """Whether it is nothing but a count."""
    return node.op == "aggregate" and bool(node.value.name == "count")


def aggregates(node: Node) -> list[Node]:
    """The aggregates of a condition on the whole."""
    return [each for each in node.walk() if each.op == "aggregate"]


def told_of(node: Node) -> str:
    """An aggregate in words, for its value to stand beside."""
    of: Aggregate = node.value
    args = [arg.args[0] if arg.op == "promote" else arg for arg in (node.args[:-1] if of.filtered else node.args)]
    inner = ", ".join(arg.value if arg.op == "column" else "…" for arg in args) or "*"
    told = f"{of.name}({'distinct ' * of.distinct}{inner})"
    told = f"{of.name}({of.share}) of {inner}" if of.share else told
    return told + " filter (…)" * of.filtered
