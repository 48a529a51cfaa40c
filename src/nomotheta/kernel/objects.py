"""Lines of JSON taken apart into the members that are wanted."""

from __future__ import annotations

import ctypes
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.frozen import frozen
from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.cells import Words, room_for
from nomotheta.kernel.library import CArray, CMember, address

SOUND, NO_OBJECT, TWICE, UNKNOWN = range(4)
ABSENT, NOTHING, TEXT, VALUE = range(4)


@frozen
class Objects:
    """The cells of n lines: of each member its texts, its other values as they are written, and what each cell is.

    `verdicts` say of each line whether it is SOUND, or why it has no cells.
    """

    texts: Sequence[Any]
    values: Sequence[Any]
    sorts: Sequence[NDArray[np.uint8]]
    verdicts: NDArray[np.uint8]


def read_objects(lines: Any, names: Sequence[str], *, strict: bool) -> Objects | None:
    """The members of the objects in a `pa.StringArray` of lines; None where there is no kernel.

    Args:
        lines: n texts, none of them null.
        names: the members that are wanted.
        strict: whether an object may have no others.
    """
    kernel = kernel_of.library()
    if kernel is None:
        return None
    _, offsets, data = lines.buffers()
    count, words = len(lines), Words(names)
    edges = np.frombuffer(offsets, np.int32)[lines.offset : lines.offset + count + 1]
    size = int(edges[-1] - edges[0]) if count else 0
    array = CArray(data.address if data is not None else None, None, edges.ctypes.data, 0, count)
    members = (CMember * len(names))()
    kept = []
    for at, member in enumerate(members):
        room, ends = room_for(at, size + 1), np.zeros(count + 1, np.int32)
        sorts = np.empty(count, np.uint8)
        member.text, member.edges, member.sorts = room.ctypes.data, ends.ctypes.data, sorts.ctypes.data
        kept.append((room, ends, sorts))
    verdicts = np.empty(count, np.uint8)
    if kernel.read_objects(array, words.c(), ctypes.c_int32(strict), members, address(verdicts)):
        return None
    texts: list[Any] = []
    values: list[Any] = []
    for member, (room, ends, sorts) in zip(members, kept, strict=True):
        content = pa.py_buffer(room[: member.used].copy())
        for into, wanted in ((texts, TEXT), (values, VALUE)):
            valid = sorts == wanted
            bits = pa.py_buffer(np.packbits(valid, bitorder="little"))
            into.append(pa.Array.from_buffers(pa.string(), count, [bits, pa.py_buffer(ends), content]))
    return Objects(texts, values, [sorts for _, _, sorts in kept], verdicts)
