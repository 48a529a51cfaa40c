"""Findings, and tables held against their charters."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GREEN, SIGNS, TONES, cell, indented, out, plain_table, rows_told, verdict_text
from nomotheta.cli.screens.past import Known, since
from nomotheta.errors import counted, visible
from nomotheta.ledger import DocketEntry, Judgement
from nomotheta.report.words import quiet, telling
from nomotheta.rules.finding import Finding, Samples

_OF_A_COLUMN = {"kind", "text_length", "blank", "between", "among", "pattern", "case", "trimmed", "length", "drift"}

_NOT_ONE_EACH = {"key", "gaps", "usual", "drift"}  # whose samples are not one for each break


def show_finding(
    console: Console, finding: Finding, entry: DocketEntry | None = None, day: datetime.date | None = None
) -> None:  # fmt: skip
    """A broken rule, since when it is if that is known, and a few of the rows that break it."""
    tone = TONES[finding.verdict]
    line = Text.assemble((f"{SIGNS[finding.verdict]} {finding.rule}", tone))
    if finding.message:
        line.append(f"  {visible(finding.message)}")
    console.print(indented(line, 2))
    before = since(entry, day)
    if before is not None:
        console.print(indented(before, 4))
    for told in finding.excuses:
        console.print(indented(Text(visible(f"excused {told}"), "dim"), 4))
    if finding.because:
        console.print(indented(Text(finding.because, "dim"), 4))
    if finding.owners and finding.verdict != "pass":
        console.print(indented(Text(visible(f"concerns {', '.join(finding.owners)}"), "dim"), 4))
    if finding.samples.rows:
        console.print(indented(_samples(finding.samples), 4))
        more = (finding.breaks or 0) - len(finding.samples.rows)
        if more > 0 and finding.sort not in _NOT_ONE_EACH:
            console.print(indented(Text(f"… and {more:,} more", "dim"), 4))


def _samples(samples: Samples) -> Table:
    table = plain_table(*((name, "") for name in samples.columns))
    for row in samples.rows:
        table.add_row(*map(cell, row))
    return table


def show_judgements(results: Sequence[Judgement], before: Known) -> None:
    """Tables held against their charters, and what the docket knows of what fails."""
    console = out()
    for at, result in enumerate(results):
        if at:
            console.print()
        _show_judgement(console, result, before)


def _show_judgement(console: Console, result: Judgement, before: Known) -> None:
    title = Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict))
    verdicts = [finding.verdict for finding in result.findings]
    rows = next((f.rows for f in result.findings if f.rows is not None and f.over == "table"), None)
    if rows is not None:
        counts = [f"{verdicts.count(each)} {each}" for each in ("error", "fail", "warn", "pass") if each in verdicts]
        excused = sum(1 for finding in result.findings if finding.excused)
        counts += [f"{excused} with excused breaks"] * bool(excused)
        title.append(f"  {rows_told(rows)} in {result.place}, {counted(len(verdicts), 'rule')}: {', '.join(counts)}")
    console.print(title)
    if result.message:
        console.print(indented(Text(visible(result.message), TONES[result.verdict]), 2))
        if result.mend:
            console.print(indented(Text(f"→ {visible(result.mend)}"), 2))
        return
    for note in result.notes:
        console.print(indented(Text(visible(note), "dim"), 2))
    broken = telling(result.findings)
    for finding in broken:
        show_finding(console, finding, before.get((result.table, "rule", finding.rule)))
    if broken:
        console.print()
    _show_met(console, quiet(result.findings))


def _show_met(console: Console, findings: Sequence[Finding]) -> None:
    """What is met, a line for each column and for each other rule."""
    columns: dict[str, list[str]] = {}
    others = []
    for finding in findings:
        over = f" (rows of {finding.over})" if finding.over != "table" else ""
        note = finding.message
        told = finding.rule + (f": {note}" if note else "") + over
        if finding.sort in _OF_A_COLUMN:
            name = finding.columns[0]
            short = told.removeprefix(f"{name} ").removeprefix("is ").removeprefix("has ")
            columns.setdefault(name, []).append(short)
        else:
            others.append(told)
    table = Table.grid(padding=(0, 2, 0, 0))
    for name, parts in columns.items():
        table.add_row(Text("✓", GREEN), Text(visible(name)), Text(visible(" · ".join(parts))))
    console.print(indented(table, 2))
    for told in others:
        console.print(indented(Text.assemble(("✓", GREEN), f"  {visible(told)}"), 2))
