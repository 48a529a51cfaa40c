"""Rows beside a table, in a temporary one of the same columns; and the merge of such rows into it, by key."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal

from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.errors import PlaceError, counted
from nomotheta.frozen import frozen
from nomotheta.place.few import Answer
from nomotheta.place.render import quoted_table

LanesBy = Literal["inside", "here", "nowhere"]  # by the database, of its rows once they are here, or not at all
STAGE = own("stage")
TABLE_ALIAS, _STAGE, _COUNT = (quoted(own(word)) for word in ("there", "staged", "count"))  # as a statement calls them
_FIRST, _LAST = "0001-01-01 00:00:00", "9999-12-31 23:59:59.999999"
NO_ROWS = own("no rows")  # a temporary table that is made to see its columns
FROM_STAGE = f"{quoted(STAGE)} AS {_STAGE}"


@frozen
class Merged:
    """What a merge did: rows of new keys, rows that differed from those of their keys, and rows that did not."""

    inserted: int
    updated: int
    unchanged: int

    @property
    def rows(self) -> int:
        """All of them."""
        return self.inserted + self.updated + self.unchanged

    def with_new(self, more: int) -> Merged:
        """The same, and so many rows of new keys."""
        return Merged(self.inserted + more, self.updated, self.unchanged)


@frozen
class Merge:
    """How rows are merged: all their columns, those of the key, and those that decide whether a row has changed.

    Where one of these differs, all columns but the key's are taken over.
    """

    columns: Sequence[str]
    key: Sequence[str]
    compared: Sequence[str]


class Staging:
    """The half of a place that needs only SQL; the database says how it makes a temporary table and counts its rows."""

    name: str
    shown: str

    # ---- what the database must say

    def columns(self, table: str) -> Any:
        """The columns of a table."""
        raise NotImplementedError

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table."""
        raise NotImplementedError

    def answer(self, sql: str) -> Answer:
        """A few rows."""
        return Answer.of(self.fetch(sql))

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches."""
        raise NotImplementedError

    def changed(self, sql: str) -> int:
        """Carry out an INSERT, UPDATE or DELETE; how many rows it touched."""
        raise NotImplementedError

    def found(self, sql: str) -> int:
        """The one number that a SELECT gives."""
        raise NotImplementedError

    def run_plain(self, sql: str) -> None:
        """Carry out a statement that touches no rows."""
        raise NotImplementedError

    def count(self, table: str, where: str | None = None) -> int:
        """How many rows meet a condition."""
        raise NotImplementedError

    def stream(self, sql: str) -> Iterable[Any]:
        """Rows as Arrow record batches."""
        raise NotImplementedError

    # ---- what it may say otherwise

    def names_rows(self, _table: str) -> bool:
        """Most databases do."""
        return True

    def account(self, _table: str) -> tuple[int, int] | None:
        """The rows that this transaction has removed and added, by the database's own account; None if it has none."""
        return None

    hints: Sequence[str] = ()
    keeps_versions = apart_tables = False
    apart = ""  # what ends a SELECT within another, so that the database works it out first, and once
    AS_GIVEN = ""  # has an INSERT take values even of columns that number themselves

    def count_after(self, table: str, before: int, removed: int, added: int) -> int:
        """How many rows there are after this transaction removed some and added others."""
        if self.account(table) == (removed, added):
            return before - removed + added
        return self.count(table)

    def expect(self, table: str, kinds: Mapping[str, Kind]) -> None:
        """The database itself sees to its kinds."""

    def strange(self, column: Any) -> str | None:
        """What is not a number, and moments outside of the years 1 to 9999."""
        name, kind = quoted(column.name), column.kind.name if column.kind else ""
        if kind == "real":
            return self.no_number(name)
        if kind in {"date", "timestamp", "timestamptz"}:
            first, last = ("0001-01-01", "9999-12-31") if kind == "date" else (_FIRST, _LAST)
            zone = "+00" if kind == "timestamptz" else ""
            return f"NOT {name} BETWEEN '{first}{zone}' AND '{last}{zone}'"
        return None

    def no_number(self, column: str) -> str | None:
        """Whether a double is none."""
        return f"NOT isfinite({column})"

    def differs(self, _node: Node) -> Sequence[str] | None:
        """Conditions have one meaning, where nothing else is said."""
        return None

    def exactly(self, sql: str, _column: Any) -> str:
        """Values are compared as they are."""
        return sql

    def natively(self, sql: str, column: Any) -> str:
        """The same in statements that the database itself carries out, whoever judges."""
        return self.exactly(sql, column)

    def ask(self, sql: str, most: int | None = None) -> Any:
        """Rows as an Arrow table."""
        return self.fetch(sql if most is None else f"{sql} LIMIT {most}")

    def viewed(self, _query: str) -> str:
        """Not asked for: what is asked is answered by the database itself."""
        raise NotImplementedError

    native = ranks = True
    lanes: LanesBy = "nowhere"
    session: Sequence[str] = ("SET TimeZone = 'UTC'",)

    def lane_sums(self, _kinds: Mapping[str, Kind], _rowset: str) -> list[int] | None:
        """It works out no lanes by itself."""
        return None

    def lane_buckets(self, _kinds: Mapping[str, Kind], _rowset: str, _by: Sequence[str], _buckets: int) -> Any:
        """It works out no lanes by itself."""
        return None

    def lane_hashes(self, _kinds: Mapping[str, Kind], _rowset: str, _by: Sequence[str], _buckets: int) -> Iterator[Any]:
        """Not asked for."""
        raise NotImplementedError

    def lane_bucket(self, _kinds: Mapping[str, Kind], _by: Sequence[str], _buckets: int) -> str:
        """Not asked for."""
        raise NotImplementedError

    def text_blocks(self, _kinds: Mapping[str, Kind], _rowset: str) -> Iterator[list[Any]] | None:
        """It hands its rows on as they are."""
        return None

    def sparing(self) -> contextlib.AbstractContextManager[None]:
        """It needs no more memory for many rows than for few."""
        return contextlib.nullcontext()

    def take_back(self, _mark: Any) -> tuple[int, int] | None:
        """It keeps no versions."""
        return None

    def make_ready(self) -> bool:
        """One load at a time, unless a place knows better."""
        return False

    def interrupt(self) -> None:
        """It is asked nothing in other threads."""

    def never_repeats(self, _column: str, _rowset: str) -> bool:
        """Nothing is known at little cost."""
        return False

    def day(self, day: datetime.date) -> str:
        """A day in a statement of the database's own."""
        return f"DATE '{day}'"

    def named(self, table: str) -> str:
        """A table as a statement names it."""
        return quoted_table(table)

    def rowset(self, table: str, where: str | None = None) -> str:
        """FROM and WHERE."""
        return f"FROM {self.named(table)}" + (f" WHERE {where}" if where else "")

    def send(self, table: str, _like: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add rows to a temporary table that has the types of another."""
        return self.append(table, columns, batches, schema)

    def temporary(self, name: str, select: str) -> str:
        """The statement that makes a temporary table of the rows of a SELECT."""
        return f"CREATE TEMP TABLE {name} AS {select}"

    def dropped(self, name: str) -> str:
        """The statement that drops a temporary table."""
        return f"DROP TABLE {name}"

    def distinct(self, left: str, right: str) -> str:
        """Whether two values differ, null being equal to null."""
        return f"{left} IS DISTINCT FROM {right}"

    def update(self, table: str, sets: Sequence[tuple[str, str]], same: str, differs: str) -> str:
        """The statement that gives rows the values of the staged rows of their keys."""
        listed = ", ".join(f"{quoted(name)} = {value}" for name, value in sets)
        where = f"{same} AND ({differs})"
        return f"UPDATE {quoted_table(table)} AS {TABLE_ALIAS} SET {listed} FROM {FROM_STAGE} WHERE {where}"

    # ---- what follows

    def hold(
        self, locks: Mapping[str, str], take: Callable[[str], object], free: str, holder: Callable[[str], str]
    ) -> str:
        """Take locks, each for the table that it keeps others off; the statement that lets go of them.

        Raises:
            PlaceError: somebody else has one; then none is held.
        """
        held: list[str] = []
        for table, lock in locks.items():
            if not take(lock):
                by = holder(lock)
                if held:
                    self.run_plain(f"SELECT {', '.join(free.format(each) for each in held)}")
                raise PlaceError(f"another load into {table} is under way{by}", where=f"place {self.name}",
                                 mend="wait until it is done")  # fmt: skip
            held.append(lock)
        return f"SELECT {', '.join(free.format(each) for each in held)}"

    @contextlib.contextmanager
    def committed(self, begin: str, release: str) -> Iterator[None]:
        """From a statement that begins a transaction to its commit, or its end where an exception leaves it.

        What holds others off is let go of afterwards.
        """
        try:
            self.run_plain(begin)
            yield
            self.run_plain("COMMIT")
        except BaseException:
            with contextlib.suppress(PlaceError):  # the connection itself may be gone
                self.run_plain("ROLLBACK")
            raise
        finally:
            with contextlib.suppress(PlaceError):
                self.run_plain(release)

    def make_like(self, name: str, table: str, columns: Sequence[str]) -> None:
        """Create an empty table with some columns of another."""
        listed = ", ".join(map(quoted, columns))
        self.run_plain(f"CREATE TABLE {quoted_table(name)} AS SELECT {listed} FROM {quoted_table(table)} LIMIT 0")

    def copy(self, source: str, target: str, columns: Sequence[str], where: str | None) -> int:
        """Add the rows of one table that meet a rendered condition, or all, to another; how many."""
        listed = ", ".join(map(quoted, columns))
        chosen = f"SELECT {listed} FROM {quoted_table(source)}" + (f" WHERE {where}" if where else "")
        return self.insert_from(target, columns, chosen)

    def insert_from(self, table: str, columns: Sequence[str], select: str, *, as_given: bool = True) -> int:
        """Add the rows of a SELECT to a table, `as_given` even in columns that number themselves; how many."""
        listed, given = ", ".join(map(quoted, columns)), self.AS_GIVEN if as_given else ""
        return self.changed(f"INSERT INTO {quoted_table(table)} ({listed}){given} {select}")

    def drop(self, table: str) -> None:
        """Drop a table."""
        self.run_plain(f"DROP TABLE {quoted_table(table)}")

    @contextlib.contextmanager
    def staged(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> Iterator[int]:
        """The rows of Arrow record batches in a temporary table, for as long as it lasts; how many."""
        listed = ", ".join(map(quoted, columns))
        self.run_plain(self.temporary(quoted(STAGE), f"SELECT {listed} FROM {quoted_table(table)} LIMIT 0"))
        try:
            yield self.send(STAGE, table, columns, batches, schema)
        finally:
            with contextlib.suppress(PlaceError):  # a transaction that has failed takes it along
                self.run_plain(self.dropped(quoted(STAGE)))

    def put(self, table: str, columns: Sequence[str], held: str, where: str) -> int:
        """Add rows that are held under a name, and meet a condition, to a table; how many."""
        listed = ", ".join(map(quoted, columns))
        return self.insert_from(table, columns, f"SELECT {listed} FROM {quoted(held)} WHERE {where}")

    def with_nul(self, _sql: str) -> str | None:
        """The condition that a text holds the character NUL; None where none can."""
        return None

    def may_hold(self) -> bool:
        """Whether rows may be held in a temporary table."""
        with contextlib.suppress(PlaceError), self.held(own("trial"), "SELECT 1 AS tried"):
            return True
        return False

    @contextlib.contextmanager
    def held(self, name: str, select: str) -> Iterator[None]:
        """The rows of a SELECT in a temporary table, for as long as it lasts."""
        self.run_plain(self.temporary(quoted(name), select))
        try:
            yield
        finally:
            with contextlib.suppress(PlaceError):  # a transaction that has failed takes it along
                self.run_plain(self.dropped(quoted(name)))

    def among_staged(self, table: str, columns: Sequence[str]) -> str:
        """The condition that a row of the table is equal to a staged one in some columns, as `rowset` takes it."""
        sides = self._sides(table, columns, self.exactly, self.named(table))
        same = " AND ".join(f"{there} = {staged}" for there, staged in sides)
        return f"EXISTS (SELECT 1 FROM {FROM_STAGE} WHERE {same})"

    def _sides(
        self, table: str, names: Sequence[str], exactly: Callable[[str, Any], str], called: str = TABLE_ALIAS
    ) -> list[tuple[str, str]]:
        """Columns of the table and of the stage, as they are compared."""
        there = {column.name: column for column in self.columns(table) or []}
        return [
            (exactly(f"{called}.{quoted(name)}", there.get(name)), exactly(f"{_STAGE}.{quoted(name)}", there.get(name)))
            for name in names
        ]

    def missing(self, table: str, cells: Any, *, nulls: bool = False) -> int:
        """How many rows of a `pa.Table` of some of the table's columns are equal to no row of the table in them."""
        sides = zip(cells.columns, self._sides(table, cells.column_names, self.natively), strict=True)
        same = " AND ".join(
            f"NOT ({self.distinct(*pair)})" if nulls and column.null_count else f"{pair[0]} = {pair[1]}"
            for column, pair in sides
        )
        with self.staged(table, cells.column_names, iter(cells.to_batches()), cells.schema):
            return self.found(
                f"SELECT count(*) AS {_COUNT} FROM {FROM_STAGE} WHERE NOT EXISTS "
                f"(SELECT 1 FROM {quoted_table(table)} AS {TABLE_ALIAS} WHERE {same})"
            )

    def matching(self, table: str, cells: Any, columns: Sequence[str]) -> Iterator[Any]:
        """The rows of the table whose key is among the staged ones, which databases find by a hash or an index."""
        sides = self._sides(table, cells.column_names, self.natively)
        there, staged = (", ".join(parts) for parts in zip(*sides, strict=True))
        listed = ", ".join(f"{TABLE_ALIAS}.{quoted(name)}" for name in columns)
        with self.staged(table, cells.column_names, iter(cells.to_batches()), cells.schema):
            found = list(
                self.stream(
                    f"SELECT {listed} FROM {quoted_table(table)} AS {TABLE_ALIAS} "
                    f"WHERE ({there}) IN (SELECT {staged} FROM {FROM_STAGE})"
                )
            )
        yield from found

    def probes(self, _columns: Sequence[str], _kinds: Mapping[str, Kind]) -> bool:
        """The database sees to its kinds, and compares them."""
        return True

    def present(self, table: str, cells: Any, where: str | None, *, nulls: bool = False) -> Iterator[Any]:
        """Those of some rows that a row of the table is equal to, once each or more often."""
        names = cells.column_names
        sides = zip(cells.columns, self._sides(table, names, self.natively), strict=True)
        same = " AND ".join(
            f"NOT ({self.distinct(*pair)})" if nulls and column.null_count else f"{pair[0]} = {pair[1]}"
            for column, pair in sides
        )
        listed = ", ".join(f"{_STAGE}.{quoted(name)}" for name in names)
        rows = f"SELECT * FROM {quoted_table(table)}" + (f" WHERE {where}" if where else "")
        with self.staged(table, names, iter(cells.to_batches()), cells.schema):
            exists = f"EXISTS (SELECT 1 FROM ({rows}) AS {TABLE_ALIAS} WHERE {same})"
            found = list(self.stream(f"SELECT {listed} FROM {FROM_STAGE} WHERE {exists}"))
        yield from found

    def merge(self, table: str, how: Merge, batches: Iterator[Any], schema: Any) -> Merged:
        """Take rows over: those of new keys are added, those that differ from the row of their key replace its values.

        Args:
            table: where to.
            how: the columns, and what they are for.
            batches: the rows, as Arrow record batches; no key occurs twice among them.
            schema: their Arrow schema.

        Raises:
            PlaceError: a key occurs more than once in the table.
        """
        same = " AND ".join(f"{there} = {staged}" for there, staged in self._sides(table, how.key, self.natively))
        exists = f"SELECT 1 FROM {quoted_table(table)} AS {TABLE_ALIAS} WHERE {same}"
        with self.staged(table, how.columns, batches, schema) as rows:
            matched = self.found(f"SELECT count(*) AS {_COUNT} FROM {FROM_STAGE} WHERE EXISTS ({exists})")
            pairs = self.found(
                f"SELECT count(*) AS {_COUNT} FROM {FROM_STAGE} JOIN {quoted_table(table)} AS {TABLE_ALIAS} ON {same}"
            )
            if pairs > matched:
                raise PlaceError(
                    f"the table has {counted(pairs - matched, 'row')} with a repeated key", where=table,
                    mend="see which: nomotheta judge; a merge needs a table whose key is one",
                )  # fmt: skip
            updated = self._updated(table, how, same)
            listed = ", ".join(map(quoted, how.columns))
            fresh = f"SELECT {listed} FROM {FROM_STAGE} WHERE NOT EXISTS ({exists})"
            inserted = self.insert_from(table, how.columns, fresh, as_given=False)
        return Merged(inserted, updated, rows - inserted - updated)

    def _updated(self, table: str, how: Merge, same: str) -> int:
        if not how.compared:
            return 0
        differs = " OR ".join(self.distinct(*sides) for sides in self._sides(table, how.compared, self.natively))
        sets = [(name, f"{_STAGE}.{quoted(name)}") for name in how.columns if name not in how.key]
        return self.changed(self.update(table, sets, same, differs))
