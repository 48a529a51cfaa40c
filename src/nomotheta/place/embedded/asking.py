"""Tables of a database that cannot judge them itself: their rows are streamed into the embedded engine, typed anew.

What is asked is written in the engine's SQL. A table that it names is read from the database each time it is scanned,
and of its columns only those that are named too. A value that is none of its column's kind is null there; the raw text
of every column can be asked for, by the name that `as_text` gives it.
"""

from __future__ import annotations

import datetime
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any

import pyarrow as pa

from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.native import without_exponents
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.layout import UNTYPED
from nomotheta.place.base import Guarantees, PlaceColumn
from nomotheta.place.embedded.duckdb import DuckPlace
from nomotheta.place.few import Answer
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.marks import FILES
from nomotheta.place.render import Now, Renderer, identifiers
from nomotheta.place.staging import STAGE, LanesBy
from nomotheta.start import keep_memory

ROW_NUMBER = own("row")  # the name by which the number of a row in its database can be asked for
_TEXT, _TAKEN = Kind("text"), own("taken")


def _as_text(column: str) -> str:
    """The name of the raw text of a column."""
    return own(f"text of {column}")


class _RawFingerprint(Fingerprint):
    """The fingerprint of rows typed anew: what is none of its column's kind is in it as it is, and is not null."""

    def cell_text(self, name: str, kind: Kind) -> str:
        """One cell's part of a row's text."""
        if kind.name == "text":
            return super().cell_text(name, kind)
        own, raw = quoted(name), quoted(_as_text(name))
        return f"concat({self.canonical(own, kind)}, CASE WHEN {own} IS NULL THEN {raw} END, '|')"

    def shown(self, name: str, kind: Kind) -> str:
        """A cell as the text that is in a row's."""
        known = super().shown(name, kind)
        return known if kind.name == "text" else f"coalesce({known}, {quoted(_as_text(name))})"


class Embedded:
    """The half of a place that asks: conditions, fingerprints and keys, in the embedded engine."""

    name: str
    shown: str
    hints: Sequence[str] = ()
    native, ranks = False, True
    keeps_versions = apart_tables = False
    lanes: LanesBy = "here"
    session: Sequence[str] = ()

    def __init__(self) -> None:
        self.fingerprint: Fingerprint = _RawFingerprint()
        self._engine: DuckPlace | None = None
        self._expected: dict[str, Mapping[str, Kind]] = {}

    # ---- what the database must say

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None."""
        raise NotImplementedError

    def columns_of(self, _query: str) -> list[PlaceColumn]:
        """Not asked for: a query is a view here, and its rows are typed anew."""
        raise NotImplementedError

    def viewed(self, _query: str) -> str:
        """A view of a query that only this connection sees, where there is such a thing.

        Raises:
            PlaceError: there is none.
        """
        told = f"a query cannot be asked of {self.shown}, whose rows are typed anew by the program"
        mend = "make it a view there, and name that: table = …"
        raise PlaceError(told, where=f"place {self.name}", mend=mend)

    def tables(self) -> list[str]:
        """The names of all tables and views."""
        raise NotImplementedError

    def texts_of(self, table: str, columns: Sequence[tuple[str, Kind]]) -> Iterator[Any]:
        """All rows of a table as record batches of texts: columns by position, each written as its kind is read."""
        raise NotImplementedError

    # ---- asking

    def expect(self, table: str, kinds: Mapping[str, Kind]) -> None:
        """From now on, a table's columns are read as what they are meant to be."""
        self._expected[table] = kinds

    def fetch(self, sql: str, **relations: Any) -> Any:
        """Rows as an Arrow table."""
        with self._asked(sql, relations) as engine:
            return engine.fetch(sql)

    def answer(self, sql: str) -> Answer:
        """A few rows."""
        return Answer.of(self.fetch(sql))

    def stream(self, sql: str) -> Iterator[Any]:
        """Rows as Arrow record batches."""
        with self._asked(sql, {}) as engine:
            yield from engine.stream(sql)

    def _asked(self, sql: str, relations: Mapping[str, Any]) -> _Asked:
        keep_memory()
        if self._engine is None:
            self._engine = DuckPlace(self.name, None)
        names = set(identifiers(sql))
        read = {table: self._relation(table, names) for table in [*self.tables(), STAGE, FILES] if table in names}
        return _Asked(self._engine, read | dict(relations))

    def _relation(self, table: str, names: Container[str]) -> _Rows:
        """A table as it is scanned, with the columns that are named; one at least, for there to be rows."""
        meant = self._expected.get(table, {})
        own = {column.name: meant.get(column.name) or column.kind or _TEXT for column in self.columns(table) or []}
        found = [_Read(name, name, kind, kind) for name, kind in own.items()]
        found += [_Read(_as_text(name), name, kind, _TEXT) for name, kind in own.items()]
        found.append(_Read(ROW_NUMBER, ROW_NUMBER, Kind("integer"), Kind("integer")))
        return _Rows(self, table, [each for each in found if each.name in names] or found[:1])

    def missing(self, table: str, cells: Any, *, nulls: bool = False) -> int:
        """How many rows of a `pa.Table` of some of the table's columns are equal to no row of the table in them."""
        equal = "IS NOT DISTINCT FROM" if nulls else "="
        there, taken = quoted(own("there")), quoted(_TAKEN)
        same = " AND ".join(f"{there}.{quoted(name)} {equal} {taken}.{quoted(name)}" for name in cells.column_names)
        exists = f"SELECT 1 FROM {self.named(table)} AS {there} WHERE {same}"
        return int(
            self.fetch(f"SELECT count(*) FROM {taken} WHERE NOT EXISTS ({exists})", **{_TAKEN: cells})[0][0].as_py()
        )

    def matching(self, table: str, cells: Any, columns: Sequence[str]) -> Iterator[Any]:
        """The rows of the table whose key is among the others, found by the engine."""
        there, taken = quoted(own("there")), quoted(_TAKEN)
        names = [quoted(name) for name in cells.column_names]
        key = ", ".join(f"{there}.{name}" for name in names)
        listed = ", ".join(f"{there}.{quoted(name)}" for name in columns)
        sql = (
            f"SELECT {listed} FROM {self.named(table)} AS {there} "
            f"WHERE ({key}) IN (SELECT {', '.join(names)} FROM {taken})"
        )
        yield from self.fetch(sql, **{_TAKEN: cells}).to_batches()

    def finds(self, _table: str, _column: str) -> bool:
        """The rows are read in any case."""
        return True

    def one_view(self, _others: Sequence[Any], _tables: Sequence[str]) -> AbstractContextManager[bool]:
        """Not known to be possible."""
        return nullcontext(enter_result=False)

    def probes(self, _columns: Sequence[str], _kinds: Mapping[str, Kind]) -> bool:
        """Values are known by their kinds only here, where all rows are streamed anyway."""
        return False

    def present(self, table: str, cells: Any, where: str | None, *, nulls: bool = False) -> Iterator[Any]:
        """Not asked for."""
        raise NotImplementedError

    def render(self, node: Node, now: Now) -> str:
        """A condition as the engine's SQL."""
        return Renderer(now).render(node)

    def named(self, table: str) -> str:
        """A table is known to the engine by its whole name."""
        return quoted(table)

    def rowset(self, table: str, where: str | None = None) -> str:
        """FROM and WHERE."""
        return f"FROM {self.named(table)}" + (f" WHERE {where}" if where else "")

    def changes_rows(self, _table: str) -> bool:
        """Nothing is known of it."""
        return True

    def guarantees(self, _table: str) -> Guarantees:
        """Rows are typed anew, so that what the database sees to says nothing of their values."""
        return Guarantees()

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """As the engine has them."""
        return Renderer.quantiles(column, shares)

    def never_repeats(self, _column: str, _rowset: str) -> bool:
        """Nothing is known at little cost."""
        return False

    def day(self, day: datetime.date) -> str:
        """A day in a statement of the database's own."""
        return f"DATE '{day}'"

    def as_text(self, column: str) -> str:
        """A column as the text that is in it."""
        return quoted(_as_text(column))

    def strange(self, _column: PlaceColumn) -> str | None:
        """What is none of its column's kind is none here."""
        return None

    def differs(self, _node: Node) -> Sequence[str] | None:
        """It is the same engine."""
        return None

    def exactly(self, sql: str, _column: PlaceColumn | None) -> str:
        """Values are compared as they are."""
        return sql

    def take_back(self, _mark: Any) -> tuple[int, int] | None:
        """It keeps no versions."""
        return None

    def sparing(self) -> AbstractContextManager[None]:
        """What it streams is by the block already."""
        return nullcontext()

    def lane_hashes(self, _kinds: Mapping[str, Kind], _rowset: str, _by: Sequence[str], _buckets: int) -> Iterator[Any]:
        """Not asked for."""
        raise NotImplementedError

    def text_blocks(self, _kinds: Mapping[str, Kind], _rowset: str) -> Iterator[list[Any]] | None:
        """Rows are typed anew by the engine, and handed on as they are."""
        return None

    def let_go(self) -> None:
        """Close the engine."""
        if self._engine is not None:
            self._engine.close()
            self._engine = None


class _Asked:
    """A question with the tables that it names, which the engine knows for as long as it lasts."""

    def __init__(self, engine: DuckPlace, relations: Mapping[str, Any]) -> None:
        self.engine, self.relations = engine, relations

    def __enter__(self) -> DuckPlace:
        self.engine.know(self.relations)
        return self.engine

    def __exit__(self, _kind: Any, error: BaseException | None, _trace: Any) -> None:
        self.engine.forget(self.relations)
        failed = next(
            (rows.failed for rows in self.relations.values() if isinstance(rows, _Rows) and rows.failed), None
        )
        if error is not None and failed is not None:
            raise failed from None


@frozen
class _Read:
    """A column as the engine has it: its name there, the database's, the kinds that it is written and read as."""

    name: str
    column: str
    written: Kind
    kind: Kind

    def values(self, texts: Any) -> Any:
        """What the database wrote, read; null where it is none of the kind."""
        plain = without_exponents(texts) if self.written.name == "decimal" else texts
        return read_column(plain, self.kind, UNTYPED).values


class _Rows:
    """A table's rows as a stream of Arrow batches, anew for every scan (the Arrow PyCapsule interface)."""

    def __init__(self, place: Embedded, table: str, columns: Sequence[_Read]) -> None:
        self.place, self.table, self.columns = place, table, columns
        self.schema = pa.schema([(each.name, arrow_type(each.kind)) for each in columns])
        self.failed: BaseException | None = None

    def __arrow_c_schema__(self) -> Any:
        return self.schema.__arrow_c_schema__()

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        return pa.RecordBatchReader.from_batches(self.schema, self._batches()).__arrow_c_stream__(requested_schema)

    def _batches(self) -> Iterable[Any]:
        try:
            for batch in self.place.texts_of(self.table, [(each.column, each.written) for each in self.columns]):
                arrays = [each.values(texts) for each, texts in zip(self.columns, batch.columns, strict=True)]
                yield pa.record_batch(arrays, schema=self.schema)
        except GeneratorExit:  # the engine wants no more, for a reason of its own
            raise
        except BaseException as error:
            self.failed = error
            raise
