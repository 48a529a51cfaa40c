"""What of the docket is shown."""

from __future__ import annotations

from nomotheta.errors import DeclarationError
from nomotheta.ledger import DocketPage
from nomotheta.workspace.context import Context, moment


def page_of(
    context: Context, entry_no: int | None, table: str | None, owner: str | None, *, closed: bool
) -> DocketPage:  # fmt: skip
    """The entries that are asked for.

    Raises:
        DeclarationError: there is no such entry.
    """
    docket, day = context.ledger.docket, moment().astimezone(context.zone).date()
    if entry_no is not None:
        found = docket.entry(entry_no)
        if found is None:
            numbers = [str(each.entry_no) for each in docket.entries()]
            mend = f"open: {', '.join(numbers)}" if numbers else "nothing is open"
            raise DeclarationError(f"the docket has no entry {entry_no}", mend=mend)
        return DocketPage(day, (found,), tuple(docket.events(entry_no)))
    entries = docket.entries(closed=closed)
    if table is not None:
        entries = [each for each in entries if each.table == table]
    if owner is not None:
        entries = [each for each in entries if owner.casefold() in {name.casefold() for name in each.owners}]
    return DocketPage(day, tuple(entries))
