"""What is to be known of some texts of a column, whatever kind they are of."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.frozen import frozen
from nomotheta.peek.spread import Weights

NULL_LIKE = ("null", "none", "nil", "na", "n/a", "#n/a", "nan", "-", "--", "?", "missing", "unknown", "\\n")
_NULLS = pa.array(NULL_LIKE)
_LONGEST_NULL = 4 * max(map(len, NULL_LIKE))  # bytes; capitals of other letters may take more than these
Hashed = Callable[[Any], NDArray[np.uint64]]


@frozen
class Facts:
    """What is to be known of the n different values of a column, none of them null: an array of n for each.

    `trimmed` are the texts without white space at their ends, `lengths` are in characters, and `null_like` says which
    are words that stand for null. Of all values, each as often as it occurs: `longest` is in characters, `edges` had
    white space at an end, `zeros` are digits after a zero, and `likes` are such words.
    """

    hashes: NDArray[np.uint64]
    lengths: NDArray[np.float64]
    trimmed: Any
    null_like: NDArray[np.bool_]
    longest: int
    edges: int
    zeros: int
    likes: int

    @classmethod
    def of(cls, values: Any, weights: Weights, hashed: Hashed) -> Facts:
        """Of some texts of one column, each of which occurs so many times."""
        return cls.each([values], [weights], hashed)[0]

    @classmethod
    def each(cls, columns: Sequence[Any], weights: Sequence[Weights], hashed: Hashed) -> list[Facts]:
        """The same of many columns, none of which is without values: they are looked at as if they were one."""
        values = columns[0] if len(columns) == 1 else pa.concat_arrays(columns)
        trimmed = pc.utf8_trim_whitespace(values)
        sizes = pc.binary_length(trimmed)
        short = np.flatnonzero(pc.less_equal(sizes, _LONGEST_NULL).to_numpy(zero_copy_only=False))
        known = pc.is_in(pc.utf8_lower(trimmed.take(pa.array(short))), _NULLS).to_numpy(zero_copy_only=False)
        null_like = np.zeros(len(values), np.bool_)
        null_like[short[known]] = True
        edges = pc.not_equal(sizes, pc.binary_length(values)).to_numpy(zero_copy_only=False)
        zeros = pc.match_substring_regex(trimmed, "^0[0-9]+$").to_numpy(zero_copy_only=False)
        lengths, hashes = pc.utf8_length(values).to_numpy().astype(np.float64), hashed(values)
        starts = np.cumsum([0, *(len(each) for each in columns)])
        times = _times(columns, weights)
        sums = [
            np.maximum.reduceat(lengths, starts[:-1]).astype(np.int64).tolist(),
            *(np.add.reduceat(each * times, starts[:-1]).tolist() for each in (edges, zeros, null_like)),
        ]
        return [
            cls(
                hashes[first:last], lengths[first:last], trimmed.slice(first, last - first), null_like[first:last],
                *(each[at] for each in sums),
            )
            for at, (first, last) in enumerate(itertools.pairwise(starts.tolist()))
        ]  # fmt: skip


def _times(columns: Sequence[Any], weights: Sequence[Weights]) -> NDArray[np.int64]:
    """How often each of all values stands."""
    if all(each is None for each in weights):
        return np.ones(1, np.int64)
    pairs = zip(columns, weights, strict=True)
    return np.concatenate([np.ones(len(values), np.int64) if own is None else own for values, own in pairs])
