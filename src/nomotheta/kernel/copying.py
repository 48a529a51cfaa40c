"""Rows of Arrow batches in the binary form of PostgreSQL's COPY (its documentation, COPY, "Binary Format")."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.library import CWire, address

HEAD = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TAIL = b"\xff\xff"
_BOOL, _INT16, _INT32, _INT64, _FLOAT32, _FLOAT64, _DATE, _TIMESTAMP, _TEXT, _UUID, _NUMERIC = range(11)
_SORTS = {
    pa.bool_(): _BOOL, pa.int16(): _INT16, pa.int32(): _INT32, pa.int64(): _INT64, pa.float32(): _FLOAT32,
    pa.float64(): _FLOAT64, pa.date32(): _DATE, pa.time64("us"): _INT64, pa.timestamp("us"): _TIMESTAMP,
    pa.timestamp("us", "UTC"): _TIMESTAMP, pa.string(): _TEXT, pa.binary(): _TEXT, pa.uuid(): _UUID,
}  # fmt: skip
_WIDTHS = {
    _BOOL: 0, _INT16: 2, _INT32: 4, _FLOAT32: 4, _DATE: 4, _INT64: 8, _FLOAT64: 8, _TIMESTAMP: 8, _UUID: 16,
    _NUMERIC: 16,
}  # fmt: skip
_WIDEST = 64  # bytes of a value of fixed width, with its length


def can_copy() -> bool:
    """Whether there is a kernel to write them."""
    return kernel_of.library() is not None


def copy_rows(batch: Any) -> NDArray[np.uint8]:
    """The rows of a `pa.RecordBatch`, without head and tail."""
    kernel = kernel_of.library()
    assert kernel is not None  # noqa: S101 - can_copy() says so
    columns = (CWire * batch.num_columns)()
    room = batch.num_rows * 2
    for wire, column in zip(columns, batch.columns, strict=True):
        room += _filled(wire, column.storage if column.type == pa.uuid() else column, column.type)
    out = np.empty(room, np.uint8)
    size = kernel.copy_rows(
        columns, ctypes.c_int64(batch.num_columns), ctypes.c_int64(batch.num_rows), address(out)
    )  # fmt: skip
    return out[:size]


def _filled(wire: CWire, column: Any, of: Any) -> int:
    """Say where a column's values are; how many bytes they take at most."""
    buffers, offset = column.buffers(), column.offset
    wire.sort = _NUMERIC if pa.types.is_decimal128(of) else _SORTS[of]
    wire.scale = of.scale if wire.sort == _NUMERIC else 0
    wire.first = offset
    wire.valid = buffers[0].address if buffers[0] is not None and column.null_count else None
    data = buffers[-1].address if buffers[-1] is not None else None
    if wire.sort == _TEXT:
        wire.values, wire.edges = data, buffers[1].address + 4 * offset
        edges = np.frombuffer(buffers[1], np.int32)[[offset, offset + len(column)]] if len(column) else [0, 0]
        return int(edges[1] - edges[0]) + 4 * len(column)
    wire.values = data + offset * _WIDTHS[wire.sort] if data is not None else None
    return _WIDEST * len(column)
