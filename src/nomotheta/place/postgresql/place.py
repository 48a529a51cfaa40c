"""PostgreSQL: rows go in as one binary COPY, written from Arrow batches, inside the load's transaction.

One load at a time into a table: an advisory lock is held for as long as its transaction. All counts are of one
snapshot (REPEATABLE READ), so that rows which others write meanwhile are in none of them.
"""

from __future__ import annotations

import contextlib
import io
import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.compute as pc
from psycopg.conninfo import make_conninfo
from psycopg.rows import dict_row, tuple_row

from nomotheta.conditions import Kind, Node, decimal, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.kernel import COPY_HEAD, COPY_TAIL, can_copy, copy_rows
from nomotheta.place.base import Facts, Guarantees, Mark, PlaceColumn
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.limits import Limits
from nomotheta.place.marks import (
    FILES,
    HIGHEST,
    MARK_COLUMNS,
    MARKS,
    OF_TABLE,
    TAKEN_AWAY,
    marks_ddl,
    marks_of,
    no_marks,
    values_of,
)
from nomotheta.place.postgresql.sql import PostgresFingerprint, PostgresRenderer, postgres_type
from nomotheta.place.postgresql.uuids import uuid_bytes, uuid_texts
from nomotheta.place.render import Now, case_of, quoted_table, text_literal
from nomotheta.place.rows import rows_table
from nomotheta.place.staging import Staging

_KINDS = {
    "boolean": "boolean", "date": "date", "uuid": "uuid", "bytea": "binary", "time without time zone": "time",
    "timestamp without time zone": "timestamp", "timestamp with time zone": "timestamptz",
    **dict.fromkeys(("smallint", "integer", "bigint"), "integer"),
    **dict.fromkeys(("real", "double precision"), "real"), "text": "text",
}  # fmt: skip
_ARROW = {
    "smallint": pa.int16(), "integer": pa.int32(), "bigint": pa.int64(), "real": pa.float32(),
    "double precision": pa.float64(),
}  # fmt: skip
_SESSION = {
    "TimeZone": "UTC", "DateStyle": "ISO, YMD", "standard_conforming_strings": "on", "extra_float_digits": "1",
    "synchronize_seqscans": "off", "application_name": "nomotheta", "client_min_messages": "warning",
}  # fmt: skip
_CHUNK = 20_000  # rows
_SAMPLE = 2048  # rows that show whether there is an order
_PATIENCE = 10  # seconds until a server that does not answer is given up
_LOCK_PATIENCE = 30  # seconds until a lock that somebody else holds is given up, where the url says nothing else
_ALL_TEXTS = {f"f{at}": pa.string() for at in range(64)}  # of as many columns as a result may have
_MOST_NUMERIC = Kind("decimal", 1000, 500)  # of a numeric that is declared without digits


class PostgresPlace(Staging):
    """A PostgreSQL database."""

    AS_GIVEN, apart = " OVERRIDING SYSTEM VALUE", " OFFSET NULL"

    def __init__(self, name: str, url: str, shown: str) -> None:
        self.name, self.shown = name, shown
        self.fingerprint: Fingerprint = PostgresFingerprint()
        self._before: dict[str, tuple[int, int]] = {}
        with self._translated():
            patient = url if "connect_timeout" in url else make_conninfo(url, connect_timeout=_PATIENCE)
            self._connection = psycopg.connect(patient, autocommit=True, row_factory=dict_row, prepare_threshold=None)
        listed = ", ".join(f"set_config('{setting}', '{value}', false)" for setting, value in _SESSION.items())
        found = self._rows(
            f"SELECT current_setting('server_encoding') AS e, current_setting('lock_timeout') AS waits, {listed}"
        )[0]
        if found["waits"] == "0":
            self._run(f"SET lock_timeout = '{_LOCK_PATIENCE}s'")
        encoding = found["e"]
        if encoding != "UTF8":
            self.close()
            raise PlaceError(
                f"the database's encoding is {encoding}, which does not hold every text", where=f"place {name}",
                mend="use a database that was created with ENCODING 'UTF8'",
            )  # fmt: skip

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except psycopg.Error as error:
            raise self._error(error) from error

    def _error(self, error: psycopg.Error) -> PlaceError:
        where, diagnosis = f"place {self.name}", error.diag
        if diagnosis.message_primary is None:
            if isinstance(error, psycopg.DataError):
                return PlaceError(f"it holds a value that cannot be read: {error}", where=where)
            told = str(error).strip().partition("\n")[0].rpartition("failed: ")[2].removeprefix("FATAL: ").strip()
            return PlaceError(f"{self.shown} cannot be reached: {told}", where=where,
                              mend="check the url in nomotheta.toml, and that the server runs")  # fmt: skip
        if isinstance(error, psycopg.errors.LockNotAvailable):
            return PlaceError("the database says: another session has held a lock on it for too long", where=where,
                              mend="load again when that session is done")  # fmt: skip
        told = diagnosis.message_primary
        detail = diagnosis.message_detail or ""
        told += f": {detail.rstrip('.')}" if detail and not detail.startswith("Failing row") else ""
        context = re.search(r"COPY \S+, line (\d+)(?:, column (.*))?", diagnosis.context or "")
        told += f", column {context[2]}" if context and context[2] else ""
        row = int(context[1]) if context else None
        return PlaceError(f"the database says: {told}", where=where, row=row)

    def _rows(self, sql: str, parameters: Sequence[Any] = ()) -> list[dict[str, Any]]:
        with self._translated(sql):
            return list(self._connection.execute(sql, parameters or None))

    def _run(self, sql: str) -> None:
        """A statement that gives no rows."""
        with self._translated(sql):
            self._connection.execute(sql)

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

    # ---- what is there

    def facts(self) -> Facts:
        """What the server is, and what this user may do."""
        row = self._rows(
            "SELECT current_setting('server_version') AS version, current_schema() AS schema, current_user AS who, "
            "coalesce(has_schema_privilege(current_schema(), 'CREATE'), FALSE) AS may_create, "
            "NOT pg_is_in_recovery() AND current_setting('transaction_read_only') = 'off' AS may_write"
        )[0]
        message = mend = ""
        if not row["may_write"]:
            message, mend = "it can only be read", "name the primary server in the url"
        elif not row["may_create"] and self._marks_to_make():
            message = f"{row['who']} may make no tables in {row['schema'] or 'any schema of the search path'}"
            ddl = "; ".join(self._marks_to_make().values())
            mend = f"without the tables of its loads none can be done: have them made by {ddl}"
        return Facts(f"PostgreSQL {row['version'].split()[0]}", row["may_create"], row["may_write"], message, mend)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. What the database fills itself may be left out of a load."""
        rows = self._rows(
            "SELECT attname AS name, format_type(atttypid, atttypmod) AS type, attnotnull AS filled, "
            "NOT attnotnull OR atthasdef OR attidentity <> '' OR attgenerated <> '' AS nullable, "
            "NOT coalesce(collisdeterministic, TRUE) AS folds, "
            "(SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = atttypid) words "
            "FROM pg_attribute LEFT JOIN pg_collation c ON c.oid = attcollation "
            "WHERE attrelid = to_regclass(%s) AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
            [quoted_table(table)],
        )
        return [
            PlaceColumn(
                row["name"], row["type"], Kind("text") if row["words"] else _kind(row["type"]), row["nullable"],
                limits=_limits(row["type"], row["words"], filled=row["filled"]), folds=row["folds"],
            )
            for row in rows
        ] or None  # fmt: skip

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """As ordered-set aggregates, all in one."""
        return PostgresRenderer.quantiles(column, shares)

    def changes_rows(self, table: str) -> bool:
        """Whether it has triggers or rules, or is no plain table."""
        row = self._rows(
            "SELECT relkind NOT IN ('r', 'p') OR relhasrules OR EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = c.oid "
            "AND NOT tgisinternal) AS met FROM pg_class c WHERE oid = to_regclass(%s)", [quoted_table(table)],
        )  # fmt: skip
        return not row or bool(row[0]["met"])

    def guarantees(self, table: str) -> Guarantees:
        """What its indexes, types and foreign keys see to; nothing in a table whose rows may lie in others."""
        name = [quoted_table(table)]
        inherited = self._rows(
            "SELECT 1 AS one FROM pg_inherits JOIN pg_class p ON p.oid = inhparent "
            "WHERE p.oid = to_regclass(%s) AND p.relkind <> 'p' LIMIT 1", name,
        )  # fmt: skip
        if inherited:
            return Guarantees()
        unique = self._rows(
            "SELECT (SELECT array_agg(attname::text) FROM pg_attribute WHERE attrelid = indrelid "
            "AND attnum = ANY((indkey::int2[])[0:indnkeyatts - 1])) AS names FROM pg_index WHERE "
            "indrelid = to_regclass(%s) AND indisunique AND indisvalid AND indimmediate AND indpred IS NULL "
            "AND indexprs IS NULL", name,
        )  # fmt: skip
        refers = self._rows(
            "SELECT CASE WHEN nspname = current_schema() THEN relname ELSE nspname || '.' || relname END AS listing, "
            "(SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(conkey) WITH ORDINALITY AS k(num, at) "
            "JOIN pg_attribute a ON a.attrelid = conrelid AND a.attnum = k.num) AS own, "
            "(SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(confkey) WITH ORDINALITY AS k(num, at) "
            "JOIN pg_attribute a ON a.attrelid = confrelid AND a.attnum = k.num) AS there "
            "FROM pg_constraint JOIN pg_class r ON r.oid = confrelid JOIN pg_namespace n ON n.oid = r.relnamespace "
            "WHERE contype = 'f' AND convalidated AND NOT condeferrable AND conrelid = to_regclass(%s)", name,
        )  # fmt: skip
        columns = self.columns(table) or []
        return Guarantees(
            tuple(frozenset(row["names"]) for row in unique),
            frozenset(column.name for column in columns if not column.limits.nulls),
            frozenset(column.name for column in columns if column.type_name.startswith("character varying(")),
            tuple((row["listing"], dict(zip(row["own"], row["there"], strict=True))) for row in refers),
        )

    def finds(self, table: str, column: str) -> bool:
        """Whether an index begins with it."""
        return bool(self._rows(
            "SELECT 1 AS one FROM pg_index JOIN pg_attribute ON attrelid = indrelid AND attnum = indkey[0] "
            "WHERE indrelid = to_regclass(%s) AND attname = %s AND indisvalid AND indpred IS NULL LIMIT 1",
            [quoted_table(table), column],
        ))  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        rows = self._rows(
            "SELECT attname AS name FROM pg_attribute WHERE attrelid = to_regclass(%s) AND attnum > 0 "
            "AND NOT attisdropped AND attgenerated = '' ORDER BY attnum",
            [quoted_table(table)],
        )
        return [row["name"] for row in rows]

    def may_hold(self) -> bool:
        """Whether there may be temporary tables, as the catalog says: a failure would end a transaction."""
        may = "has_database_privilege(current_database(), 'TEMP') AND current_setting('transaction_read_only') = 'off'"
        return bool(self._rows(f"SELECT {may} AS may")[0]["may"])

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Whether each value is greater than the one before it: rows that came in order of their key lie so."""
        value, before = quoted(own("value")), quoted(own("before"))
        ordered = f"count(*) - count({before}) <= 1 AND count(*) = count({value}) AND bool_and({value} > {before})"
        for of in (f" LIMIT {_SAMPLE}", ""):  # a few rows first: mostly they show already that there is no order
            given = f"SELECT {column} AS {value} {rowset}{of}"
            rows = f"SELECT {value}, lag({value}) OVER () AS {before} FROM ({given}) AS given"
            if not self._rows(f"SELECT {ordered} AS met FROM ({rows}) AS pairs")[0]["met"]:
                return False
        return True

    def strange(self, column: PlaceColumn) -> str | None:
        """A numeric can be NaN, and infinite if its type does not say how many digits it has, as moments can."""
        if column.type_name.startswith("numeric("):
            return f"{quoted(column.name)} = 'NaN'"
        if column.kind and column.kind.name == "decimal":
            return f"{quoted(column.name)} IN ('NaN', 'Infinity', '-Infinity')"
        return super().strange(column)

    def no_number(self, column: str) -> str | None:
        """Whether a double is none."""
        return f"{column} IN ('NaN', 'Infinity', '-Infinity')"

    def differs(self, node: Node) -> Sequence[str] | None:
        """Letters beyond ASCII change case by tables of its own, of another year of Unicode."""
        return case_of(node)

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return str(self._rows("SELECT current_schema() AS home")[0]["home"])

    def tables(self) -> list[str]:
        """All tables and views but our own and the database's."""
        rows = self._rows(
            "SELECT CASE WHEN nspname = current_schema() THEN relname ELSE nspname || '.' || relname END AS name "
            "FROM pg_class JOIN pg_namespace n ON n.oid = relnamespace WHERE relkind IN ('r', 'v', 'm', 'p', 'f') "
            "AND nspname NOT IN ('pg_catalog', 'information_schema') AND nspname NOT LIKE 'pg\\_t%' "
            f"AND relname NOT IN ('{MARKS}', '{FILES}') ORDER BY 1"
        )
        return [row["name"] for row in rows]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table, and its schema where it is not there."""
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.split('.', maxsplit=1)[0])}")
        listed = ", ".join(f"{quoted(name)} {postgres_type(kind)}" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted_table(table)} ({listed})")

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it; nobody else loads into the tables meanwhile."""
        keys = {table: f"hashtextextended({text_literal(f'nomotheta {table}')}, 0)" for table in tables}
        release = self.hold(
            keys, lambda key: self._rows(f"SELECT pg_try_advisory_lock({key}) AS got")[0]["got"],
            "pg_advisory_unlock({})", self._holder,
        )  # fmt: skip
        with self.committed("BEGIN ISOLATION LEVEL REPEATABLE READ", release):
            self._before = {table: self._statistics(table) for table in tables}
            yield

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

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        ddl = self._marks_to_make()
        for statement in ddl.values():
            try:
                self._run(statement)
            except PlaceError as error:
                raise no_marks(error, ddl) from None
        values = ", ".join(f"%s::{postgres_type(kind)}" for kind in MARK_COLUMNS.values())
        sql = f"WITH left_there AS (INSERT INTO {MARKS} VALUES ({values}) ON CONFLICT DO NOTHING RETURNING 1) "
        return bool(self._rows(f"{sql} SELECT count(*) AS n FROM left_there", values_of(mark))[0]["n"])

    def _marks_to_make(self) -> dict[str, str]:
        """The tables of loads that are not there, each with the statement that makes it."""
        ddl = marks_ddl(postgres_type)
        return {name: statement for name, statement in ddl.items() if self.columns(name) is None}

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        with self._translated():
            self._connection.execute(TAKEN_AWAY.format("%s", "%s", "%s"), [mark.table, mark.load_no, mark.workspace])

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return 1 if self.columns(MARKS) is None else int(self._rows(HIGHEST)[0]["n"])

    def close(self) -> None:
        """Let go of the connection."""
        self._connection.close()


def _kind(type_name: str) -> Kind | None:
    found = re.fullmatch(r"numeric(?:\((\d+),(\d+)\))?", type_name)
    if found:
        return decimal(int(found[1]), int(found[2])) if found[1] else _MOST_NUMERIC
    sized = re.fullmatch(r"character(?: varying)?(?:\((\d+)\))?", type_name)
    if sized:
        return Kind("text", int(sized[1]) if sized[1] else None)
    bare = re.sub(r"\(\d\)", "", type_name)
    return Kind(_KINDS[bare]) if bare in _KINDS else None


_WHOLE = {"smallint": 2**15, "integer": 2**31}


def _cast(values: Any, wanted: Any) -> Any:
    """A column in the type of the catalog, whose limits it has been held against."""
    if values.type == wanted:
        return values
    return uuid_bytes(values) if wanted == pa.uuid() else pc.cast(values, wanted)


def _limits(type_name: str, words: Sequence[str] | None, *, filled: bool) -> Limits:
    """What a column of a type gives back as it is."""
    digits = re.match(r"time(?:stamp)?\((\d)\)", type_name)
    bound = _WHOLE.get(type_name)
    return Limits(
        nulls=not filled, second_digits=int(digits[1]) if digits else 6, single=type_name == "real",
        bounds=(-bound, bound - 1) if bound else None,
        padded=re.fullmatch(r"character(\(\d+\))?", type_name) is not None, listed=tuple(words) if words else None,
    )  # fmt: skip


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
