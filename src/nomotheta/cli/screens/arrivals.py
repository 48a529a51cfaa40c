"""What is expected and what is there."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from nomotheta.cli.paint import GREEN, RED, YELLOW, cut, indented, out, plain_table
from nomotheta.errors import counted, visible
from nomotheta.source.arrivals import ORDER, Arrival, Arrivals, State, Stray

_STYLES: dict[State, str] = {"late": RED, "missing": RED, "refused": RED, "loaded": GREEN, "arrived": ""}
_NAME, _FILE = 24, 48  # characters
_WIDE = 100


def show_arrivals(found: Arrivals) -> None:
    """How many deliveries are late, then each, the late ones first, and files that belong to none."""
    console = out()
    counts = Counter(each.state for each in found.arrivals)
    told = ", ".join(f"{counts[state]:,} {state}" for state in ORDER if counts[state])
    style = RED if found.verdict == "fail" else GREEN
    if not found.arrivals:
        console.print("No delivery is expected.")
    else:
        console.print(Text.assemble((told, f"bold {style}")))
        console.print(Text(f"as of {found.asked_at:%Y-%m-%d %H:%M %Z}", "dim"))
        console.print()
        _show_all(console, found)
    for each in found.arrivals:
        if each.message and each.state != "awaited":
            _show_message(console, each)
    if found.strays:
        _show_strays(console, found.strays)


def _show_all(console: Console, found: Arrivals) -> None:
    wide = console.width >= _WIDE
    heads = [("table", "whole"), ("day", "whole"), ("state", "whole"), ("due", "whole"), ("files", "right"),
             ("bytes", "right"), ("last written", "whole")]  # fmt: skip
    table = plain_table(*(heads if wide else heads[:5]))
    for each in found.arrivals:
        state = f"{each.state} (load {each.load_no})" if each.load_no is not None else each.state
        files = f"{len(each.files):,} of {each.parts:,}" if each.parts else f"{len(each.files):,}"
        last = max((file.written for file in each.files), default=None)
        row = [
            cut(Text(visible(each.table), "bold"), _NAME), Text(str(each.day)),
            Text(state, _STYLES.get(each.state, "dim")),
            _moment(each.due, found.asked_at, each.day), Text(files),
            Text(f"{sum(file.size for file in each.files):,}" if each.files else "–"),
            _moment(last.astimezone(found.asked_at.tzinfo) if last else None, found.asked_at, None),
        ]  # fmt: skip
        table.add_row(*(row if wide else row[:5]))
    console.print(table)


def _moment(at: datetime.datetime | None, now: datetime.datetime, day: datetime.date | None) -> Text:
    """A time; with its date where that is another than is looked at."""
    if at is None:
        return Text("–", "dim")
    return Text(f"{at:%H:%M}" if at.date() == (day or now.date()) else f"{at:%Y-%m-%d %H:%M}")


def _show_message(console: Console, each: Arrival) -> None:
    style = RED if each.verdict == "fail" else YELLOW
    console.print()
    where = f"{visible(each.where)}: " if each.where else ""
    console.print(
        Text.assemble((f"{visible(each.table)}, {each.day}", "bold"), (f"  {where}{visible(each.message)}", style))
    )
    if each.mend:
        console.print(indented(Text(f"→ {visible(each.mend)}"), 2))


def _show_strays(console: Console, strays: Sequence[Stray]) -> None:
    console.print()
    console.print(Text(f"{counted(len(strays), 'file')} of no charter", f"bold {YELLOW}"))
    table = plain_table(("file", ""), ("bytes", "right"), ("what it may be", ""))
    for each in strays:
        told = f"{each.told} ({each.table})" if each.table else each.told
        table.add_row(cut(Text(visible(each.file)), _FILE), Text(f"{each.size:,}"), Text(visible(told)))
    console.print(table)
