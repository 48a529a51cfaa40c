"""What is to be known of some texts of a column, whatever kind they are of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

NULL_LIKE = ("null", "none", "nil", "na", "n/a", "#n/a", "nan", "-", "--", "?", "missing", "unknown", "\\n")
_NULLS = pa.array(NULL_LIKE)
_LONGEST_NULL = 4 * max(map(len, NULL_LIKE))  # bytes; capitals of other letters may take more than these
Hashed = Callable[[Any], NDArray[np.uint64]]


@dataclass(frozen=True, slots=True)
class Facts:
    """What is to be known of n values, of one column or of many: an array of n for each.

    `trimmed` are the texts without white space at their ends, `edges` says which had any; `lengths` are in characters;
    `zeros` says which are digits after a zero, and `null_like` which are words that stand for null.
    """

    hashes: NDArray[np.uint64]
    lengths: NDArray[np.float64]
    trimmed: Any
    edges: NDArray[np.bool_]
    zeros: NDArray[np.bool_]
    null_like: NDArray[np.bool_]

    @classmethod
    def of(cls, values: Any, hashed: Hashed) -> Facts:
        """Of some texts, none of them null."""
        trimmed = pc.utf8_trim_whitespace(values)
        sizes = pc.binary_length(trimmed)
        short = np.flatnonzero(pc.less_equal(sizes, _LONGEST_NULL).to_numpy(zero_copy_only=False))
        known = pc.is_in(pc.utf8_lower(trimmed.take(pa.array(short))), _NULLS).to_numpy(zero_copy_only=False)
        null_like = np.zeros(len(values), np.bool_)
        null_like[short[known]] = True
        edges = pc.not_equal(sizes, pc.binary_length(values)).to_numpy(zero_copy_only=False)
        zeros = pc.match_substring_regex(trimmed, "^0[0-9]+$").to_numpy(zero_copy_only=False)
        lengths = pc.utf8_length(values).to_numpy().astype(np.float64)
        return cls(hashed(values), lengths, trimmed, edges, zeros, null_like)

    def part(self, first: int, last: int) -> Facts:
        """Those of some values that stand together."""
        which = slice(first, last)
        return Facts(
            self.hashes[which], self.lengths[which], self.trimmed.slice(first, last - first), self.edges[which],
            self.zeros[which], self.null_like[which],
        )  # fmt: skip
