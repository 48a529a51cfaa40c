"""DuckDB: the embedded default. One file, one writing process at a time; DDL and data are one transaction."""

from __future__ import annotations

import contextlib
import functools
import re
import tempfile
from collections.abc import Iterator, Mapping, Sequence, Set
from pathlib import Path
from typing import Any

import duckdb

from nomotheta.conditions import Kind, Node, decimal, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.place import statements
from nomotheta.place.base import Facts, Guarantees, Mark, PlaceColumn
from nomotheta.place.embedded.file import check_file
from nomotheta.place.few import Answer
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.limits import Limits
from nomotheta.place.marks import FILES, HIGHEST, MARKS, OF_TABLE, TAKEN_AWAY, marks_ddl, marks_of, values_of
from nomotheta.place.render import Now, Renderer, duckdb_type, quoted_table, text_literal
from nomotheta.place.staging import LanesBy, Staging

_LITTLE_MEMORY, MEMORY_LIMIT, _MOST_MEMORY = "80MB", "240MB", "80%"
_KINDS = {
    "BOOLEAN": "boolean", "DATE": "date", "TIME": "time", "TIMESTAMP": "timestamp", "UUID": "uuid", "BLOB": "binary",
    "TIMESTAMP WITH TIME ZONE": "timestamptz", "DOUBLE": "real", "FLOAT": "real", "VARCHAR": "text",
    **dict.fromkeys(("TINYINT", "SMALLINT", "INTEGER", "BIGINT", "UTINYINT", "USMALLINT", "UINTEGER"), "integer"),
}  # fmt: skip


_SAMPLE = 2048  # rows
_PLAIN = frozenset({"BOOLEAN", "BIGINT", "HUGEINT", "INTEGER", "DOUBLE", "VARCHAR", "DATE", "TIME", "TIMESTAMP"})


class DuckPlace(Staging):
    """A DuckDB database file, or one in memory where `path` is None."""

    lanes: LanesBy = "here"

    takes, drops_temporary = statements.ALL, "DROP TABLE IF EXISTS temp.{}"

    def carry_out(self, statement: str, *, alone: bool = False) -> None:  # noqa: ARG002
        """As it is; outside a transaction each stands by itself."""
        self._run(statement)

    def __init__(self, name: str, path: Path | None, *, shown: str = "", create: bool = True) -> None:
        self.name, self.shown = name, shown or str(path)
        self.fingerprint = Fingerprint()
        self._marked, self._limit = False, MEMORY_LIMIT
        if path is not None:
            check_file(path, name, self.shown, create=create)
        with self._translated():
            self._connection = duckdb.connect(str(path) if path else ":memory:")
            for setting in (
                f"memory_limit = '{MEMORY_LIMIT}'",
                "TimeZone = 'UTC'",
                "enable_progress_bar = false",
                "python_enable_replacements = false",
            ):
                self._connection.execute(f"SET {setting}").fetchall()

    @property
    def connection(self) -> Any:
        """The engine itself."""
        return self._connection

    @classmethod
    def rehearsal(cls, name: str, path: Path, shown: str, tables: Set[str]) -> DuckPlace:
        """A database in memory with some tables of a file and our marks, and views of all its other tables.

        The file is opened for reading alone. A table's constraints come along, where they name no other table.
        """
        place = cls(name, None, shown=shown)
        place._run(f"SET temp_directory = {text_literal(tempfile.gettempdir())}")
        if not path.exists():
            return place
        with place._translated():
            place._connection.execute(f"ATTACH {text_literal(str(path))} AS there (READ_ONLY)").fetchall()
        found = place._run(
            "SELECT table_schema, table_name FROM information_schema.tables WHERE table_catalog = 'there' ORDER BY 1, 2"
        )
        for schema, each in found:
            own = quoted_table(each if schema == "main" else f"{schema}.{each}")
            theirs = f"there.{quoted(schema)}.{quoted(each)}"
            place._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(schema)}")
            if each in {MARKS, FILES} or (each if schema == "main" else f"{schema}.{each}") in tables:
                place._take_over(schema, each, own, theirs)
            else:
                place._run(f"CREATE VIEW {own} AS SELECT * FROM {theirs}")
        return place

    def _take_over(self, schema: str, table: str, own: str, theirs: str) -> None:
        """A table of the attached file with its constraints, or where they name others, without."""
        made = self._run(
            "SELECT sql FROM duckdb_tables() WHERE database_name = 'there' AND schema_name = ? AND table_name = ?",
            [schema, table],
        )
        try:
            self._run(made[0][0].replace("CREATE TABLE there.", "CREATE TABLE ", 1))
            self._run(f"INSERT INTO {own} SELECT * FROM {theirs}")
        except (PlaceError, IndexError):
            self._run(f"CREATE OR REPLACE TABLE {own} AS SELECT * FROM {theirs}")

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The database's own errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except duckdb.Error as error:
            if "KeyboardInterrupt" in str(error):  # it reached the engine while it read what Python streams
                raise KeyboardInterrupt from None
            raise self._error(str(error)) from error
        except RuntimeError as error:
            raise _stopped(error) from None

    def _error(self, message: str) -> PlaceError:
        where = f"place {self.name}"
        holder = re.search(r"PID (\d+)", message)
        if "lock" in message and holder:
            return PlaceError(f"the database {self.shown} is locked by process {holder[1]}", where=where,
                              mend="wait until it is done, or close that program")  # fmt: skip
        if "not a valid DuckDB database" in message:
            return PlaceError(f"{self.shown} is not a DuckDB database", where=where,
                              mend="correct the url in nomotheta.toml")  # fmt: skip
        first = re.sub(r"^[A-Za-z ]+Error: ", "", message.split("\n", maxsplit=1)[0])
        return PlaceError(f"the database says: {first}", where=where)

    def _run(self, sql: str, parameters: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """A statement of our own, and its rows."""
        with self._translated(sql):
            found: list[tuple[Any, ...]] = self._connection.execute(sql, list(parameters)).fetchall()
            return found

    def facts(self) -> Facts:
        """A file that was opened may be written."""
        return Facts(f"DuckDB {duckdb.__version__}", may_create=True, may_write=True)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None."""
        *schema, name = table.split(".")
        rows = self._run(
            "SELECT column_name, data_type, is_nullable, column_default IS NOT NULL FROM duckdb_columns() "
            "WHERE table_name = ? AND schema_name = ? AND database_name = current_database() ORDER BY column_index",
            [name, schema[0] if schema else "main"],
        )
        folds = bool(rows) and (schema[0] if schema else "main", name) in self._collated
        return [
            PlaceColumn(
                column,
                of,
                _kind(of),
                null or default,
                limits=_limits(of, nulls=null),
                folds=folds and _kind(of) == _TEXT,
            )
            for column, of, null, default in rows
        ] or None

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """As the engine describes them."""
        with self._translated(query):
            rows = self._run(f"DESCRIBE {query}")
        return [PlaceColumn(name, of, _kind(of), nullable=True) for name, of, *_ in rows]

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """All in one."""
        return Renderer.quantiles(column, shares)

    def changes_rows(self, _table: str) -> bool:
        """It has no triggers, and takes no rows through views."""
        return False

    def guarantees(self, table: str) -> Guarantees:
        """What its constraints see to."""
        *schema, name = table.split(".")
        rows = self._run(
            "SELECT constraint_type, constraint_column_names, referenced_table, referenced_column_names "
            "FROM duckdb_constraints() WHERE table_name = ? AND schema_name = ? AND database_name = current_database()",
            [name, schema[0] if schema else "main"],
        )
        filled = [column.name for column in self.columns(table) or [] if not column.limits.nulls]
        unique = [frozenset(own) for sort, own, *_ in rows if sort in {"PRIMARY KEY", "UNIQUE"}]
        refers = [(to, dict(zip(own, there, strict=True))) for sort, own, to, there in rows if sort == "FOREIGN KEY"]
        return Guarantees(tuple(unique), frozenset(filled), refers=() if schema else tuple(refers))

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Whether each value is greater than the one before it: rows that came in order of their key lie so."""
        value, before = quoted(own("value")), quoted(own("before"))
        ordered = f"count(*) - count({before}) <= 1 AND count(*) = count({value}) AND bool_and({value} > {before})"
        for of in (f" LIMIT {_SAMPLE}", ""):  # a few rows first: mostly they show already that there is no order
            rows = f"SELECT {column} AS {value}, lag({column}) OVER () AS {before} FROM (SELECT * {rowset}{of})"
            if not self._run(f"SELECT {ordered} FROM ({rows})")[0][0]:
                return False
        return True

    @functools.cached_property
    def _collated(self) -> frozenset[tuple[str, str]]:
        """The tables with a collation, by schema and name: nobody makes another while the file is open here."""
        rows = self._run(
            "SELECT schema_name, table_name FROM duckdb_tables() WHERE database_name = current_database() "
            "AND contains(upper(sql), ' COLLATE ')"
        )
        return frozenset((schema, table) for schema, table in rows)

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out: it refuses to plan a value for them."""
        found = []
        for column in self.columns(table) or []:
            try:
                self._connection.execute(
                    f"EXPLAIN INSERT INTO {quoted_table(table)} ({quoted(column.name)}) SELECT NULL LIMIT 0"
                )
            except duckdb.BinderException:
                continue
            found.append(column.name)
        return found

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return "main"

    def tables(self) -> list[str]:
        """All tables and views but our own."""
        both = ("SELECT schema_name, table_name FROM duckdb_tables() WHERE database_name = current_database() "
                "UNION ALL SELECT schema_name, view_name FROM duckdb_views() WHERE database_name = current_database() "
                "AND NOT internal ORDER BY 1, 2")  # fmt: skip
        rows = self._run(both)
        return [name if schema == "main" else f"{schema}.{name}" for schema, name in rows if name not in {MARKS, FILES}]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table, and its schema where it is not there."""
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.split('.', maxsplit=1)[0])}")
        listed = ", ".join(f"{quoted(name)} {duckdb_type(kind)}" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted_table(table)} ({listed})")

    @contextlib.contextmanager
    def transaction(self, *_tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it. One process at a time has the file."""
        self._run("BEGIN TRANSACTION")
        try:
            yield
        except BaseException:
            with contextlib.suppress(duckdb.Error):
                self._connection.execute("ROLLBACK")
            raise
        self._run("COMMIT")

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches, in one stream."""
        failed: list[BaseException] = []

        checks = self._checks(table)

        def guarded() -> Iterator[Any]:
            try:
                yield from _checked(batches, checks, self.name) if checks else batches
            except BaseException as error:
                failed.append(error)
                raise

        import pyarrow as pa

        incoming = pa.RecordBatchReader.from_batches(schema, guarded())
        listed = ", ".join(quoted(name) for name in columns)
        self._connection.register("nomotheta_incoming", incoming)
        # a table has no order to keep, and without one the rows are written by all cores
        self._run("SET preserve_insertion_order = false")
        try:
            found = self._connection.execute(
                f"INSERT INTO {quoted_table(table)} ({listed}) SELECT {listed} FROM nomotheta_incoming"
            ).fetchall()
        except duckdb.Error as error:
            raise failed[0] if failed else self._error(str(error)) from error
        except RuntimeError as error:
            raise failed[0] if failed else _stopped(error) from None
        finally:
            with contextlib.suppress(PlaceError, duckdb.Error):  # a transaction that has failed takes nothing more
                self._connection.unregister("nomotheta_incoming")
                self._run("SET preserve_insertion_order = true")
        return int(found[0][0])

    def names_rows(self, table: str) -> bool:
        """Of CHECK constraints alone."""
        return bool(self._checks(table))

    def _checks(self, table: str) -> list[str]:
        """The CHECK constraints of a table: the database says that one is broken, but not by which row."""
        *schema, name = table.split(".")
        rows = self._run(
            "SELECT expression FROM duckdb_constraints() WHERE constraint_type = 'CHECK' AND table_name = ? "
            "AND schema_name = ? AND database_name = current_database()",
            [name, schema[0] if schema else "main"],
        )
        return [str(expression) for (expression,) in rows]

    def changed(self, sql: str) -> int:
        """How many rows a statement touched."""
        return int(self._run(sql)[0][0])

    found = changed

    def with_nul(self, sql: str) -> str | None:
        """The condition that a text holds the character NUL."""
        return f"contains({sql}, chr(0))"

    @contextlib.contextmanager
    def held(self, name: str, select: str) -> Iterator[None]:
        """The rows of a SELECT under a name: they are worked out whenever they are asked for."""
        self._run(f"CREATE TEMP VIEW {quoted(name)} AS {select}")
        try:
            yield
        finally:
            with contextlib.suppress(PlaceError):
                self._run(f"DROP VIEW {quoted(name)}")

    def run_plain(self, sql: str) -> None:
        """A statement that touches no rows."""
        self._run(sql)

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows."""
        condition = f" WHERE {where}" if where else ""
        return int(self._run(f"DELETE FROM {quoted_table(table)}{condition}")[0][0])

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        return int(self._run(f"SELECT count(*) {self.rowset(table, where)}")[0][0])

    def fetch(self, sql: str, **relations: Any) -> Any:
        """Rows as an Arrow table; `relations` are Arrow tables that may be named."""
        self.know(relations)
        try:
            with self._translated(sql):
                return self._connection.sql(sql).to_arrow_table()
        finally:
            self.forget(relations)

    def answer(self, sql: str) -> Answer:
        """A few rows; where their types are plain, without Arrow, which takes longer to import than most statements."""
        with self._translated(sql):
            found = self._connection.sql(sql)
            if all(kind in _PLAIN or kind.startswith("DECIMAL(") for kind in map(str, found.types)):
                return Answer(tuple(found.columns), found.fetchall())
            return Answer.of(found.to_arrow_table())

    def know(self, relations: Mapping[str, Any]) -> None:
        """Let SQL name some Arrow tables, or streams of Arrow batches, until they are forgotten."""
        for name, relation in relations.items():
            self._connection.register(name, relation)

    def forget(self, relations: Mapping[str, Any]) -> None:
        """Let go of them."""
        for name in relations:
            with self._translated():
                self._connection.unregister(name)

    def stream(self, sql: str) -> Any:
        """Rows as a stream of Arrow record batches; nothing else may be asked before it has ended."""
        from nomotheta.place.embedded.batches import streamed  # only now: few answers need Arrow

        limits = list(dict.fromkeys((self._limit, MEMORY_LIMIT, _MOST_MEMORY)))
        with self._translated(sql):
            return streamed(self._connection, sql, limits[limits.index(self._limit) :], self._limited, self._error)

    @contextlib.contextmanager
    def sparing(self) -> Iterator[None]:
        """With few of the file's blocks in memory."""
        usual = self._limit
        if usual == MEMORY_LIMIT:
            self._limited(_LITTLE_MEMORY)
        try:
            yield
        finally:
            if self._limit == _LITTLE_MEMORY:
                self._limited(usual)

    def _limited(self, memory: str) -> None:
        self._run(f"SET memory_limit = '{memory}'")
        self._limit = memory

    def render(self, node: Node, now: Now) -> str:
        """A condition as DuckDB's SQL."""
        return Renderer(now).render(node)

    def as_text(self, column: str) -> str:
        """A column as text."""
        return f"CAST({quoted(column)} AS VARCHAR)"

    def exactly(self, sql: str, column: PlaceColumn | None) -> str:
        """A text is compared by code point, whatever its column's collation."""
        return f'({sql} COLLATE "binary")' if column is not None and column.folds else sql

    # ---- marks

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        return marks_of(self._run(OF_TABLE + "?", [table])) if self._has_marks() else []

    def _has_marks(self) -> bool:
        """Whether there is a table of marks; once there is, it stays."""
        self._marked = self._marked or self.columns(MARKS) is not None
        return self._marked

    def make_ready(self) -> bool:
        """They may, once there are tables of marks."""
        for made in marks_ddl(duckdb_type).values():
            self._run(made)
        return True

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        self.make_ready()
        values = values_of(mark)
        sql = f"INSERT INTO {MARKS} VALUES ({', '.join('?' * len(values))}) ON CONFLICT DO NOTHING RETURNING 1"
        return bool(self._run(sql, values))

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        self._run(TAKEN_AWAY.format("?", "?", "?"), [mark.table, mark.load_no, mark.workspace])

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return int(self._run(HIGHEST)[0][0]) if self._has_marks() else 1

    def finds(self, _table: str, _column: str) -> bool:
        """Of each range of rows it knows the least and the greatest value."""
        return True

    def one_view(self, _others: Sequence[DuckPlace], _tables: Sequence[str]) -> contextlib.AbstractContextManager[bool]:
        """No other process changes a file that this one has open."""
        return contextlib.nullcontext(enter_result=True)

    def interrupt(self) -> None:
        """End what is asked in another thread."""
        self._connection.interrupt()

    def close(self) -> None:
        """Let go of the file."""
        self._connection.close()


def _checked(batches: Iterator[Any], checks: Sequence[str], place: str) -> Iterator[Any]:
    """Record batches, each held against CHECK constraints before it goes in, in an engine of its own."""
    done, number = 0, quoted(own("row"))
    import pyarrow as pa

    with duckdb.connect(":memory:") as engine:
        for batch in batches:
            engine.register("incoming", pa.Table.from_batches([batch]))
            for check in checks:
                with contextlib.suppress(duckdb.Error):  # of what the engine does not know; the database judges it
                    rows = f"SELECT *, row_number() OVER () AS {number} FROM incoming"
                    sql = f"SELECT {number} FROM ({rows}) WHERE NOT ({check}) LIMIT 1"
                    for (row,) in engine.execute(sql).fetchall():
                        told = f"the database says: CHECK constraint {check} is broken"
                        raise PlaceError(told, where=f"place {place}", row=done + row)
            yield batch
            done += batch.num_rows


def _stopped(error: RuntimeError) -> BaseException:
    """What DuckDB makes of an interrupt that reaches it while it works."""
    return KeyboardInterrupt() if str(error) == "Query interrupted" else error


_TEXT = Kind("text")
_BITS = {"TINYINT": 8, "SMALLINT": 16, "INTEGER": 32}


def _limits(type_name: str, *, nulls: bool) -> Limits:
    """What a column of a type gives back as it is."""
    bits = _BITS.get(type_name.removeprefix("U"))
    least = 0 if type_name.startswith("U") else -(2 ** (bits - 1)) if bits else 0
    words = re.fullmatch(r"ENUM\((.*)\)", type_name, re.DOTALL)
    listed = [word.replace("''", "'") for word in re.findall(r"'((?:[^']|'')*)'", words[1])] if words else None
    digits = {"TIMESTAMP_S": 0, "TIMESTAMP_MS": 3}.get(type_name, 6)
    return Limits(
        nulls=nulls, second_digits=digits, single=type_name == "FLOAT",
        bounds=(least, least + 2**bits - 1) if bits else None, listed=tuple(listed) if listed is not None else None,
    )  # fmt: skip


def _kind(type_name: str) -> Kind | None:
    if type_name.startswith("ENUM("):
        return _TEXT
    found = re.fullmatch(r"DECIMAL\((\d+),(\d+)\)", type_name)
    if found:
        return decimal(int(found[1]), int(found[2]))
    if type_name in {"HUGEINT", "UBIGINT"}:
        return decimal(38, 0)
    return Kind(_KINDS[type_name]) if type_name in _KINDS else None
