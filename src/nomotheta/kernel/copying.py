"""Rows of Arrow batches as databases take them.

In the binary form of PostgreSQL's COPY (its documentation, COPY, "Binary Format"), or in that of MariaDB's bulk
execution (its documentation, "COM_STMT_BULK_EXECUTE").
"""

from __future__ import annotations

import ctypes
from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.library import CWire, address

HEAD = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TAIL = b"\xff\xff"
_BOOL, _INT16, _INT32, _INT64, _FLOAT32, _FLOAT64, _DATE, _TIMESTAMP, _TEXT, _UUID, _NUMERIC, _TIME = range(12)
_SORTS = {
    pa.bool_(): _BOOL, pa.int16(): _INT16, pa.int32(): _INT32, pa.int64(): _INT64, pa.float32(): _FLOAT32,
    pa.float64(): _FLOAT64, pa.date32(): _DATE, pa.time64("us"): _INT64, pa.timestamp("us"): _TIMESTAMP,
    pa.timestamp("us", "UTC"): _TIMESTAMP, pa.string(): _TEXT, pa.binary(): _TEXT, pa.uuid(): _UUID,
}  # fmt: skip
_BULK_SORTS = {**_SORTS, pa.time64("us"): _TIME}
_WIDTHS = {
    _BOOL: 0, _INT16: 2, _INT32: 4, _FLOAT32: 4, _DATE: 4, _INT64: 8, _FLOAT64: 8, _TIMESTAMP: 8, _TIME: 8, _UUID: 16,
    _NUMERIC: 16,
}  # fmt: skip
_WIDEST = 64  # bytes of a value of fixed width, with its length
_SIZE = 10  # bytes before a text: whether it is null, and its length


def in_use() -> bool:
    """Whether there is a kernel, and it is the one that this package was made for."""
    return kernel_of.library() is not None


def can_copy() -> bool:
    """Whether there is a kernel to write them."""
    return kernel_of.library() is not None


def copy_rows(batch: Any) -> NDArray[np.uint8]:
    """The rows of a `pa.RecordBatch`, without head and tail."""
    columns, width, count, room = _wired(batch, _SORTS)
    kernel: Any = kernel_of.library()
    out = np.empty(room + 2 * batch.num_rows, np.uint8)
    return out[: kernel.copy_rows(columns, width, count, address(out))]


def bulk_rows(batch: Any, step: int) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """The rows of a `pa.RecordBatch` for a bulk execution, and the bytes that each `step` of them ends with.

    Booleans take a byte, integers and reals eight, moments a length and their parts; decimals are text.
    """
    columns, width, count, room = _wired(batch, _BULK_SORTS)
    kernel: Any = kernel_of.library()
    out = np.empty(room + _SIZE * batch.num_rows * batch.num_columns, np.uint8)
    ends = np.empty(max(1, -(-batch.num_rows // step)), np.int64)
    done = kernel.bulk_rows(columns, width, count, ctypes.c_int64(step), address(out), address(ends))
    return out[:done], ends


def _wired(batch: Any, sorts: Mapping[Any, int]) -> tuple[Any, Any, Any, int]:
    """The columns of a batch as the kernel knows them; how many, how many rows, and the bytes they may take."""
    columns = (CWire * batch.num_columns)()
    room = 0
    for wire, column in zip(columns, batch.columns, strict=True):
        room += _filled(wire, column.storage if column.type == pa.uuid() else column, column.type, sorts)
    return columns, ctypes.c_int64(batch.num_columns), ctypes.c_int64(batch.num_rows), room


def _filled(wire: CWire, column: Any, of: Any, sorts: Mapping[Any, int]) -> int:
    """Say where a column's values are; how many bytes they take at most."""
    buffers, offset = column.buffers(), column.offset
    wire.sort = _NUMERIC if pa.types.is_decimal128(of) else sorts[of]
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
