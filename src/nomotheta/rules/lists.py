"""Keys, references and offenders: a query each."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from nomotheta.charter import Check
from nomotheta.conditions import PARAMETERS, own, quoted
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.few import Answer
from nomotheta.rules.finding import Finding, Samples, samples_of
from nomotheta.rules.question import BREAKS, SAMPLES, Question, Scope
from nomotheta.rules.shape import comparable, existing, held_as

if TYPE_CHECKING:
    from nomotheta.rules.anew import Anew

_TIMES, _LISTED, _REPEATED = (quoted(own(word)) for word in ("times", "listed", "repeated"))
_PARAMETERS = re.compile(
    rf"""'(?:[^']|'')*'|"(?:[^"]|"")*"|`[^`]*`|--[^\n]*|/\*.*?\*/|(\$\w*\$).*?\1|::|(?<!\w):({"|".join(PARAMETERS)})\b""",
    re.S,
)


def repeats_of(
    asked: Place | Anew, table: str, columns: Sequence[str], shape: Mapping[str, PlaceColumn], *, nulls: bool = False
) -> tuple[str, str]:  # fmt: skip
    """The statements that count the rows whose key another row has, and that list such keys; null is not a key.

    Args:
        asked: who answers.
        table: whose rows.
        columns: the key.
        shape: the table's columns.
        nulls: whether null is a value as any other.
    """
    present = [f"{quoted(name)} IS NOT NULL" for name in columns]
    rowset = asked.rowset(table, None if nulls else " AND ".join(present))
    exact = [asked.exactly(quoted(name), shape[name]) for name in columns]
    named = ", ".join(f"{sql} AS {quoted(name)}" for sql, name in zip(exact, columns, strict=True))
    groups = f"SELECT {named}, count(*) AS {_TIMES} {rowset} GROUP BY {', '.join(exact)} HAVING count(*) > 1"
    return f"SELECT coalesce(sum({_TIMES} - 1), 0) AS {quoted(BREAKS)} FROM ({groups}) AS {_REPEATED}", groups


def key(question: Question, check: Check) -> Finding:
    """Rows whose key another row of the table has."""
    scope = question.scope_of(check)
    sql, groups = repeats_of(
        question.asked, question.table, check.columns, question.shape, nulls=check.whole_row
    )  # fmt: skip
    breaks = int(question.asked.answer(sql).first()[BREAKS])
    rows = question.count(Scope())

    def samples() -> Samples:
        listed = ", ".join(quoted(name) for name in check.columns)
        found = question.asked.answer(f"{groups} ORDER BY {_TIMES} DESC, {listed} LIMIT {SAMPLES}")
        return samples_of(Answer((*found.columns[:-1], "times"), found.rows), question.private)

    finding = question.counted_finding(check, breaks, rows, sql, samples)
    return finding if scope.where is None else replace(finding, over="table")


def reference(question: Question, check: Check) -> Finding:
    """Rows whose values no row of another table lists."""
    assert check.listed_in is not None  # noqa: S101
    table, listed = check.listed_in
    there = {column.name: column for column in existing(question.place, table)}
    missing = [name for name in listed if name not in there]
    if missing:
        return question.made(check, verdict="error", message=f"{table} has no column '{missing[0]}'")
    for name, other in zip(check.columns, listed, strict=True):
        have, kind = there[other].kind, question.declared(check, name)
        if not comparable(there[other], kind):
            told = f"{name} is {kind}, and {table}.{other} is {have}: such values cannot be compared"
            return question.made(check, verdict="error", message=told)
    asked = _asked_with(question, check, table, listed, there)
    pairs = zip(check.columns, listed, strict=True)
    mine = asked.named(question.table)
    same = " AND ".join(
        f"{asked.exactly(f'{_LISTED}.{quoted(other)}', there[other])} = "
        f"{asked.exactly(f'{mine}.{quoted(name)}', question.shape[name])}"
        for name, other in pairs
    )
    present = " AND ".join(f"{quoted(name)} IS NOT NULL" for name in check.columns)
    absent = f"NOT EXISTS (SELECT 1 FROM {asked.named(table)} AS {_LISTED} WHERE {same})"
    scope = question.scope_of(check)
    where = question.where(scope, present, absent, by=asked)
    sql = f"SELECT count(*) AS {quoted(BREAKS)} {asked.rowset(question.table, where)}"
    breaks = int(asked.answer(sql).first()[BREAKS])
    return question.counted_finding(
        check, breaks, question.count(scope), sql, lambda: question.sampled(check.columns, where, asked)
    )  # fmt: skip


def _asked_with(
    question: Question, check: Check, table: str, listed: Sequence[str], there: Mapping[str, PlaceColumn]
) -> Place | Anew:
    """Who compares the columns with those of another table: the place, where both are of the kinds it needs."""
    kinds = [question.declared(check, name) for name in check.columns]
    alike = all(held_as(there[name], kind) for name, kind in zip(listed, kinds, strict=True))
    if question.asked is question.place and alike:
        return question.place
    from nomotheta.rules.anew import Anew, columns_of, listed_columns

    if table == question.table:
        return Anew(question.place, {table: columns_of(question)})
    others = listed_columns([there[name] for name in listed], kinds)
    return Anew(question.place, {question.table: columns_of(question), table: others})


def offenders(question: Question, check: Check) -> Finding:
    """The rows that a query of the analyst's own finds."""
    query = bound(check.query, question)
    sql = f"SELECT count(*) AS nomotheta_breaks {among(query)}"
    breaks = int(question.place.ask(sql).column(0)[0].as_py())
    scope = question.scope_of(check)

    def samples() -> Samples:
        found = Answer.of(question.place.ask(f"SELECT * {among(query)}", SAMPLES))
        told = {name.casefold() for name in question.charter.columns}
        computed = [name for name in found.columns if name.casefold() not in told]
        return samples_of(
            found, question.private.union(computed if question.charter.reads_private(check.query) else ())
        )

    return question.counted_finding(check, breaks, question.count(scope), sql, samples)


def among(query: str) -> str:
    """The FROM of a query of the analyst's own. Its name is one that every database knows without quotes."""
    return f"FROM ({query}\n) nomotheta_query"


def bound(query: str, question: Question) -> str:
    """A query with the values of its parameters; what stands in quotes or in comments is none."""

    def value(found: re.Match[str]) -> str:
        name = found[2]
        if name is None:
            return found[0]
        if name == "day":
            return question.place.day(question.now.day)
        return "NULL" if question.now.load_no is None else str(question.now.load_no)

    return _PARAMETERS.sub(value, query)
