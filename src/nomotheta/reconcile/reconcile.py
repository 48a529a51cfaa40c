"""Files held against the table they were loaded into: counts, totals a column, and the fingerprint of all rows.

Both sides are asked the same SELECT: the table in its place, the files as a stream of typed rows in the embedded
engine. Where the fingerprints differ, both are asked for those of buckets of rows, and then for the rows of the buckets
that differ: three readings of each side, whatever is wrong. What is compared are canonical texts and counts throughout,
so that no value, however strange, stands between two columns and their comparison.
"""

from __future__ import annotations

import datetime
import functools
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa

from nomotheta.charter import FROM_PLACE, SYSTEM_COLUMNS, Compiled
from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import DeliveryError, PlaceError
from nomotheta.events import Listener, Progress, nobody
from nomotheta.frozen import frozen
from nomotheta.kinds.read import arrow_type
from nomotheta.kinds.show import show
from nomotheta.load.balance import Balance
from nomotheta.load.blocks import worked_files
from nomotheta.load.engine import Engine
from nomotheta.load.mended import open_mended
from nomotheta.load.rejects import left_out
from nomotheta.load.work import Plan, constants
from nomotheta.place.base import Place
from nomotheta.place.fingerprint import SCHEME, Fingerprint
from nomotheta.place.render import Now
from nomotheta.reconcile.differences import HASH, Differences, compared, told
from nomotheta.reconcile.reconciliation import ColumnTotals, Reconciliation, RowDifference
from nomotheta.rules.finding import HIDDEN
from nomotheta.rules.shape import existing
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile, arrived, literal
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns

_N, _B, _FILES = (own(word) for word in ("rows", "bucket", "files"))
_H = HASH
_MOST_ROWS = 20_000
_FEWEST_BUCKETS, _MOST_BUCKETS, _IN_A_BUCKET = 1 << 10, 1 << 16, 64
_SUMMED_DIGITS = 28  # of decimals: the sum of ten thousand million of them has 38, as many as any place adds
_NOT_FROM_FILES = ("@load.no", "@load.time", "@place")


@frozen
class LoadedFiles:
    """A load that is in the table: its number, day, files, what was set aside, and the charter that reads them.

    `kept` is the workspace's own copy of a file of mended rows.
    """

    load_no: int
    day: datetime.date
    at: datetime.datetime
    root: Path
    balance: Balance
    rejects: Path
    compiled: Compiled
    mended: bool = False
    kept: Path | None = None


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
    with place.staged(compiled.charter.table, key, step.batches(schema), schema):
        step.where = place.among_staged(compiled.charter.table, key)
        return step.run(over)


_Said = Callable[[Fingerprint], str]  # a part of a SELECT, as one side says it


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
        self.files = [(load, file) for load in self.loads for file in _still_there(load)]

    def run(self, over: str) -> Reconciliation:
        files, table = self.both(
            lambda prints: ", ".join(
                [
                    f"count(*) AS {quoted(_N)}",
                    f"{prints.hash_sum(self.kinds)} AS {quoted(_H)}",
                    *_totals(self.kinds, prints),
                ]
            )
        )
        private = self.charter.private()
        totals = tuple(_compared(name, kind, files, table, hide=name in private) for name, kind in self.kinds.items())
        same = files[_N] == table[_N] and files[_H] == table[_H] and all(each.equal for each in totals)
        differing: tuple[str, ...] = ()
        differences: tuple[RowDifference, ...] = ()
        count: int | None = 0
        if not same:
            found = self.rows(max(files[_N], table[_N]))
            differences, count = found.shown, found.count
            if files[_N] == table[_N]:
                unequal = {each.column for each in totals if not each.equal}
                more = found.columns if count is not None else self.by_checksum()
                differing = tuple(name for name in self.kinds if name in unequal | more)
        balances = [load.balance for load in self.loads if not load.mended]
        mended = [load.balance.loaded for load in self.loads if load.mended]
        return Reconciliation(
            table=self.charter.table, place=self.place.name, over=over,
            loads=tuple(load.load_no for load in self.loads), files=tuple(file.name for _, file in self.files),
            verdict="pass" if same else "fail",
            records=sum(balance.records for balance in balances),
            rejected=sum(balance.rejected for balance in balances),
            copies=sum(balance.copies for balance in balances),
            conflicts=sum(balance.conflicts for balance in balances),
            mended=sum(mended),
            files_rows=files[_N], table_rows=table[_N], totals=totals, scheme=SCHEME,
            files_fingerprint=f"{int(files[_H]):016x}", table_fingerprint=f"{int(table[_H]):016x}",
            differing=differing, differences=differences, differing_rows=count,
            uncompared=self.uncompared(),
        )  # fmt: skip

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
                yield from self.batches(schema)
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

    def batches(self, schema: Any) -> Iterator[Any]:
        """The rows that the files hold, less those that were set aside."""
        total = sum(file.survey.bytes_of_content for _, file in self.files)
        told, done = f"reading the files of {self.charter.table}", 0
        for load, pairs in itertools.groupby(self.files, lambda pair: pair[0]):
            aside, before = left_out(load.rejects), 0
            files = [file for _, file in pairs]
            for piece in worked_files(files, functools.partial(self._opened, load), join=not load.mended):
                worked = piece.worked
                if worked is None:
                    before = 0
                    continue
                rows = worked.good.select(schema.names)
                keep = ~worked.among(worked.records, before, aside)
                yield from (rows if keep.all() else rows.filter(pa.array(keep))).to_batches()
                before += worked.batch.count
                done += worked.size
                self.listener(Progress(told, done, total, "bytes"))
        self.listener(Progress(told, total, total, "bytes", ended=True))

    def _opened(self, load: LoadedFiles, file: ArrivedFile) -> tuple[Plan, SourceFile]:
        """A file of a load, to be read as the load read it."""
        compiled = load.compiled
        source = (
            open_mended(file, compiled)
            if load.mended
            else open_file(file.path, file.name, compiled.layout, compiled.charter)
        )
        shape = match_columns(source, compiled.charter)
        fixed = constants(compiled.charter, load.load_no, load.at, load.day, self.zone)
        engine = Engine([], Now(load.at, load.day, load.load_no))
        return Plan(
            self.compiled, file.name, shape.positions, shape.width, fixed | dict.fromkeys(shape.absent), [], engine,
            self.zone, 0,
        ), source  # fmt: skip

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


def _still_there(load: LoadedFiles) -> list[ArrivedFile]:
    """The files of a load, if they still are what was loaded."""
    names = [file.file for file in load.balance.files]
    if load.kept is not None:
        (kept,) = arrived(load.root, [literal(str(load.kept))], load.compiled.layout)
        found = [replace(kept, name=names[0])]
    else:
        found = arrived(load.root, [literal(name) for name in names], load.compiled.layout)
    for file, loaded in zip(found, load.balance.files, strict=True):
        if file.survey.content != loaded.content:
            raise DeliveryError(
                f"the file is not what load {load.load_no} loaded: it has changed since",
                where=file.name,
                mend="put the loaded file back, or reconcile after loading the new one",
            )
    return found


_MEASURES: Mapping[str, str] = {
    "integer": "sum", "decimal": "sum", "text": "length", "binary": "length", "boolean": "true",
}  # fmt: skip


def _measure(kind: Kind) -> str:
    """What is told of a column besides its count: a range where a sum depends on the order, or is beyond all digits."""
    return "range" if kind.name == "decimal" and kind.digits > _SUMMED_DIGITS else _MEASURES.get(kind.name, "range")


def _totals(kinds: Mapping[str, Kind], prints: Fingerprint) -> Iterator[str]:
    """Per column, how many values it has and what they come to, as texts."""
    for name, kind in kinds.items():
        column = quoted(name)
        yield f"count({column}) AS {quoted(own(f'{name} n'))}"
        match _measure(kind):
            case "sum":
                found = [prints.text(f"sum({column})")]
            case "length" if kind.name == "binary":
                found = [prints.text(f"sum(octet_length({column}))")]
            case "length":
                found = [prints.text(f"sum({prints.characters(column)})")]
            case "true":
                found = [prints.text(f"sum(CAST({column} AS INTEGER))")]
            case _ if kind.name == "uuid":  # not all order uuids
                found = [f"{least}({prints.of(column, kind)})" for least in ("min", "max")]
            case _:
                found = [prints.of(f"{least}({column})", kind) for least in ("min", "max")]
        for at, each in enumerate(found):
            yield f"{each} AS {quoted(own(f'{name} {at}'))}"


def _compared(name: str, kind: Kind, files: Mapping[str, Any], table: Mapping[str, Any], *, hide: bool) -> ColumnTotals:
    """A column's totals; of a private one they are compared and not told, for few rows give their values away."""
    measure: Any = _measure(kind)
    parts = [own(f"{name} {at}") for at in range(2 if measure == "range" else 1)]
    sides = [[side[part] for part in parts] for side in (files, table)]
    if measure == "range":
        said = [[told(text, kind) for text in side] for side in sides]
    else:  # a place may write a sum with more zeros behind the point
        sides = [[text and Decimal(text) for text in side] for side in sides]
        said = [[show(number) for number in side] for side in sides]
    counts = files[own(f"{name} n")], table[own(f"{name} n")]
    shown = [tuple(HIDDEN if hide else text for text in side) for side in said]
    return ColumnTotals(name, measure, *counts, shown[0], shown[1], counts[0] == counts[1] and sides[0] == sides[1])
