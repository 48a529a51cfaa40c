"""Files held against the table that they were loaded into."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from nomotheta.charter import FROM_PLACE, SYSTEM_COLUMNS, Charter, Compiled
from nomotheta.events import Listener, nobody
from nomotheta.kinds.read import arrow_type
from nomotheta.place.base import Place
from nomotheta.reconcile.compare import compare
from nomotheta.reconcile.files import Files, LoadedFiles
from nomotheta.reconcile.reconciliation import Reconciliation
from nomotheta.reconcile.side import Compared, InPlace, Streamed
from nomotheta.rules.shape import existing

_NOT_FROM_FILES = ("@load.no", "@load.time", "@place")


def reconcile(
    place: Place,
    compiled: Compiled,
    loads: Sequence[LoadedFiles],
    where: str | None,
    over: str,
    zone: str = "UTC",
    listener: Listener = nobody,
    key: Sequence[str] = (),
    limit: int | None = 20,
) -> Reconciliation:
    """Compare files with the table they were loaded into.

    Args:
        place: where the table is.
        compiled: its charter.
        loads: the loads whose files are read again.
        where: the rendered condition that tells their rows in the table, or None for all rows.
        over: what is compared, in words.
        zone: the time zone of timestamps that name none.
        listener: told of the progress.
        key: where rows were merged by it, which may be of other loads too: only the rows whose keys the files hold are
            compared, and none of the columns that a load fills.
        limit: how many of the rows that differ are told, None for all.

    Raises:
        DeliveryError: a file is gone, or is no longer what was loaded.
        PlaceError: the table is not there, or the place cannot be reached.
    """
    charter = compiled.charter
    existing(place, charter.table)
    place.expect(charter.table, charter.kinds())
    what = _what(charter, (*SYSTEM_COLUMNS, FROM_PLACE) if key else _NOT_FROM_FILES)
    files = Files(compiled, loads, what.kinds, zone, listener)
    if not key:
        return _reconciled(place, charter, files, what, where, over, limit)
    schema = pa.schema([(name, arrow_type(what.kinds[name])) for name in key])
    with place.staged(charter.table, key, files.batches(schema), schema):
        return _reconciled(place, charter, files, what, place.among_staged(charter.table, key), over, limit)


def _what(charter: Charter, left_out: Sequence[str]) -> Compared:
    """The columns that files hold, and the key by which their rows are told apart."""
    kinds = {name: kind for name, kind in charter.kinds().items() if charter.columns[name].from_ not in left_out}
    key = next((tuple(each.columns) for each in charter.real_keys() if {*each.columns} <= {*kinds}), ())
    return Compared(kinds, key, charter.private() & {*kinds})


def _reconciled(
    place: Place, charter: Charter, files: Files, what: Compared, where: str | None, over: str, limit: int | None
) -> Reconciliation:  # fmt: skip
    there = {column.name: column.kind for column in existing(place, charter.table)}
    alike = all((held := there.get(name)) is not None and held.name == kind.name for name, kind in what.kinds.items())
    source = Streamed(what, lambda origin: files.batches(what.schema, origin=origin))
    target = InPlace(place, what, place.rowset(charter.table, where), alike=alike)
    found = compare(source, target, what, beside=place.native, limit=limit)
    balances = [load.balance for load in files.loads if not load.mended]
    rows = found.differences
    return Reconciliation(
        table=charter.table, place=place.name, over=over,
        loads=tuple(load.load_no for load in files.loads), files=tuple(file.name for _, file in files.files),
        verdict="pass" if found.same else "fail",
        records=sum(balance.records for balance in balances),
        rejected=sum(balance.rejected for balance in balances),
        copies=sum(balance.copies for balance in balances),
        conflicts=sum(balance.conflicts for balance in balances),
        mended=sum(load.balance.loaded for load in files.loads if load.mended),
        source_rows=found.rows[0], target_rows=found.rows[1], totals=found.totals, scheme=found.scheme,
        source_fingerprint=f"{found.prints[0]:016x}", target_fingerprint=f"{found.prints[1]:016x}",
        key=what.key, differing=found.columns, sorts=rows.sorts if rows else {},
        differences=rows.rows if rows else (), differing_rows=rows.count if rows else 0,
        cause=rows.cause if rows else "", uncompared=_uncompared(place, charter, what),
    )  # fmt: skip


def _uncompared(place: Place, charter: Charter, what: Compared) -> tuple[str, ...]:
    """The charter's columns that no file holds, and the table's that the charter does not declare."""
    declared = {name.casefold() for name in charter.columns}
    there = [column.name for column in existing(place, charter.table)]
    left = [name for name in charter.columns if name not in what.kinds]
    return (*left, *(name for name in there if name.casefold() not in declared))
