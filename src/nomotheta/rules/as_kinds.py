"""Columns of other kinds than they should be: read as texts, each by its kind's own definition."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from nomotheta.charter import Check
from nomotheta.conditions import Kind, own, quoted
from nomotheta.place.few import Answer
from nomotheta.rules.anew import Reading, plain_texts, reading_of
from nomotheta.rules.finding import Finding, samples_of
from nomotheta.rules.question import SAMPLES, Question
from nomotheta.start import keep_memory


def read_kinds(question: Question, checks: Sequence[Check]) -> list[Finding]:
    """Columns read as text, each by its kind's own definition."""
    keep_memory()
    names = [check.columns[0] for check in checks]
    texts = [f"{question.place.as_text(name)} AS {quoted(own(str(at)))}" for at, name in enumerate(names)]
    where = question.where(question.scope_of(checks[0]), by=question.place)
    tallies = [_KindTally(question.declared(check), reading_of(question, check.columns[0])) for check in checks]
    for batch in question.place.stream(f"SELECT {', '.join(texts)} {question.place.rowset(question.table, where)}"):
        for tally, column in zip(tallies, batch.columns, strict=True):
            tally.take(column)
    return [_kind_finding(question, check, tally, where) for check, tally in zip(checks, tallies, strict=True)]


def _kind_finding(question: Question, check: Check, tally: _KindTally, where: str | None) -> Finding:
    name = check.columns[0]
    sql = f"SELECT {question.place.as_text(name)} AS {quoted(name)} {question.place.rowset(question.table, where)}"
    examples = Answer((name,), [(text,) for text in tally.examples])
    finding = question.counted_finding(
        check, tally.breaks, tally.rows, sql, lambda: samples_of(examples, question.private)
    )
    column = question.shape[name]
    if column.kind and column.kind.name == tally.kind.name:
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
        for misfit in self.reading.typed(texts, self.kind).misfits:
            self.breaks += len(misfit.rows)
            self.examples += [texts[int(at)].as_py() for at in misfit.rows[: SAMPLES - len(self.examples)]]
        self.rows += len(column)
