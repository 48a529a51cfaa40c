"""Files held against the table they were loaded into: counts, totals a column, and the fingerprint of all rows.

Both sides are asked the same SELECT: the table in its place, the files as a stream of typed rows in the embedded
engine. Where the fingerprints differ, both are asked for those of buckets of rows, and then for the rows of the buckets
that differ: three readings of each side, whatever is wrong. What is compared are canonical texts and counts throughout,
so that no value, however strange, stands between two columns and their comparison.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa

from nomotheta.charter import FROM_PLACE, SYSTEM_COLUMNS, Compiled
from nomotheta.conditions import own, quoted
from nomotheta.errors import PlaceError
from nomotheta.events import Listener, nobody
from nomotheta.frozen import frozen
from nomotheta.kinds.lanes import SCHEME, Lanes
from nomotheta.kinds.read import arrow_type
from nomotheta.place.base import Place
from nomotheta.place.fingerprint import SCHEME as OF_TEXTS
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.reconcile.differences import HASH, Differences, compared
from nomotheta.reconcile.files import Files, LoadedFiles
from nomotheta.reconcile.lanes import lanes_of
from nomotheta.reconcile.reconciliation import ColumnTotals, Reconciliation, RowDifference
from nomotheta.reconcile.totals import Totals, compared_totals, totals_in_sql
from nomotheta.rules.shape import existing

_N, _B, _FILES = (own(word) for word in ("rows", "bucket", "files"))
_H = HASH
_MOST_ROWS = 20_000
_FEWEST_BUCKETS, _MOST_BUCKETS, _IN_A_BUCKET = 1 << 10, 1 << 16, 64
_SUMMED_DIGITS = 28  # of decimals: the sum of ten thousand million of them has 38, as many as any place adds
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

    Raises:
        DeliveryError: a file is gone, or is no longer what was loaded.
        PlaceError: the table is not there, or the place cannot be reached.
    """
    existing(place, compiled.charter.table)
    place.expect(compiled.charter.table, compiled.charter.kinds())
    if not key:
        return _Reconcile(place, compiled, list(loads), where, zone, listener, _NOT_FROM_FILES).run(over)
    step = _Reconcile(place, compiled, list(loads), where, zone, listener, (*SYSTEM_COLUMNS, FROM_PLACE))
    schema = pa.schema([(name, arrow_type(step.kinds[name])) for name in key])
    with place.staged(compiled.charter.table, key, step.files.batches(schema), schema):
        step.where = place.among_staged(compiled.charter.table, key)
        return step.run(over)


_Said = Callable[[Fingerprint], str]  # a part of a SELECT, as one side says it


@frozen
class _Found:
    """What came of comparing files with a table: `rows` and `prints` of both, `count` of the rows that differ."""

    same: bool
    rows: tuple[int, int]
    prints: tuple[int, int]
    scheme: str
    totals: tuple[ColumnTotals, ...]
    differing: tuple[str, ...] = ()
    differences: tuple[RowDifference, ...] = ()
    count: int | None = 0


class _Reconcile:
    def __init__(
        self, place: Place, compiled: Compiled, loads: list[LoadedFiles], where: str | None, zone: str,
        listener: Listener, left_out: Sequence[str],
    ) -> None:  # fmt: skip
        self.place, self.compiled, self.loads, self.where, self.zone = place, compiled, loads, where, zone
        self.listener = listener
        self.charter = compiled.charter
        columns = self.charter.columns
        self.kinds = {name: kind for name, kind in self.charter.kinds().items() if columns[name].from_ not in left_out}
        self.files = Files(compiled, self.loads, self.kinds, zone, listener)

    def run(self, over: str) -> Reconciliation:
        """Compare: by the quicker fingerprint, where the place has it, and by the other where that is not the same."""
        quick = self.by_lanes()
        found = quick if quick is not None and quick.same else self.by_rows()
        if quick is not None and not quick.same and found.same:  # what the other does not see
            found = replace(quick, totals=found.totals, differing=quick.differing)
        balances = [load.balance for load in self.loads if not load.mended]
        mended = [load.balance.loaded for load in self.loads if load.mended]
        return Reconciliation(
            table=self.charter.table, place=self.place.name, over=over,
            loads=tuple(load.load_no for load in self.loads), files=tuple(file.name for _, file in self.files.files),
            verdict="pass" if found.same else "fail",
            records=sum(balance.records for balance in balances),
            rejected=sum(balance.rejected for balance in balances),
            copies=sum(balance.copies for balance in balances),
            conflicts=sum(balance.conflicts for balance in balances),
            mended=sum(mended),
            files_rows=found.rows[0], table_rows=found.rows[1], totals=found.totals, scheme=found.scheme,
            files_fingerprint=f"{found.prints[0]:016x}", table_fingerprint=f"{found.prints[1]:016x}",
            differing=found.differing, differences=found.differences, differing_rows=found.count,
            uncompared=self.uncompared(),
        )  # fmt: skip

    def by_lanes(self) -> _Found | None:
        """The two sides by their lanes; None where the place has none. Equal ones have the same totals, too."""
        table = self.charter.table
        ask = lanes_of(self.place, table, self.kinds, self.where)
        if ask is None:
            return None
        lanes, totals = Lanes(self.kinds), Totals(self.kinds)
        schema = pa.schema([(name, arrow_type(kind)) for name, kind in self.kinds.items()])
        with ask as there:
            for batch in self.files.batches(schema):
                lanes.add(batch)
                totals.add(batch)
            other = there.result()
        if other is None:
            return None
        unequal = tuple(name for name in self.kinds if lanes.columns.get(name, 0) != other.columns.get(name, 0))
        same = (lanes.rows, lanes.total) == (other.rows, other.total) and not unequal
        told, private = totals.told(), self.charter.private()
        shown = tuple(
            compared_totals(name, kind, told, told, hide=name in private) for name, kind in self.kinds.items()
        )
        return _Found(same, (lanes.rows, other.rows), (lanes.total, other.total), SCHEME, shown, differing=unequal)

    def by_rows(self) -> _Found:
        """The two sides by the hashes of the texts of their rows, and the rows that differ."""
        files, table = self.both(
            lambda prints: ", ".join(
                [
                    f"count(*) AS {quoted(_N)}",
                    f"{prints.hash_sum(self.kinds)} AS {quoted(_H)}",
                    *totals_in_sql(self.kinds, prints),
                ]
            )
        )
        private = self.charter.private()
        totals = tuple(
            compared_totals(name, kind, files, table, hide=name in private) for name, kind in self.kinds.items()
        )
        same = files[_N] == table[_N] and files[_H] == table[_H] and all(each.equal for each in totals)
        found = _Found(same, (files[_N], table[_N]), (int(files[_H]), int(table[_H])), OF_TEXTS, totals)
        if same:
            return found
        rows = self.rows(max(files[_N], table[_N]))
        differing: tuple[str, ...] = ()
        if files[_N] == table[_N]:
            unequal = {each.column for each in totals if not each.equal}
            more = rows.columns if rows.count is not None else self.by_checksum()
            differing = tuple(name for name in self.kinds if name in unequal | more)
        return replace(found, differing=differing, differences=rows.shown, count=rows.count)

    def uncompared(self) -> tuple[str, ...]:
        """The charter's columns that no file holds, and the table's that the charter does not declare."""
        declared = {name.casefold() for name in self.charter.columns}
        there = [column.name for column in existing(self.place, self.charter.table)]
        left = [name for name in self.charter.columns if name not in self.kinds]
        return (*left, *(name for name in there if name.casefold() not in declared))

    # ---- the two sides

    def both(self, select: _Said) -> tuple[dict[str, Any], dict[str, Any]]:
        """The one row that a SELECT gives on each side."""
        return self.of_files(select)[0], self.of_table(select)[0]

    def of_table(self, said: _Said, condition: _Said | None = None, group: str = "") -> list[dict[str, Any]]:
        select = said(self.place.fingerprint)
        parts = (self.where, condition and condition(self.place.fingerprint))
        where = " AND ".join(f"({part})" for part in parts if part) or None
        found = self.place.fetch(f"SELECT {select} {self.place.rowset(self.charter.table, where)}{group}").to_pylist()
        return list(found)

    def of_files(self, said: _Said, condition: _Said | None = None, group: str = "") -> list[dict[str, Any]]:
        from nomotheta.place.embedded.duckdb import DuckPlace  # only now: a load does without it

        schema = pa.schema([(name, arrow_type(kind)) for name, kind in self.kinds.items()])
        failed: list[BaseException] = []

        def batches() -> Iterator[Any]:
            try:
                yield from self.files.batches(schema)
            except GeneratorExit:
                raise
            except BaseException as error:  # which the engine would tell in words of its own
                failed.append(error)
                raise

        reader = pa.RecordBatchReader.from_batches(schema, batches())
        engine = DuckPlace("files", None)
        select = said(engine.fingerprint)
        where = f" WHERE {condition(engine.fingerprint)}" if condition else ""
        try:
            return list(
                engine.fetch(f"SELECT {select} FROM {quoted(_FILES)}{where}{group}", **{_FILES: reader}).to_pylist()
            )
        except PlaceError:
            if failed:
                raise failed[0] from None
            raise
        finally:
            engine.close()

    # ---- where they differ

    def by_checksum(self) -> frozenset[str]:
        """The columns whose values are not the same in all, by one checksum each."""

        def sums(prints: Fingerprint) -> str:
            return ", ".join(
                f"{prints.hash_sum({name: kind})} AS {quoted(own(name))}" for name, kind in self.kinds.items()
            )

        files, table = self.both(sums)
        return frozenset(name for name in self.kinds if files[own(name)] != table[own(name)])

    def rows(self, most: int) -> Differences:
        """The rows that differ, of at most so many on a side."""
        key = next((list(each.columns) for each in self.charter.real_keys() if {*each.columns} <= {*self.kinds}), [])
        by = {name: self.kinds[name] for name in key} if key else self.kinds
        buckets = _FEWEST_BUCKETS
        while buckets < min(most // _IN_A_BUCKET, _MOST_BUCKETS):
            buckets *= 2

        def grouped(prints: Fingerprint) -> str:
            hashes = f"{prints.hash_sum(self.kinds)} AS {quoted(_H)}"
            return f"{prints.bucket(by, buckets)} AS {quoted(_B)}, count(*) AS {quoted(_N)}, {hashes}"

        sides: list[dict[int, tuple[int, int]]] = [
            {row[_B]: (row[_N], row[_H]) for row in side(grouped, None, " GROUP BY 1")}
            for side in (self.of_files, self.of_table)
        ]
        differing = [b for b in sorted(set(sides[0]) | set(sides[1])) if sides[0].get(b) != sides[1].get(b)]
        if not differing:  # the totals see what the hashes do not
            return Differences((), None, frozenset())
        chosen: list[int] = []
        fetched = 0
        for b in differing:
            size = sum(side.get(b, (0, 0))[0] for side in sides)
            if chosen and fetched + size > _MOST_ROWS:
                break
            chosen.append(b)
            fetched += size

        def cells(prints: Fingerprint) -> str:
            shown = (f"{prints.shown(name, kind)} AS {quoted(name)}" for name, kind in self.kinds.items())
            return f"{prints.row_hash(self.kinds)} AS {quoted(_H)}, {', '.join(shown)}"

        files, table = (
            side(cells, lambda prints: f"{prints.bucket(by, buckets)} IN ({', '.join(map(str, chosen))})")
            for side in (self.of_files, self.of_table)
        )
        return compared(
            files, table, key, self.kinds, self.charter.private(), whole=len(chosen) == len(differing)
        )  # fmt: skip
