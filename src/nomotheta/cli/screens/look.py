"""A look at a file, as an analyst reads it at a terminal."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GAP, GREEN, YELLOW, cell, indented, out, plain_table, rows_told
from nomotheta.errors import counted, visible
from nomotheta.peek import Look, SeenColumn

_MOST_COLUMNS, _MOST_KEYS = 50, 8  # that are shown on a screen
_TOO_FEW = 2  # rows, of which any column may be a key
_WIDE = 110  # characters: enough for examples beside the rest
_NAMES = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar", " ": "space"}


def show_look(found: Look) -> None:
    """What a file is, and what is odd about it."""
    console = out()
    read = "" if found.whole else ", the start of it"
    columns = counted(len(found.columns), "column")
    console.print(Text.assemble((visible(found.file), "bold"), f"  {rows_told(found.rows)}{read}, {columns}"))
    grid = Table.grid(padding=(0, 2, 0, 0))
    size = counted(found.bytes_on_disk, "byte") + (f", {found.packing}" if found.packing else "")
    ends = ", ".join(found.line_ends) or "none"
    delimiter = _NAMES.get(found.delimiter, found.delimiter)
    facts = [("size", size, "")]
    if found.file_format != "delimited":
        facts.append(("format", found.file_format, found.file_format_why))
    if found.encoding:
        facts += [("encoding", found.encoding, found.encoding_why), ("line ends", ends, "")]
    if found.file_format == "delimited":
        facts.append(("delimiter", delimiter, found.delimiter_why))
    if found.header_why:
        facts.append(("header", "yes" if found.header else "no", found.header_why))
    for label, value, why in facts:
        grid.add_row(Text(label, "dim"), Text(value), Text(visible(why), "dim"))
    console.print(indented(grid, 2, 1))
    wide = console.width >= _WIDE
    labels = [("column", ""), ("kind", ""), ("blank", "right"), ("distinct", "right"), ("lowest", ""), ("highest", "")]
    table = plain_table(*labels, *([("examples", "")] if wide else []))
    for at in range(len(labels)):
        table.columns[at].no_wrap = at != 1
    for column in found.columns[:_MOST_COLUMNS]:
        table.add_row(*_look_row(column, wide=wide))
    console.print(indented(table, 2, 1))
    if len(found.columns) > _MOST_COLUMNS:
        more = f"and {len(found.columns) - _MOST_COLUMNS:,} more columns; --json and --page show all of them"
        console.print(indented(Text(more, "dim"), 2))
    console.print(indented(Text.assemble(("may be a key  ", "dim"), _keys(found)), 2))
    _show_oddities(console, found)
    console.print()
    show_rows(console, [column.name for column in found.columns], found.first_rows[:5])


def _keys(found: Look) -> str:
    """The columns, and pairs of columns, in which no value repeats: the first few of them."""
    if found.rows < _TOO_FEW:
        return f"{rows_told(found.rows)} cannot tell"
    keys = [visible(" + ".join(key)) for key in found.keys]
    more = f" and {len(keys) - _MOST_KEYS:,} more" if len(keys) > _MOST_KEYS else ""
    return ", ".join(keys[:_MOST_KEYS]) + more or "no column, and no pair that was tried"


def show_rows(console: Console, names: Sequence[str], rows: Sequence[Sequence[str | None]]) -> None:
    """A few rows, as many columns as the terminal is wide."""
    if not rows:
        return
    heads = [visible(name) for name in names[:_MOST_COLUMNS]]
    cells = [[_short(value, 24) for value in row[:_MOST_COLUMNS]] for row in rows]
    widths = (max(len(name), *(row[at].cell_len for row in cells)) + GAP for at, name in enumerate(heads))
    room = console.width
    fitting = sum(1 for _ in itertools.takewhile(lambda end: end <= room, itertools.accumulate(widths))) or 1
    table = plain_table(*((name, "") for name in heads[:fitting]))
    for row in cells:
        table.add_row(*row[:fitting])
    console.print(indented(table, 2))
    more = len(names) - fitting
    if more:
        left = ", ".join(visible(name) for name in names[fitting : fitting + 4])
        console.print(indented(Text(f"and {more:,} more: {left}{', …' if more > 4 else ''}", "dim"), 2))


def _look_row(column: SeenColumn, *, wide: bool) -> Iterable[Text]:
    share = column.blanks / column.rows if column.rows else 0
    yield Text(_short(column.name, 32 if wide else 20).plain, "bold")
    yield Text(column.kind + (("  " if wide else "\n") + column.form if column.form else ""))
    yield Text(
        "–" if not column.blanks else f"{share:.1%}" if share >= 0.001 else "<0.1%", "" if column.blanks else "dim"
    )
    yield Text(("" if column.distinct_exact else "~") + f"{column.distinct:,}")
    most = 20 if wide else 12
    yield _short(column.lowest, most)
    yield _short(column.highest, most)
    if wide:
        yield Text(_some(column.examples))


def _some(examples: Sequence[str], most: int = 44) -> str:
    """As many examples as fit, but three at most, and one at least."""
    told = ""
    for example in examples[:3]:
        more = f"{told}, {_short(example, 24).plain}" if told else _short(example, 24).plain
        if told and len(more) > most:
            break
        told = more
    return told


def _short(value: str | None, most: int) -> Text:
    """A value cut to fit, which says that it was cut."""
    text = cell(value, "–")
    return Text(text.plain[: most - 1] + "…", text.style) if len(text.plain) > most else text


def _show_oddities(console: Console, found: Look) -> None:
    if not found.oddities:
        console.print(indented(Text("✓ nothing odd", GREEN), 2))
        return
    table = Table.grid(padding=(0, 2, 0, 0))
    for odd in found.oddities:
        count = f"{odd.count:,}" if odd.count else ""
        where = f"line {odd.line:,}" if odd.line else ""
        example = f"such as {_short(odd.example, 60).plain}" if odd.example else ""
        seen = Text("  ".join(part for part in (where, example) if part) or " ", "dim")
        column = Text(visible(odd.column), "bold")
        table.add_row(Text("!", YELLOW), column, Text(count, justify="right"), Text(odd.what), seen)
    console.print(indented(table, 2))
