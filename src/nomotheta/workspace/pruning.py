"""The ledger without what is old: as far as no table has rows of it."""

from __future__ import annotations

import contextlib
import datetime
from dataclasses import replace

from nomotheta.errors import DeclarationError, NomothetaError
from nomotheta.ledger.pruning import Pruned
from nomotheta.place.marks import outlived
from nomotheta.workspace.attempts import settle, whoever
from nomotheta.workspace.context import Context


def prune_ledger(context: Context, before: datetime.date, *, rehearse: bool) -> Pruned:
    """Remove what began before a day, in the workspace's time zone; and the files that were kept of such loads.

    Loads whose rows are in a table stay, and so do those whose rows would come back if they were undone.

    Raises:
        DeclarationError: the day is yet to come.
        NomothetaError: the ledger is not as it was written.
    """
    if before > context.today():
        raise DeclarationError(f"{before} is yet to come", where="--prune", mend="name a day that is over, or today")
    kept: dict[str, set[int]] = {}
    unanswered = []
    for name in context.settings.places:
        try:
            kept[name] = _standing(context, name)
        except NomothetaError:
            unanswered.append(name)
    moment = datetime.datetime.combine(before, datetime.time(), context.zone)
    size = context.ledger.size()
    found = context.ledger.prune(moment, kept, whoever(), rehearse=rehearse)
    found = replace(found, before=before, unanswered=tuple(unanswered), rehearsed=rehearse, size_before=size)
    if rehearse:
        return found
    for load_no in found.loads:
        for file in (context.rejects_file(load_no), context.mended_file(load_no)):
            with contextlib.suppress(OSError):
                file.unlink(missing_ok=True)
    context.ledger.compact()
    return replace(found, size=context.ledger.size())


def _standing(context: Context, name: str) -> set[int]:
    """The loads whose rows are in tables of a place, and those that these took the place of."""
    found = set[int]()
    with context.places.open(name) as place:
        settle(context, place)
        for table in context.ledger.tables(name):
            marks = place.marks(table)
            gone = outlived(marks)
            standing = {mark.load_no for mark in marks} - gone.keys()
            found |= standing | {load_no for load_no, by in gone.items() if by in standing}
    return found
