"""The pages of a workspace, kept current in `reports/`."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Iterable, Sequence
from pathlib import Path

from nomotheta.charter import changed_keys
from nomotheta.errors import DeclarationError, GoneError
from nomotheta.ledger import DocketEntry, Part, RunResult
from nomotheta.report.site import NIGHTS, About, CharterChange, Pages, Site, pages_of, safe_name
from nomotheta.report.write import swept, write_page
from nomotheta.workspace.aside import as_csv
from nomotheta.workspace.beside import BREAKS, DIFFERENCES, MOST, files_beside
from nomotheta.workspace.context import Context, moment


def write_site(
    context: Context, folder: Path, run: RunResult | None = None, entry: DocketEntry | None = None
) -> Path:  # fmt: skip
    """Write the pages: after a run, or a change of an entry of the docket, those that it changes; else all.

    Returns:
        The path of the index.

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
    for place in (folder, *(folder / each for each in ("tables", "docket", "rejects", BREAKS, DIFFERENCES))):
        swept(place)
    tables, numbers = set(parts), {each.entry_no for each in entries}
    if run is not None:
        tables &= {each.table for each in run.tables}
        numbers &= {event.entry_no for event in ledger.docket.events(run_id=run.run_id)}
    elif entry is not None:
        tables, numbers = tables & {entry.table}, {entry.entry_no}
    changes = {name: _changes(context, parts[name]) for name in tables}
    about = _about(context, parts)
    site = Site(context.settings.name, parts, entries, ledger.history.last_success(), about, changes, now)
    pages = Pages(site)
    for name in tables:
        write_page(folder / "tables" / safe_name(name), pages.table(name))
    for each in entries:
        if each.entry_no in numbers:
            text = pages.entry(each, ledger.docket.events(each.entry_no))
            write_page(folder / "docket" / f"{each.entry_no}.html", text)
    _write_runs(context, folder, pages, run, every=entry is None)
    write_page(folder / "index.html", pages.index())
    return folder / "index.html"


def _write_runs(context: Context, folder: Path, pages: Pages, run: RunResult | None, *, every: bool) -> None:
    """The page of a run, or of all that have none: it does not change."""
    known = pages_of(pages.site)
    for number, file in known.items() if every else ():
        if run is None and not (folder / file).is_file():
            found = context.ledger.run(number)
        else:
            found = run if run is not None and run.run_id == number else None
        if found is not None:
            files = _write_rejects(context, folder, found) | files_beside(folder, found)
            write_page(folder / file, pages.run(found, context.ledger.docket.events(run_id=number), files))


def _write_rejects(context: Context, folder: Path, run: RunResult) -> dict[tuple[str, str], str]:
    """The rows that loads of a run set aside, as they may be shown, in CSV files, as a page refers to them."""
    found = {}
    for each in run.tables:
        if each.load.rejects and each.load.load_no:
            file = f"rejects/load-{each.load.load_no}.csv"
            with contextlib.suppress(GoneError):
                write_page(folder / file, as_csv(context, each.load.load_no, MOST))
                found["rejects", each.table] = file
    return found


def _changes(context: Context, parts: Sequence[Part]) -> list[CharterChange]:
    """The changes of a table's charter over some nights, the newest first."""
    told = [part for part in parts if part.charter]
    found = []
    for before, part in itertools.pairwise(told):
        if part.charter != before.charter:
            both = [context.ledger.charter(each.charter) for each in (before, part)]
            keys = changed_keys(both[0][1], both[1][1]) if both[0] and both[1] else ()
            found.append(CharterChange(part.run_id, part.day, tuple(keys)))
    return found[::-1]


def _about(context: Context, tables: Iterable[str]) -> dict[str, About]:
    """What the tables are for, and whose they are, as far as they still have a charter."""
    found = {}
    for name in tables:
        compiled = context.charters.of(name) if name in context.charters.known() else None
        if compiled is not None:
            found[name] = About(compiled.charter.about, tuple(compiled.charter.owners))
    return found
