"""What the past says of what is shown: since when something fails, how it grew, how earlier nights were."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence

from rich.text import Text

from nomotheta.cli.paint import RED, spark
from nomotheta.errors import counted, visible
from nomotheta.ledger import DocketEntry, Part

Known = Mapping[tuple[str, str, str], DocketEntry]  # the open entries, by table, sort and name
_NIGHTS = 12  # that are drawn


def known(entries: Sequence[DocketEntry]) -> Known:
    """The open entries of the docket, to be looked up."""
    return {(each.table, each.sort, each.name): each for each in entries if each.open}


def since(entry: DocketEntry | None, day: datetime.date | None = None) -> Text | None:
    """Since when it fails, how it grew, and who has it; None for what is in no entry. On its first `day` it is new."""
    if entry is None or not entry.nights:
        return None
    sizes = [night.size for night in entry.nights]
    if len(sizes) == 1 and entry.since == day:
        told = Text("new" if entry.episode == 1 else "back again", RED)
    else:
        told = Text(f"{counted(len(sizes), 'night')} since {entry.since}", "dim")
    drawn = spark(sizes[-_NIGHTS:])
    taken = f", taken by {visible(entry.taken_by)}" if entry.taken_by else ""
    told.append(f"{f'  {drawn}  ' if drawn else ' '}(docket {entry.entry_no}{taken})", "dim")
    return told


def nights_told(parts: Sequence[Part], of: str, name: str) -> Text | None:
    """How a number was in the last nights: `loaded`, `rejected`; None for fewer than two."""
    values = [getattr(part, of) for part in parts][-_NIGHTS:]
    drawn = spark(values)
    if not drawn:
        return None
    last = next((value for value in reversed(values) if value is not None), 0)
    return Text(f"{name} in the last {counted(len(values), 'night')}  {drawn}  {last:,}", "dim")
