"""What fails, since when, and whose it is."""

from __future__ import annotations

import datetime

from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import GAP, RED, cell, cut, indented, number, out, plain_table, spark, verdict_text
from nomotheta.errors import counted, visible
from nomotheta.ledger import DocketEntry, DocketPage
from nomotheta.report.words import fails

_LEAST, _NAME, _NIGHTS = 24, 20, 12  # characters of what fails, of a name; nights that are drawn
_WIDE, _NARROW = 110, (0, 1, 2, 3, 8)  # characters that all columns need; the columns for fewer


def show_docket(page: DocketPage, *, chosen: bool) -> None:
    """The entries, the gravest and oldest first."""
    console = out()
    opened = [each for each in page.entries if each.open]
    if not page.entries:
        console.print("No entry of the docket is like that." if chosen else "The docket is empty: nothing fails.")
        return
    undecided = sum(each.verdict == "error" for each in opened)
    told = [f"{len(opened):,} open"]
    told += [f"{undecided:,} of them could not be checked"] if undecided else []
    free = sum(not each.taken_by and not each.is_excused(page.day) for each in opened)
    told += [f"{free:,} not taken"] if free else []
    console.print(Text.assemble(("docket", "bold"), "  ", ", ".join(told)))
    console.print()
    heads = [("no", "right"), ("", ""), ("since", ""), ("nights", "right"), ("rows", "right"), ("", ""),
             ("owner", ""), ("taken by", ""), ("what fails", "")]  # fmt: skip
    rows = [_line(each, page.day) for each in page.entries]
    if console.width < _WIDE:
        heads, rows = [heads[at] for at in _NARROW], [[row[at] for at in _NARROW] for row in rows]
    widths = [max(len(head), *(row[at].cell_len for row in rows)) for at, (head, _) in enumerate(heads[:-1])]
    room = max(console.width - sum(widths) - GAP * len(widths), _LEAST)
    table = plain_table(*heads)
    for row in rows:
        table.add_row(*row[:-1], cut(row[-1], room))
    console.print(table)


def _line(each: DocketEntry, day: datetime.date) -> list[Text]:
    sizes = [night.size for night in each.nights[-_NIGHTS:]]
    taken = Text(visible(each.taken_by))
    if each.is_excused(day):
        taken = Text(f"excused until {each.excused_until}", "dim")
    state = verdict_text(each.verdict) if each.open else Text("closed", "dim")
    return [
        number(each.entry_no), state, Text(str(each.since or "")), number(len(each.nights)), number(each.size),
        Text(spark(sizes)), cut(Text(visible(", ".join(each.owners))), _NAME), cut(taken, _NAME + 10),
        Text(fails(each)),
    ]  # fmt: skip


def show_entry(page: DocketPage, zone: datetime.tzinfo) -> None:
    """One entry, and what happened to it."""
    console = out()
    (each,) = page.entries
    told = verdict_text(each.verdict) if each.open else Text("closed", "dim")
    console.print(Text.assemble((f"entry {each.entry_no}", "bold"), "  ", told, f"  {fails(each)}"))
    grid = Table.grid(padding=(0, 1))
    facts = [
        ("says", each.message),
        ("since", f"{each.since}, {counted(len(each.nights), 'night')}" if each.nights else "–"),
        ("owner", ", ".join(each.owners) or "–"),
        ("taken by", " ".join(filter(None, [each.taken_by, f"({each.note})" if each.note else ""])) or "nobody"),
    ]
    if each.excused_until is not None:
        by = f", by {each.excused_by}" if each.excused_by else ""
        facts.append(("excused", f"until {each.excused_until}: {each.excuse}{by}"))
    for name, value in facts:
        grid.add_row(Text(name, "dim"), cell(value))
    console.print(indented(grid, 2))
    table = plain_table(("when", ""), ("delivery day", ""), ("run", "right"), ("what", ""), ("rows", "right"), ("", ""))
    for event in page.events:
        by = f"by {event.by}" if event.by else ""
        why = ", ".join(filter(None, [by, event.told]))
        table.add_row(
            f"{event.at.astimezone(zone):%Y-%m-%d %H:%M}", str(event.day or ""), number(event.run_id or None),
            Text(event.what, RED if event.what in {"new", "back", "worse"} else ""), number(event.size),
            Text(visible(why), "dim"),
        )  # fmt: skip
    console.print(indented(table, 2))
