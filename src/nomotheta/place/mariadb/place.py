"""MariaDB: rows go in by bulk execution of a prepared INSERT, inside the load's transaction.

Where that is not to be had, they go in as one LOAD DATA LOCAL from a pipe, and where the server takes no local data
either, as INSERTs of many rows. LOAD DATA turns what does not fit into warnings: any warning, or fewer rows than were
sent, ends the load. Statements that make tables commit by themselves, so none is run between the start of a load and
its commit.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import itertools
import os
import re
import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pymysql
from pymysql.cursors import SSCursor

from nomotheta.conditions import Kind, Node, decimal, quoted
from nomotheta.errors import PlaceError, counted
from nomotheta.events import step
from nomotheta.kernel import can_copy
from nomotheta.place.base import Facts, Guarantees, Mark, PlaceColumn
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.limits import Limits
from nomotheta.place.mariadb.bulk import ROW, UNKNOWN, BulkConnection, BulkInsert, missing, row_of, type_of
from nomotheta.place.mariadb.rows import Pipe, as_literals
from nomotheta.place.mariadb.sql import COLLATION, MariaFingerprint, MariaRenderer, by_code_point, mariadb_type
from nomotheta.place.mariadb.texts import joined_rows
from nomotheta.place.mariadb.url import settings_of
from nomotheta.place.marks import FILES, HIGHEST, MARKS, OF_TABLE, TAKEN_AWAY, marks_ddl, marks_of, no_marks, values_of
from nomotheta.place.render import Now, case_of, quoted_table, text_literal
from nomotheta.place.rows import rows_table
from nomotheta.place.staging import FROM_STAGE, TABLE_ALIAS, Staging

_OPTIONS = f" ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE {COLLATION}"
_MODE = (
    "ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PIPES_AS_CONCAT,STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,"
    "NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO"
)
_KINDS = {
    "date": "date", "time": "time", "datetime": "timestamp", "timestamp": "timestamptz", "uuid": "uuid",
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint"), "integer"),
    **dict.fromkeys(("float", "double"), "real"),
    **dict.fromkeys(("tinytext", "text", "mediumtext", "longtext", "enum"), "text"),
    **dict.fromkeys(("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"), "binary"),
}  # fmt: skip
_CHUNK = 20_000  # rows
_KNOWS_BULK = (10, 3)
_STATEMENT = 1 << 20  # bytes of an INSERT, well below what every server takes
_LOCKED = {1205: "another session has held a lock on it for too long", 1213: "another session's change met this one"}
_GONE = {2006, 2013, 2055}
_TOO_LARGE = 1153
_CHANGED = "SELECT trx_rows_modified FROM information_schema.innodb_trx WHERE trx_mysql_thread_id = connection_id()"
_AS_OLD = 0.15  # seconds that InnoDB gives the same account again, whoever asked for it
_SET_ASIDE = "change the charter, so that such a row is set aside, or the table"
_UTC = datetime.UTC
_SHORTLY = 3  # seconds that a lock is waited for which is only a convenience


class MariaPlace(Staging):
    """A MariaDB database."""

    def __init__(self, name: str, url: str, shown: str) -> None:
        self.name, self.shown = name, shown
        self.fingerprint: Fingerprint = MariaFingerprint()
        self._settings, patience = settings_of(url, f"place {name}")
        with self._translated():
            lacking = missing()
            if not lacking:
                self._connection: Any = BulkConnection(**self._settings)
            else:
                self._connection = pymysql.Connection(**self._settings | {"local_infile": True})
                told = f"rows go in more slowly: PyMySQL {pymysql.__version__}, which is installed, has no {lacking}"
                self.hints = (told,)
            version = str(self._rows("SELECT version()")[0][0])
            self._version = version.partition("-")[0]
            if "MariaDB" not in version:
                self.close()
                raise PlaceError(f"{self.shown} is MySQL {self._version}, which differs", where=f"place {name}",
                                 mend='write url = "mysql+pymysql://…", and the rest as it is')  # fmt: skip
            self._run(f"SET NAMES utf8mb4 COLLATE {COLLATION}")
            self._run(f"SET SESSION sql_mode = '{_MODE}', time_zone = '+00:00', autocommit = 1, "
                      f"lock_wait_timeout = {patience}, innodb_lock_wait_timeout = {patience}")  # fmt: skip
            self._run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except pymysql.MySQLError as error:
            raise self._error(error) from error
        except AttributeError as error:  # the driver's, when it still writes into a connection that is closed
            if self._connection.open:
                raise
            raise self._error(pymysql.OperationalError(2006, "")) from error
        except KeyboardInterrupt:
            self._stop()
            raise
        except (OSError, RuntimeError) as error:
            raise PlaceError(f"{self.shown} cannot be reached: {error}", where=f"place {self.name}",
                             mend="check the url in nomotheta.toml, and that the server runs") from error  # fmt: skip

    def _stop(self) -> None:
        """End what the server does for us: it would go on, and we would wait for its answer before all else."""
        own: Any = self._connection
        number = own.thread_id()
        self.close()
        with (
            contextlib.suppress(pymysql.MySQLError, OSError),
            pymysql.connect(**self._settings) as other,
            other.cursor() as cursor,
        ):
            cursor.execute(f"KILL {int(number)}")

    def _error(self, error: pymysql.MySQLError) -> PlaceError:
        code, told = (error.args[0], str(error.args[-1])) if error.args else (0, str(error))
        where = f"place {self.name}"
        if code in _LOCKED:
            return PlaceError(f"the database says: {_LOCKED[code]}", where=where,
                              mend="load again when that session is done")  # fmt: skip
        if code in _GONE or (isinstance(error, pymysql.InterfaceError) and not told.strip("(0, ')")):
            return PlaceError(f"the connection to {self.shown} was lost", where=where,
                              mend="try again: what was not committed was rolled back")  # fmt: skip
        if code in {1044, 1045, 1049, 1698} or 2000 <= code < 3000:  # the latter are the client's own
            told = told.partition(" (")[0] if code == 2003 else told
            return PlaceError(f"{self.shown} cannot be reached: {told}", where=where,
                              mend="check the url in nomotheta.toml, and that the server runs")  # fmt: skip
        row = row_of(told)
        mend = _SET_ASIDE if row else ""
        mend = "let the server take larger packets: max_allowed_packet" if code == _TOO_LARGE else mend
        return PlaceError(f"the database says: {told.partition(ROW)[0]}", where=where, mend=mend, row=row)

    def _rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql, parameters)
            return list(cursor.fetchall())

    def _run(self, sql: str, parameters: Sequence[Any] | None = None) -> int:
        """A statement that gives no rows; how many it touched."""
        with self._translated(sql), self._connection.cursor() as cursor:
            return int(cursor.execute(sql, parameters))

    @contextlib.contextmanager
    def one_view(self, others: Sequence[MariaPlace], tables: Sequence[str]) -> Iterator[bool]:
        """By locks that keep all others from changing the tables for as long as it takes the others to begin."""
        try:
            self._run(f"SET SESSION lock_wait_timeout = {_SHORTLY}")
            self._run(f"LOCK TABLES {', '.join(f'{self.named(table)} READ' for table in tables)}")
        except PlaceError:  # somebody changes them just now, or they may not be locked
            yield False
            return
        try:
            for other in others:
                other._run("START TRANSACTION WITH CONSISTENT SNAPSHOT")
            self._run("UNLOCK TABLES")
            yield True
        finally:
            for each in (self, *others):
                with contextlib.suppress(PlaceError):
                    each._run("UNLOCK TABLES" if each is self else "ROLLBACK")

    # ---- what is there

    def facts(self) -> Facts:
        """What the server is, and what this user may do."""
        grantee = "concat('''', replace(current_user(), '@', '''@'''), '''')"
        found = self._rows(
            f"SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = {grantee} UNION "
            f"SELECT privilege_type FROM information_schema.schema_privileges WHERE grantee = {grantee} "
            "AND database() LIKE table_schema"
        )
        rights = {right for (right,) in found}
        read_only, who, database = self._rows("SELECT @@read_only, current_user(), database()")[0]
        may_create, may_write = "CREATE" in rights, not int(read_only) or "SUPER" in rights
        message = mend = ""
        if not may_write:
            message, mend = "it can only be read", "name the primary server in the url"
        elif not may_create and self._marks_to_make():
            message = f"{who} may make no tables in {database}"
            ddl = "; ".join(self._marks_to_make().values())
            mend = f"without the tables of its loads none can be done: have them made by {ddl}"
        elif self.hints:
            message, mend = self.hints[0], "install another version of it: pip install 'nomotheta[mariadb]'"
        return Facts(f"MariaDB {self._version}", may_create, may_write, message, mend)

    def _marks_to_make(self) -> dict[str, str]:
        """The tables of loads that are not there, each with the statement that makes it."""
        ddl = marks_ddl(mariadb_type, _OPTIONS)
        return {name: statement for name, statement in ddl.items() if self.columns(name) is None}

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. What the database fills itself may be left out of a load."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name, column_type, is_nullable = 'YES' OR column_default IS NOT NULL "
            "OR extra LIKE '%%auto_increment%%' OR extra LIKE '%%GENERATED%%', is_nullable = 'YES' "
            "FROM information_schema.columns "
            "WHERE table_name = %s AND table_schema = coalesce(%s, database()) ORDER BY ordinal_position",
            [name, schema[0] if schema else None],
        )
        return [
            PlaceColumn(column, of, _kind(of), bool(free), limits=_limits(of, nulls=bool(nulls)), folds=True)
            for column, of, free, nulls in rows
        ] or None

    ranks = False
    session: Sequence[str] = (f"SET SESSION sql_mode = '{_MODE}', time_zone = '+00:00'",)

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """It has none of all rows; the embedded engine is asked for them."""
        return MariaRenderer.quantiles(column, shares)

    def changes_rows(self, table: str) -> bool:
        """Whether it has triggers, or is no plain table."""
        *schema, name = table.split(".")
        given = [name, schema[0] if schema else None]
        triggers = self._rows(
            "SELECT 1 FROM information_schema.triggers WHERE event_object_table = %s "
            "AND event_object_schema = coalesce(%s, database()) LIMIT 1", given,
        )  # fmt: skip
        kinds = self._rows(
            "SELECT table_type FROM information_schema.tables WHERE table_name = %s "
            "AND table_schema = coalesce(%s, database())", given,
        )  # fmt: skip
        return bool(triggers) or [kind for (kind,) in kinds] != ["BASE TABLE"]

    def guarantees(self, table: str) -> Guarantees:
        """What its primary key and its types see to: its other keys a session may have switched off."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name FROM information_schema.statistics WHERE index_name = 'PRIMARY' AND sub_part IS NULL "
            "AND table_name = %s AND table_schema = coalesce(%s, database())",
            [name, schema[0] if schema else None],
        )
        columns = self.columns(table) or []
        return Guarantees(
            (frozenset(column for (column,) in rows),) if rows else (),
            frozenset(column.name for column in columns if not column.limits.nulls),
            frozenset(column.name for column in columns if column.type_name.lower().startswith("varchar(")),
        )

    def finds(self, table: str, column: str) -> bool:
        """Whether an index begins with it."""
        *schema, name = table.split(".")
        return bool(self._rows(
            "SELECT 1 FROM information_schema.statistics WHERE seq_in_index = 1 AND column_name = %s "
            "AND table_name = %s AND table_schema = coalesce(%s, database()) LIMIT 1",
            [column, name, schema[0] if schema else None],
        ))  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name FROM information_schema.columns WHERE extra NOT LIKE '%%GENERATED%%' "
            "AND table_name = %s AND table_schema = coalesce(%s, database()) ORDER BY ordinal_position",
            [name, schema[0] if schema else None],
        )
        return [name for (name,) in rows]

    def strange(self, column: PlaceColumn) -> str | None:
        """A date can have a month or a day of zero, and a time more than a day."""
        name, kind = quoted(column.name), column.kind.name if column.kind else ""
        if kind == "time":
            return f"NOT {name} BETWEEN '00:00:00' AND '23:59:59.999999'"
        if kind in {"date", "timestamp", "timestamptz"}:
            return f"({name} < '0001-01-01' OR month({name}) = 0 OR dayofmonth({name}) = 0)"
        return None

    def differs(self, node: Node) -> Sequence[str] | None:
        """It clamps what a cast does not hold, gives null for a date past 9999, and has letter cases of its own."""
        for each in node.walk():
            clamped = each.op == "cast" and each.args[0].kind.is_number and each.value.is_number
            ranked = each.op == "aggregate" and (each.value.share or each.value.name == "median")
            if clamped or ranked or each.op in {"shift", "at zone"}:
                return ()
        return case_of(node)

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return str(self._rows("SELECT database()")[0][0])

    def tables(self) -> list[str]:
        """All tables and views but our own."""
        rows = self._rows("SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY 1")
        return [name for (name,) in rows if name not in {MARKS, FILES}]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table, and its database where it is not there."""
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.split('.', maxsplit=1)[0])}")
        listed = ", ".join(f"{quoted(name)} {mariadb_type(kind)} NULL" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted_table(table)} ({listed}){_OPTIONS}")

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *tables: str) -> Iterator[None]:
        """Commit at the end, undo where an exception leaves it; nobody else loads into the tables meanwhile."""
        for table in tables:
            self._check_engine(table)
        self._make_marks()
        database = self._rows("SELECT database()")[0][0]
        hashed = {table: hashlib.sha256(f"{database}.{table}".encode()).hexdigest()[:40] for table in tables}
        locks = {table: text_literal(f"nomotheta {each}") for table, each in hashed.items()}
        release = self.hold(
            locks, lambda lock: self._rows(f"SELECT get_lock({lock}, 0)")[0][0], "release_lock({})", self._holder
        )
        with self.committed("START TRANSACTION WITH CONSISTENT SNAPSHOT", release):
            yield

    def _check_engine(self, table: str) -> None:
        *schema, name = table.split(".")
        found = self._rows(
            "SELECT t.engine, e.transactions FROM information_schema.tables t JOIN information_schema.engines e "
            "ON e.engine = t.engine WHERE t.table_name = %s AND t.table_schema = coalesce(%s, database())",
            [name, schema[0] if schema else None],
        )
        if found and found[0][1] != "YES":
            raise PlaceError(
                f"the table is kept by the engine {found[0][0]}, which cannot undo a load",
                where=f"{table} in {self.shown}",
                mend=f"ALTER TABLE {table} ENGINE=InnoDB",
            )  # fmt: skip

    def _make_marks(self) -> None:
        """The tables of loads are made before the transaction, which that would end."""
        ddl = self._marks_to_make()
        for statement in ddl.values():
            try:
                self._run(statement)
            except PlaceError as error:
                raise no_marks(error, ddl) from None

    def _holder(self, lock: str) -> str:
        rows = self._rows(f"SELECT user, id, time FROM information_schema.processlist WHERE id = is_used_lock({lock})")
        return f", by {rows[0][0]} (connection {rows[0][1]}, for {rows[0][2]} s)" if rows else ""

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches: as one stream, or by INSERT where the server takes none."""
        return self._sent(table, columns, batches, schema)

    def _sent(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        if self.takes_bulk() and all(type_of(schema.field(name).type) for name in columns):
            return self._by_bulk(table, columns, batches, schema)
        return self._sent_otherwise(table, columns, batches, schema)

    def takes_bulk(self) -> bool:
        """Whether the server knows bulk execution, and there is a kernel to write its packets."""
        return not self.hints and can_copy() and tuple(map(int, self._version.split(".")[:2])) >= _KNOWS_BULK

    def _by_bulk(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        first = next(batches, None)
        if first is None:
            return 0
        try:
            with self._translated():
                insert = BulkInsert(self._connection, table, columns, schema)
                insert.send(first)
        except PlaceError as error:
            if isinstance(error.__cause__, pymysql.MySQLError) and error.__cause__.args[:1] in UNKNOWN:
                return self._sent_otherwise(table, columns, itertools.chain([first], batches), schema)
            raise
        try:
            for batch in batches:
                with self._translated():
                    insert.send(batch)
            with self._translated():
                insert.end()
        except BaseException:
            insert.forget()
            raise
        if insert.taken != insert.rows:
            raise self._warned(insert.rows, insert.taken)
        return insert.taken

    def _sent_otherwise(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        if self.takes_local():
            return self._streamed(table, columns, batches, schema)
        return self._inserted(table, columns, batches)

    def takes_local(self) -> bool:
        """Whether both sides let the server ask for files, and the system has pipes with names."""
        here = os.name == "posix" and bool(self._settings["local_infile"])
        return here and bool(int(self._rows("SELECT @@local_infile")[0][0]))

    def _streamed(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        binary = [pa.types.is_binary(schema.field(name).type) for name in columns]
        listed = [f"@b{at}" if of else quoted(name) for at, (name, of) in enumerate(zip(columns, binary, strict=True))]
        back = [
            f"{quoted(name)} = unhex(@b{at})" for at, (name, of) in enumerate(zip(columns, binary, strict=True)) if of
        ]
        with Pipe(batches, columns) as pipe, self._connection.cursor() as cursor:
            sql = (
                f"LOAD DATA LOCAL INFILE '{pipe.path}' INTO TABLE {quoted_table(table)} CHARACTER SET utf8mb4 "
                f"FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' ({', '.join(listed)})"
            ) + (f" SET {', '.join(back)}" if back else "")
            with self._translated(sql):
                cursor.execute(sql)
            pipe.ended()
            taken = int(cursor.rowcount)
            if cursor.warning_count or taken != pipe.rows:
                raise self._warned(pipe.rows, taken)
            return taken

    def _warned(self, sent: int, taken: int) -> PlaceError:
        """What the server made of a row that does not fit, as the error that it is."""
        found = self._rows("SHOW WARNINGS LIMIT 1")
        told = str(found[0][2]) if found else f"{counted(sent, 'row')} sent, {taken:,} taken"
        told = told.replace(" for row ", ROW)
        place, row = f"place {self.name}", row_of(told)
        return PlaceError(f"the database says: {told.partition(ROW)[0]}", where=place, mend=_SET_ASIDE, row=row)

    def _inserted(self, table: str, columns: Sequence[str], batches: Iterator[Any]) -> int:
        head = f"INSERT INTO {quoted_table(table)} ({', '.join(map(quoted, columns))}) VALUES "
        done = 0
        for batch in batches:
            whole = batch.select(list(columns))
            step = max(1, min(whole.num_rows, whole.num_rows * _STATEMENT // max(1, 2 * whole.nbytes)))
            for first in range(0, whole.num_rows, step):
                rows = joined_rows(whole.slice(first, step), as_literals, null="NULL", between=",", first="(", last=")")
                with self._connection.cursor() as cursor, self._translated():
                    taken = cursor.execute(head + ",".join(rows.to_pylist()))
                if cursor.warning_count or taken != len(rows):
                    raise self._warned(len(rows), taken)
                done += taken
        return done

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows."""
        return self._run(f"DELETE FROM {quoted_table(table)}" + (f" WHERE {where}" if where else ""))

    def changed(self, sql: str) -> int:
        """How many rows a statement touched."""
        return self._run(sql)

    def found(self, sql: str) -> int:
        """The one number that a SELECT gives."""
        return int(self._rows(sql)[0][0])

    def run_plain(self, sql: str) -> None:
        """A statement that touches no rows."""
        self._run(sql)

    def dropped(self, name: str) -> str:
        """The statement that drops a temporary table, which commits nothing if it says that it is one."""
        return f"DROP TEMPORARY TABLE {name}"

    def send(self, table: str, _like: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Rows into a temporary table, which the catalog does not list."""
        return self._sent(table, columns, batches, schema)

    def temporary(self, name: str, select: str) -> str:
        """The statement that makes an empty temporary table."""
        return f"CREATE TEMPORARY TABLE {name} ENGINE=InnoDB AS {select} LIMIT 0"

    def distinct(self, left: str, right: str) -> str:
        """Whether two values differ."""
        return f"NOT ({left} <=> {right})"

    def update(self, table: str, sets: Sequence[tuple[str, str]], same: str, differs: str) -> str:
        """The statement that gives rows the values of the staged rows of their keys."""
        listed = ", ".join(f"{TABLE_ALIAS}.{quoted(name)} = {value}" for name, value in sets)
        return f"UPDATE {quoted_table(table)} AS {TABLE_ALIAS} JOIN {FROM_STAGE} ON {same} SET {listed} WHERE {differs}"

    # ---- asking

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        return int(self._rows(f"SELECT count(*) {self.rowset(table, where)}")[0][0])

    def count_after(self, table: str, before: int, removed: int, added: int) -> int:
        """How many rows there are: a count reads them all, so it is reckoned where InnoDB's own account allows it.

        That counts the rows which the transaction has changed in whatever table, and is shown to the right PROCESS.
        """
        for patience in (_AS_OLD, 0):
            try:
                if self._rows(_CHANGED) == [(removed + added,)]:
                    return before - removed + added
            except PlaceError:
                break
            time.sleep(patience)
        return self.count(table)

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table."""
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql)
            return rows_table([column[0] for column in cursor.description], cursor.fetchall())

    def stream(self, sql: str) -> Iterator[Any]:
        """Rows as Arrow record batches."""
        with self._translated(sql), self._connection.cursor(SSCursor) as cursor:
            cursor.execute(sql)
            names = [column[0] for column in cursor.description]
            while rows := cursor.fetchmany(_CHUNK):
                yield from rows_table(names, rows).to_batches()

    def render(self, node: Node, now: Now) -> str:
        """A condition as MariaDB's SQL."""
        return MariaRenderer(now).render(node)

    def as_text(self, column: str) -> str:
        """A column as text."""
        return f"CAST({quoted(column)} AS CHAR)"

    def exactly(self, sql: str, column: PlaceColumn | None) -> str:
        """A text is compared by code point, whatever its column's collation."""
        return by_code_point(sql) if column and column.kind and column.kind.name == "text" else sql

    # ---- marks

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        if self.columns(MARKS) is None:
            return []
        return marks_of(
            [(*row[:6], row[6].replace(tzinfo=_UTC), *row[7:]) for row in self._rows(OF_TABLE + "%s", [table])]
        )

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        values = values_of(mark)
        values[6] = mark.at.astimezone(_UTC).replace(tzinfo=None)
        return self._run(f"INSERT IGNORE INTO {MARKS} VALUES ({', '.join(['%s'] * len(values))})", values) == 1

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""
        self._run(TAKEN_AWAY.format("%s", "%s", "%s"), [mark.table, mark.load_no, mark.workspace])

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return 1 if self.columns(MARKS) is None else int(self._rows(HIGHEST)[0][0])

    def close(self) -> None:
        """Let go of the connection."""
        with contextlib.suppress(pymysql.MySQLError, OSError):
            self._connection.close()


def _kind(type_name: str) -> Kind | None:
    found = re.fullmatch(r"decimal\((\d+),(\d+)\)(?: unsigned)?(?: zerofill)?", type_name)
    if found:
        return decimal(int(found[1]), int(found[2]))
    if type_name == "tinyint(1)":
        return Kind("boolean")
    sized = re.fullmatch(r"(?:var)?char\((\d+)\)", type_name)
    if sized:
        return Kind("text", int(sized[1]))
    if type_name.startswith("bigint") and "unsigned" in type_name:
        return decimal(20, 0)
    if re.match(r"(?:float|double)\(", type_name):
        return None  # which rounds to so many places
    bare = re.split(r"[( ]", type_name, maxsplit=1)[0]
    return Kind(_KINDS[bare]) if bare in _KINDS else None


_BITS = {"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32}


def _limits(type_name: str, *, nulls: bool) -> Limits:
    """What a column of a type gives back as it is; null into one that may not be null can be filled by the server."""
    bare, unsigned = re.split(r"[( ]", type_name, maxsplit=1)[0], "unsigned" in type_name
    digits = re.fullmatch(r"(?:datetime|timestamp|time)(?:\((\d)\))?", type_name)
    octets = re.fullmatch(r"binary\((\d+)\)", type_name)
    bits = _BITS.get(bare)
    bounds = (0 if unsigned else -(2 ** (bits - 1)), 2 ** (bits - (not unsigned)) - 1) if bits else None
    words = [word.replace("''", "'") for word in re.findall(r"'((?:[^']|'')*)'", type_name)] if bare == "enum" else None
    return Limits(
        nulls=nulls, second_digits=int(digits[1] or 0) if digits else 6, single=bare == "float",
        bounds=None if type_name == "tinyint(1)" else bounds, octets=int(octets[1]) if octets else None,
        padded=re.fullmatch(r"char\(\d+\)", type_name) is not None, listed=tuple(words) if words is not None else None,
    )  # fmt: skip
