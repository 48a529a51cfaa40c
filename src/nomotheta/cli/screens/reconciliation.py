"""Files against a table, and the rows that differ."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import RED, cell, indented, out, plain_table, rows_told, verdict_text
from nomotheta.errors import counted, visible
from nomotheta.load.balance import aside_told
from nomotheta.reconcile import ColumnTotals, Reconciliation, RowDifference

_MEASURES = {"sum": "sum", "range": "lowest, highest", "length": "characters", "true": "true values"}
_LEAST = 12  # characters that a value may be folded to


def show_reconciliation(result: Reconciliation, *, again: bool = False) -> None:
    """Files against a table; `again` where another one was shown before."""
    console = out()
    if again:
        console.print()
    same = result.verdict == "pass"
    told = "files and table are equal" if same else "files and table differ"
    console.print(Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict), f"  {result.over}: {told}"))
    if not same:
        show_differences(console, result)
    console.print(indented(_counts(result), 2, 1))
    table = plain_table(
        ("column", ""), ("values", "right"), ("total of", ""), ("", ""), ("in the files and the table", "")
    )
    for column in result.totals:
        for row in _totals_rows(column, differs=column.column in result.differing or not column.equal):
            table.add_row(*row)
    for at in range(4):
        table.columns[at].no_wrap = at > 0
    table.columns[4].min_width = _LEAST
    console.print(indented(table, 2))
    if result.uncompared:
        told = f"not compared (not from the files, or not in the charter): {', '.join(map(visible, result.uncompared))}"
        console.print(indented(Text(told, "dim"), 2))


def _counts(result: Reconciliation) -> Table:
    """Rows and fingerprints, one side below the other."""
    aside = aside_told(result.rejected, result.copies, result.conflicts).replace(" + ", " − ")
    later = f" + {result.mended:,} mended" if result.mended else ""
    files = f"{counted(result.records, 'record')} − {aside}{later} = {rows_told(result.files_rows)}"
    grid = Table.grid(padding=(0, 1))
    tone = "" if result.files_rows == result.table_rows else RED
    grid.add_row(Text("files", "dim"), Text(files))
    grid.add_row(Text("table", "dim"), Text(rows_told(result.table_rows), tone))
    prints = [result.files_fingerprint, result.table_fingerprint]
    if prints[0] == prints[1]:
        grid.add_row(Text("fingerprint", "dim"), Text(f"{prints[0]} on both sides ({result.scheme})"))
    else:
        grid.add_row(Text("fingerprint", "dim"), Text(f"{prints[0]} in the files ({result.scheme})", RED))
        grid.add_row("", Text(f"{prints[1]} in the table", RED))
    return grid


def _totals_rows(column: ColumnTotals, *, differs: bool) -> Iterable[tuple[Text, ...]]:
    """A column's totals: one line where both sides have the same, else one for each side."""
    tone = RED if differs else ""
    name = Text(f"{'✗ ' if differs else ''}{visible(column.column)}", tone)
    measure = Text(_MEASURES[column.measure], "dim")
    sides = [", ".join(_grouped(value, column.measure) for value in side) for side in (column.files, column.table)]
    counts = [f"{column.files_count:,}", f"{column.table_count:,}"]
    if sides[0] == sides[1] and counts[0] == counts[1]:
        more = "the same total, of other values" if differs else ""
        yield name, Text(counts[0], tone), measure, Text(""), Text(f"{sides[0]}  {more}".rstrip(), tone)
        return
    yield name, Text(counts[0], tone), measure, Text("files", "dim"), Text(sides[0], tone)
    yield Text(""), Text(counts[1], tone), Text(""), Text("table", "dim"), Text(sides[1], tone)


def _grouped(value: str | None, measure: str) -> str:
    """A total as people read it: digits in threes."""
    if value is None:
        return "null"
    whole, mark, fraction = value.partition(".")
    plain = whole.lstrip("-").isdigit() and measure != "range"
    return f"{int(whole):,}{mark}{fraction}" if plain and not value.startswith("-0") else visible(value)


def show_differences(console: Console, result: Reconciliation) -> None:
    """The rows that differ, each by its key, and both values of every column that does, one below the other."""
    if result.differing:
        console.print(indented(Text(f"✗ columns that differ: {', '.join(map(visible, result.differing))}", RED), 2))
    if not result.differences:
        return
    count = result.differing_rows
    several = "many rows differ" if count is None else f"{counted(count, 'row')} differ{'s' if count == 1 else ''}"
    first = f"; the first {len(result.differences):,}" if count is None or count > len(result.differences) else ""
    console.print(indented(Text(f"✗ {several}{first}:", RED), 2))
    for each in result.differences:
        console.print(indented(_difference(each), 4))
    console.print()


def _difference(each: RowDifference) -> Table:
    key = ", ".join(f"{visible(name)} {visible(value) if value is not None else 'null'}" for name, value in each.key)
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_row(Text(key, "bold"), Text(each.where, "dim"))
    for difference in each.cells:
        grid.add_row(Text(f"  {visible(difference.column)}"), Text.assemble(("files ", "dim"), cell(difference.files)))
        grid.add_row("", Text.assemble(("table ", "dim"), cell(difference.table)))
    for column in grid.columns:
        column.overflow = "fold"
    return grid
