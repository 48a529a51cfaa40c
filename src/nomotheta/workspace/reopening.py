"""Rows that were set aside for the sake of rows which are no longer in the table: they are open again, and come in."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult
from nomotheta.load.mended import Mended, columns_of
from nomotheta.load.rejects import kept_out_by, open_faults
from nomotheta.place.base import Place
from nomotheta.place.marks import outlived
from nomotheta.workspace.context import Context
from nomotheta.workspace.mending import write_rows

Rows = list[tuple[str, int]]


def open_again(context: Context, place: Place, table: str) -> dict[int, Rows]:
    """By the load that set them aside, the rows (file and record) whose way is free now."""
    ledger, marks = context.ledger, place.marks(table)
    gone = outlived(marks)
    standing = {mark.load_no for mark in marks} - gone.keys()
    ways = ledger.loads_in_the_way(table, place.name)
    found: dict[int, Rows] = {}
    for of_load in sorted({mends or load_no for load_no, (mends, _) in ways.items()} & standing):
        tried = ledger.tried(of_load)
        away = {load_no for load_no in ways.get(of_load, (None, {}))[1] if load_no and load_no not in standing}
        rows = kept_out_by(context.rejects_kept(of_load), away) if away else []
        free = [row for row in rows if row not in tried]
        free += [row for row, load_no in tried.items() if load_no and load_no not in standing]
        done = ledger.mended(of_load).keys() | ledger.closed(of_load).keys()
        open_rows = sorted(row for row in free if row not in done)
        if open_rows:
            found[of_load] = open_rows
    return found


def load_open_again(
    context: Context, compiled: Compiled, place_name: str, run_id: int | None, listener: Listener
) -> list[LoadResult]:  # fmt: skip
    """Load the rows of a table whose way is free again, those of each load by themselves."""
    from nomotheta.workspace.reloading import load_mended

    if not context.ledger.loads_in_the_way(compiled.charter.table, place_name):
        return []
    with context.places.open(place_name) as place:
        found = open_again(context, place, compiled.charter.table)
    results = []
    for of_load, rows in found.items():
        file = context.again_file(of_load)
        try:
            write_rows(of_load, context.rejects_kept(of_load), rows, columns_of(compiled.charter), file)
            results.append(load_mended(context, compiled, file, place_name, listener, run_id, anew=True))
        finally:
            with contextlib.suppress(OSError):
                file.unlink(missing_ok=True)
    return results


def note_ways(
    context: Context, mended: Mended, load_no: int, still_out: Sequence[tuple[str, int]], ways: Mapping[int, int]
) -> None:
    """Keep of rows that came again and stay out whose rows are in the way now."""
    before = context.ledger.load(mended.of_load)
    of_before = set(_kept_out(context.rejects_kept(mended.of_load))) if before and before.in_the_way else set()
    now = _ways_of(context.rejects_file(load_no), mended) if ways else {}
    told: dict[int, Rows] = {}
    for row in still_out:
        if row in now or row in of_before:
            told.setdefault(now.get(row, 0), []).append(row)
    context.ledger.tried_again(mended.of_load, told)


def _kept_out(file: Path) -> Rows:
    """The rows that were set aside for the sake of other loads' rows."""
    return [
        row
        for table in open_faults(file, None, ("load",))
        for row, load_no in zip(
            zip(table["file"].to_pylist(), table["record"].to_pylist(), strict=True), table["load"].to_pylist(),
            strict=True,
        )
        if load_no
    ]  # fmt: skip


def _ways_of(file: Path, mended: Mended) -> dict[tuple[str, int], int]:
    """Of the rows that were sent again and set aside again, the load whose rows are in the way."""
    found = {}
    for table in open_faults(file, None, ("load",)):
        for record, load_no in zip(table["record"].to_pylist(), table["load"].to_pylist(), strict=True):
            if load_no:
                found[mended.rows[record - 1]] = load_no
    return found
