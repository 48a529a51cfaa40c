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
import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pymysql
from pymysql.cursors import SSCursor

from nomotheta.conditions import Kind, Node, quoted
from nomotheta.errors import PlaceError, counted
from nomotheta.kernel import can_copy
from nomotheta.place import statements
from nomotheta.place.base import Mark, PlaceColumn
from nomotheta.place.mariadb.bulk import ROW, UNKNOWN, BulkInsert, row_of, type_of
from nomotheta.place.mariadb.catalogue import MariaCatalogue
from nomotheta.place.mariadb.packets import can_read, text_rows
from nomotheta.place.mariadb.rows import Pipe, as_literals
from nomotheta.place.mariadb.session import SET_ASIDE
from nomotheta.place.mariadb.sql import COLLATION, MariaRenderer, by_code_point
from nomotheta.place.mariadb.texts import joined_rows
from nomotheta.place.marks import HIGHEST, MARKS, OF_TABLE, TAKEN_AWAY, marks_of, no_marks, values_of
from nomotheta.place.render import Now, quoted_table, text_literal
from nomotheta.place.rows import rows_table
from nomotheta.place.staging import FROM_STAGE, NO_ROWS, TABLE_ALIAS, LanesBy, Staging

_OPTIONS = f" ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE {COLLATION}"
_CHUNK = 20_000  # rows
_KNOWS_BULK = (10, 3)
_STATEMENT = 1 << 20  # bytes of an INSERT, well below what every server takes
_CHANGED = "SELECT trx_rows_modified FROM information_schema.innodb_trx WHERE trx_mysql_thread_id = connection_id()"
_AS_OLD = 0.15  # seconds that InnoDB gives the same account again, whoever asked for it
_UTC = datetime.UTC
_SHORTLY = 3  # seconds that a lock is waited for which is only a convenience


class MariaPlace(MariaCatalogue, Staging):
    """A MariaDB database."""

    ranks = False

    takes, drops_temporary = statements.ROWS, "DROP TEMPORARY TABLE IF EXISTS {}"

    def carry_out(self, statement: str, *, alone: bool = False) -> None:  # noqa: ARG002
        """As it is; outside a transaction each stands by itself."""
        self._run(statement)

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

    def make_ready(self) -> bool:
        """They may, once there are tables of marks."""
        self._make_marks()
        return True

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
        return PlaceError(f"the database says: {told.partition(ROW)[0]}", where=place, mend=SET_ASIDE, row=row)

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

    def with_nul(self, sql: str) -> str | None:
        """The condition that a text holds the character NUL."""
        return f"locate(char(0), {sql}) > 0"

    def dropped(self, name: str) -> str:
        """The statement that drops a temporary table, which commits nothing if it says that it is one."""
        return f"DROP TEMPORARY TABLE {name}"

    def send(self, table: str, _like: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Rows into a temporary table, which the catalog does not list."""
        return self._sent(table, columns, batches, schema)

    def temporary(self, name: str, select: str) -> str:
        """The statement that makes a temporary table of the rows of a SELECT."""
        return f"CREATE TEMPORARY TABLE {name} ENGINE=InnoDB AS {select}"

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

    @property
    def lanes(self) -> LanesBy:  # type: ignore[override]
        """Worked out here, where its rows can be read quickly enough; its own md5 takes longer."""
        return "here" if can_read(self._connection) else "nowhere"

    def text_blocks(self, kinds: Mapping[str, Kind], rowset: str) -> Iterator[list[Any]] | None:
        """As the server sends them."""
        if not can_read(self._connection):
            return None
        listed = ", ".join(
            f"hex({quoted(name)})" if kind.name == "binary" else quoted(name) for name, kind in kinds.items()
        )
        return self._text_blocks(f"SELECT {listed} {rowset}", len(kinds))

    def _text_blocks(self, sql: str, columns: int) -> Iterator[list[Any]]:
        with self._translated(sql):
            yield from text_rows(self._connection, sql, columns)

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """Of a temporary table without rows."""
        with self.held(NO_ROWS, f"SELECT * FROM ({query}\n) AS {quoted(NO_ROWS)} LIMIT 0"):
            return self.described(NO_ROWS)

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
