"""Tables of the catalogue of Apache Spark as a place: they are judged, reconciled and compared where they are.

Everything is asked as Spark SQL, and nothing but sums, samples and differing rows leaves the cluster. Loads are
refused: the catalogue knows no act in which rows and the mark of a load become visible together. A lake does.
"""

from __future__ import annotations

import contextlib
import functools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, NoReturn

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind, Node, quoted
from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.place.base import Facts, Guarantees, Mark, PlaceColumn
from nomotheta.place.delta.types import fields_of
from nomotheta.place.render import Now, case_of, quoted_table
from nomotheta.place.spark import lanes
from nomotheta.place.spark.session import Session
from nomotheta.place.spark.sql import (
    BEHIND,
    REAL_TEXT,
    SETTINGS,
    SparkFingerprint,
    SparkRenderer,
    as_spark,
    by_code_point,
    spark_type,
)
from nomotheta.place.staging import STAGE, LanesBy, Staging

_COLLATIONS = "__COLLATIONS"  # in the metadata of a column whose texts are compared otherwise than by code point
_BUCKET, _REAL = "nomotheta_bucket_", Kind("real")


class SparkPlace(Staging):
    """A schema of the catalogue that a Spark Connect server knows."""

    takes: frozenset[str] = frozenset()
    drops_temporary = ""
    session: Sequence[str] = (
        "SET spark.sql.ansi.doubleQuotedIdentifiers = true", "SET TIME ZONE 'UTC'",
    )  # fmt: skip

    def __init__(self, name: str, url: str, shown: str = "", schema: str = "", where: str = "") -> None:
        self.name, self.shown = name, shown
        self.fingerprint = SparkFingerprint()
        self._session = Session(where or f"place {name}", url, SETTINGS)
        self._spoken_of: dict[str, None] = {}
        self._buckets: dict[bytes, str] = {}
        if schema:
            self._rows(f"USE {quoted_table(schema)}")

    # ---- statements

    def _frame(self, sql: str) -> Any:
        """A statement's rows as a data frame of Spark's."""
        with self._session.translated():
            return self._session.spark.sql(as_spark(sql))

    def _rows(self, sql: str) -> list[tuple[Any, ...]]:
        return [tuple(row.values()) for row in self.fetch(sql).to_pylist()]

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table."""
        self._know_functions(sql)
        with step(self.name, sql):
            return self._session.table(self._frame(sql))

    def stream(self, sql: str) -> Iterator[Any]:
        """Rows as Arrow record batches, as they come."""
        self._know_functions(sql)
        with step(self.name, sql):
            yield from self._session.batches(self._frame(sql))

    def run_plain(self, sql: str) -> None:
        """A statement that touches no rows."""
        self.fetch(sql)

    def found(self, sql: str) -> int:
        """The one number that a SELECT gives."""
        return int(self._rows(sql)[0][0])

    def count(self, table: str, where: str | None = None) -> int:
        """Count rows."""
        return self.found(f"SELECT count(*) {self.rowset(table, where)}")

    # ---- what is there

    def facts(self) -> Facts:
        """What the engine is; nothing is loaded here."""
        told = "its tables are judged and compared, and not loaded"
        return Facts(f"Apache Spark {self._session.version}", may_create=False, may_write=False, message=told,
                     mend="load into a lake: url = \"delta:///folder\", with an engine")  # fmt: skip

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None."""
        with self._session.translated():
            if not self._session.spark.catalog.tableExists(in_backticks(table)):
                return None
        self._spoken_of[table] = None
        return self._described(f"SELECT * FROM {self.named(table)}")

    def _described(self, query: str) -> list[PlaceColumn]:
        with self._session.translated():
            described = self._frame(query).schema.json()
        found = []
        for field in fields_of(described):
            column = field.column()
            folds = _COLLATIONS in field.metadata
            if field.kind is not None and field.kind.name in {"uuid", "time"}:
                column = replace(column, kind=Kind("text"))  # as which Spark has them
            found.append(replace(column, folds=folds) if folds else column)
        return found

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """The columns of a query."""
        return self._described(query)

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return str(self._rows("SELECT current_schema()")[0][0])

    def tables(self) -> list[str]:
        """All tables and views of the usual schema, and those that were spoken of by theirs."""
        there = [str(name) for schema, name, temporary in self._rows("SHOW TABLES") if not temporary and schema]
        return sorted({*there, *self._spoken_of})

    def changes_rows(self, _table: str) -> bool:
        """Nothing is known of it."""
        return True

    def guarantees(self, _table: str) -> Guarantees:
        """What a table is declared to hold is not enforced."""
        return Guarantees()

    def finds(self, _table: str, _column: str) -> bool:
        """Files are left out by what is known of their values."""
        return True

    def stored(self, table: str) -> list[str]:
        """All columns."""
        return [column.name for column in self.columns(table) or []]

    def one_view(self, _others: Sequence[Any], _tables: Sequence[str]) -> contextlib.AbstractContextManager[bool]:
        """The catalogue knows no moment that several statements see."""
        return contextlib.nullcontext(enter_result=False)

    # ---- asking

    def render(self, node: Node, now: Now) -> str:
        """A condition as Spark SQL."""
        return SparkRenderer(now).render(node)

    def differs(self, node: Node) -> Sequence[str] | None:
        """Letters beyond ASCII change case as Java has it."""
        return case_of(node)

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """All in one."""
        return SparkRenderer.quantiles(column, shares)

    def as_text(self, column: str) -> str:
        """A column as text."""
        return f"CAST({quoted(column)} AS STRING)"

    def exactly(self, sql: str, column: PlaceColumn | None) -> str:
        """A text is compared by code point, whatever its column's collation."""
        return by_code_point(sql) if column is not None and column.folds else sql

    def no_number(self, column: str) -> str | None:
        """Whether a double is none."""
        return f"(isnan({column}) OR abs({column}) = CAST('Infinity' AS DOUBLE))"

    def with_nul(self, sql: str) -> str | None:
        """The condition that a text holds the character NUL."""
        return f"instr({sql}, decode(unhex('00'), 'UTF-8')) > 0"

    @contextlib.contextmanager
    def held(self, name: str, select: str) -> Iterator[None]:
        """The rows of a SELECT under a name: they are worked out whenever they are asked for."""
        self.run_plain(f"CREATE OR REPLACE TEMPORARY VIEW {quoted(name)} AS {select}")
        try:
            yield
        finally:
            with contextlib.suppress(PlaceError):
                self.run_plain(f"DROP VIEW {quoted(name)}")

    @contextlib.contextmanager
    def staged(self, _table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> Iterator[int]:
        """The rows of Arrow record batches, sent to the session under a name for as long as it lasts; how many."""
        rows = pa.Table.from_batches(list(batches), schema).select(list(columns))
        with self._session.translated():
            spark = self._session.spark
            types = ", ".join(f"{in_backticks(name)} {_type_of(rows.schema.field(name).type)}" for name in columns)
            spark.createDataFrame(rows, types).createOrReplaceTempView(in_backticks(STAGE))
        try:
            yield rows.num_rows
        finally:
            with contextlib.suppress(PlaceError):
                self.run_plain(f"DROP VIEW {quoted(STAGE)}")

    def interrupt(self) -> None:
        """End what it is asked in another thread."""
        self._session.interrupt()

    # ---- what workers do for it

    @functools.cached_property
    def lanes(self) -> LanesBy:  # type: ignore[override]
        """Worked out by the workers, if nomotheta is installed there; else their rows come here."""
        try:
            self._by_workers("SELECT 1 AS one", lanes.sums, lanes.SUMS, lanes.packed({"one": Kind("integer")}))
        except PlaceError:
            return "here"
        return "inside"

    def _by_workers(self, select: str, work: Any, schema: str, blob: bytes) -> Any:
        """What workers make of rows, as a data frame of Spark's."""
        name = work.__name__

        def done(batches: Iterator[Any]) -> Iterator[Any]:
            from nomotheta.place.spark import lanes as there

            return getattr(there, name)(batches, blob)  # type: ignore[no-any-return]

        with step(self.name, f"{name} by the workers: {select}"):
            return self._session.table(self._frame(select).mapInArrow(done, schema))

    def _told(self, kinds: Mapping[str, Kind], rowset: str, work: Any, schema: str, *more: Any) -> Any:
        """The same of some columns of rows; None where one holds what is none of its kind."""
        select = f"SELECT {', '.join(map(quoted, kinds))} {rowset}"
        try:
            return self._by_workers(select, work, schema, lanes.packed(kinds, *more))
        except PlaceError as error:
            if lanes.UNALIKE in str(error):
                return None
            raise

    def lane_sums(self, kinds: Mapping[str, Kind], rowset: str) -> list[int] | None:
        """By the workers, each of its own rows."""
        found = self._told(kinds, rowset, lanes.sums, lanes.SUMS)
        return None if found is None else lanes.added(found.column(0).to_pylist(), len(kinds))

    def lane_buckets(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Any:
        """By the workers, each of its own rows."""
        found = self._told(kinds, rowset, lanes.in_buckets, lanes.BUCKETS, by, buckets)
        if found is None:
            return None
        names = found.column_names
        summed = found.group_by(names[0]).aggregate([(name, "sum") for name in names[1:]])
        return summed.select([names[0], *(f"{name}_sum" for name in names[1:])])

    def lane_hashes(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """By the workers, in sums: there is no quicker way to few buckets or many."""
        found = self._told(kinds, rowset, lanes.one_by_one, lanes.HASHES, by, buckets)
        if found is None:
            raise PlaceError(lanes.UNALIKE, where=f"place {self.name}")
        for batch in found.to_batches():
            yield batch.column(0).to_numpy(), batch.column(1).to_numpy().view("uint64")

    def lane_bucket(self, kinds: Mapping[str, Kind], by: Sequence[str], buckets: int) -> str:
        """By a function that the session is told of."""
        name = self._buckets.setdefault(lanes.packed(kinds, by, buckets), f"{_BUCKET}{len(self._buckets)}")
        columns = [quoted(each) for each in kinds if not by or each in by]
        return f"{name}({', '.join(columns)})"

    def _know_functions(self, sql: str) -> None:
        """Have the session know those functions of ours that a statement names."""
        for blob, name in self._buckets.items():
            if f"{name}(" in sql:
                self._register(name, _bucket_function(blob), numbers=True)
        if f"{REAL_TEXT}(" in sql:
            self._register(REAL_TEXT, _real_text)
        if f"{BEHIND}(" in sql:
            self._register(BEHIND, _seconds_behind, numbers=True)

    def _register(self, name: str, work: Any, *, numbers: bool = False) -> None:
        if name in self._known:
            return
        from pyspark.sql.connect.functions import arrow_udf
        from pyspark.sql.types import LongType, StringType

        work.__annotations__ = dict.fromkeys(
            [*work.__annotations__, "return"], pa.Array
        )  # by which Spark knows its sort
        with self._session.translated():
            self._session.spark.udf.register(name, arrow_udf(work, LongType() if numbers else StringType()))
        self._known.add(name)

    @functools.cached_property
    def _known(self) -> set[str]:
        return set()

    # ---- what is refused

    def _refuse(self) -> NoReturn:
        told = (
            "tables of Spark's own catalogue are not loaded: nothing there lets rows and the mark of a load in at once"
        )
        raise PlaceError(told, where=f"place {self.name}",
                         mend='load into a lake, which Spark reads too: url = "delta:///folder"')  # fmt: skip

    def transaction(self, *_tables: str) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def create(self, _table: str, _columns: Mapping[str, Kind]) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def append(self, _table: str, _columns: Sequence[str], _batches: Iterator[Any], _schema: Any) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def delete(self, _table: str, _where: str | None) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def carry_out(self, _statement: str, *, alone: bool = False) -> NoReturn:  # noqa: ARG002
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def changed(self, _sql: str) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def mark(self, _mark: Mark) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def unmark(self, _mark: Mark) -> NoReturn:
        """Not here.

        Raises:
            PlaceError: always.
        """
        self._refuse()

    def marks(self, _table: str) -> list[Mark]:
        """No load of ours brought any."""
        return []

    def next_load_no(self) -> int:
        """The first."""
        return 1

    def close(self) -> None:
        """End the session."""
        self._session.close()


def _real_text(values: Any) -> Any:
    from nomotheta.kinds.totals import canonical

    return pa.array([None if each is None else canonical(each, _REAL) for each in values.to_pylist()], pa.string())


def _seconds_behind(zones: Any, local: Any) -> Any:
    """By how many seconds UTC is ahead of local times (microseconds since 1970), null where the clocks skip them."""
    from nomotheta.kinds.zones import in_utc

    at = local.fill_null(0).to_numpy()
    moments, skipped = in_utc(at, zones[0].as_py() if len(zones) else "UTC")
    there = pa.array((moments - at) // 1_000_000)
    return pc.if_else(pc.or_(local.is_null(), pa.array(skipped)), None, there)


def _bucket_function(blob: bytes) -> Any:
    def bucket(*columns: Any) -> Any:
        import pickle

        from nomotheta.place.spark.lanes import bucket_of

        return bucket_of(*pickle.loads(blob), *columns)  # noqa: S301 - what our own driver has packed

    return bucket


def in_backticks(name: str) -> str:
    """A name as Spark itself quotes it."""
    return ".".join(f"`{part.replace('`', '``')}`" for part in name.split("."))


def _type_of(kind: Any) -> str:
    """Spark's name for an Arrow type."""
    if pa.types.is_decimal(kind):
        return spark_type(Kind("decimal", kind.precision, kind.scale))
    if pa.types.is_timestamp(kind):
        return "TIMESTAMP" if kind.tz else "TIMESTAMP_NTZ"
    names = (
        (pa.types.is_integer, "BIGINT"), (pa.types.is_floating, "DOUBLE"), (pa.types.is_boolean, "BOOLEAN"),
        (pa.types.is_date, "DATE"), (pa.types.is_binary, "BINARY"), (pa.types.is_large_binary, "BINARY"),
    )  # fmt: skip
    return next((name for is_so, name in names if is_so(kind)), "STRING")
