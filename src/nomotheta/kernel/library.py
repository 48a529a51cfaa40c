"""The shared library, found once. Calls release the interpreter's lock, so that blocks are read side by side."""

from __future__ import annotations

import ctypes
import functools
from pathlib import Path
from typing import Any

import numpy as np

FIELDS = "YmdHMS"
WIDEST = 24
_u8, _i32, _i64, _pointer = ctypes.c_uint8, ctypes.c_int32, ctypes.c_int64, ctypes.c_void_p


class CForm(ctypes.Structure):
    """`form_t`."""

    _fields_ = (
        ("width", _i32), ("fields", _i32 * len(FIELDS)), ("written", _u8 * WIDEST), ("literal", _u8 * WIDEST),
        ("digit", _u8 * WIDEST),
    )  # fmt: skip


class CWords(ctypes.Structure):
    """`words_t`."""

    _fields_ = (("text", ctypes.c_char_p), ("edges", _pointer), ("count", _i64))


class CColumn(ctypes.Structure):
    """`column_t`."""

    _fields_ = (
        ("sort", _i32), ("digits", _i32), ("scale", _i32), ("mark", _i32), ("clock", _i32), ("form_count", _i32),
        ("forms", ctypes.POINTER(CForm)), ("words", CWords), ("out", _pointer), ("state", _pointer),
        ("text", _pointer), ("edges", _pointer), ("valid", _pointer), ("used", _i64), ("missing", _i64), ("odd", _i64),
    )  # fmt: skip


class CArray(ctypes.Structure):
    """`array_t`."""

    _fields_ = (("values", _pointer), ("valid", _pointer), ("edges", _pointer), ("first", _i64), ("count", _i64))


class CWire(ctypes.Structure):
    """`wire_t`."""

    _fields_ = (
        ("values", _pointer), ("valid", _pointer), ("edges", _pointer), ("first", _i64), ("sort", _i32),
        ("scale", _i32),
    )  # fmt: skip


@functools.cache
def library() -> Any | None:
    """The kernel, or None where it was not compiled or does not load."""
    try:
        found = ctypes.CDLL(str(Path(__file__).with_name("kernel.so")))
        found.read_block.restype = found.count_byte.restype = found.scan.restype = _i64
        found.copy_rows.restype = found.bulk_rows.restype = _i64
        found.survey.restype = None
        for look in (found.look_blank, found.look_longest, found.look_among, found.look_places, found.look_outside):
            look.restype = _i64
    except (OSError, AttributeError):
        return None
    return found


def address(array: np.ndarray[Any, Any]) -> Any:
    """Where an array's first value is; the caller keeps the array."""
    return _pointer(array.ctypes.data)
