"""How the values of a column are spread, counted exactly in one pass, however many there are."""

from __future__ import annotations

import datetime
import math
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.frozen import frozen

_BINS = 32
_MOST = 1000  # different values that are counted one by one
_SHOWN, _SHORT = 7, 100
_NO_COUNTS = np.zeros(_BINS, np.int64)  # never written to
_MANY = 2 * _MOST  # of a block: with more, of which more than half are different, there are too many
Weights = NDArray[np.int64] | None  # how often each of some values occurs; None for once
Numbers = Callable[[], tuple[NDArray[np.float64], Weights]]


@frozen
class Spread:
    """Counts of a column's values.

    `sort` says what is counted: `values`, the most frequent ones, of which `others` are not shown; `ranges`, from each
    label to the next, of which there is one more than of counts; or the `lengths` of texts in characters, alike. The
    data begin and end `inset` by these parts of the first and the last range.
    """

    sort: Literal["values", "ranges", "lengths"]
    labels: tuple[str, ...]
    counts: tuple[int, ...]
    others: int = 0
    inset: tuple[float, float] = (0.0, 0.0)


@dataclass(slots=True)
class Ranges:
    """A histogram whose bins, a power of two wide, grow when a value does not fit: each value is counted once.

    `least` is the least width: 1 where all values are whole.
    """

    least: float = 1e-9
    start: float = 0.0
    width: float = 0.0
    counts: NDArray[np.int64] = field(default_factory=lambda: _NO_COUNTS)
    waiting: list[Numbers] = field(default_factory=list)

    def later(self, numbers: Numbers) -> None:
        """Take in some values once they are asked for: of thousands of columns with a few each, most never are."""
        self.waiting.append(numbers)

    def settled(self) -> Ranges:
        """The same, with all that was to be taken in."""
        if not self.waiting:
            return self
        waiting, self.waiting = self.waiting, []
        for numbers in waiting:
            self.add(*numbers())
        return self

    def copied(self) -> Ranges:
        """Another with the same counts."""
        self.settled()
        return Ranges(self.least, self.start, self.width, self.counts.copy())

    def add(self, values: NDArray[np.float64], weights: Weights = None) -> None:
        """Take in some finite values, each of which occurs so many times."""
        if not len(values):
            return
        low, high = float(values.min()), float(values.max())
        if not self.width:
            self.width = 2.0 ** math.ceil(math.log2(max((high - low) / (_BINS - 1), abs(low) * 1e-12, self.least)))
            self.start = math.floor(low / self.width) * self.width
        while not (self.start <= low and high < self.start + self.width * _BINS):
            self._widen(low)
        places = np.minimum(np.maximum((values - self.start) // self.width, 0), _BINS - 1).astype(np.int64)
        self.counts = self.counts + np.bincount(places, weights, _BINS).astype(np.int64)

    def _widen(self, low: float) -> None:
        """Twice the width; room is made below where the lowest value asks for it."""
        wide = 2 * self.width
        start = float(np.floor(self.start / wide) * wide)
        if low < start:
            start -= wide * (_BINS // 2 - 1)
        places = (np.arange(_BINS) * self.width + (self.start - start)) // wide
        merged = np.zeros(2 * _BINS, np.int64)
        np.add.at(merged, places.astype(np.int64), self.counts)
        self.start, self.width, self.counts = start, wide, merged[:_BINS]

    def filled(self) -> tuple[list[float], list[int]]:
        """The edges and counts from the first bin that holds anything to the last, at most sixteen of them."""
        self.settled()
        counts, start, width = self.counts, self.start, self.width
        full = np.flatnonzero(counts)
        first, last = int(full[0]), int(full[-1]) + 1
        step = -(-(last - first) // (_BINS // 2))
        first -= first % step
        last += -(last - first) % step
        padded = np.concatenate([counts, np.zeros(step, np.int64)])[first:last]
        joined = padded.reshape(-1, step).sum(axis=1)
        edges = [float(start + width * (first + step * at)) for at in range(len(joined) + 1)]
        return edges, joined.tolist()


@dataclass(slots=True)
class Frequent:
    """The different values and how often each occurs, as long as they are not too many."""

    counts: Counter[str] | None = field(default_factory=Counter)

    def add(self, values: Any, weights: Weights) -> None:
        """Take in some texts, which are all different if it is told how often each occurs."""
        if self.counts is None:
            return
        if weights is None:
            if len(values) <= _SHORT:
                pairs = list(Counter(values.to_pylist()).items())
            else:
                counted = pc.value_counts(values).to_pylist() if len(values) <= _MANY else []
                pairs = [(each["values"], each["counts"]) for each in counted]
        else:
            pairs = list(zip(values.to_pylist(), weights.tolist(), strict=True)) if len(values) <= _MOST else []
        for value, count in pairs:
            self.counts[value] += count
        if not pairs or len(self.counts) > _MOST:
            self.counts = None


def weighed(rows: NDArray[np.int64], weights: Weights) -> int:
    """How many values some rows are."""
    return len(rows) if weights is None else int(weights[rows].sum())


def as_numbers(values: Any, weights: Weights) -> tuple[NDArray[np.float64], Weights]:
    """Numbers as they are, days and moments as days and seconds since 1970: for a picture, not for a sum.

    Those that are null are left out; of the others it is told how often each occurs.
    """
    kind = values.type
    if pa.types.is_date32(kind):
        values = values.cast(pa.int32())
    elif pa.types.is_timestamp(kind) or pa.types.is_time64(kind):
        values = pc.divide(values.cast(pa.int64()).cast(pa.float64(), safe=False), 1e6)
    if values.null_count and weights is not None:
        weights = weights[values.is_valid().to_numpy(zero_copy_only=False)]
    numbers = values.cast(pa.float64(), safe=False).drop_null()
    return np.asarray(numbers.to_numpy(zero_copy_only=False), np.float64), weights


def label_of(number: float, kind: str, step: float) -> str:
    """An edge of a bin, written as values of the kind are."""
    try:
        if kind == "date":
            return str(datetime.date(1970, 1, 1) + datetime.timedelta(days=number))
        if kind in {"timestamp", "timestamptz"}:
            moment = datetime.datetime(1970, 1, 1) + datetime.timedelta(seconds=number)
            return moment.isoformat(" ", "minutes" if step >= 60 else "auto")
        if kind == "time":
            return (datetime.datetime(1970, 1, 1) + datetime.timedelta(seconds=number)).time().isoformat("auto")
    except (OverflowError, ValueError):  # the edge lies beyond the years that there are
        return "…"
    return f"{number:,.10g}"


def most_frequent(counts: Counter[str], *, by_value: bool) -> Spread:
    """The most frequent values; all of them in their order where they are few numbers."""
    chosen = counts.most_common(_SHOWN)
    others = counts.total() - sum(times for _, times in chosen)
    if by_value:
        chosen.sort(key=lambda pair: _number(pair[0]))
    return Spread("values", tuple(value for value, _ in chosen), tuple(times for _, times in chosen), others)


def _number(text: str) -> tuple[bool, Decimal]:
    """By value; what is not a number comes last."""
    try:
        return False, Decimal(text.replace(",", "."))
    except InvalidOperation:
        return True, Decimal(0)
