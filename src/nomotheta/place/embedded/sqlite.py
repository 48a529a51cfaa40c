"""SQLite: a file. Rows go in as one stream of bound Arrow batches, and are judged in the embedded engine.

SQLite checks no types: a column takes any value. So all that is read is read as text, and typed again by the kinds. One
process at a time writes, and has the file from the start of its transaction; DDL is part of the transaction.
"""

from __future__ import annotations

import contextlib
import datetime
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import adbc_driver_manager
import adbc_driver_sqlite.dbapi as driver
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind, decimal, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.kinds.native import as_texts
from nomotheta.kinds.read import read_column
from nomotheta.layout import CANONICAL
from nomotheta.place import statements
from nomotheta.place.base import Facts, Mark, PlaceColumn
from nomotheta.place.embedded.asking import ROW_NUMBER, Embedded
from nomotheta.place.embedded.file import check_file
from nomotheta.place.limits import Limits
from nomotheta.place.marks import FILES, HIGHEST, MARKS, OF_TABLE, TAKEN_AWAY, marks_ddl, marks_of, values_of
from nomotheta.place.render import quoted_table
from nomotheta.place.staging import STAGE, Staging

_EXACT = 15  # decimal digits that a double holds, whatever they are
_PATIENCE = 30  # seconds until a lock that somebody else holds is given up
_MOMENTS = frozenset({"date", "time", "timestamp", "timestamptz", "uuid"})
_KINDS = {
    "date": "date", "time": "time", "timestamp": "timestamp", "datetime": "timestamp", "timestamptz": "timestamptz",
    "uuid": "uuid", "boolean": "boolean", "bool": "boolean",
}  # fmt: skip
_CHOSEN = "nomotheta_chosen"


class SqlitePlace(Embedded, Staging):
    """A SQLite database file."""

    takes, drops_temporary = statements.ALL, "DROP TABLE IF EXISTS temp.{}"

    def carry_out(self, statement: str, *, alone: bool = False) -> None:
        """As it is; the driver begins a transaction by itself."""
        self._run(statement)
        if alone:
            with self._translated():
                self._connection.commit()

    def __init__(
        self, name: str, path: Path, *, shown: str = "", create: bool = True, patience: int = _PATIENCE
    ) -> None:
        super().__init__()
        self._seen: dict[str, dict[str, str]] = {}  # by view of a query, the types of columns that declare none
        self.name, self.shown = name, shown or str(path)
        check_file(path, name, self.shown, create=create)
        with self._translated():
            self._connection = driver.connect(str(path))
        self._run(f"PRAGMA busy_timeout = {1000 * patience}")
        self._rows("SELECT count(*) FROM sqlite_master")  # a file that is none is told of here

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except (adbc_driver_manager.Error, OSError, pa.ArrowException) as error:
            raise self._error(str(error)) from error

    def _error(self, message: str, row: int | None = None) -> PlaceError:
        where, told = f"place {self.name}", re.sub(r"^.*?\[SQLite\] |\nquery: .*", "", message, flags=re.DOTALL)
        told = re.sub(r"^(?:IO: )?Failed to [a-z ]+: |^Error [a-z ]+: ", "", told).strip()
        if "is locked" in told:
            return PlaceError(f"the database {self.shown} is locked by another program", where=where,
                              mend="wait until it is done, or close that program")  # fmt: skip
        if "not a database" in told:
            return PlaceError(f"{self.shown} is not a SQLite database", where=where,
                              mend="correct the url in nomotheta.toml")  # fmt: skip
        return PlaceError(f"the database says: {told}", where=where, row=row if "constraint" in told else None)

    def _rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql, parameters)
            return list(cursor.fetchall())

    def _run(self, sql: str, parameters: Sequence[Any] | None = None) -> int:
        """A statement that gives no rows; how many the last one that changes rows touched."""
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql, parameters)
        return int(self._rows("SELECT changes()")[0][0])

    # ---- what is there

    def facts(self) -> Facts:
        """A file that was opened may be written, if the file system lets it."""
        version = self._rows("SELECT sqlite_version()")[0][0]
        try:
            self._run("CREATE TABLE IF NOT EXISTS nomotheta_tried (n)")
            self._connection.rollback()
        except PlaceError as error:
            with contextlib.suppress(adbc_driver_manager.Error):
                self._connection.rollback()
            return Facts(f"SQLite {version}", may_create=False, may_write=False, message=error.what, mend=error.mend)
        return Facts(f"SQLite {version}", may_create=True, may_write=True)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. A column of texts holds moments as well."""
        rows = self._rows(
            'SELECT name, type, "notnull" = 0 OR dflt_value IS NOT NULL OR hidden > 0 '
            "OR (pk > 0 AND upper(type) = 'INTEGER'), \"notnull\" > 0 FROM pragma_table_xinfo(?)",
            [table],
        )
        seen = self._seen.get(table, {})
        return [
            PlaceColumn(
                name, of or "any", *_kind(of)[:1], bool(free), _kind(of)[1], sure=False, folds=True,
                limits=Limits(nulls=not filled, doubles=_numeric(of) and "INT" not in (of or "").upper()),
            )
            for name, declared, free, filled in rows
            for of in [declared or seen.get(name) or ""]
        ] or None  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        return [name for (name,) in self._rows("SELECT name FROM pragma_table_xinfo(?) WHERE hidden < 2", [table])]

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return "main"

    def tables(self) -> list[str]:
        """All tables and views but our own and the database's."""
        rows = self._rows("SELECT name FROM sqlite_master WHERE type IN ('table', 'view') ORDER BY 1")
        found = [name for (name,) in rows if name not in {MARKS, FILES} and not name.startswith("sqlite_")]
        return found + list(self._seen)

    def viewed(self, query: str) -> str:
        """A temporary view. Its columns that are worked out have no declared type: their values tell of which kind."""
        name = own(f"query {len(self._seen) + 1}")
        with self._translated(query), self._connection.cursor() as cursor:
            cursor.execute(f"CREATE TEMPORARY VIEW {quoted(name)} AS SELECT * FROM ({query}\n)")
        untyped = [each.name for each in self.columns(name) or [] if each.kind is None]
        types = ", ".join(f"group_concat(DISTINCT typeof({quoted(each)}))" for each in untyped)
        found = self._rows(f"SELECT {types} FROM {quoted(name)}")[0] if untyped else ()
        self._seen[name] = {each: _type_of(told or "") for each, told in zip(untyped, found, strict=True)}
        return name

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table."""
        listed = ", ".join(f"{quoted(name)} {sqlite_type(kind)}" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted(table)} ({listed})")
        with self._translated():
            self._connection.commit()

    def texts_of(self, table: str, columns: Sequence[tuple[str, Kind]]) -> Iterator[Any]:
        """All rows as texts; the first row is ours, for the driver to take every column for one of texts."""
        listed = ", ".join(_as_written("rowid" if name == ROW_NUMBER else quoted(name), kind) for name, kind in columns)
        empty = ", ".join(["''"] * len(columns))
        sql = f"SELECT {empty} UNION ALL SELECT {listed} FROM {quoted(table)}"
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql)
            first = 1
            for batch in cursor.fetch_record_batch():
                yield batch.slice(first)
                first = 0

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *_tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it. Nobody else writes meanwhile."""
        try:
            with self._translated():
                self._connection.commit()  # what was read before is not of this transaction
            for made in marks_ddl(sqlite_type).values():
                self._run(made)
            self._run(f"UPDATE {MARKS} SET load_no = load_no WHERE FALSE")  # takes the lock, whoever wants it later
            yield
            with self._translated():
                self._connection.commit()
        except BaseException:
            with contextlib.suppress(adbc_driver_manager.Error):
                self._connection.rollback()
            raise

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches, in one stream of bound rows."""
        there = {column.name: column for column in self.columns(table) or []}
        numeric = [_numeric(there[name].type_name) if name in there else False for name in columns]
        failed: list[BaseException] = []
        sent = 0

        def bound() -> Iterator[Any]:
            nonlocal sent
            try:
                for batch in batches:
                    sent += batch.num_rows
                    yield self._bound(batch, columns, numeric)
            except BaseException as error:
                failed.append(error)
                raise

        marks = ", ".join("?" * len(columns))
        listed = ", ".join(map(quoted, columns))
        wire = pa.schema(
            [(name, _wire(schema.field(name).type, as_number=of)) for name, of in zip(columns, numeric, strict=True)]
        )
        reader = pa.RecordBatchReader.from_batches(wire, bound())
        before = self._inserted()
        try:
            with self._connection.cursor() as cursor:
                cursor.executemany(f"INSERT INTO {quoted_table(table)} ({listed}) VALUES ({marks})", reader)
        except (adbc_driver_manager.Error, OSError, pa.ArrowException) as error:
            # each row is a statement of its own: those before the one that was refused are in
            told = failed[0] if failed else self._error(str(error), self._inserted() - before + 1)
            raise told from error
        return sent

    def _inserted(self) -> int:
        """How many rows this connection has changed so far; those that triggers changed are among them."""
        return int(self._rows("SELECT total_changes()")[0][0])

    def _bound(self, batch: Any, columns: Sequence[str], numeric: Sequence[bool]) -> Any:
        """A batch in what SQLite stores: numbers, texts and bytes."""
        arrays = []
        for name, as_number in zip(columns, numeric, strict=True):
            column = batch.column(name)
            wire = _wire(column.type, as_number=as_number)
            if pa.types.is_decimal(column.type) and as_number:
                column = self._exact(column)
            arrays.append(_sent(column) if wire == pa.string() else column.cast(wire))
        return pa.record_batch(arrays, names=list(columns))

    @staticmethod
    def _exact(column: Any) -> Any:
        """Decimals of at most 15 digits as doubles, each of which gives the same decimal back."""
        first, last = column.offset, column.offset + len(column)
        units = np.frombuffer(column.buffers()[1], np.int64)[2 * first : 2 * last : 2]
        null = column.is_null().to_numpy(zero_copy_only=False)
        scaled = units / float(10**column.type.scale)  # rounded once, as all readers do
        return pa.array(scaled, pa.float64(), mask=null)

    def changed(self, sql: str) -> int:
        """How many rows a statement touched."""
        return self._run(sql)

    def found(self, sql: str) -> int:
        """The one number that a SELECT gives."""
        return int(self._rows(sql)[0][0])

    def run_plain(self, sql: str) -> None:
        """A statement that touches no rows."""
        self._run(sql)

    def distinct(self, left: str, right: str) -> str:
        """Whether two values differ."""
        return f"{left} IS NOT {right}"

    def natively(self, sql: str, column: PlaceColumn | None) -> str:
        """A text is compared by code point, whatever its column's collation."""
        return f"({sql} COLLATE BINARY)" if column is not None else sql

    def among_staged(self, table: str, columns: Sequence[str]) -> str:
        """The condition that a row of the table is equal to a staged one; both are read as the same kinds."""
        self.expect(STAGE, self._expected.get(table, {}))
        return super().among_staged(table, columns)

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows; those that meet a condition are found by the engine, and known by their number."""
        if where is None:
            return self._run(f"DELETE FROM {quoted_table(table)}")
        with self._chosen(table, where) as natively:
            return self._run(f"DELETE FROM {quoted_table(table)} WHERE {natively}")

    @contextlib.contextmanager
    def _chosen(self, table: str, where: str) -> Iterator[str]:
        """The rows that meet a condition of the engine's, as a condition of SQLite's, for as long as it lasts."""
        numbers = self.fetch(f"SELECT {quoted(ROW_NUMBER)} AS {quoted(own('n'))} {self.rowset(table, where)}")
        self._run(f"CREATE TEMP TABLE {_CHOSEN} (n INTEGER PRIMARY KEY)")
        schema = pa.schema([("n", pa.int64())])
        self.append(_CHOSEN, ["n"], iter(numbers.rename_columns(["n"]).cast(schema).to_batches()), schema)
        yield f"rowid IN (SELECT n FROM {_CHOSEN})"
        self._run(f"DROP TABLE {_CHOSEN}")

    def copy(self, source: str, target: str, columns: Sequence[str], where: str | None) -> int:
        """Add the rows of one table that meet a condition, or all, to another; how many."""
        if where is None:
            return super().copy(source, target, columns, None)
        with self._chosen(source, where) as natively:
            return super().copy(source, target, columns, natively)

    def drop(self, table: str) -> None:
        """Drop a table."""
        super().drop(table)
        with self._translated():
            self._connection.commit()

    def make_like(self, name: str, table: str, columns: Sequence[str]) -> None:
        """Create an empty table with some columns of another, of the very types."""
        types = {column.name: column.type_name for column in self.columns(table) or []}
        listed = ", ".join(f"{quoted(each)} {types[each].replace('any', '')}" for each in columns)
        self._run(f"CREATE TABLE {quoted(name)} ({listed})")
        with self._translated():
            self._connection.commit()

    # ---- asking

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        if where is None:
            return int(self._rows(f"SELECT count(*) FROM {quoted_table(table)}")[0][0])
        return int(
            self.fetch(f"SELECT count(*) AS {quoted(own('n'))} {self.rowset(table, where)}").column(0)[0].as_py()
        )

    native, ranks = False, True
    session: Sequence[str] = ()

    def changes_rows(self, table: str) -> bool:
        """Whether it has triggers, or is no plain table."""
        kinds = (
            "SELECT type FROM sqlite_master WHERE lower(tbl_name) = lower(?) AND type IN ('table', 'view', 'trigger')"
        )
        return [kind for (kind,) in self._rows(kinds, [table])] != ["table"]

    def day(self, day: datetime.date) -> str:
        """SQLite has no days, but their texts."""
        return f"'{day}'"

    def ask(self, sql: str, most: int | None = None) -> Any:
        """Rows as an Arrow table, by SQLite itself."""
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql if most is None else f"{sql} LIMIT {most}")
            return cursor.fetch_arrow_table()

    # ---- marks

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        if self.columns(MARKS) is None:
            return []
        found = []
        for *row, day, at, rows, replaced in self._rows(OF_TABLE + "?", [table]):
            moments = [
                read_column(pa.array([text]), Kind(name), CANONICAL).values
                for name, text in (("date", day), ("timestamptz", at))
            ]
            found.append((*row, *[moment[0].as_py() for moment in moments], rows, replaced))
        return marks_of(found)

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        values = [
            value if isinstance(value, int | str) else as_texts(pa.array([value]))[0].as_py()
            for value in values_of(mark)
        ]
        before = self.count(MARKS)
        self._run(f"INSERT OR IGNORE INTO {MARKS} VALUES ({', '.join('?' * len(values))})", values)
        return self.count(MARKS) > before

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        self._run(TAKEN_AWAY.format("?", "?", "?"), [mark.table, mark.load_no, mark.workspace])

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return 1 if self.columns(MARKS) is None else int(self._rows(HIGHEST)[0][0])

    def close(self) -> None:
        """Let go of the file."""
        self.let_go()
        with contextlib.suppress(adbc_driver_manager.Error):
            self._connection.close()


def _moment(text: str, kind: str) -> Any:
    return read_column(pa.array([text]), Kind(kind), CANONICAL).values[0].as_py()


def _as_written(column: str, kind: Kind) -> str:
    """A column as the text of which its kind is read: a real with all its digits, bytes as hex digits.

    A decimal that is kept as a double has the fewest digits that give that double back. A NUL, at which SQLite takes a
    text to end, is shown as a sign that no file's text is read with.
    """
    if kind.name == "real":
        return f"CASE typeof({column}) WHEN 'real' THEN printf('%!.17g', {column}) ELSE CAST({column} AS TEXT) END"
    if kind.name == "decimal":
        short, long = (f"printf('%!.{digits}g', {column})" for digits in (_EXACT, 17))
        exact = f"CASE WHEN CAST({short} AS REAL) = {column} THEN {short} ELSE {long} END"
        return f"CASE typeof({column}) WHEN 'real' THEN {exact} ELSE CAST({column} AS TEXT) END"
    if kind.name == "integer":  # one that is kept as a double
        whole = f"abs({column}) < 9e18 AND {column} = CAST({column} AS INTEGER)"
        digits = f"CAST(CAST({column} AS INTEGER) AS TEXT)"
        double = f"typeof({column}) = 'real' AND {whole}"
        return f"CASE WHEN {double} THEN {digits} ELSE CAST({column} AS TEXT) END"
    if kind.name == "binary":
        return f"CASE WHEN {column} IS NOT NULL THEN hex({column}) END"
    return f"replace(CAST({column} AS TEXT), char(0), '\u2400')"


def _wire(of: Any, *, as_number: bool) -> Any:
    """The Arrow type in which a column of a type is sent."""
    if pa.types.is_boolean(of):
        return pa.int64()
    if pa.types.is_decimal(of):
        return pa.float64() if as_number else pa.string()
    return pa.string() if pa.types.is_temporal(of) else of


def _sent(column: Any) -> Any:
    """Texts, decimals and moments as texts; moments with a fraction only where there is one in any of them."""
    of = column.type
    if pa.types.is_string(of):
        return column
    if pa.types.is_timestamp(of) or pa.types.is_time(of):
        number = column.cast(pa.int64())
        if pc.all(pc.equal(pc.multiply(pc.divide(number, 1_000_000), 1_000_000), number)).as_py() in {True, None}:
            column = column.cast(pa.time32("s") if pa.types.is_time(of) else pa.timestamp("s", of.tz))
    return as_texts(column)


def _type_of(classes: str) -> str:
    """The type as which values of some storage classes are read."""
    match sorted({*classes.split(",")} - {"", "null"}):
        case ["integer"]:
            return "INTEGER"
        case ["real"] | ["integer", "real"]:
            return "REAL"
        case ["blob"]:
            return "BLOB"
    return "TEXT"


def _numeric(type_name: str) -> bool:
    """Whether SQLite makes numbers of what is in a column of this type, by its rules of affinity."""
    return not re.search("CHAR|CLOB|TEXT|BLOB|^ANY$|^$", type_name.upper()) or "INT" in type_name.upper()


def _kind(type_name: str) -> tuple[Kind | None, frozenset[str]]:
    """The kind of a declared type, and what else such a column holds."""
    lower = type_name.lower()
    numbered = re.fullmatch(r"(?:decimal|numeric|decimal_text)\s*\((\d+)(?:\s*,\s*(\d+))?\)", lower)
    if numbered:
        return decimal(min(38, int(numbered[1])), int(numbered[2] or 0)), frozenset()
    sized = re.fullmatch(r"(?:n?varchar|n?char|character|varying character|nchar|native character)\s*\((\d+)\)", lower)
    if sized:
        return Kind("text", int(sized[1])), _MOMENTS
    if lower in _KINDS:
        return Kind(_KINDS[lower]), frozenset()
    if "int" in lower:
        return Kind("integer"), frozenset({"boolean"})
    if re.search("char|clob|text", lower):
        return Kind("text"), _MOMENTS | {"decimal"}
    if re.search("real|floa|doub", lower):
        return Kind("real"), frozenset({"decimal", "integer"})
    if "blob" in lower:
        return Kind("binary"), frozenset()
    if lower in {"numeric", "decimal"}:
        return decimal(38, 10), frozenset({"decimal", "integer", "real", "boolean", *_MOMENTS})
    return None, frozenset()


def sqlite_type(kind: Kind) -> str:
    """The name under which a kind is declared; its affinity is such that every value comes back as it went in."""
    if kind.name == "decimal":
        return f"{'DECIMAL' if (kind.size or 0) <= _EXACT else 'DECIMAL_TEXT'}({kind.size},{kind.scale})"
    if kind.name == "text":
        return f"VARCHAR({kind.size})" if kind.size else "TEXT"
    return {"integer": "BIGINT", "real": "DOUBLE", "binary": "BLOB"}.get(kind.name, kind.name.upper())
