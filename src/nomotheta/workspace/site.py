"""The pages of a workspace, kept current in `reports/`."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from nomotheta.errors import DeclarationError
from nomotheta.ledger import RunResult
from nomotheta.report.site import NIGHTS, About, Pages, Site, pages_of, safe_name
from nomotheta.report.write import swept, write_page
from nomotheta.workspace.context import Context, moment


def write_site(context: Context, folder: Path, run: RunResult | None = None) -> Path:
    """Write the pages: after a run those that it changes, else all; the path of the index.

    Raises:
        DeclarationError: there was no run so far.
        OSError: they cannot be written.
    """
    ledger = context.ledger
    parts = ledger.history.parts(NIGHTS)
    if not parts:
        raise DeclarationError("the ledger holds no run yet", mend="start one: nomotheta run")
    entries = ledger.docket.entries(closed=True)
    now = moment().astimezone(context.zone)
    site = Site(context.settings.name, parts, entries, ledger.history.last_success(), _about(context, parts), now)
    pages = Pages(site)
    tables = set(parts) if run is None else {each.table for each in run.tables}
    changed = None if run is None else {event.entry_no for event in ledger.docket.events(run_id=run.run_id)}
    for each in (folder, folder / "tables", folder / "docket"):
        swept(each)
    for name in tables & set(parts):
        write_page(folder / "tables" / safe_name(name), pages.table(name))
    for entry in entries:
        if changed is None or entry.entry_no in changed:
            text = pages.entry(entry, ledger.docket.events(entry.entry_no))
            write_page(folder / "docket" / f"{entry.entry_no}.html", text)
    for number, file in pages_of(site).items() if run is None else _of(run, pages_of(site)):
        result = run or (None if (folder / file).is_file() else ledger.run(number))  # a run's page does not change
        if result is not None:
            write_page(folder / file, pages.run(result, ledger.docket.events(run_id=number)))
    write_page(folder / "index.html", pages.index())
    return folder / "index.html"


def _about(context: Context, tables: Iterable[str]) -> dict[str, About]:
    """What the tables are for, and whose they are, as far as they still have a charter."""
    found = {}
    for name in tables:
        compiled = context.charters.of(name) if name in context.charters.known() else None
        if compiled is not None:
            found[name] = About(compiled.charter.about, tuple(compiled.charter.owners))
    return found


def _of(run: RunResult, pages: dict[int, str]) -> Iterable[tuple[int, str]]:
    return [(run.run_id, pages[run.run_id])] if run.run_id in pages else []
