"""Plain checks on an Arrow array, as it lies in memory. Each gives None where there is no kernel."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.cells import Words
from nomotheta.kernel.library import CArray, address

Bools = NDArray[np.bool_]
Marks = NDArray[np.uint8]
_i32, _i64 = ctypes.c_int32, ctypes.c_int64


def blank(texts: Any, unsure: Bools) -> Marks | None:
    """Which of n texts are null or empty (1), or begin with a byte that is one of the 256 in `unsure` (2)."""
    return _marks("look_blank", _texts(texts), address(unsure))


def longest(texts: Any) -> int | None:
    """The most bytes that one of some texts has; -1 where a NUL is in one."""
    kernel = kernel_of.library()
    return None if kernel is None else int(kernel.look_longest(_texts(texts)))


def hashes(texts: Any, seed: int = 0) -> NDArray[np.uint64] | None:
    """A hash of every one of n texts; 0 for null."""
    kernel = kernel_of.library()
    if kernel is None:
        return None
    out = np.empty(len(texts), np.uint64)
    kernel.look_hashes(_texts(texts), ctypes.c_uint64(seed), address(out))
    return out


def none_of(texts: Any, words: Words) -> Bools | None:
    """Which of n texts are none of some words; a null is no such."""
    return _bools(_marks("look_among", _texts(texts), words.c()))


def misplaced(texts: Any, allowed: Bools) -> Bools | None:
    """Which of n texts have not as many bytes as `allowed` has rows, each one that its row of 256 allows."""
    return _bools(_marks("look_places", _texts(texts), _i32(len(allowed)), address(allowed)))


def outside(values: Any, least: int, most: int) -> Bools | None:
    """Which of n values of 32, 64 or 128 bits, taken for whole numbers, are not from `least` to `most` (64 bits)."""
    width, (valid, data) = values.type.bit_width // 8, values.buffers()
    array = CArray(_place(data, width * values.offset), _valid(values, valid), None, values.offset, len(values))
    return _bools(_marks("look_outside", array, _i32(width), _i64(least), _i64(most)))


def _marks(name: str, array: CArray, *more: Any) -> Marks | None:
    kernel = kernel_of.library()
    if kernel is None:
        return None
    marks = np.zeros(array.count, np.uint8)
    getattr(kernel, name)(array, *more, address(marks))
    return marks


def _bools(marks: Marks | None) -> Bools | None:
    return None if marks is None else marks.view(np.bool_)


def _texts(texts: Any) -> CArray:
    """`array_t`, for as long as the texts are kept."""
    valid, edges, data = texts.buffers()
    return CArray(_place(data, 0), _valid(texts, valid), _place(edges, 4 * texts.offset), texts.offset, len(texts))


def _place(buffer: Any, ahead: int) -> int | None:
    return None if buffer is None else buffer.address + ahead


def _valid(array: Any, bits: Any) -> int | None:
    return bits.address if bits is not None and array.null_count else None
