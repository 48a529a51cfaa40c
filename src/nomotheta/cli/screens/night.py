"""A run of a night, and the demo's three."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.console import Console
from rich.text import Text

from nomotheta.cli.paint import RED, TONES, number, out, plain_table, relative, verdict_text
from nomotheta.cli.screens.findings import show_finding
from nomotheta.cli.screens.load import has_message, show_files_apart, show_message, show_set_aside
from nomotheta.cli.screens.reconciliation import show_differences
from nomotheta.errors import visible
from nomotheta.ledger import LoadResult, RunResult, TableResult
from nomotheta.report.words import gravest_first, headline, ordered, title


def show_run(result: RunResult) -> None:
    """A night: the summary, then what failed."""
    console = out()
    console.print(Text(title(result), f"bold {TONES[result.verdict]}"))
    console.print(
        Text(f"{result.workspace} · delivery day {result.day} · run {result.run_id} · {result.seconds:.1f} s", "dim")
    )
    console.print()
    table = plain_table(
        ("table", ""), ("verdict", ""), ("loaded", "right"), ("rejected", "right"), ("copies", "right"),
        ("conflicts", "right"), ("in table", "right"), ("files", ""), ("", ""),
    )  # fmt: skip
    for each in result.tables:
        table.add_row(
            Text(each.table, "bold"), verdict_text(each.verdict), *_counts(each.load), _equal(each), _state(each)
        )
    console.print(table)
    for each in gravest_first(result.tables):
        _show_details(console, each)


def _counts(load: LoadResult) -> list[Text]:
    balance = load.balance
    if balance is None or load.state not in {"loaded", "undone"}:
        return [*[number(None)] * 4, number(load.table_rows)]
    loaded = balance.loaded if load.state == "loaded" else 0
    counts = (loaded, balance.rejected, balance.copies, balance.conflicts, load.table_rows)
    return [number(count) for count in counts]


def _equal(table: TableResult) -> Text:
    if table.reconciliation is None:
        return Text("–", "dim")
    same = table.reconciliation.verdict == "pass"
    return Text("equal" if same else "differ", "" if same else RED)


def _state(table: TableResult) -> Text:
    state = table.load.state
    words = {"loaded": "", "refused": "delivery refused", "undone": "load undone", "failed": "could not be loaded"}
    return Text(words.get(state, state))


def _show_details(console: Console, table: TableResult) -> None:
    load = table.load
    broken = [finding for finding in ordered(load.findings) if finding.verdict != "pass"]
    differs = table.reconciliation is not None and table.reconciliation.verdict == "fail"
    told = has_message(load)
    if not (broken or differs or told or load.rejects or table.message or load.bad or load.warnings):
        return
    console.print()
    console.print(Text(table.table, "bold"))
    if told:
        show_message(console, load)
    if table.message:
        console.print(Text(f"  {visible(table.message)}", RED))
    show_files_apart(console, load)
    for finding in broken:
        show_finding(console, finding)
    if table.reconciliation is not None and differs:
        show_differences(console, table.reconciliation)
    show_set_aside(console, load)


def show_demo(runs: Sequence[RunResult], folder: object, pages: Sequence[Path]) -> None:
    """Three nights, each in a summary of its own, and what to look at next."""
    console = out()
    for at, result in enumerate(runs):
        if at:
            console.rule(style="dim")
        show_run(result)
    console.rule(style="dim")
    table = plain_table(("night", ""), ("verdict", ""), ("what happened", ""), ("page", ""))
    for result, page in zip(runs, pages, strict=True):
        table.add_row(str(result.day), verdict_text(result.verdict), Text(headline(result)), Text(relative(page)))
    console.print(table)
    console.print()
    console.print(
        Text(f"The faults that were planted are listed in {folder}/README.md. To look around: cd {folder}", "bold")
    )
