"""Rows of MariaDB's text protocol as Arrow arrays of texts, by the compiled kernel."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.frozen import frozen
from nomotheta.kernel.library import address, library

MORE, AT_END, AT_ERROR, AT_LARGE, MALFORMED = range(5)  # what comes behind the rows
_MOST = 1 << 16  # rows at a time


@frozen
class Packets:
    """Some rows, as an array of texts a column; how many bytes they took, and what comes behind them."""

    columns: list[Any]
    rows: int
    taken: int
    behind: int


def is_there() -> bool:
    """Whether there is a kernel to read them."""
    return library() is not None


def read_packets(data: memoryview, columns: int) -> Packets:
    """The whole rows that some bytes of n `columns` begin with."""
    kernel = library()
    assert kernel is not None  # noqa: S101 - asked only where there is one
    source = np.frombuffer(data, np.uint8)
    sizes, ends = np.zeros(columns, np.int64), np.zeros(2, np.int64)
    given = (address(source), ctypes.c_int64(len(source)), ctypes.c_int64(columns))
    rows = int(kernel.packet_rows(*given, ctypes.c_int64(_MOST), address(sizes), address(ends)))
    texts = [np.empty(int(size), np.uint8) for size in sizes]
    edges = [np.empty(rows + 1, np.int32) for _ in sizes]
    valid = [np.empty(rows, np.uint8) for _ in sizes]
    lists = [(ctypes.c_void_p * columns)(*(each.ctypes.data for each in part)) for part in (texts, edges, valid)]
    kernel.packet_texts(address(source), ctypes.c_int64(rows), ctypes.c_int64(columns), *lists)
    made = [_array(*parts) for parts in zip(texts, edges, valid, strict=True)]
    return Packets(made, rows, int(ends[0]), int(ends[1]))


def _array(text: Any, edges: Any, valid: Any) -> Any:
    bits = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    buffers = [bits, pa.py_buffer(edges), pa.py_buffer(text)]
    return pa.Array.from_buffers(pa.string(), len(valid), buffers)
