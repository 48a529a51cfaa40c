"""The hashes of cells and rows (`lanes.c`), of Arrow arrays as they lie in memory."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.library import CArray, address

SORTS = {
    "integer": 1, "boolean": 2, "date": 3, "timestamp": 4, "timestamptz": 4, "text": 5, "decimal": 6, "real": 7,
    "uuid": 8, "binary": 9, "time": 10,
}  # fmt: skip
Hashes = NDArray[np.uint64]
_i32, _i64, _u64 = ctypes.c_int32, ctypes.c_int64, ctypes.c_uint64


def mix_in(array: Any, sort: str, scale: int, seed: int, rows: Hashes) -> int | None:
    """Mix the hashes of n cells into those of their rows, in place; the sum of them.

    None where there is no kernel: then nothing is done.
    """
    kernel, total = kernel_of.library(), _u64(0)
    if kernel is None:
        return None
    done = kernel.lane(_array(array), _i32(SORTS[sort]), _i32(scale), _u64(seed), address(rows), ctypes.byref(total))
    if done != len(array):
        raise MemoryError
    return int(total.value)


def end_rows(rows: Hashes) -> int | None:
    """Make what the cells of n rows came to the hashes of the rows, in place; the sum of them. None as above."""
    kernel, total = kernel_of.library(), _u64(0)
    if kernel is None:
        return None
    kernel.lane_rows(_i64(len(rows)), address(rows), ctypes.byref(total))
    return int(total.value)


def _array(array: Any) -> CArray:
    """`array_t`, for as long as the array is kept."""
    valid, *rest = array.buffers()
    width = array.type.bit_width // 8 if len(rest) == 1 else 0
    edges = rest[0].address + 4 * array.offset if len(rest) == 2 and rest[0] is not None else None
    data = rest[-1].address + width * array.offset if rest[-1] is not None else None
    bits = valid.address if valid is not None and array.null_count else None
    return CArray(data, bits, edges, array.offset, len(array))
