"""The rows that a load set aside."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from nomotheta.cli.paint import cell, indented, number, out, plain_table, rows_told
from nomotheta.cli.screens.past import nights_told
from nomotheta.errors import counted, visible
from nomotheta.ledger import Part
from nomotheta.report.words import why_aside
from nomotheta.workspace.aside import SetAside


def show_rejects(found: SetAside, nights: Sequence[Part]) -> None:
    """The rows of a load that were set aside: by reason, then one by one; and how many were in earlier nights."""
    console = out()
    load = found.load
    console.print(Text.assemble((load.table, "bold"), _set_aside_title(found)))
    before = nights_told(nights, "rejected", "rejected")
    if before is not None:
        console.print(indented(before, 2))
    if load.state == "undone":
        console.print(Text("  the load was rolled back; none of its rows is in the table", "dim"))
    for reason, count in found.closed.items():
        console.print(Text(f"  {rows_told(count)} closed: {visible(reason)}", "dim"))
    if (found.came or found.closed) and found.shown:
        console.print(Text("  what follows is still open", "dim"))
    if found.shown:
        _show_faults(console, found)


def _set_aside_title(found: SetAside) -> str:
    """How many rows were set aside, and what became of them."""
    title = f"  load {found.load.load_no} for {found.load.day}: {rows_told(found.rows)} set aside"
    if found.came:
        by = " and ".join(map(str, found.by))
        return f"{title}: {found.came:,} came later with load {by}, {found.open:,} open"
    return f"{title}, {found.open:,} open" if found.closed else title


def _show_faults(console: Console, found: SetAside) -> None:
    """Faults one by one, counted by reason, and how to get the others."""
    load, shown = found.load, found.shown
    several = len({each.file for each in shown}) > 1
    heads = [("file", "")] if several else []
    table = plain_table(*heads, ("line", "right"), ("column", "whole"), ("value", ""), ("why", ""))
    for each in shown:
        file = [Text(visible(each.file))] if several else []
        why = Text(visible(why_aside(each)))
        table.add_row(*file, number(each.line), cell(each.column or None, "–"), cell(each.value, "–"), why)
    console.print()
    console.print(table)
    console.print()
    counts = Counter(each.reason for each in shown) if found.came or found.closed else load.reasons
    by_reason = sorted(counts.items(), key=lambda item: -item[1])
    console.print(Text(f"by reason: {', '.join(f'{reason} {count:,}' for reason, count in by_reason)}"))
    for each in shown[:3] if not found.private else []:
        console.print(Text.assemble((f"line {each.line:,}  ", "dim"), cell(each.original)), soft_wrap=True)
    if found.private:
        console.print(Text("The original rows contain private columns, so only --csv FILE shows them.", "dim"))
    rest = "" if found.faults == len(shown) else f"; all of them: nomotheta rejects {load.load_no} --all"
    console.print(Text(f"{len(shown):,} of {counted(found.faults, 'fault')} shown{rest}", "dim"))
    console.print(Text(f"→ to correct them: nomotheta rejects {load.load_no} --csv FILE"))
