"""Digits read a machine word at a time: eight bytes of every cell at once, checked and summed by a few instructions.

The sums follow the well-known trick of adding neighbouring digits, then neighbouring pairs, then fours.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.kinds.cells import Bools, Cells

Words = NDArray[np.uint64]
WORD = 8
_ZEROS, _SIXES, _HIGH = (np.uint64(int(each * 8, 16)) for each in ("30", "06", "F0"))
_EIGHT, _SIXTEEN, _THIRTY_TWO = np.uint64(8), np.uint64(16), np.uint64(32)
_PAIRS, _TEN = np.uint64(0x000000FF000000FF), np.uint64(10)
_OUTER, _INNER = np.uint64(100 + (1_000_000 << 32)), np.uint64(1 + (10_000 << 32))


def words_before(cells: Cells) -> tuple[Words, Any]:
    """The bytes of cells as overlapping little-endian words, and where in them the eight before each cell's end are."""
    first, last = (int(cells.starts[0]), int(cells.ends[-1])) if len(cells.starts) else (0, 0)
    padded = np.zeros(last - first + WORD, np.uint8)
    padded[WORD:] = cells.data[first:last]
    words: Words = np.ndarray((last - first + 1,), "<u8", padded, 0, (1,))
    return words, cells.ends - first


def read_digits(words: Words, lengths: Any) -> tuple[Words, Bools]:
    """The number that the last `lengths` (0 to 8) bytes of each word spell, and whether they are all digits."""
    unused = (WORD - lengths).astype(np.uint64) << np.uint64(3)
    none = unused >= np.uint64(64)
    unused[none] = 0
    digits = words ^ _ZEROS
    digits >>= unused
    digits <<= unused
    digits[none] = 0
    good = (((digits + _SIXES) | digits) & _HIGH) == 0
    pairs = digits * _TEN
    pairs += digits >> _EIGHT
    outer = (pairs & _PAIRS) * _OUTER
    pairs >>= _SIXTEEN
    pairs &= _PAIRS
    pairs *= _INNER
    outer += pairs
    return outer >> _THIRTY_TWO, good


def read_fixed_point(cells: Cells, scale: int, mark: str) -> tuple[NDArray[np.int64], Bools]:
    """Cells that are one to eight digits, a mark and `scale` (1 to 7) digits, as whole numbers of the last place.

    Returns:
        n numbers, and whether each cell is written so.
    """
    words, ends = words_before(cells)
    lengths = cells.lengths
    good = cells.valid & (lengths > scale + 1) & (lengths <= scale + 1 + WORD)
    tail = words[ends]
    good &= ((tail >> np.uint64(8 * (WORD - 1 - scale))) & np.uint64(255)) == np.uint64(ord(mark))
    if int(lengths.max(initial=0)) <= WORD:  # the mark is squeezed out, and one word holds it all
        behind = np.uint64((1 << 8 * (WORD - scale)) - 1)
        tail = ((tail & (behind >> _EIGHT)) << _EIGHT) | (tail & ~behind)
        numbers, plain = read_digits(tail, np.where(good, lengths - 1, 0))
        return numbers.view(np.int64), good & plain
    behind_mark, plain = read_digits(tail, np.full(len(ends), scale))
    head = words[np.maximum(ends - (scale + 1), 0)]
    numbers, whole = read_digits(head, np.where(good, lengths - (scale + 1), 0))
    numbers = numbers * np.uint64(10**scale) + behind_mark
    return numbers.view(np.int64), good & plain & whole
