"""The rows that a load set aside."""

from __future__ import annotations

from collections import Counter

from rich.console import Console
from rich.text import Text

from nomotheta.cli.paint import cell, number, out, plain_table, rows_told
from nomotheta.errors import visible
from nomotheta.workspace.aside import SetAside


def show_rejects(found: SetAside) -> None:
    """The rows of a load that were set aside: by reason, then one by one."""
    console = out()
    load = found.load
    console.print(Text.assemble((load.table, "bold"), _set_aside_title(found)))
    if load.state == "undone":
        console.print(Text("  the load was undone, so none of its rows is in the table", "dim"))
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
    """Faults by reason, then one by one."""
    load, shown = found.load, found.shown
    console.print()
    reasons = plain_table(("reason", ""), ("faults", "right"))
    counts = Counter(each.reason for each in shown) if found.came or found.closed else load.reasons
    for reason, count in sorted(counts.items(), key=lambda item: -item[1]):
        reasons.add_row(reason, number(count))
    console.print(reasons)
    console.print()
    table = plain_table(("line", "right"), ("column", ""), ("value", ""), ("reason", ""), ("why", ""))
    several = len({each.file for each in shown}) > 1
    for each in shown:
        line = Text(f"{visible(each.file)}:{each.line}") if several else number(each.line)
        table.add_row(line, cell(each.column or None, "–"), cell(each.value, "–"), each.reason, cell(each.message))
    console.print(table)
    console.print()
    for each in shown[:3] if not found.private else []:
        console.print(Text.assemble((f"line {each.line:,}  ", "dim"), cell(each.original)), soft_wrap=True)
    if found.faults > len(shown):
        console.print(
            Text(f"{len(shown):,} of {found.faults:,} faults are shown; all of them: --all, or --csv FILE", "dim")
        )
    if found.private:
        console.print(Text("The original rows hold private columns and are shown only in --csv FILE.", "dim"))
