"""Any other database that SQLAlchemy has a dialect for: bulk inserts, and rows judged in the embedded engine.

What is not known of a database is not promised of it: two loads into one table at the same time are kept apart by the
database's own locks alone, and which statements commit by themselves is its own affair. So all tables are made before
the transaction begins.
"""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mssql, mysql, oracle

from nomotheta.conditions import Kind, decimal, own, quoted
from nomotheta.errors import DeclarationError, PlaceError
from nomotheta.events import step
from nomotheta.kinds.native import as_texts
from nomotheta.place import statements
from nomotheta.place.base import Facts, Mark, PlaceColumn
from nomotheta.place.embedded.asking import ROW_NUMBER, Embedded
from nomotheta.place.limits import Limits
from nomotheta.place.marks import FILE_COLUMNS, FILE_KEY, FILES, MARK_COLUMNS, MARKS, marks_of, no_marks, values_of
from nomotheta.place.rows import rows_table
from nomotheta.place.staging import Merge, Merged

_LEVELS = ("REPEATABLE READ", "SERIALIZABLE")
_CHUNK = 10_000  # rows
_MS: Any = mssql


class GeneralPlace(Embedded):
    """A database behind a dialect of SQLAlchemy."""

    takes, drops_temporary = statements.NONE, ""

    def carry_out(self, statement: str, *, alone: bool = False) -> None:
        """As it is; the driver begins a transaction by itself."""
        self._run(sa.text(statement))
        if alone:
            self._settled()

    def __init__(self, name: str, url: str, shown: str) -> None:
        super().__init__()
        self.name, self.shown = name, shown
        try:
            self._sql = sa.create_engine(url, poolclass=sa.NullPool)
        except ModuleNotFoundError as error:
            raise DeclarationError(
                f"{url.partition('://')[0]} needs a driver that is not installed: {error.name}", where=f"place {name}",
                mend=f"pip install {error.name}",
            ) from None  # fmt: skip
        except (sa.exc.ArgumentError, TypeError, ValueError) as error:
            raise DeclarationError(f"the url cannot be read: {error}", where=f"place {name}") from None
        self._tables: dict[str, sa.Table] = {}
        with self._translated():
            connection = self._sql.connect()
            raw: Any = connection.connection.dbapi_connection
            levels = self._sql.dialect.get_isolation_level_values(raw)
            chosen = next((level for level in _LEVELS if level in levels), None)
            self._connection = connection.execution_options(isolation_level=chosen) if chosen else connection

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except sa.exc.DBAPIError as error:
            told = str(error.orig).strip().partition("\n")[0]
            lost = error.connection_invalidated or isinstance(error, sa.exc.InterfaceError)
            raise PlaceError(
                f"{self.shown} cannot be reached: {told}" if lost else f"the database says: {told}",
                where=f"place {self.name}",
            ) from error  # fmt: skip
        except sa.exc.SQLAlchemyError as error:
            raise PlaceError(f"the database says: {error}", where=f"place {self.name}") from error

    def _run(self, statement: Any, rows: Sequence[Mapping[str, Any]] | None = None) -> Any:
        with self._translated(statement):
            return self._connection.execute(statement, rows)

    def _settled(self) -> None:
        """What was read or made so far is not of the transaction that comes."""
        with self._translated():
            self._connection.commit()

    def _table(self, name: str) -> sa.Table | None:
        """A table as the database has it, or None."""
        if name not in self._tables:
            *schema, bare = name.split(".")
            try:
                with self._translated():
                    self._tables[name] = sa.Table(
                        bare, sa.MetaData(), schema=schema[0] if schema else None, autoload_with=self._connection
                    )
            except PlaceError as error:
                if isinstance(error.__cause__, sa.exc.NoSuchTableError):
                    return None
                raise
        return self._tables[name]

    def _there(self, name: str) -> sa.Table:
        table = self._table(name)
        if table is None:
            raise PlaceError(f"there is no table '{name}' in {self.shown}", where=f"place {self.name}")
        return table

    # ---- what is there

    def facts(self) -> Facts:
        """What the server is; what this user may do is found out when it is done."""
        dialect = self._sql.dialect
        version = ".".join(map(str, getattr(dialect, "server_version_info", None) or ()))
        return Facts(f"{dialect.name} {version}".strip(), may_create=None, may_write=None)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. What the database fills itself may be left out of a load."""
        found = self._table(table)
        if found is None:
            return None
        sure = self._sql.dialect.name != "sqlite"
        return [
            PlaceColumn(
                column.name, str(column.type), _kind(column.type),
                bool(column.nullable or column.server_default is not None or column.identity or column.computed
                     or column is found.autoincrement_column),
                sure=sure, limits=_limits(column), also=_also(column.type),
            )
            for column in found.columns
        ]  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        return [column.name for column in self._there(table).columns if column.computed is None]

    def home(self) -> str:
        """The schema that a name without one stands for."""
        with self._translated():
            return sa.inspect(self._connection).default_schema_name or ""

    def tables(self) -> list[str]:
        """All tables and views of the usual schema but our own, and those that were spoken of by their schema."""
        with self._translated():
            there = sa.inspect(self._connection)
            names = {*there.get_table_names(), *there.get_view_names(), *self._tables}
        return sorted(names - {MARKS, FILES})

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table."""
        *schema, bare = table.split(".")
        made = [sa.Column(name, _type(kind)) for name, kind in columns.items()]
        with self._translated():
            sa.Table(bare, sa.MetaData(), *made, schema=schema[0] if schema else None).create(self._connection)
        self._settled()

    def texts_of(self, table: str, columns: Sequence[tuple[str, Kind]]) -> Iterator[Any]:
        """All rows as texts, by way of the driver's values."""
        found = self._there(table)
        if any(name == ROW_NUMBER for name, _ in columns):
            raise PlaceError(f"rows of {table} have no number", where=f"place {self.name}")
        chosen: list[Any] = [found.columns[name] for name, _ in columns]
        asked = sa.select(
            *[
                (sa.type_coerce(each, sa.Double()) if isinstance(each.type, sa.Float) else each).label(f"c{at}")
                for at, each in enumerate(chosen)
            ]
        )
        with self._translated(asked):
            result = self._connection.execute(asked, execution_options={"stream_results": True, "yield_per": _CHUNK})
            for rows in result.partitions(_CHUNK):
                whole = rows_table([f"c{at}" for at in range(len(columns))], rows).to_batches()[0]
                yield type(whole).from_arrays([as_texts(column) for column in whole.columns], whole.schema.names)

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *_tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it."""
        self._make_marks()
        self._settled()
        try:
            yield
            self._settled()
        except BaseException:
            with contextlib.suppress(sa.exc.SQLAlchemyError):
                self._connection.rollback()
            raise

    def _make_marks(self) -> None:
        own = sa.MetaData()
        tables = (
            (MARKS, MARK_COLUMNS, sa.UniqueConstraint("table_name", "once")),
            (FILES, FILE_COLUMNS, sa.PrimaryKeyConstraint(*FILE_KEY)),
        )
        made = {
            name: sa.Table(
                name, own, *[sa.Column(each, _type(kind), nullable=False) for each, kind in columns.items()], unique
            )
            for name, columns, unique in tables
            if self._table(name) is None
        }
        try:
            with self._translated():
                for table in made.values():
                    table.create(self._connection)
        except PlaceError as error:
            ddl = {name: str(sa.schema.CreateTable(table).compile(self._sql)) for name, table in made.items()}
            raise no_marks(error, ddl) from None

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], _schema: Any) -> int:
        """Add the rows of Arrow record batches by bulk inserts."""
        found, done = self._there(table), 0
        for batch in batches:
            for first in range(0, batch.num_rows, _CHUNK):
                self._run(found.insert(), batch.select(list(columns)).slice(first, _CHUNK).to_pylist())
            done += batch.num_rows
        return done

    def names_rows(self, _table: str) -> bool:
        """Not as far as is known."""
        return False

    def staged(
        self, table: str, _columns: Sequence[str], _batches: Iterator[Any], _schema: Any
    ) -> contextlib.AbstractContextManager[int]:
        """Not in a database of which so little is known.

        Raises:
            PlaceError: always.
        """
        raise PlaceError("rows cannot be staged in a database of this sort", where=f"{table} in {self.shown}")

    def among_staged(self, table: str, _columns: Sequence[str]) -> str:
        """Not in a database of which so little is known.

        Raises:
            PlaceError: always.
        """
        raise PlaceError("rows cannot be staged in a database of this sort", where=f"{table} in {self.shown}")

    def merge(self, table: str, _how: Merge, _batches: Iterator[Any], _schema: Any) -> Merged:
        """Not in a database of which so little is known.

        Raises:
            PlaceError: always.
        """
        raise PlaceError("rows cannot be merged in a database of this sort", where=f"{table} in {self.shown}",
                         mend='write how = "append" or how = "overwrite"')  # fmt: skip

    def make_like(self, name: str, table: str, columns: Sequence[str]) -> None:
        """Create an empty table with some columns of another."""
        *schema, bare = name.split(".")
        found = self._there(table)
        made = [sa.Column(each, found.columns[each].type) for each in columns]
        with self._translated():
            sa.Table(bare, sa.MetaData(), *made, schema=schema[0] if schema else None).create(self._connection)
        self._settled()

    def copy(self, source: str, target: str, columns: Sequence[str], where: str | None) -> int:
        """Add the rows of one table to another; how many."""
        if where is not None:
            raise PlaceError("a slice that is replaced cannot be kept in a database of this sort",
                             where=f"{source} in {self.shown}", mend="leave keep_previous out")  # fmt: skip
        rows = sa.select(*[self._there(source).columns[name] for name in columns])
        return int(self._run(self._there(target).insert().from_select(list(columns), rows)).rowcount)

    def drop(self, table: str) -> None:
        """Drop a table."""
        found = self._there(table)
        with self._translated():
            found.drop(self._connection)
        self._settled()
        self._tables.pop(table)

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows; those that meet a condition are found by the engine, and known by their primary key."""
        found = self._there(table)
        if where is None:
            return int(self._run(found.delete()).rowcount)
        key = list(found.primary_key.columns)
        if not key:
            raise PlaceError(
                "rows that meet a condition can be replaced only in a table with a primary key here",
                where=f"{table} in {self.shown}", mend="give the table one, or leave slice out",
            )  # fmt: skip
        names = ", ".join(f'"{column.name}"' for column in key)
        rows = self.fetch(f"SELECT {names} {self.rowset(table, where)}").to_pylist()
        condition = sa.and_(*[column == sa.bindparam(f"k{at}") for at, column in enumerate(key)])
        keys = [{f"k{at}": row[column.name] for at, column in enumerate(key)} for row in rows]
        for first in range(0, len(keys), _CHUNK):
            self._run(found.delete().where(condition), keys[first : first + _CHUNK])
        return len(keys)

    # ---- asking

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        if where is None:
            return int(self._run(sa.select(sa.func.count()).select_from(self._there(table))).scalar())
        return int(
            self.fetch(f"SELECT count(*) AS {quoted(own('n'))} {self.rowset(table, where)}").column(0)[0].as_py()
        )

    def count_after(self, table: str, _before: int, _removed: int, _added: int) -> int:
        """Count rows."""
        return self.count(table)

    def ask(self, sql: str, most: int | None = None) -> Any:
        """Rows as an Arrow table, by the database itself."""
        with self._translated(sql):
            result = self._connection.exec_driver_sql(sql)
            rows = result.fetchall() if most is None else result.fetchmany(most)
            result.close()
            return rows_table(list(result.keys()), rows)

    # ---- marks

    def make_ready(self) -> bool:
        """Nobody knows of an unknown database whether it bears several writers."""
        return False

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        found = self._table(MARKS)
        if found is None:
            return []
        rows = [list(row) for row in self._run(sa.select(found).where(found.columns.table_name == table))]
        for row in rows:
            row[6] = row[6].replace(tzinfo=datetime.UTC) if row[6].tzinfo is None else row[6]
        return marks_of(rows)

    def mark(self, mark: Mark) -> bool:
        """Leave a mark; one whose content came before ends the transaction."""
        values = values_of(mark)
        try:
            self._run(self._there(MARKS).insert(), [dict(zip(MARK_COLUMNS, values, strict=True))])
        except PlaceError as error:
            if isinstance(error.__cause__, sa.exc.IntegrityError):
                return False
            raise
        return True

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        found = self._there(MARKS)
        own = sa.and_(
            found.columns.table_name == mark.table, found.columns.load_no == mark.load_no,
            found.columns.workspace == mark.workspace,
        )  # fmt: skip
        self._run(found.delete().where(own))

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        found = self._table(MARKS)
        highest = None if found is None else self._run(sa.select(sa.func.max(found.columns.load_no))).scalar()
        return int(highest or 0) + 1

    def close(self) -> None:
        """Let go of the connection."""
        self.let_go()
        with contextlib.suppress(sa.exc.SQLAlchemyError):
            self._connection.close()
        self._sql.dispose()


def _type(kind: Kind) -> Any:
    """The type of a column for a kind, with every digit of a second where a dialect must be asked for them."""
    match kind.name:
        case "decimal":
            return sa.Numeric(kind.size, kind.scale)
        case "text":
            return sa.String(kind.size) if kind.size else sa.Text()
        case "time":
            return sa.Time().with_variant(mysql.TIME(fsp=6), "mysql", "mariadb").with_variant(_MS.TIME(6), "mssql")
        case "timestamp":
            exact = sa.DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")
            return exact.with_variant(_MS.DATETIME2(6), "mssql").with_variant(oracle.TIMESTAMP(), "oracle")
        case "timestamptz":
            exact = sa.DateTime(timezone=True).with_variant(mysql.TIMESTAMP(fsp=6), "mysql", "mariadb")
            return exact.with_variant(_MS.DATETIMEOFFSET(6), "mssql").with_variant(
                oracle.TIMESTAMP(timezone=True), "oracle"
            )
    return {
        "integer": sa.BigInteger(), "real": sa.Double(), "boolean": sa.Boolean(), "date": sa.Date(),
        "uuid": sa.String(36), "binary": sa.LargeBinary(),
    }[kind.name]  # fmt: skip


def _kind(of: Any) -> Kind | None:
    """The kind of a column's type, or None where none stands for it."""
    if isinstance(of, sa.Float):
        return Kind("real")
    if isinstance(of, sa.Numeric):
        return decimal(min(38, of.precision), of.scale or 0) if of.precision else decimal(38, 10)
    if isinstance(of, mysql.TINYINT) and of.display_width == 1:
        return Kind("boolean")
    if isinstance(of, sa.DateTime):
        return Kind("timestamptz" if of.timezone or isinstance(of, mysql.TIMESTAMP) else "timestamp")
    if isinstance(of, sa.Enum):
        return Kind("text")
    if isinstance(of, sa.String):
        return Kind("text", of.length)
    named = {
        sa.Boolean: "boolean", sa.Integer: "integer", sa.Date: "date", sa.Time: "time", sa.Uuid: "uuid",
        sa.LargeBinary: "binary",
    }  # fmt: skip
    return next((Kind(name) for sort, name in named.items() if isinstance(of, sort)), None)


def _also(of: Any) -> frozenset[str]:
    """What else a column holds: the text of a uuid, where a database has no type for such."""
    return frozenset({"uuid"} if isinstance(of, sa.String) and (of.length or _UUID) >= _UUID else ())


_UUID = 36  # characters


def _limits(column: sa.Column[Any]) -> Limits:
    """What a column gives back as it is, as far as its dialect says so."""
    of = column.type
    digits = getattr(of, "fsp", _UNKNOWN)  # of a second, in dialects that have them
    single = isinstance(of, sa.REAL) or (isinstance(of, sa.Float) and (of.precision or _usual(of)) <= _SINGLE)
    listed = tuple(map(str, of.enums)) if isinstance(of, sa.Enum) else None
    padded = isinstance(of, sa.CHAR)
    return Limits(
        bool(column.nullable), 6 if digits is _UNKNOWN else int(str(digits or 0)), single, padded=padded, listed=listed
    )


def _usual(of: sa.Float[Any]) -> int:
    """The bits of a real that is declared without."""
    return 53 if isinstance(of, sa.Double) or not isinstance(of, mysql.FLOAT) else _SINGLE


_UNKNOWN = object()
_SINGLE = 24  # bits of the fraction of a real of 32
