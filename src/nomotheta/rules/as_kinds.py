"""Columns of other kinds than they should be: read as texts, each by its kind's own definition."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from nomotheta.charter import Check
from nomotheta.conditions import Kind, own, quoted
from nomotheta.place.few import Answer
from nomotheta.place.valued import misfit
from nomotheta.rules.anew import Anew, Reading, columns_of, plain_texts, reading_of
from nomotheta.rules.finding import Finding, Samples, samples_of
from nomotheta.rules.question import ROWS, SAMPLES, Question
from nomotheta.start import keep_memory


def read_kinds(question: Question, checks: Sequence[Check]) -> list[Finding]:
    """Columns read as text, each by its kind's own definition: by the place itself, or by us."""
    there = [check for check in checks if check.columns[0] in question.reads]
    if there:
        found = dict(zip(map(id, there), _misfits_there(question, there), strict=True))
        rest = [check for check in checks if id(check) not in found]
        found |= zip(map(id, rest), read_kinds(question, rest) if rest else [], strict=True)
        return [found[id(check)] for check in checks]
    keep_memory()
    names = [check.columns[0] for check in checks]
    texts = [f"{question.place.as_text(name)} AS {quoted(own(str(at)))}" for at, name in enumerate(names)]
    where = question.where(question.scope_of(checks[0]), by=question.place)
    tallies = [_KindTally(question.declared(check), reading_of(question, check.columns[0])) for check in checks]
    for batch in question.place.stream(f"SELECT {', '.join(texts)} {question.place.rowset(question.table, where)}"):
        for tally, column in zip(tallies, batch.columns, strict=True):
            tally.take(column)
    return [_kind_finding(question, check, tally, where) for check, tally in zip(checks, tallies, strict=True)]


def _misfits_there(question: Question, checks: Sequence[Check]) -> list[Finding]:
    """Columns whose texts the place has read: how many are none of their kind, by one statement."""
    scope, asked = question.scope_of(checks[0]), question.asked
    counts = [f"count({misfit(check.columns[0])}) AS {quoted(own(str(at)))}" for at, check in enumerate(checks)]
    rowset = asked.rowset(question.table, question.where(scope))
    total, *breaks = map(int, asked.answer(f"SELECT count(*) AS {quoted(ROWS)}, {', '.join(counts)} {rowset}").rows[0])
    findings = []
    for check, count in zip(checks, breaks, strict=True):
        name = check.columns[0]
        where = question.where(scope, f"{misfit(name)} IS NOT NULL")
        key = next((key.columns for key in question.charter.real_keys()), ())
        shown = [quoted(each) for each in key if each != name and each in question.shape]
        shown.append(f"{misfit(name)} AS {quoted(name)}")
        sql = f"SELECT {', '.join(shown)} {asked.rowset(question.table, where)}"

        def samples(check: Check = check, where: str | None = where, sql: str = sql) -> Samples:
            question.keep(check, where)
            return samples_of(asked.answer(f"{sql} LIMIT {SAMPLES}"), question.private)

        findings.append(_as_stored(question, check, question.counted_finding(check, count, total, sql, samples)))
    return findings


def _kind_finding(question: Question, check: Check, tally: _KindTally, where: str | None) -> Finding:
    name = check.columns[0]
    sql = f"SELECT {question.place.as_text(name)} AS {quoted(name)} {question.place.rowset(question.table, where)}"
    examples = Answer((name,), [(text,) for text in tally.examples])

    def samples() -> Samples:
        engine = Anew(question.place, {question.table: columns_of(question)})
        broken = f"{misfit(name)} IS NOT NULL"
        question.keep(check, question.where(question.scope_of(check), broken, by=engine), engine)
        return samples_of(examples, question.private)

    finding = question.counted_finding(check, tally.breaks, tally.rows, sql, samples)
    return _as_stored(question, check, finding)


def _as_stored(question: Question, check: Check, finding: Finding) -> Finding:
    """It with what the column is stored as, where that is something else than its kind."""
    name = check.columns[0]
    column = question.shape[name]
    declared = question.declared(check).name
    if column.kind and column.kind.name == declared and (name not in question.reads or declared == "text"):
        return finding
    stored = f"the column is stored as {column.type_name}"
    return replace(finding, message=f"{finding.message}; {stored}" if finding.message else stored)


@dataclass(slots=True)
class _KindTally:
    """How many texts of a column are none of its kind, and a few of them."""

    kind: Kind
    reading: Reading
    breaks: int = 0
    rows: int = 0
    examples: list[str] = field(default_factory=list)

    def take(self, column: Any) -> None:
        texts = plain_texts(self.reading.cells(column, self.kind), self.kind)
        for found in self.reading.typed(texts, self.kind).misfits:
            self.breaks += len(found.rows)
            self.examples += [texts[int(at)].as_py() for at in found.rows[: SAMPLES - len(self.examples)]]
        self.rows += len(column)
