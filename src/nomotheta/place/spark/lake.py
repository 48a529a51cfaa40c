"""The tables of a lake, asked by Spark: one version each, over its files. Loads and marks are the lake's own affair."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa

from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.place.base import Facts, Mark, PlaceColumn
from nomotheta.place.delta.place import DeltaPlace
from nomotheta.place.delta.snapshot import LakeFile, Snapshot
from nomotheta.place.delta.types import Field
from nomotheta.place.marks import FILES
from nomotheta.place.render import text_literal
from nomotheta.place.spark.place import SparkPlace, in_backticks

_FILES, _FILE, _ROW = own("files"), "nomotheta_file", "nomotheta_row"
_TYPES = {
    "long": "BIGINT", "integer": "INT", "short": "SMALLINT", "byte": "TINYINT", "double": "DOUBLE", "float": "FLOAT",
    "boolean": "BOOLEAN", "date": "DATE", "timestamp": "TIMESTAMP", "timestamp_ntz": "TIMESTAMP_NTZ",
    "string": "STRING", "binary": "BINARY",
}  # fmt: skip
_PATTERN = re.compile(r"[][{}*?\\]")  # what Spark does not take for a name
_SPECIAL = re.compile(rf"{_PATTERN.pattern}|(^|/)[_.]")  # or hides


class SparkLake(SparkPlace):
    """A lake whose rows an engine looks at; it is only asked, never loaded."""

    def __init__(self, lake: DeltaPlace, engine: str, url: str) -> None:
        super().__init__(lake.name, url, lake.shown, where=f"engine {engine}")
        self._lake = lake
        self._viewed: dict[str, tuple[str, int]] = {}

    def facts(self) -> Facts:
        """What the lake says."""
        return self._lake.facts()

    # ---- the tables

    def named(self, table: str) -> str:
        """A table is known to the session by its whole name."""
        return quoted(table)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """As the lake has them; what it notes to be a time of day or a UUID is a text to Spark."""
        return [_as_text(column) for column in found] if (found := self._lake.columns(table)) is not None else None

    def tables(self) -> list[str]:
        """All tables of the lake."""
        return self._lake.tables()

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return self._lake.home()

    def changes_rows(self, table: str) -> bool:
        """Rows lie in files as they were put there."""
        return self._lake.changes_rows(table)

    def stored(self, table: str) -> list[str]:
        """The columns in which values can be put."""
        return self._lake.stored(table)

    def one_view(self, others: Sequence[Any], tables: Sequence[str]) -> contextlib.AbstractContextManager[bool]:
        """All keep to the versions of this moment."""
        return self._lake.one_view([other._lake for other in others], tables)

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """The columns of a query."""
        self._prepare(query)
        return super().columns_of(query)

    def _frame(self, sql: str) -> Any:
        self._prepare(sql)
        return super()._frame(sql)

    def _prepare(self, sql: str) -> None:
        """Have the session know the tables that a statement may name."""
        for table in self._lake.named_in(sql):
            shown = self._lake.shown_as(table)
            if shown is None:
                continue
            snapshot, kept = shown
            key = (snapshot.folder, snapshot.version)
            if self._viewed.get(table) == key:
                continue
            rows = self._rows_of(snapshot)
            if kept is not None:
                if kept[1].where:  # which is written in the words of the embedded engine
                    raise PlaceError(f"{table} are rows of an older version, which an engine is not told of",
                                     where=snapshot.where, mend="ask without an engine: --engine none")  # fmt: skip
                rows = f"SELECT {', '.join(map(quoted, kept[1].columns))} FROM ({rows})"
            super()._frame(f"CREATE OR REPLACE TEMPORARY VIEW {quoted(table)} AS {rows}")
            self._viewed[table] = key

    def _rows_of(self, snapshot: Snapshot) -> str:
        """A SELECT of the rows of a version; its files are known to the session as views, one for each partition.

        Raises:
            PlaceError: Spark would not read all of its rows as they are meant.
        """
        files = self._lake.checked_files(snapshot)
        fields = [field for field in snapshot.fields if _type(field)]
        if not files:
            cells = ", ".join(f"CAST(NULL AS {_type(field)}) AS {quoted(field.name)}" for field in fields)
            return f"SELECT {cells} WHERE FALSE"
        parts: dict[tuple[tuple[Any, ...], bool], list[LakeFile]] = {}
        for file in files:
            parts.setdefault((file.partition, file.deleted), []).append(file)
        return " UNION ALL ".join(
            self._of_partition(snapshot, fields, values, some, f"{_FILES} {snapshot.table} {at}")
            for at, ((values, _), some) in enumerate(parts.items())
        )

    def _of_partition(
        self, snapshot: Snapshot, fields: Sequence[Field], values: Sequence[Any], files: Sequence[LakeFile], view: str
    ) -> str:  # fmt: skip
        given = dict(zip(snapshot.partitioned, values, strict=True)) if snapshot.partitioned else {}
        held = [field for field in fields if field.name not in given]
        root = self._lake.seen_by_workers(snapshot.folder)
        odd = next((file.path for file in files if _SPECIAL.search(file.path)), None)
        odd = root if _PATTERN.search(root) else odd
        if odd is not None:
            raise PlaceError(f"Spark does not read a file by this name: {odd}", where=snapshot.where,
                             mend="ask without an engine: --engine none")  # fmt: skip
        types = ", ".join(f"{in_backticks(field.physical)} {_type(field)}" for field in held)
        with self._session.translated():
            rows = self._session.spark.read.schema(types).parquet(*(f"{root}/{file.path}" for file in files))
            seen = len(rows.inputFiles())
            if files[0].deleted:
                rows = self._without_deleted(snapshot, rows, files)
            rows.createOrReplaceTempView(in_backticks(view))
        if seen != len(files):
            told = f"the table has {len(files):,} files, and the engine sees {seen:,}"
            mend = "see that its workers reach the same folder, or ask without it: --engine none"
            raise PlaceError(told, where=snapshot.where, mend=mend)
        cells = [
            f"CAST({_literal(given[field.name])} AS {_type(field)}) AS {quoted(field.name)}" if field.name in given
            else f"{quoted(field.physical)} AS {quoted(field.name)}"
            for field in fields
        ]  # fmt: skip
        return f"SELECT {', '.join(cells)} FROM {quoted(view)}"

    def _without_deleted(self, snapshot: Snapshot, rows: Any, files: Sequence[LakeFile]) -> Any:
        """The rows of files, as a data frame of Spark's, less those that are deleted from them.

        Raises:
            PlaceError: Spark cannot tell the files apart.
        """
        from pyspark.sql.connect import functions as f

        names = [file.path.rpartition("/")[2] for file in files]  # as Spark tells them, if nothing in them is quoted
        if len({*names}) < len(names) or any("%" in name for name in names):
            raise PlaceError("rows are deleted from files whose names the engine does not tell apart",
                             where=snapshot.where, mend="ask without an engine: --engine none")  # fmt: skip
        numbers = [snapshot.deleted[file.path] for file in files]
        named = pa.array([name for name, own in zip(names, numbers, strict=True) for _ in range(len(own))], pa.string())
        gone = self._session.spark.createDataFrame(
            pa.table({_FILE: named, _ROW: pa.chunked_array(numbers, pa.int64())}), f"{_FILE} STRING, {_ROW} BIGINT"
        )
        located = rows.select("*", f.col("_metadata.file_name").alias(_FILE), f.col("_metadata.row_index").alias(_ROW))
        return located.join(gone, [_FILE, _ROW], "left_anti").drop(_FILE, _ROW)

    # ---- what the lake remembers

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        return self._lake.marks(table)

    def next_load_no(self) -> int:
        """One more than the highest number so far."""
        return self._lake.next_load_no()

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table; what loads brought, the lake itself knows."""
        return self._lake.fetch(sql) if FILES in sql else super().fetch(sql)

    def close(self) -> None:
        """Let go of both."""
        super().close()
        self._lake.close()


def _as_text(column: PlaceColumn) -> PlaceColumn:
    texts = column.kind is not None and column.kind.name in {"uuid", "time"}
    return replace(column, kind=Kind("text")) if texts else column


def _type(field: Field) -> str:
    """Spark's name for the type of a column; empty for one that no kind stands for."""
    found = re.fullmatch(r"decimal\((\d+),(\d+)\)", field.type_name)
    return f"DECIMAL({found[1]},{found[2]})" if found else _TYPES.get(field.type_name, "")


def _literal(value: Any) -> str:
    if isinstance(value, bytes):
        return f"unhex('{value.hex()}')"
    return "NULL" if value is None else text_literal(str(value))
