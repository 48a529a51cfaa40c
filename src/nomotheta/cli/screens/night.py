"""A run of a night, and the demo's three."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path

from rich.console import Console
from rich.text import Text

from nomotheta.cli.paint import RED, TONES, cut, indented, number, out, plain_table, relative, verdict_text
from nomotheta.cli.screens.findings import show_finding
from nomotheta.cli.screens.load import has_message, show_files_apart, show_message, show_set_aside
from nomotheta.cli.screens.past import Known, since
from nomotheta.cli.screens.reconciliation import show_differences
from nomotheta.errors import visible
from nomotheta.ledger import DocketEntry, RunResult, TableResult
from nomotheta.report.words import gravest_first, headline, telling, todo
from nomotheta.workspace.loading import WOULD_BE_LOADED


def show_run(result: RunResult, before: Known) -> None:
    """A night: the summary, then what failed, and since when."""
    console = out()
    console.print(Text(headline(result), f"bold {TONES[result.verdict]}"))
    run = "trial run, nothing was changed" if result.rehearsed else f"run {result.run_id}"
    facts = f"{result.workspace} · delivery day {result.day} · {run} · {result.seconds:.1f} s"
    console.print(Text(facts, "dim"))
    console.print()
    _show_tables(console, result.tables)
    for each in gravest_first(result.tables):
        _show_details(console, each, before)


def show_runs(results: Sequence[RunResult], before: Known) -> None:
    """One night, or several: those that failed as each is shown alone, and all in a table at the end."""
    if len(results) == 1:
        show_run(results[0], before)
        return
    console = out()
    for result in results:
        if result.verdict in {"fail", "error"}:
            show_run(result, before)
            _rule(console)
    table = plain_table(("day", "whole"), ("verdict", "whole"), ("run", "right"), ("what happened", ""))
    for result in results:
        table.add_row(str(result.day), verdict_text(result.verdict), number(result.run_id), Text(headline(result)))
    console.print(table)


def _show_tables(console: Console, tables: Sequence[TableResult]) -> None:
    """A line for each table: its counts, or why there are none."""
    wide = console.width >= _WIDE
    aside = ("rejected", "copies", "conflicts") if wide else ("set aside",)
    heads = ("loaded", *aside, "in table")
    grid = plain_table(
        ("table", "whole"), ("verdict", "whole"), *((head, "right") for head in heads), ("files", "whole")
    )
    for each in tables:
        balance, state = each.load.balance, each.load.state
        counts = [number(None)] * len(aside)
        if balance is not None and state in _WITH_ROWS:
            rows = (balance.rejected, balance.copies, balance.conflicts)
            counts = [number(count) for count in (rows if wide else (sum(rows),))]
        loaded = balance is not None and (state == "loaded" or each.load.message == WOULD_BE_LOADED)
        first = number(balance.loaded) if balance and loaded else Text(_INSTEAD.get(state, state))
        name = cut(Text(visible(each.table), "bold"), _NAME)
        grid.add_row(name, verdict_text(each.verdict), first, *counts, number(each.load.table_rows), _equal(each))
    console.print(grid)


_WIDE, _NAME = 110, 24  # characters: room for all counts; of a table's name
_WITH_ROWS = frozenset({"loaded", "undone", "rehearsed"})  # states of loads whose rows were read
_INSTEAD = {
    "held back": "skipped",
    "compared": "compared",
    "undone": "rolled back",
    "rehearsed": "rolled back",
    "nothing arrived": "no file",
    "taken out": "undone",
}


def _equal(table: TableResult) -> Text:
    if table.reconciliation is None:
        return Text("–", "dim")
    same = table.reconciliation.verdict == "pass"
    return Text("equal" if same else "differ", "" if same else RED)


def _show_details(console: Console, table: TableResult, before: Known) -> None:
    load = table.load
    broken = telling(load.findings)
    differs = table.reconciliation is not None and table.reconciliation.verdict == "fail"
    told = has_message(load) and not (load.message == WOULD_BE_LOADED and load.verdict in {"pass", "warn"})
    if not (broken or differs or told or load.rejects or table.message or load.bad or load.warnings):
        return
    console.print()
    console.print(Text(table.table, "bold"))
    if told:
        show_message(console, load)
        _show_since(console, before.get((table.table, "delivery", "")), load.day)
    if table.message:
        console.print(Text(f"  {visible(table.message)}", RED))
    show_files_apart(console, load)
    for finding in broken:
        show_finding(console, finding, before.get((table.table, "rule", finding.rule)), load.day)
    if table.reconciliation is not None and differs:
        sort = "reconciliation" if table.reconciliation.of_files else "comparison"
        _show_since(console, before.get((table.table, sort, "")), load.day)
        show_differences(console, table.reconciliation)
    show_set_aside(console, load)
    if table.verdict in {"fail", "error"} and not load.mend and todo(table):
        console.print(indented(Text(f"→ {visible(todo(table))}"), 2))


def _show_since(console: Console, entry: DocketEntry | None, day: datetime.date) -> None:
    told = since(entry, day)
    if told is not None:
        console.print(indented(told, 4))


def _rule(console: Console) -> None:
    console.print(Text("─" * min(console.width, _WIDE), "dim"))


def show_demo(runs: Sequence[RunResult], folder: object, pages: Sequence[Path], index: Path) -> None:
    """Three nights, each in a summary of its own, and what to look at next."""
    console = out()
    for at, result in enumerate(runs):
        if at:
            _rule(console)
        show_run(result, {})
    _rule(console)
    table = plain_table(("night", ""), ("verdict", ""), ("what happened", ""), ("page", ""))
    for result, page in zip(runs, pages, strict=True):
        table.add_row(
            str(result.day), verdict_text(result.verdict), Text(headline(result)), Text(relative(page), overflow="fold")
        )
    console.print(table)
    console.print()
    console.print(Text(f"All tables, night by night: {relative(index)}", overflow="fold"))
    console.print(
        Text(f"The faults that were planted are listed in {folder}/README.md. To look around: cd {folder}", "bold")
    )
