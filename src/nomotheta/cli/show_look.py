"""A look at a file, as an analyst reads it at a terminal."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.show import cell, indented, out, plain_table, rows_told
from nomotheta.peek import Look, SeenColumn
from nomotheta.report import visible

_NAMES = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar", " ": "space"}


def show_look(found: Look) -> None:
    """What a file is, and what is odd about it."""
    console = out()
    read = "" if found.whole else ", the start of it"
    console.print(
        Text.assemble((visible(found.file), "bold"), f"  {rows_told(found.rows)}{read}, {len(found.columns)} columns")
    )
    grid = Table.grid(padding=(0, 2, 0, 0))
    size = f"{found.bytes_on_disk:,} bytes" + (f", {found.packing}" if found.packing else "")
    ends = ", ".join(found.line_ends) or "none"
    delimiter = _NAMES.get(found.delimiter, found.delimiter)
    for label, value, why in (
        ("size", size, ""), ("encoding", found.encoding, found.encoding_why), ("line ends", ends, ""),
        ("delimiter", delimiter, found.delimiter_why), ("header", "yes" if found.header else "no", found.header_why),
    ):  # fmt: skip
        grid.add_row(Text(label, "dim"), Text(value), Text(visible(why), "dim"))
    console.print(indented(grid, 2, 1))
    table = plain_table(
        ("column", ""),
        ("kind", ""),
        ("blank", "right"),
        ("distinct", "right"),
        ("lowest", ""),
        ("highest", ""),
        ("examples", ""),
    )
    for column in found.columns:
        table.add_row(*_look_row(column))
    console.print(indented(table, 2, 1))
    keys = [" + ".join(key) for key in found.keys]
    console.print(
        indented(
            Text.assemble(
                ("may be a key  ", "dim"), visible(", ".join(keys)) or "no column, and no pair that was tried"
            ),
            2,
        )
    )
    _show_oddities(console, found)
    if found.first_rows:
        console.print()
        rows = plain_table(*((visible(column.name), "") for column in found.columns))
        for row in found.first_rows[:5]:
            rows.add_row(*(_short(value, 24) for value in row))
        console.print(indented(rows, 2))


def _look_row(column: SeenColumn) -> Iterable[Text]:
    share = column.blanks / column.rows if column.rows else 0
    yield Text(visible(column.name), "bold")
    yield Text(column.kind + (f"  {column.form}" if column.form else ""))
    yield Text(
        "–" if not column.blanks else f"{share:.1%}" if share >= 0.001 else "<0.1%", "" if column.blanks else "dim"
    )
    yield Text(("" if column.distinct_exact else "~") + f"{column.distinct:,}")
    yield _short(column.lowest, 20)
    yield _short(column.highest, 20)
    yield Text(", ".join(_short(each, 16).plain for each in column.examples[:3]))


def _short(value: str | None, most: int) -> Text:
    """A value cut to fit, which says that it was cut."""
    text = cell(value, "–")
    return Text(text.plain[: most - 1] + "…", text.style) if len(text.plain) > most else text


def _show_oddities(console: Console, found: Look) -> None:
    if not found.oddities:
        console.print(indented(Text("✓ nothing odd", "green"), 2))
        return
    table = Table.grid(padding=(0, 2, 0, 0))
    for odd in found.oddities:
        count = f"{odd.count:,}" if odd.count else ""
        where = f"line {odd.line:,}" if odd.line else ""
        example = f"such as {_short(odd.example, 60).plain}" if odd.example else ""
        seen = Text("  ".join(part for part in (where, example) if part), "dim")
        column = Text(visible(odd.column), "bold")
        table.add_row(Text("!", "yellow"), column, Text(count, justify="right"), Text(odd.what), seen)
    console.print(indented(table, 2))
