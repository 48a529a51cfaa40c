"""What happened before."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GAP, RED, cut, indented, number, out, plain_table, verdict_text
from nomotheta.cli.screens.load import show_balance
from nomotheta.cli.screens.past import nights_told
from nomotheta.errors import visible
from nomotheta.ledger import Entry, LoadResult, Part
from nomotheta.ledger.chain import Verified
from nomotheta.report.words import STATES

_FILES, _SHOWN = 10, 20  # files, and altered entries, that are shown one by one
_NAME, _LEAST = 24, 12  # characters of a table's name; of a result, at least
_WIDE = 100  # characters: room for the year


def show_ledger(
    entries: Sequence[Entry], zone: datetime.tzinfo, *, chosen: bool, nights: Sequence[Part] = ()
) -> None:  # fmt: skip
    """What happened, newest first: a line an entry; above, how the last nights of a table were."""
    console = out()
    if not entries:
        none = (
            "No entry of the ledger is like that."
            if chosen
            else "The ledger is empty: nothing was loaded, judged or reconciled yet."
        )
        console.print(none)
        return
    heads = (("when", ""), ("run", "right"), ("what", ""), ("table", ""), ("day", ""), ("verdict", ""), ("result", ""))
    rows = [_entry(each, zone, years=console.width >= _WIDE) for each in entries]
    widths = [max(len(head), *(row[at].cell_len for row in rows)) for at, (head, _) in enumerate(heads[:-1])]
    room = max(console.width - sum(widths) - GAP * len(widths), _LEAST)
    table = plain_table(*heads)
    for row in rows:
        table.add_row(*row[:-1], cut(row[-1], room))
    for of, name in (("loaded", "rows loaded"), ("rows", "rows in the table")):
        told = nights_told(nights, of, name)
        if told is not None:
            console.print(told)
    console.print(table)


def _entry(each: Entry, zone: datetime.tzinfo, *, years: bool) -> list[Text]:
    what = f"{each.what} {each.load_no}" if each.load_no else each.what
    return [
        Text(f"{each.started.astimezone(zone):{'%Y-' if years else ''}%m-%d %H:%M}"), number(each.run_id), Text(what),
        cut(Text(visible(each.table), "bold"), _NAME), Text(str(each.day) if each.day else ""),
        verdict_text(each.verdict), Text(visible(each.summary)),
    ]  # fmt: skip


def show_kept(load: LoadResult, began: datetime.datetime) -> None:
    """All that the ledger keeps of a load, for whoever asks later how a table came to be what it is."""
    console = out()
    what = f"  load {load.load_no} for {load.day}: {STATES[load.state]}"
    console.print(Text.assemble((load.table, "bold"), "  ", verdict_text(load.verdict), what))
    balance = load.balance
    grid = Table.grid(padding=(0, 1))
    facts = [
        ("when", f"{began:%Y-%m-%d %H:%M:%S %Z}, {load.seconds:.1f} s"),
        ("by", load.by or "–"),
        ("command", f"nomotheta {load.command}" if load.command else "–"),
        ("place", load.place),
        ("how", _how(load)),
        ("charter", f"version {load.charter}" if load.charter else "–"),
    ]
    if load.mends is not None:
        facts.append(("mends", f"rows of load {load.mends}"))
    facts += [("note", note) for note in load.notes]
    for name, value in facts:
        grid.add_row(Text(name, "dim"), Text(visible(value)))
    console.print(indented(grid, 2))
    if balance is not None:
        show_balance(console, balance, undone=load.state == "undone")
        for each in balance.files[:_FILES]:
            console.print(
                indented(Text(f"{visible(each.file)}  {each.bytes:,} bytes  BLAKE3 {each.content}", "dim"), 2)
            )
        if len(balance.files) > _FILES:
            console.print(indented(Text(f"… and {len(balance.files) - _FILES:,} more files: --json", "dim"), 2))
    if load.charter:
        console.print(indented(Text(f"→ its charter: nomotheta ledger --load {load.load_no} --charter"), 2))


def _how(load: LoadResult) -> str:
    """How the rows went in, and whose place they took."""
    if load.balance is None:
        return "–"
    own = f", in place of load {' and '.join(map(str, load.replaced))}" if load.replaced else ""
    return load.balance.how + own


def show_verified(found: Verified) -> None:
    """Whether the ledger is as it was written, and what is not."""
    console = out()
    if not found.altered:
        console.print(
            Text.assemble(verdict_text("pass"), f"  the ledger is as it was written: {found.records:,} records")
        )
    else:
        several = "1 thing" if len(found.altered) == 1 else f"{len(found.altered):,} things"
        console.print(Text.assemble(verdict_text("fail"), f"  {several} in the ledger are not as they were written"))
        for each in found.altered[:_SHOWN]:
            console.print(indented(Text(visible(f"✗ {each.what} {each.told}"), RED), 2))
        if len(found.altered) > _SHOWN:
            console.print(indented(Text(f"and {len(found.altered) - _SHOWN:,} more: --json", "dim"), 2))
    console.print(indented(Text(f"newest hash {found.head}", "dim"), 2))
