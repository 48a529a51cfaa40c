"""A source against a target, and the rows that differ."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import RED, cell, indented, out, plain_table, rows_told, verdict_text
from nomotheta.cli.screens.past import Known, since
from nomotheta.errors import counted, visible
from nomotheta.load.balance import aside_told
from nomotheta.reconcile import ColumnTotals, Reconciliation, RowCounts, RowDifference

_MEASURES = {"sum": "sum", "range": "lowest, highest", "length": "characters", "bytes": "bytes", "true": "true values"}
_LEAST = 12  # characters that a value may be folded to
_SHOWN = 20  # rows that differ


def show_reconciliation(
    result: Reconciliation, *, again: bool = False, limit: int = _SHOWN, entries: Known | None = None
) -> None:  # fmt: skip
    """A source against a target, and so many of its differences, and since when they differ.

    `again` says that another one was shown before.
    """
    console = out()
    if again:
        console.print()
    same = result.verdict == "pass"
    sides = f"{visible(result.source)} and {visible(result.target)}"
    told = f"{sides} {'are equal' if same else 'differ'}"
    told = f"{result.over}: {told}" if result.of_files else told
    console.print(Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict), f"  {told}"))
    if not same:
        past = since((entries or {}).get((result.table, "reconciliation" if result.of_files else "comparison", "")))
        if past is not None:
            console.print(indented(past, 2))
        show_differences(console, result, limit)
    console.print(indented(_counts(result), 2, 1))
    more = _asked(result)
    table = plain_table(
        ("column", ""), ("values", "right"), *((name, "right") for name in more), ("total of", ""), ("", ""),
        ("total", ""),
    )  # fmt: skip
    alike = result.source_rows == result.target_rows  # else all totals differ, which says nothing of the columns
    for column in result.totals:
        differs = column.column in result.differing or (alike and not column.equal)
        for side, row in enumerate(_totals_rows(column, result, differs=differs)):
            further = [Text(each(column, side), RED if differs else "") for each in more.values()]
            table.add_row(*row[:2], *further, *row[2:])
    for at in range(4 + len(more)):
        table.columns[at].no_wrap = at > 0
    table.columns[-1].min_width = _LEAST
    console.print(indented(table, 2))
    if result.uncompared:
        why = "not from the files, or not in the charter" if result.of_files else "left out"
        console.print(indented(Text(f"not compared ({why}): {', '.join(map(visible, result.uncompared))}", "dim"), 2))
    for note in result.notes if same else ():
        console.print(indented(Text(visible(note), "dim"), 2))
    for name, counts in result.excused.items():
        told = ", ".join(f"{number:,} {what}" for what, number in counts.items())
        console.print(indented(Text(f"may differ: {visible(name)}: {told}", "dim"), 2))


def show_row_counts(result: RowCounts, *, again: bool = False, limit: int = _SHOWN) -> None:
    """Rows of both sides by groups: those that differ, then all where they are few."""
    console = out()
    if again:
        console.print()
    several = counted(len(result.groups), "group")
    if result.differing:
        told = f"{result.differing:,} of {several} differ{'s' if result.differing == 1 else ''}"
    else:
        told = f"{several} {'is' if len(result.groups) == 1 else 'are'} equal"
    title = Text.assemble(
        (result.table, "bold"), "  ", verdict_text(result.verdict), f"  {result.over} by {result.by}: {told}"
    )
    console.print(title)
    table = plain_table((result.by, ""), (result.source, "right"), (result.target, "right"), ("difference", "right"))
    ordered = sorted(result.groups, key=lambda each: each.source == each.target)
    shown = ordered if len(ordered) <= limit else ordered[: max(limit, 0)]
    for each in shown:
        apart = each.target - each.source
        tone = RED if apart else ""
        name = "null" if each.value is None else visible(each.value)
        mark = "✗ " if apart else ""
        table.add_row(
            Text(f"{mark}{name}", tone),
            f"{each.source:,}",
            f"{each.target:,}",
            Text(f"{apart:+,}" if apart else "–", tone),
        )
    table.add_section()
    apart = result.target_rows - result.source_rows
    table.add_row("all", f"{result.source_rows:,}", f"{result.target_rows:,}", f"{apart:+,}" if apart else "–")
    console.print(indented(table, 2))
    if len(shown) < len(ordered):
        console.print(indented(Text(f"and {len(ordered) - len(shown):,} more: --limit N shows so many", "dim"), 2))


def _counts(result: Reconciliation) -> Table:
    """Rows and fingerprints, one side below the other."""
    aside = aside_told(result.rejected, result.copies, result.conflicts).replace(" + ", " − ")
    later = f" + {result.mended:,} mended" if result.mended else ""
    rows = rows_told(result.source_rows)
    source = f"{counted(result.records, 'record')} − {aside}{later} = {rows}" if result.of_files else rows
    grid = Table.grid(padding=(0, 1))
    for said in result.stated:
        parts = [counted(said.rows, "row")] if said.rows is not None else []
        parts += [f"{visible(name)} {_grouped(total, 'sum')}" for name, total in said.totals.items()]
        grid.add_row(Text("stated", "dim"), Text(f"{', '.join(parts)} ({visible(said.where)})"))
    tone = "" if result.source_rows == result.target_rows else RED
    grid.add_row(Text(visible(result.source), "dim"), Text(source))
    grid.add_row(Text(visible(result.target), "dim"), Text(rows_told(result.target_rows), tone))
    prints = [result.source_fingerprint, result.target_fingerprint]
    if prints[0] == prints[1]:
        grid.add_row(Text("fingerprint", "dim"), Text(f"{prints[0]} on both sides ({result.scheme})"))
    else:
        grid.add_row(Text("fingerprint", "dim"), Text(f"{prints[0]} in {_in(result.source)} ({result.scheme})", RED))
        grid.add_row("", Text(f"{prints[1]} in {_in(result.target)}", RED))
    return grid


def _asked(result: Reconciliation) -> dict[str, Callable[[ColumnTotals, int], str]]:
    """What else is told of columns, where it was asked for."""
    found: dict[str, Callable[[ColumnTotals, int], str]] = {}
    if any(each.source_distinct is not None for each in result.totals):
        found["distinct"] = lambda column, side: _number((column.source_distinct, column.target_distinct)[side])
    if any(each.source_fingerprint is not None for each in result.totals):
        found["fingerprint"] = lambda column, side: (
            (column.source_fingerprint, column.target_fingerprint)[side] or ""
        )  # fmt: skip
    return found


def _number(count: int | None) -> str:
    return "" if count is None else f"{count:,}"


def _in(side: str) -> str:
    return f"the {side}" if side in {"files", "table"} else visible(side)


def _totals_rows(column: ColumnTotals, result: Reconciliation, *, differs: bool) -> Iterable[tuple[Text, ...]]:
    """A column's totals: one line where both sides have the same, else one for each side."""
    tone = RED if differs else ""
    name = Text(f"{'✗ ' if differs else ''}{visible(column.column)}", tone)
    measure = Text(_MEASURES[column.measure], "dim")
    sides = [", ".join(_grouped(value, column.measure) for value in side) for side in (column.source, column.target)]
    counts = [f"{column.source_count:,}", f"{column.target_count:,}"]
    if sides[0] == sides[1] and counts[0] == counts[1] and _are_same(column):
        more = "the same total, of other values" if differs else ""
        yield name, Text(counts[0], tone), measure, Text(""), Text(f"{sides[0]}  {more}".rstrip(), tone)
        return
    yield name, Text(counts[0], tone), measure, Text(_side(result, 0), "dim"), Text(sides[0], tone)
    yield Text(""), Text(counts[1], tone), Text(""), Text(_side(result, 1), "dim"), Text(sides[1], tone)


def _are_same(column: ColumnTotals) -> bool:
    return (column.source_distinct, column.source_fingerprint) == (column.target_distinct, column.target_fingerprint)


def _side(result: Reconciliation, at: int) -> str:
    """What a side is called beside a value: short names as they are."""
    names = (result.source, result.target)
    return names[at] if result.of_files else ("source", "target")[at]


def _grouped(value: str | None, measure: str) -> str:
    """A total as people read it: digits in threes."""
    if value is None:
        return "null"
    whole, mark, fraction = value.partition(".")
    plain = whole.lstrip("-").isdigit() and measure != "range"
    return f"{int(whole):,}{mark}{fraction}" if plain and not value.startswith("-0") else visible(value)


def show_differences(console: Console, result: Reconciliation, limit: int = _SHOWN) -> None:
    """How many rows differ and why, then each by its key, and both values of every column that does."""
    if result.cause:
        console.print(indented(Text(f"✗ {visible(result.cause)}", RED), 2))
    if result.differing:
        console.print(indented(Text(f"✗ columns that differ: {', '.join(map(visible, result.differing))}", RED), 2))
    for side in dict.fromkeys(side for _, side in result.lacking):
        names = [visible(name) for name, lacks in result.lacking if lacks == side]
        told = f"✗ {visible(side)} has no {'column' if len(names) == 1 else 'columns'} {', '.join(names)}"
        console.print(indented(Text(told, RED), 2))
    for note in result.notes:
        console.print(indented(Text(visible(note), RED), 2))
    if not result.differences:
        return
    count = result.differing_rows
    listed = sum(result.sorts.values()) or len(result.differences)
    several = (
        f"more than {listed:,} rows differ, of which {listed:,} were looked at" if count is None else _differ(count)
    )
    sorts = ", ".join(f"{number:,} {_sort_told(sort, result)}" for sort, number in result.sorts.items())
    shown = result.differences[:limit]
    first = f"; the first {len(shown):,}" if count is None or count > len(shown) else ""
    console.print(indented(Text(f"✗ {several}: {sorts}{first}", RED), 2))
    for each in shown:
        console.print(indented(_difference(each, result), 4))
    console.print()


def _differ(count: int) -> str:
    return f"{counted(count, 'row')} differ{'s' if count == 1 else ''}"


def _sort_told(sort: str, result: Reconciliation) -> str:
    """A sort of difference, in words that name the side."""
    target = result.target if result.of_files else "target"
    return {
        "missing": f"missing from the {target}", "unexpected": f"only in the {target}", "changed": "changed",
        "repeated": f"repeated in the {target}",
    }[sort]  # fmt: skip


def _difference(each: RowDifference, result: Reconciliation) -> Table:
    key = ", ".join(f"{visible(name)} {visible(value) if value is not None else 'null'}" for name, value in each.key)
    grid = Table.grid(padding=(0, 2, 0, 0))
    at = f", {visible(each.file)}:{each.line}" if each.file else ""
    grid.add_row(Text(key, "bold"), Text(f"{_sort_told(each.sort, result)}{at}", "dim"))
    names = [_side(result, side) for side in (0, 1)]
    width = max(map(len, names))
    for difference in each.cells:
        for name, side, value in zip(
            ("  " + visible(difference.column), ""), names, (difference.source, difference.target), strict=True
        ):
            grid.add_row(Text(name), Text.assemble((f"{side:<{width}} ", "dim"), cell(value)))
    for column in grid.columns:
        column.overflow = "fold"
    return grid
