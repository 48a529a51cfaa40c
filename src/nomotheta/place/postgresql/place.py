"""PostgreSQL: rows go in as one binary COPY, written from Arrow batches, inside the load's transaction.

One load at a time into a table: an advisory lock is held for as long as its transaction. All counts are of one
snapshot (REPEATABLE READ), so that rows which others write meanwhile are in none of them.
"""

from __future__ import annotations

import contextlib
import io
import itertools
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from psycopg.rows import tuple_row

from nomotheta.conditions import Kind, Node, quoted
from nomotheta.errors import PlaceError
from nomotheta.kernel import COPY_HEAD, COPY_TAIL, can_copy, copy_rows
from nomotheta.place import statements
from nomotheta.place.base import Mark, PlaceColumn
from nomotheta.place.marks import HIGHEST, MARK_COLUMNS, MARKS, OF_TABLE, TAKEN_AWAY, marks_of, no_marks, values_of
from nomotheta.place.postgresql import lanes as own_lanes
from nomotheta.place.postgresql.catalogue import PostgresCatalogue
from nomotheta.place.postgresql.sql import PostgresRenderer, postgres_type
from nomotheta.place.postgresql.uuids import uuid_bytes, uuid_texts
from nomotheta.place.render import Now, quoted_table, text_literal
from nomotheta.place.rows import rows_table
from nomotheta.place.staging import LanesBy

_ARROW = {
    "smallint": pa.int16(), "integer": pa.int32(), "bigint": pa.int64(), "real": pa.float32(),
    "double precision": pa.float64(),
}  # fmt: skip
_CHUNK = 20_000  # rows
_MAKING = f"hashtextextended('{MARKS}', 0)"  # the lock of who makes the tables of marks
_BUCKET_AND_HASH = np.dtype([("bucket", ">u4"), ("hash", ">u8")])
_ALL_TEXTS = {f"f{at}": pa.string() for at in range(64)}  # of as many columns as a result may have


class PostgresPlace(PostgresCatalogue):
    """A PostgreSQL database."""

    AS_GIVEN, apart = " OVERRIDING SYSTEM VALUE", " OFFSET NULL"
    lanes: LanesBy = "inside"

    takes, drops_temporary = statements.ALL, "DROP TABLE IF EXISTS pg_temp.{}"
    _knows_lanes: bool | None = None  # whether its hash functions are those that are meant

    def carry_out(self, statement: str, *, alone: bool = False) -> None:  # noqa: ARG002
        """As it is; outside a transaction each stands by itself."""
        self._run(statement)

    def lane_sums(self, kinds: Mapping[str, Kind], rowset: str) -> list[int] | None:
        """By the server's own hash functions, where they come to what they should of some known values."""
        return self._sums(own_lanes.select(kinds, rowset)) if self._lanes_known() else None

    def lane_buckets(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Any:
        """By the same."""
        return self.fetch(own_lanes.in_buckets(kinds, rowset, by, buckets)) if self._lanes_known() else None

    def lane_hashes(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """By the same, put together by one process: to gather what several have worked out would take longer."""
        select = f"COPY ({own_lanes.one_by_one(kinds, rowset, by, buckets)}) TO STDOUT (FORMAT BINARY)"
        self._run("SET max_parallel_workers_per_gather = 0")
        with self._translated(select), self._connection.cursor() as cursor, cursor.copy(select) as copy:
            copy.set_types(["bytea"])
            for (packed,) in copy.rows():
                rows = np.frombuffer(packed, _BUCKET_AND_HASH)
                yield rows["bucket"].astype(np.int64), rows["hash"].astype(np.uint64)
        self._run("RESET max_parallel_workers_per_gather")

    def lane_bucket(self, kinds: Mapping[str, Kind], by: Sequence[str], buckets: int) -> str:
        """By the same."""
        return own_lanes.bucket(kinds, by, buckets)

    def _lanes_known(self) -> bool:
        if self._knows_lanes is None:
            named = ", ".join(map(text_literal, own_lanes.FUNCTIONS))
            found = self._rows(f"SELECT count(DISTINCT proname) AS them FROM pg_proc WHERE proname IN ({named})")
            known = own_lanes.select(own_lanes.KNOWN_KINDS, own_lanes.KNOWN_ROWS)
            there = found[0]["them"] == len(own_lanes.FUNCTIONS)
            self._knows_lanes = there and self._sums(known) == own_lanes.KNOWN_SUMS
        return self._knows_lanes

    def _sums(self, select: str) -> list[int]:
        return [int(each or 0) % 2**64 for each in self._rows(select)[0].values()]

    @contextlib.contextmanager
    def one_view(self, others: Sequence[PostgresPlace], _tables: Sequence[str]) -> Iterator[bool]:
        """By a snapshot that this connection exports, and the others take over."""
        try:
            for each in (self, *others):
                each._run("BEGIN ISOLATION LEVEL REPEATABLE READ")
            (found,) = self._rows("SELECT pg_export_snapshot() AS snapshot")
            for other in others:
                other._run(f"SET TRANSACTION SNAPSHOT {text_literal(found['snapshot'])}")
            yield True
        finally:
            for each in (self, *others):
                with contextlib.suppress(PlaceError):
                    each._run("ROLLBACK")

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it; nobody else loads into the tables meanwhile."""
        keys = {table: f"hashtextextended({text_literal(f'nomotheta {table}')}, 0)" for table in tables}
        release = self.hold(
            keys, lambda key: self._rows(f"SELECT pg_try_advisory_lock({key}) AS got")[0]["got"],
            "pg_advisory_unlock({})", self._holder,
        )  # fmt: skip
        with self._first_of_all(), self.committed("BEGIN ISOLATION LEVEL REPEATABLE READ", release):
            self._before = {table: self._statistics(table) for table in tables}
            yield

    @contextlib.contextmanager
    def _first_of_all(self) -> Iterator[None]:
        """One after another for as long as there are no tables of marks, which a transaction sees if it began later."""
        if not self._marks_to_make():
            yield
            return
        self._run(f"SELECT pg_advisory_lock({_MAKING})")
        try:
            yield
        finally:
            with contextlib.suppress(PlaceError):
                self._run(f"SELECT pg_advisory_unlock({_MAKING})")

    def _holder(self, key: str) -> str:
        rows = self._rows(
            "SELECT a.pid, a.usename AS who, to_char(a.xact_start, 'HH24:MI') AS since FROM pg_locks l "
            "JOIN pg_stat_activity a ON a.pid = l.pid WHERE l.locktype = 'advisory' AND l.granted "
            f"AND (l.classid::bigint << 32) | l.objid::bigint = {key}"
        )
        return f", by {rows[0]['who']} (server process {rows[0]['pid']}, since {rows[0]['since']} UTC)" if rows else ""

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches by one COPY, in the exact types of the catalog."""
        types = {column.name: column.type_name for column in self.columns(table) or []}
        wanted = [_wire_type(types[name], schema.field(name).type) for name in columns]
        target = pa.schema([pa.field(name, of) for name, of in zip(columns, wanted, strict=True)])
        listed = ", ".join(quoted(name) for name in columns)
        binary = can_copy()
        sql = f"COPY {quoted_table(table)} ({listed}) FROM STDIN (FORMAT {'binary' if binary else 'csv'})"
        with self._translated(), self._connection.cursor() as cursor:
            with cursor.copy(sql) as copy:
                if binary:
                    copy.write(COPY_HEAD)
                for batch in batches:
                    arrays = [_cast(batch.column(name), of) for name, of in zip(columns, wanted, strict=True)]
                    whole = pa.record_batch(arrays, schema=target)
                    copy.write((copy_rows(whole) if binary else _csv(whole)).data)
                if binary:
                    copy.write(COPY_TAIL)
            return int(cursor.rowcount)

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows."""
        return self.changed(f"DELETE FROM {quoted_table(table)}" + (f" WHERE {where}" if where else ""))

    def changed(self, sql: str) -> int:
        """How many rows a statement touched."""
        with self._translated(sql):
            return self._connection.execute(sql).rowcount

    def found(self, sql: str) -> int:
        """The one number that a SELECT gives."""
        return int(next(iter(self._rows(sql)[0].values())))

    def run_plain(self, sql: str) -> None:
        """A statement that touches no rows."""
        self._run(sql)

    # ---- asking

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        return int(self._rows(f"SELECT count(*) AS n {self.rowset(table, where)}")[0]["n"])

    def account(self, table: str) -> tuple[int, int] | None:
        """What the server's statistics say; a table of partitions has none."""
        removed, added = self._statistics(table)
        before = self._before.get(table)
        return None if before is None else (removed - before[0], added - before[1])

    def _statistics(self, table: str) -> tuple[int, int]:
        """Rows removed and added in this transaction, and in those before it that are not in the server's sums yet."""
        sql = "SELECT n_tup_del, n_tup_ins FROM pg_stat_xact_all_tables WHERE relid = to_regclass(%s)"
        rows = self._rows(sql, [quoted_table(table)])
        return (int(rows[0]["n_tup_del"]), int(rows[0]["n_tup_ins"])) if rows else (0, 0)

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table."""
        with self._translated(sql), self._connection.cursor(row_factory=tuple_row) as cursor:
            rows = cursor.execute(sql).fetchall()
            return rows_table([column.name for column in cursor.description or ()], rows)

    def stream(self, sql: str) -> Iterator[Any]:
        """Rows as Arrow record batches of texts, as PostgreSQL writes them."""
        import pyarrow.csv

        options = pyarrow.csv.ConvertOptions(
            column_types=_ALL_TEXTS, strings_can_be_null=True, null_values=[""], quoted_strings_can_be_null=False
        )
        read = pyarrow.csv.ReadOptions(autogenerate_column_names=True)
        parse = pyarrow.csv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False)
        with (
            self._translated(sql),
            self._connection.cursor() as cursor,
            cursor.copy(f"COPY ({sql}) TO STDOUT (FORMAT csv)") as copy,
        ):
            rows = iter(copy)
            while chunk := b"".join(itertools.islice(rows, _CHUNK)):
                table = pyarrow.csv.read_csv(pa.BufferReader(chunk), read, parse, options)
                yield from table.combine_chunks().to_batches()

    def render(self, node: Node, now: Now) -> str:
        """A condition as PostgreSQL's SQL."""
        return PostgresRenderer(now).render(node)

    def as_text(self, column: str) -> str:
        """A column as text."""
        return f"CAST({quoted(column)} AS TEXT)"

    def exactly(self, sql: str, column: PlaceColumn | None) -> str:
        """A text is compared by code point where its collation would not."""
        return f'({sql} COLLATE "C")' if column is not None and column.folds else sql

    # ---- marks

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        if self.columns(MARKS) is None:
            return []
        return marks_of([tuple(row.values()) for row in self._rows(OF_TABLE + "%s", [table])])

    def make_ready(self) -> bool:
        """They may, once there are tables of marks."""
        with self._connection.transaction():
            self._make_marks()
        return True

    def _make_marks(self) -> None:
        """In one session at a time: the server lets two make the same at once, and then refuses one of them."""
        ddl = self._marks_to_make()
        if ddl:
            self._run(f"SELECT pg_advisory_xact_lock({_MAKING})")
        for statement in ddl.values():
            try:
                self._run(statement)
            except PlaceError as error:
                raise no_marks(error, ddl) from None

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        self._make_marks()
        values = ", ".join(f"%s::{postgres_type(kind)}" for kind in MARK_COLUMNS.values())
        sql = f"WITH left_there AS (INSERT INTO {MARKS} VALUES ({values}) ON CONFLICT DO NOTHING RETURNING 1) "
        return bool(self._rows(f"{sql} SELECT count(*) AS n FROM left_there", values_of(mark))[0]["n"])

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        with self._translated():
            self._connection.execute(TAKEN_AWAY.format("%s", "%s", "%s"), [mark.table, mark.load_no, mark.workspace])

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return 1 if self.columns(MARKS) is None else int(self._rows(HIGHEST)[0]["n"])


def _cast(values: Any, wanted: Any) -> Any:
    """A column in the type of the catalog, whose limits it has been held against."""
    if values.type == wanted:
        return values
    return uuid_bytes(values) if wanted == pa.uuid() else pc.cast(values, wanted)


def _wire_type(type_name: str, own: Any) -> Any:
    """The Arrow type in which a column of the catalog's type is sent."""
    if type_name == "uuid":
        return pa.uuid()
    return _ARROW.get(type_name, own)


def _csv(batch: Any) -> Any:
    """Rows as CSV, in which what is not quoted is null: where there is no kernel."""
    import pyarrow.csv

    columns = [_written(column) for column in batch.columns]
    sink = io.BytesIO()
    options = pyarrow.csv.WriteOptions(include_header=False, quoting_style="all_valid")
    pyarrow.csv.write_csv(pa.record_batch(columns, names=batch.schema.names), sink, options)
    return np.frombuffer(sink.getvalue(), np.uint8)


def _written(column: Any) -> Any:
    """A column as what the CSV writer can write."""
    if column.type == pa.uuid():
        return uuid_texts(column)
    if pa.types.is_binary(column.type):
        return pa.array([None if value is None else "\\x" + value.hex() for value in column.to_pylist()], pa.string())
    return column
