"""Files held against the table that they were loaded into, or what was recorded of them while they were loaded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pyarrow as pa

from nomotheta.charter import FROM_PLACE, SYSTEM_COLUMNS, Charter, Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError
from nomotheta.events import Listener, nobody
from nomotheta.kinds.read import arrow_type
from nomotheta.kinds.totals import ColumnTotal
from nomotheta.load.imprint import Imprint, imprinted, joined
from nomotheta.place.base import Place
from nomotheta.place.render import Now
from nomotheta.reconcile.compare import Comparison, compare
from nomotheta.reconcile.files import Files, LoadedFiles
from nomotheta.reconcile.given import About, GivenFiles, GivenInPlace
from nomotheta.reconcile.prints import ByLanes
from nomotheta.reconcile.reconciliation import Reconciliation
from nomotheta.reconcile.side import Compared, InPlace, Streamed, Unalike
from nomotheta.reconcile.sides import reconcile_sides
from nomotheta.reconcile.totals import compared_totals, joined_totals, read_totals, totals_in_sql
from nomotheta.rules.shape import existing


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
    *,
    recorded: bool = False,
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
        recorded: whether what was recorded while the files were loaded will do, if the table equals it and works out
            its fingerprint by itself. Where the files are gone, it is all there is.

    Raises:
        DeliveryError: a file is gone, or is no longer what was loaded, and nothing was recorded that could be compared.
        PlaceError: the table is not there, or the place cannot be reached.
    """
    charter = compiled.charter
    existing(place, charter.table)
    place.expect(charter.table, charter.kinds())
    kinds = imprinted(charter)
    if key:
        columns = charter.columns
        kinds = {name: kind for name, kind in kinds.items() if columns[name].from_ not in {*SYSTEM_COLUMNS, FROM_PLACE}}
    out = {name.casefold() for name in charter.reconcile.leave_out}
    kinds = {name: kind for name, kind in kinds.items() if name.casefold() not in out}
    step = _Step(place, charter, loads, _what(charter, kinds), where, over, limit)
    declared = bool(charter.reconcile.columns)
    counted_anew = bool(charter.reconcile.distinct)  # was not recorded
    if recorded and not key and not declared and not counted_anew and place.lanes != "nowhere":
        found = step.recorded()
        if found is not None and found.verdict == "pass":
            return found
    try:
        files = Files(compiled, loads, kinds, zone, listener)
    except DeliveryError as error:
        found = step.recorded() if not key and not declared else None
        if found is None:
            raise
        told = f"{error.where}: {error.what}; the table was compared with what was recorded at loading"
        return replace(found, notes=(told,))
    read = step.as_declared if declared else step.read
    if not key:
        return read(files)
    schema = pa.schema([(name, arrow_type(kinds[name])) for name in key])
    with place.staged(charter.table, key, files.batches(schema), schema):
        step.where = place.among_staged(charter.table, key)
        return read(files)


def sides_of_loads(
    place: Place, compiled: Compiled, loads: Sequence[LoadedFiles], zone: str, listener: Listener
) -> tuple[Streamed, InPlace]:  # fmt: skip
    """The files of loads, and the whole table.

    Raises:
        DeliveryError: a file is gone, or is no longer what was loaded.
    """
    charter = compiled.charter
    place.expect(charter.table, charter.kinds())
    step = _Step(place, charter, loads, _what(charter, imprinted(charter)), None, "", None)
    return step.files(Files(compiled, loads, step.what.kinds, zone, listener)), step.table()


def _what(charter: Charter, kinds: dict[str, Kind]) -> Compared:
    """The columns that files hold, and the key by which their rows are told apart."""
    key = next((tuple(each.columns) for each in charter.real_keys() if {*each.columns} <= {*kinds}), ())
    said = charter.reconcile
    distinct = frozenset(name for name in kinds if name in said.distinct)
    return Compared(kinds, key, charter.private() & {*kinds}, distinct, said.fingerprints)


class _Step:
    def __init__(
        self, place: Place, charter: Charter, loads: Sequence[LoadedFiles], what: Compared, where: str | None,
        over: str, limit: int | None,
    ) -> None:  # fmt: skip
        self.place, self.charter, self.loads, self.what, self.where = place, charter, loads, what, where
        self.over, self.limit = over, limit

    def table(self) -> InPlace:
        """The table's side."""
        shape = existing(self.place, self.charter.table)
        there = {column.name: column.kind for column in shape}
        kinds = self.what.kinds
        alike = all((held := there.get(name)) is not None and held.name == kind.name for name, kind in kinds.items())
        rows = self.place.rowset(self.charter.table, self.where)
        return InPlace(self.place, self.what, rows, alike=alike or not self.place.native, shape=shape)

    def files(self, files: Files) -> Streamed:
        """The files' side."""
        return Streamed(self.what, lambda origin: files.batches(self.what.schema, origin=origin))

    def read(self, files: Files) -> Reconciliation:
        """The files, read again."""
        found = compare(
            self.files(files),
            self.table(),
            self.what,
            beside="all" if self.place.native else "nothing",
            limit=self.limit,
        )
        return self.told(found, [file.name for file in files.files])

    def as_declared(self, files: Files) -> Reconciliation:
        """The files, read again, with what the charter says may differ."""
        now = Now(self.loads[-1].at, self.loads[-1].day, self.loads[-1].load_no)
        charter, shape = self.charter, existing(self.place, self.charter.table)
        declared = charter.kinds()
        meant = {each.name: declared[each.name] for each in shape if each.name in declared and not self.place.native}
        own = frozenset(each.name for each in shape if each.name not in self.what.kinds)
        about = About(self.what.key, own, self.what.private)
        rows = self.place.rowset(charter.table, self.where)
        found = reconcile_sides(
            GivenFiles(files, "files", now, about=About(self.what.key, frozenset(), self.what.private)),
            GivenInPlace(self.place, "table", rows, shape, now, meant, about, charter.table),
            charter.reconcile, charter.table, keys=lambda: self.what.key,
            beside="all" if self.place.native else "nothing", limit=self.limit,
        )  # fmt: skip
        account = self.told(Comparison(found.verdict == "pass", "", (0, 0), (0, 0), ()), found.files)
        kept = (
            "table",
            "over",
            "loads",
            "files",
            "records",
            "rejected",
            "copies",
            "conflicts",
            "mended",
            "stated",
            "uncompared",
        )
        return replace(found, **{name: getattr(account, name) for name in kept})

    def recorded(self) -> Reconciliation | None:
        """What was recorded of them; None where that cannot be compared."""
        imprints = [
            load.imprint for load in self.loads if load.imprint is not None and load.imprint.is_of(self.what.kinds)
        ]
        if not imprints or len(imprints) < len(self.loads):
            return None
        side = self.table()
        if side.lanes == "nowhere":
            side.lanes = "here"  # all rows travel; there is no other way
        try:
            found = self.against(imprints, side)
        except Unalike:
            return None
        return self.told(found, [file.file for load in self.loads for file in load.balance.files])

    def against(self, imprints: Sequence[Imprint], side: InPlace) -> Comparison:
        """A table held against what was recorded."""
        what, scheme = self.what, ByLanes()
        rows, total, columns = joined(imprints)
        prints = scheme.prints(side, what, 1)
        same = (rows, total) == (prints.rows, prints.total)
        recorded = {
            name: joined_totals([each.totals[name] for each in imprints], kind) for name, kind in what.kinds.items()
        }
        there = recorded if same else prints.totals or self.asked(side)
        totals = tuple(
            compared_totals(name, kind, recorded[name], _as_far(there[name], recorded[name]), hide=name in what.private)
            for name, kind in what.kinds.items()
        )
        differing: tuple[str, ...] = ()
        if rows == prints.rows and not same:
            now = scheme.columns(side, what)
            unequal = {each.column for each in totals if not each.equal}
            differing = tuple(
                name for name in what.kinds if name in unequal or (name in columns and columns[name] != now[name])
            )
        return Comparison(same, scheme.name, (rows, prints.rows), (total, prints.total), totals, differing)

    def asked(self, side: InPlace) -> dict[str, ColumnTotal]:
        """The totals of the table."""
        (row,) = side.ask(lambda prints: ", ".join(totals_in_sql(self.what.kinds, prints))).to_pylist()
        return read_totals(self.what.kinds, row)

    def told(self, found: Comparison, files: Sequence[str]) -> Reconciliation:
        """What came of it, with the account of the loads."""
        balances = [load.balance for load in self.loads if not load.mended]
        rows = found.differences
        return Reconciliation(
            table=self.charter.table, place=self.place.name, over=self.over,
            loads=tuple(load.load_no for load in self.loads), files=tuple(files),
            verdict="pass" if found.same else "fail",
            records=sum(balance.records for balance in balances),
            rejected=sum(balance.rejected for balance in balances),
            copies=sum(balance.copies for balance in balances),
            conflicts=sum(balance.conflicts for balance in balances),
            mended=sum(load.balance.loaded for load in self.loads if load.mended),
            source_rows=found.rows[0], target_rows=found.rows[1], totals=found.totals, scheme=found.scheme,
            source_fingerprint=f"{found.prints[0]:016x}", target_fingerprint=f"{found.prints[1]:016x}",
            key=self.what.key, differing=found.columns, sorts=rows.sorts if rows else {},
            differences=rows.rows if rows else (), differing_rows=rows.count if rows else 0 if found.same else None,
            cause=rows.cause if rows else "", uncompared=self.uncompared(),
            stated=tuple(each for load in self.loads for each in load.stated),
        )  # fmt: skip

    def uncompared(self) -> tuple[str, ...]:
        """The charter's columns that no file holds, and the table's that the charter does not declare."""
        declared = {name.casefold() for name in self.charter.columns}
        there = [column.name for column in existing(self.place, self.charter.table)]
        left = [name for name in self.charter.columns if name not in self.what.kinds]
        return (*left, *(name for name in there if name.casefold() not in declared))


def _as_far(total: ColumnTotal, recorded: ColumnTotal) -> ColumnTotal:
    """A total as far as it was recorded: of private columns only the count of values was."""
    return total if recorded.values else ColumnTotal(total.count, ())
