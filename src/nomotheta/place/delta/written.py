"""Rows on their way into a Delta table: Parquet files beside its others, with the statistics that the log keeps."""

from __future__ import annotations

import datetime
import decimal
import json
import math
import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from nomotheta.frozen import frozen
from nomotheta.kinds.native import as_texts
from nomotheta.place.delta.store import Store
from nomotheta.place.delta.types import Field

_ROWS, _BYTES = 122_880, 256 << 20  # of a row group, and of a file: what analytic engines read well
_SAMPLE, _FEW = 8_192, 4  # rows that are looked at, and of how many of them one may have a value of its own
_STATED, _LETTERS = 32, 32  # columns that have statistics, and letters of their texts
_LAST_LETTER = "\U0010ffff"


@frozen
class Written:
    """A file that was written: its path within the table, bytes, rows, and statistics as JSON."""

    path: str
    size: int
    rows: int
    stats: str


class Placed:
    """Rows that are in files of the table already; read again only where they are to be merged."""

    def __init__(self, store: Store, folder: str, files: Sequence[Written]) -> None:
        self.files = files
        self._batches = _read(store, folder, files)

    def __iter__(self) -> Iterator[Any]:
        return self

    def __next__(self) -> Any:
        return next(self._batches)


def _read(store: Store, folder: str, files: Sequence[Written]) -> Iterator[Any]:
    for each in files:
        with store.files.open_input_file(f"{folder}/{each.path}") as file:
            yield from pq.ParquetFile(file).iter_batches(use_threads=False)


class Writer:
    """Writes record batches into files of a table, none much larger than it should be."""

    def __init__(self, store: Store, table: str, prefix: str, fields: Sequence[Field]) -> None:
        self.store, self.table, self.prefix = store, table, prefix
        self.fields = {field.name: field for field in fields}
        self.schema = pa.schema([pa.field(field.name, _arrow(field), field.nullable) for field in fields])
        self.begun: list[str] = []

    def write(self, batches: Iterable[Any]) -> Iterator[Written]:
        """The files that some rows went into, each once it is whole."""
        pieces = iter(_groups(batches))
        piece = next(pieces, None)
        while piece is not None:
            path = f"{self.prefix}-{len(self.begun):05d}.parquet"
            self.begun.append(path)
            kept: list[Any] = []
            rows, odd = 0, set[str]()
            with self.store.reached(), self.store.files.open_output_stream(f"{self.table}/{path}") as file:
                with pq.ParquetWriter(
                    file, self.schema, compression="snappy", use_dictionary=_few(piece), metadata_collector=kept,
                    store_schema=False, write_page_index=False, coerce_timestamps="us",
                ) as writer:  # fmt: skip
                    while piece is not None and file.tell() < _BYTES:
                        table = self._fitted(piece)
                        odd |= _without_order(table)
                        writer.write_table(table, row_group_size=_ROWS)
                        rows += table.num_rows
                        piece = next(pieces, None)
                size = file.tell()
            yield Written(path, size, rows, statistics(kept[0], self.fields, odd))

    def _fitted(self, piece: Any) -> Any:
        """Rows in the types and the order of the table; a column that is not given is null."""
        arrays = []
        for field in self.schema:
            at = piece.schema.get_field_index(field.name)
            arrays.append(_sent(piece.column(at), field.type) if at >= 0 else pa.nulls(piece.num_rows, field.type))
        return pa.table(arrays, schema=self.schema)


def _without_order(table: Any) -> set[str]:
    """The columns with values that are no number."""
    reals = [field.name for field in table.schema if pa.types.is_floating(field.type)]
    return {name for name in reals if pc.any(pc.is_nan(table.column(name))).as_py()}


def _few(piece: Any) -> list[str]:
    """The columns that have few different values: a dictionary of the others is made only to be given up again."""
    sample = piece.slice(0, _SAMPLE)
    return [
        name for name in sample.column_names
        if pc.count_distinct(sample.column(name), "all").as_py() * _FEW <= sample.num_rows
    ]  # fmt: skip


def _groups(batches: Iterable[Any]) -> Iterator[Any]:
    """Record batches together as tables of about a row group."""
    waiting: list[Any] = []
    count = 0
    for batch in batches:
        if batch.num_rows:
            waiting.append(batch)
            count += batch.num_rows
        if count >= _ROWS:
            yield pa.Table.from_batches(waiting)
            waiting, count = [], 0
    if waiting:
        yield pa.Table.from_batches(waiting)


def _arrow(field: Field) -> Any:
    if field.type_name.startswith("decimal"):
        digits, scale = field.type_name[8:-1].split(",")
        return pa.decimal128(int(digits), int(scale))
    return {
        "long": pa.int64(), "integer": pa.int32(), "short": pa.int16(), "byte": pa.int8(), "double": pa.float64(),
        "float": pa.float32(), "boolean": pa.bool_(), "date": pa.date32(), "timestamp": pa.timestamp("us", "UTC"),
        "timestamp_ntz": pa.timestamp("us"), "string": pa.string(), "binary": pa.binary(),
    }[field.type_name]  # fmt: skip


def _sent(column: Any, of: Any) -> Any:
    """A column as the table has it; times of day and UUIDs are texts there."""
    if column.type == of:
        return column
    if pa.types.is_string(of) and not pa.types.is_string(column.type):
        return as_texts(column.combine_chunks())
    return column.cast(of)


# ---- statistics, as Delta's protocol has them ("Per-file Statistics")


def statistics(metadata: Any, fields: Mapping[str, Field], unranked: Collection[str]) -> str:
    """What the log says of a file, from what its Parquet metadata says: rows, nulls, least and greatest values.

    Of `unranked` columns the latter are not told: there may be values among them that are no number.
    """
    least: dict[str, Any] = {}
    greatest: dict[str, Any] = {}
    nulls: dict[str, int] = {}
    names = [metadata.schema.column(at).name for at in range(min(metadata.num_columns, _STATED))]
    groups = [metadata.row_group(at) for at in range(metadata.num_row_groups)]
    for at, name in enumerate(names):
        of = [group.column(at).statistics for group in groups]
        if any(each is None or not each.has_null_count for each in of):
            continue
        field = fields[name]
        if field.type_name == "binary":
            continue
        nulls[field.physical] = sum(each.null_count for each in of)
        filled = [each for each, group in zip(of, groups, strict=True) if each.null_count < group.num_rows]
        if filled and all(each.has_min_max for each in filled):
            low, high = _low(min(each.min for each in filled)), _high(max(each.max for each in filled))
            if low is not None and high is not None and name not in unranked:
                least[field.physical], greatest[field.physical] = low, high
    told = {"numRecords": metadata.num_rows, "minValues": least, "maxValues": greatest, "nullCount": nulls}
    return json.dumps(told, ensure_ascii=False)


def _low(value: Any) -> Any:
    """A least value, or one below it, as statistics hold it; None where they hold none such."""
    if isinstance(value, str):
        return value[:_LETTERS]
    if isinstance(value, datetime.datetime):
        return _moment(value)
    if isinstance(value, decimal.Decimal):
        near = float(value)
        return near if decimal.Decimal(near) <= value else math.nextafter(near, -math.inf)
    return _plain(value)


def _high(value: Any) -> Any:
    """A greatest value, or one above it."""
    if isinstance(value, str):
        if len(value) <= _LETTERS:
            return value
        return None if value[_LETTERS] == _LAST_LETTER else value[:_LETTERS] + _LAST_LETTER
    if isinstance(value, datetime.datetime):
        above = datetime.timedelta(microseconds=(1_000 - value.microsecond % 1_000) % 1_000)
        if value.replace(tzinfo=None) > datetime.datetime.max - above:
            return None
        return _moment(value + above)
    if isinstance(value, decimal.Decimal):
        near = float(value)
        return near if decimal.Decimal(near) >= value else math.nextafter(near, math.inf)
    return _plain(value)


def _moment(value: datetime.datetime) -> str:
    """To the millisecond."""
    zone = "" if value.tzinfo is None else "Z"
    return value.replace(tzinfo=None).isoformat(timespec="milliseconds") + zone


def _plain(value: Any) -> Any:
    if isinstance(value, datetime.date):
        return value.isoformat()
    return value if isinstance(value, int) or (isinstance(value, float) and math.isfinite(value)) else None


def now_ms() -> int:
    """The moment, in milliseconds since 1970."""
    return int(time.time() * 1000)
