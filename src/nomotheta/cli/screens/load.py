"""Loads: their balance, the rules, what was set aside; and loads that were taken out again."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GREEN, SIGNS, TONES, YELLOW, cell, indented, number, out, plain_table, verdict_text
from nomotheta.cli.screens.findings import show_finding
from nomotheta.errors import counted, visible
from nomotheta.ledger import LoadResult, Undone
from nomotheta.load.balance import Balance
from nomotheta.report.words import STATES, quiet, telling, why_aside
from nomotheta.rules.finding import Finding

_REJECTS = 10


def show_loads(table: str, results: Sequence[LoadResult]) -> None:
    """Loads one below the other; or that there was nothing to load."""
    console = out()
    if not results:
        told = "nothing to load: no row was set aside as a repeat of a row that was removed since"
        console.print(Text.assemble((visible(table), "bold"), f"  {told}"))
    for at, result in enumerate(results):
        if at:
            console.print()
        show_load(result)


def show_load(load: LoadResult) -> None:
    """A load: its balance, the rules, what was set aside."""
    console = out()
    number_ = f" {load.load_no}" if load.load_no else ""
    what = f"load{number_} for {load.day}: {STATES[load.state]}"
    if load.mends is not None:
        what += f", mended rows of load {load.mends}"
    title = Text.assemble((load.table, "bold"), "  ", verdict_text(load.verdict), f"  {what}")
    console.print(title)
    if has_message(load):
        show_message(console, load)
    if load.balance is not None:
        show_balance(console, load.balance, undone=load.state == "undone")
    show_files_apart(console, load)
    for note in load.notes:
        console.print(Text(f"note   {visible(note)}", "dim"))
    for finding in telling(load.findings):
        show_finding(console, finding)
    _show_met_in_short(console, quiet(load.findings))
    show_set_aside(console, load)


def has_message(load: LoadResult) -> bool:
    """Whether what is said of a load is more than that it is loaded, and than what the rules say."""
    ruled = any(finding.verdict == "fail" for finding in load.findings)
    quiet = load.state in {"loaded", "unchanged"} and (load.verdict != "fail" or ruled)
    return bool(load.message) and (not quiet or bool(load.changed))


def show_message(console: Console, load: LoadResult | Undone) -> None:
    """What is said of a load, and the mend."""
    where = f"{load.where}: " if load.where else ""
    console.print(indented(Text(f"{SIGNS[load.verdict]} {visible(where + load.message)}", TONES[load.verdict]), 2))
    if load.mend:
        console.print(indented(Text(f"→ {visible(load.mend)}"), 4))


def show_files_apart(console: Console, load: LoadResult) -> None:
    """What is to be looked at, and files that could not be loaded."""
    for bad in load.bad:
        console.print(indented(Text(f"✗ left out: {visible(bad.file)}: {visible(bad.message)}", TONES["fail"]), 2))
        if bad.mend:
            console.print(indented(Text(f"→ {visible(bad.mend)}"), 4))
    for warning in load.warnings:
        console.print(indented(Text(f"! {visible(warning)}", TONES["warn"]), 2))


def _show_met_in_short(console: Console, met: Sequence[Finding]) -> None:
    """How many rules are met; of those that some rows break, how many do; and that there were no rows, where so."""
    if not met:
        return
    idle = sum(finding.rows == 0 for finding in met)
    told = f"{counted(len(met), 'check')} passed"
    text = Text(f"✓ {told}", GREEN)
    if idle:
        text.append(f", {'all' if idle == len(met) else idle} of them because there were no rows to check", YELLOW)
    console.print(indented(text, 2))
    for finding in met:
        if finding.breaks:
            console.print(indented(Text.assemble((f"✓ {finding.rule}", GREEN), f"  {finding.message}"), 2))


def show_balance(console: Console, balance: Balance, *, undone: bool = False) -> None:
    """The account of a load, as two sums."""
    grid = Table.grid(padding=(0, 1))
    for each in () if balance.many else balance.files:
        grid.add_row(Text("file", "dim"), Text(f"{visible(each.file)}: {counted(each.lines, 'line')} = {each.told()}"))
    if balance.many:
        whole, worst = balance.together(), balance.worst()
        grid.add_row(Text("files", "dim"), Text(f"{whole.file}: {counted(whole.lines, 'line')} = {whole.told()}"))
        for each in worst:
            told = f"{each.aside()} of {counted(each.records, 'record')}"
            grid.add_row("", Text(f"{visible(each.file)}: {told}"))
        more = sum(each.set_aside > 0 for each in balance.files) - len(worst)
        if more > 0:
            grid.add_row("", Text(f"… and {more:,} more files with rows set aside", "dim"))
    merged = ""
    if balance.how == "merge":
        merged = f" ({balance.inserted:,} inserted, {balance.updated:,} updated, {balance.unchanged:,} unchanged)"
    rows = f"{counted(balance.records, 'record')} = {balance.loaded:,} loaded{merged} + {balance.aside()}"
    removed = f" − {balance.removed:,} replaced" if balance.removed else ""
    new = f"{balance.inserted:,} inserted" if merged else f"{balance.loaded:,} loaded"
    after = f"{balance.before:,} again" if undone else f"{balance.after:,}"
    grid.add_row(Text("rows", "dim"), Text(rows))
    grid.add_row(Text("table", "dim"), Text(f"{balance.before:,} before{removed} + {new} → {after} ({balance.how})"))
    for told in balance.alterations():
        grid.add_row(Text("altered", "dim"), Text(visible(told)))
    console.print(indented(grid, 2))


def show_set_aside(console: Console, load: LoadResult) -> None:
    """The first rows that were set aside, and where the others are."""
    if not load.rejects or load.balance is None:
        return
    balance = load.balance
    console.print(indented(Text(f"rows set aside: {balance.aside()}"), 2))
    table = plain_table(("line", "right"), ("column", "whole"), ("value", ""), ("why", ""))
    for reject in load.rejects[:_REJECTS]:
        table.add_row(
            number(reject.line),
            cell(reject.column or None, "–"),
            cell(reject.value, "–"),
            Text(visible(why_aside(reject))),
        )
    console.print(indented(table, 4))
    more = balance.rejected + balance.repeated - _REJECTS
    kept = load.mends or load.load_no  # a rehearsal keeps none
    rest = f"… and {more:,} more" if more > 0 else "with the rows as they came" if kept else ""
    told = f"{rest}: nomotheta rejects {kept} --csv FILE" if kept else rest
    if told:
        console.print(indented(Text(told, "dim"), 4))


def show_undone(results: Sequence[Undone]) -> None:
    """Loads that were taken out again, or why they were not."""
    if len(results) > 1 and results[0].verdict != "pass":
        console = out()
        console.print(Text.assemble(verdict_text(results[0].verdict), "  no load was undone"))
        show_message(console, results[0])
        return
    for result in results:
        _show_undone(result)


def _show_undone(result: Undone) -> None:
    console = out()
    done = result.verdict == "pass"
    title = f"  load {result.load_no} " + ("was undone" if done else "was not undone")
    console.print(Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict), title))
    if not done:
        show_message(console, result)
        return
    restored = f" + {result.restored:,} put back" if result.restored else ""
    text = f"{result.before:,} before − {result.removed:,} removed{restored} → {result.after:,}"
    console.print(Text.assemble(("  table  ", "dim"), text))
    for load_no, rows in result.open_again.items():
        verb = "is" if rows == 1 else "are"
        told = f"{counted(rows, 'row')} that load {load_no} set aside as repeats of these rows {verb} open again"
        console.print(indented(Text(f"! {told}", TONES["warn"]), 2))
        console.print(indented(Text(f"→ nomotheta load {visible(result.table)} --again, or the next run"), 4))
