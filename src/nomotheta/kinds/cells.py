"""A column of texts as NumPy arrays over Arrow's own buffers, so that shapes are checked without touching each cell."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.frozen import frozen
from nomotheta.layout import WHITE_SPACE

Bools = NDArray[np.bool_]
Edges = NDArray[np.int32]
Ints = NDArray[np.int64]


@frozen
class Cells:
    """The bytes of n texts: text i is `data[starts[i] : ends[i]]`, where `valid[i]`."""

    data: NDArray[np.uint8]
    starts: Edges
    ends: Edges
    valid: Bools

    @classmethod
    def of(cls, array: Any) -> Cells:
        """The cells of a `pa.StringArray` of n texts. Nothing is copied but the offsets."""
        count = len(array)
        _, offsets, data = array.buffers()
        edges = np.frombuffer(offsets, np.int32)[array.offset : array.offset + count + 1]
        content = np.frombuffer(data, np.uint8) if data is not None and data.size else np.zeros(0, np.uint8)
        valid = np.ones(count, np.bool_)
        if array.null_count:
            valid = array.is_valid().to_numpy(zero_copy_only=False)
        return cls(content, edges[:-1], edges[1:], valid)

    @property
    def lengths(self) -> Edges:
        """Length of each text in bytes."""
        return self.ends - self.starts

    @property
    def dense(self) -> bool:
        """Whether the texts lie one after the other, and nulls take no bytes."""
        return bool(np.array_equal(self.ends[:-1], self.starts[1:])) and not self.lengths[~self.valid].any()

    def rows(self, positions: Ints) -> Ints:
        """The text that each byte position belongs to."""
        if len(positions) * 8 < len(self.starts) or not self.dense:
            return np.searchsorted(self.ends, positions, side="right")
        owner = np.repeat(np.arange(len(self.starts)), self.lengths)
        rows: Ints = owner[positions - self.starts[0]]
        return rows

    def matrix(self, chosen: Ints, width: int) -> NDArray[np.uint8]:
        """The bytes of the chosen texts, all of them `width` long: shape (len(chosen), width)."""
        if not len(chosen):
            return np.zeros((0, width), np.uint8)
        starts = self.starts[chosen]
        first = int(starts[0])
        gaps = np.flatnonzero(np.diff(starts) != width) + 1
        if not len(gaps):
            return self.data[first : first + width * len(chosen)].reshape(-1, width)
        if len(gaps) * 16 > len(chosen):
            gathered: NDArray[np.uint8] = self.data[starts[:, None] + np.arange(width)]
            return gathered
        runs = zip(starts[[0, *gaps]].tolist(), (starts[[*(gaps - 1), -1]] + width).tolist(), strict=True)
        return np.concatenate([self.data[start:end] for start, end in runs]).reshape(-1, width)


def trimmed(texts: Any) -> Any:
    """Texts without white space at either end: what Unicode calls so, and not the separators that Arrow takes along."""
    import pyarrow.compute as pc

    found = pc.utf8_trim_whitespace(texts)
    if not len(found) or not pc.any(pc.not_equal(pc.binary_length(found), pc.binary_length(texts))).as_py():
        return found
    data = Cells.of(compact(texts)).data
    separators = (data >= _SEPARATORS[0]) & (data <= _SEPARATORS[1])
    return pc.utf8_trim(texts, characters=WHITE_SPACE) if separators.any() else found


_SEPARATORS = (0x1C, 0x1F)


def compact(array: Any) -> Any:
    """The same texts with nulls that take no bytes and an offset of zero."""
    return pa.concat_arrays([array, pa.array([], pa.string())]) if array.offset else array


def nulled(array: Any, rows: Ints) -> Any:
    """The array with null in `rows`, over the same values: for what looks at no value of a null."""
    if not len(rows):
        return array
    valid = array.is_valid().to_numpy(zero_copy_only=False).copy()
    valid[rows] = False
    return with_validity(array, valid)


def with_validity(array: Any, valid: Bools) -> Any:
    """The array, of offset 0, over the same values, null where it is not valid."""
    bits = pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(array.type, len(array), [bits, *array.buffers()[1:]])


def without(array: Any, rows: Ints) -> Any:
    """The array with null in `rows`."""
    if not len(rows):
        return array
    import pyarrow.compute as pc

    mask = np.zeros(len(array), np.bool_)
    mask[rows] = True
    return pc.if_else(pa.array(mask), pa.scalar(None, array.type), array)
