"""A look at a table, as an analyst reads it at a terminal."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GREEN, RED, YELLOW, cell, cut, indented, number, out, plain_table, rows_told
from nomotheta.cli.screens.look import show_rows
from nomotheta.errors import counted, visible
from nomotheta.peek.table import Counted, TableColumn, TableLook

_NAME, _VALUE = 24, 20  # characters of a column's name, of a value


def show_table(found: TableLook) -> None:
    """What a table holds: how many rows, what is in each column, what repeats the key, a few rows."""
    console = out()
    where = f" where {visible(found.where)}" if found.where else ""
    told = f"  {rows_told(found.rows)} in {found.place}{where}, {counted(len(found.columns), 'column')}"
    console.print(Text.assemble((visible(found.table), "bold"), told))
    console.print(indented(_columns(found.columns), 2, 1))
    for each in found.columns:
        if each.error:
            console.print(indented(Text(f"! {visible(each.name)}: {visible(each.error)}", YELLOW), 2))
    _show_key(console, found)
    if found.by is not None:
        _show_counts(console, found.by, found.rows)
    show_rows(console, [each.name for each in found.columns], found.first_rows)


def _columns(columns: Iterable[TableColumn]) -> Table:
    sorts = ("null", "empty", "spaces", "white")
    counts = [dict(zip(sorts, (each.nulls, each.empty, each.spaces, each.white), strict=True)) for each in columns]
    shown = [sort for sort in sorts if sort == "null" or any(count[sort] for count in counts)]
    heads = [(f"{sort} space" if sort == "white" else sort, "right") for sort in shown]
    table = plain_table(
        ("column", "whole"), ("type", ""), *heads, ("distinct", "right"), ("lowest", "whole"), ("highest", "whole")
    )  # fmt: skip
    for each, count in zip(columns, counts, strict=True):
        type_ = each.type_name if each.kind is not None else f"{each.type_name} (no kind)"
        blanks = [number(count[sort]) if count[sort] else Text("–", "dim") for sort in shown]
        bounds = [cut(cell(value, "–"), _VALUE) for value in (each.lowest, each.highest)]
        table.add_row(
            cut(Text(visible(each.name), "bold"), _NAME), Text(type_), *blanks, number(each.distinct), *bounds
        )
    return table


def _show_key(console: Console, found: TableLook) -> None:
    if found.repeats is None:
        return
    key = ", ".join(map(visible, found.key))
    tone, told = (RED, f"{rows_told(found.repeats)} repeat it") if found.repeats else (GREEN, "no row repeats it")
    if found.repeats == 1:
        told = "1 row repeats it"
    console.print(indented(Text.assemble(("key  ", "dim"), f"{key}: ", (told, tone)), 2, 1))


def _show_counts(console: Console, by: Counted, rows: int) -> None:
    table = plain_table((visible(by.column), ""), ("rows", "right"), ("share", "right"))
    for value, times in by.counts:
        table.add_row(cell(value), number(times), Text(f"{times / rows:.1%}"))
    console.print(indented(table, 2))
    more = by.values - len(by.counts)
    console.print(indented(Text(f"and {more:,} more values" if more else counted(by.values, "value"), "dim"), 2, 1))
