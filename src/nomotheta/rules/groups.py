"""Conditions that hold in each group of the rows: one statement counts the groups that break any of them."""

from __future__ import annotations

from collections.abc import Sequence

from nomotheta.charter import Check
from nomotheta.conditions import Node, own, quoted
from nomotheta.rules.finding import Finding, Samples, message_of, samples_of, verdict_of
from nomotheta.rules.question import Question, Scope
from nomotheta.rules.scan import aggregates, told_of

LISTED = 20  # groups that a finding lists
_GROUPS = own("groups")


def grouped(question: Question, checks: Sequence[Check], scope: Scope) -> list[Finding]:
    """Checks of the same groups of the same rows."""
    met = [quoted(own(f"met {at}")) for at in range(len(checks))]
    counts = [f"count(CASE WHEN {name} THEN 1 END) AS {name}" for name in met]
    asked = [f"{_met(question, check)} AS {name}" for check, name in zip(checks, met, strict=True)]
    each = _each(question, checks[0], asked, scope)
    sql = f"SELECT count(*) AS {quoted(_GROUPS)}, {', '.join(counts)} FROM ({each}) AS {quoted(own('each group'))}"
    row = question.asked.answer(sql).first()
    groups = int(row[_GROUPS])
    return [_finding(question, check, groups, int(row[own(f"met {at}")]), scope) for at, check in enumerate(checks)]


def _each(question: Question, check: Check, values: Sequence[str], scope: Scope) -> str:
    """A row for each group, with its columns and some values."""
    exact = [question.asked.exactly(quoted(name), question.shape[name]) for name in check.groups]
    named = [f"{sql} AS {quoted(name)}" for sql, name in zip(exact, check.groups, strict=True)]
    rowset = question.asked.rowset(question.table, question.where(scope))
    return f"SELECT {', '.join([*named, *values])} {rowset} GROUP BY {', '.join(exact)}"


def _met(question: Question, check: Check) -> str:
    """The condition, undecided where a part of it is no number: such are compared in another way by every database."""
    assert check.node is not None  # noqa: S101 - groups have a condition
    condition = question.asked.render(check.node, question.now)
    reals = [question.asked.render(node, question.now) for node in aggregates(check.node) if node.kind.name == "real"]
    finite = " AND ".join(question.asked.fingerprint.finite(real) for real in dict.fromkeys(reals))
    return f"CASE WHEN {finite} THEN {condition} END" if finite else condition


def _finding(question: Question, check: Check, groups: int, met: int, scope: Scope) -> Finding:
    name = quoted(own("met"))
    each = _each(question, check, [f"{_met(question, check)} AS {name}"], scope)
    unmet = f"FROM ({each}) AS {quoted(own('each group'))} WHERE CASE WHEN {name} THEN 0 ELSE 1 END = 1"
    breaks = groups - met
    message = message_of(check, breaks, groups, "groups")
    return question.made(
        check, verdict=verdict_of(check, breaks, groups), breaks=breaks, rows=groups, message=message,
        sql=f"SELECT count(*) {unmet}", samples=_listed(question, check, scope) if breaks else Samples((), ()),
    )  # fmt: skip


def _listed(question: Question, check: Check, scope: Scope) -> Samples:
    """The first groups that break it, with what was worked out of each."""
    assert check.node is not None  # noqa: S101
    name, private = quoted(own("met")), set(question.private)
    values: dict[str, Node] = {}
    for node in aggregates(check.node):
        values.setdefault(told_of(node), node)
        if question.private & set(node.columns()) and node.value.name != "count":
            private.add(told_of(node))
    shown = [f"{question.asked.render(node, question.now)} AS {quoted(told)}" for told, node in values.items()]
    each = _each(question, check, [f"{_met(question, check)} AS {name}", *shown], scope)
    listed = ", ".join(quoted(column) for column in [*check.groups, *values])
    order = ", ".join(quoted(column) for column in check.groups)
    found = question.asked.answer(
        f"SELECT {listed} FROM ({each}) AS {quoted(own('each group'))} WHERE CASE WHEN {name} THEN 0 ELSE 1 END = 1 "
        f"ORDER BY {order} LIMIT {LISTED}"
    )
    return samples_of(found, frozenset(private))
