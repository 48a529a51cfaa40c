"""Rows of Arrow batches as text, a column at a time, for databases that are fed by text."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc


def cell_texts(column: Any) -> Any:
    """N values of any kind as a string array, in the forms of ISO 8601; booleans as 1 and 0, bytes as hex digits."""
    of = column.type
    if pa.types.is_string(of):
        return column
    if pa.types.is_boolean(of):
        return pc.if_else(column, "1", "0")
    if pa.types.is_binary(of):
        return pa.array([None if value is None else value.hex() for value in column.to_pylist()], pa.string())
    if pa.types.is_timestamp(of) and of.tz:
        column = column.cast(pa.timestamp("us"))
    return column.cast(pa.string())


def joined_rows(
    batch: Any, cell: Callable[[Any], Any], *, null: str, between: str, first: str = "", last: str = ""
) -> Any:  # fmt: skip
    """The rows of a `pa.RecordBatch` as a string array.

    Args:
        batch: N rows.
        cell: makes the texts of a column such as the reader needs them.
        null: stands for no value.
        between: stands between two cells.
        first: opens a row.
        last: ends a row.
    """
    cells = [pc.fill_null(cell(column), null) for column in batch.columns]
    joined = pc.binary_join_element_wise(*cells, between)
    return pc.binary_join_element_wise(first, joined, last, "") if first or last else joined


def text_bytes(texts: Any) -> memoryview:
    """N texts, one behind the other, without a copy."""
    edges = pa.Array.from_buffers(pa.int32(), len(texts) + 1, [None, texts.buffers()[1]], offset=texts.offset)
    if not len(texts):
        return memoryview(b"")
    return memoryview(texts.buffers()[2])[edges[0].as_py() : edges[len(texts)].as_py()]
