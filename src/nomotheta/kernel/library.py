"""The shared library, found once. Calls release the interpreter's lock, so that blocks are read side by side."""

from __future__ import annotations

import ctypes
import functools
import os
from pathlib import Path
from typing import Any

import numpy as np

VERSION = 4
FIELDS = "YmdHMS"  # of a plain form
PLAIN_WIDTH, WIDEST, MOST_FIELDS = 24, 64, 10
_u8, _i32, _i64, _pointer = ctypes.c_uint8, ctypes.c_int32, ctypes.c_int64, ctypes.c_void_p


class CWords(ctypes.Structure):
    """`words_t`."""

    _fields_ = (("text", ctypes.c_char_p), ("edges", _pointer), ("count", _i64))


class CField(ctypes.Structure):
    """`field_t`."""

    _fields_ = (("sign", _i32), ("at", _i32), ("width", _i32), ("brief", _i32))


class CForm(ctypes.Structure):
    """`form_t`."""

    _fields_ = (
        ("width", _i32), ("plain", _i32), ("places", _i32 * len(FIELDS)), ("written", _u8 * PLAIN_WIDTH),
        ("literal", _u8 * PLAIN_WIDTH), ("digit", _u8 * PLAIN_WIDTH), ("text", _u8 * WIDEST), ("fixed", _u8 * WIDEST),
        ("count", _i32), ("century", _i32), ("fields", CField * MOST_FIELDS), ("months", CWords),
        ("months_short", CWords),
    )  # fmt: skip


class CColumn(ctypes.Structure):
    """`column_t`."""

    _fields_ = (
        ("sort", _i32), ("digits", _i32), ("scale", _i32), ("mark", _i32), ("clock", _i32), ("form_count", _i32),
        ("forms", ctypes.POINTER(CForm)), ("words", CWords), ("out", _pointer), ("state", _pointer),
        ("text", _pointer), ("edges", _pointer), ("valid", _pointer), ("used", _i64), ("missing", _i64), ("odd", _i64),
        ("worded", _i64), ("first_worded", _i64),
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


class CMember(ctypes.Structure):
    """`member_t`."""

    _fields_ = (("text", _pointer), ("sorts", _pointer), ("edges", _pointer), ("used", _i64))


SHARED = (CWords, CArray, CForm, CColumn, CWire, CMember)


@functools.cache
def library() -> Any | None:
    """The kernel; None where there is none, it is of another version, or NOMOTHETA_NO_KERNEL says to do without it."""
    return None if os.environ.get("NOMOTHETA_NO_KERNEL", "") not in {"", "0"} else _loaded()


def _loaded() -> Any | None:
    try:
        # another build of the same source, such as one that watches over its memory
        path = os.environ.get("NOMOTHETA_KERNEL") or str(Path(__file__).with_name("kernel.so"))
        found = ctypes.CDLL(path)
        sizes = (_i64 * len(SHARED))()
        if found.kernel_version(sizes) != VERSION or list(sizes) != [ctypes.sizeof(each) for each in SHARED]:
            return None  # a call would read and write what is not there
        for name in ("read_block", "count_byte", "scan", "read_objects", "copy_rows", "bulk_rows", "look_blank",
                     "look_longest", "look_hashes", "look_among", "look_places", "look_outside", "lane",
                     "lane_rows", "packet_rows", "packet_texts"):  # fmt: skip
            getattr(found, name).restype = _i64
        found.survey.restype = None
    except (OSError, AttributeError):
        return None
    return found


def address(array: np.ndarray[Any, Any]) -> Any:
    """Where an array's first value is; the caller keeps the array."""
    return _pointer(array.ctypes.data)
