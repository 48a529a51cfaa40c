"""The kinds that a column's values may have, each in one written form, and how well they fit them."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind, decimal
from nomotheta.frozen import frozen
from nomotheta.kinds.read import read_column
from nomotheta.kinds.typed import Misfit, Typed
from nomotheta.layout import Layout
from nomotheta.peek.spread import Ranges, Weights, as_numbers, weighed

HEAD = 100  # values by which kinds are told first
SPOILT = 0.05  # a kind that more of the first block's values do not fit is not a candidate
_FEW, _TENTH = 3, 10  # values that may not fit, though they are more than a share of so few; but at most a tenth
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y%m%d", "%Y/%m/%d", "%d-%m-%Y", "%-d.%-m.%Y",
          "%-d/%-m/%Y", "%-m/%-d/%Y", "%d %b %Y", "%d-%b-%Y", "%d %B %Y", "%-d %B %Y",
          "%d.%m.%y", "%d/%m/%y", "%m/%d/%y")  # fmt: skip
_STAMPS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M",
           "%d/%m/%Y %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S.%f", "%d/%m/%Y %H:%M", "%m/%d/%Y %H:%M:%S",
           "%m/%d/%Y %H:%M")  # fmt: skip
CENTURY = 1950  # from which year on a year of two digits is meant, as a guess
_TIMES = ("%H:%M:%S", "%H:%M", "%H:%M:%S.%f")
_WORDS = (("true", "false"), ("yes", "no"), ("y", "n"), ("t", "f"), ("TRUE", "FALSE"), ("True", "False"), ("Y", "N"))


@frozen
class Reading:
    """A kind in one written form. Whatever reads as it reads as `wider` ones, too, and is the same number there.

    A wider one has a higher `rank`, and is wider than one other at most.
    """

    kind: Kind
    layout: Layout
    form: str = ""
    wider: tuple[str, ...] = ()
    name: str = ""
    rank: int = 0


def read_as(reading: Reading, values: Any) -> Typed:
    """Values as a reading has them."""
    return read_column(values, reading.kind, reading.layout)


def few_of(count: Any) -> Any:
    """So many of some values are exceptions, however few values there are."""
    return np.minimum(_FEW, count // _TENTH)


Reader = Callable[[Reading, Any], Typed]
Possible = tuple[list[int], list[tuple[int, int]]]


def possible(counts: Sequence[int], count: int) -> Possible:
    """The readings that nearly all of some values fit, and those that a good part fits, by number.

    Args:
        counts: how many of the values do not fit each reading.
        count: how many values there are.

    Returns:
        The numbers of the former; number and misfits of the latter.
    """
    return possible_each(np.array([counts]), np.array([count]))[0]


def possible_each(counts: NDArray[np.int64], count: NDArray[Any]) -> list[Possible]:
    """The same of n columns: `counts` has n rows, one column a reading, and `count` n numbers."""
    few = counts <= np.maximum(np.maximum(1, few_of(count)), SPOILT * count)[:, None]
    fit = few & (counts < count[:, None])
    part = ~fit & (counts <= 0.8 * count[:, None])
    found: list[Possible] = [([], []) for _ in count]
    for row, at in np.argwhere(fit).tolist():
        found[row][0].append(at)
    for row, at in np.argwhere(part).tolist():
        found[row][1].append((at, int(counts[row, at])))
    return found


class ReadTogether:
    """The values of many columns, few of each, read as one column for every reading that any of them asks for."""

    def __init__(self, given: Sequence[tuple[Any, Weights]]) -> None:
        sizes = [len(values) for values, _ in given]
        self._edges, self._owner = [0, *np.cumsum(sizes).tolist()], np.repeat(np.arange(len(given)), sizes)
        self._all = pa.concat_arrays([*(values for values, _ in given), pa.array([], pa.string())])
        ones = (np.ones(len(values), np.int64) if weights is None else weights for values, weights in given)
        self._weights = np.concatenate([*ones, np.zeros(0, np.int64)])
        self._read: dict[int, Typed] = {}
        self._possible: list[Possible] | None = None

    def reader(self, column: int) -> Reader:
        """Reads the values of one of the columns."""
        first, last = self._edges[column], self._edges[column + 1]

        def read(reading: Reading, _values: Any) -> Typed:
            typed = self._typed(reading)
            spans = [(each, *np.searchsorted(each.rows, (first, last)).tolist()) for each in typed.misfits]
            own = {each.reason: each.rows[low:high] - first for each, low, high in spans}
            return Typed(typed.values.slice(first, last - first), Misfit.all(**own))

        return read

    def possible(self, column: int) -> Possible:
        """What the values of a column may be."""
        if self._possible is None:
            counts = np.stack([self._misfits(reading) for reading in readings()], axis=1)
            owned = np.bincount(self._owner, self._weights, len(self._edges) - 1)
            self._possible = possible_each(counts, owned)
        return self._possible[column]

    def _misfits(self, reading: Reading) -> NDArray[np.int64]:
        rows = np.concatenate([np.zeros(0, np.int64), *(each.rows for each in self._typed(reading).misfits)])
        return np.bincount(self._owner[rows], self._weights[rows], len(self._edges) - 1).astype(np.int64)

    def _typed(self, reading: Reading) -> Typed:
        return self._read.get(id(reading)) or self._read.setdefault(id(reading), read_as(reading, self._all))


@dataclass(slots=True)
class Candidate:
    """A reading that a column may have: how many values do not fit it, and what the others come to.

    A wider one than another that all values fit so far waits: it is not tried, and takes over what that one has.
    """

    reading: Reading
    misfits: int = 0
    example: str | None = None
    low: Any = None
    high: Any = None
    grouped: int = 0
    grouped_example: str = ""
    counted: Ranges | None = None

    @property
    def kind(self) -> Kind:
        """What it reads values as."""
        return self.reading.kind

    @property
    def layout(self) -> Layout:
        """How it reads them."""
        return self.reading.layout

    @property
    def ranges(self) -> Ranges:
        """How its numbers are spread."""
        if self.counted is None:
            self.counted = Ranges(1.0 if self.kind.name in {"integer", "date"} else 1e-9)
        return self.counted

    @property
    def form(self) -> str:
        """The form in words."""
        return self.reading.form

    def take(self, values: Any, weights: Weights, reader: Reader) -> None:
        """Try some values, each of which occurs so many times."""
        typed = reader(self.reading, values)
        for misfit in typed.misfits:
            self.misfits += weighed(misfit.rows, weights)
            self.example = self.example or values[int(misfit.rows[0])].as_py()
        if self.layout.thousands_sign:
            self._grouping(values, typed.values, weights)
        if self.kind.name in {"boolean", "uuid", "binary"}:
            return
        if len(values) <= HEAD:
            self.ranges.later(lambda: as_numbers(typed.values, weights))
            there = [value for value in typed.values.to_pylist() if value is not None]
            if there:
                self._within(min(there), max(there))
            return
        self.ranges.settled().add(*as_numbers(typed.values, weights))
        found = pc.min_max(typed.values)
        if found["min"].is_valid:
            self._within(found["min"].as_py(), found["max"].as_py())

    def _within(self, low: Any, high: Any) -> None:
        self.low = low if self.low is None else min(self.low, low)
        self.high = high if self.high is None else max(self.high, high)

    def ends(self) -> tuple[float, float]:
        """The lowest and the highest value as the numbers by which its ranges are told."""
        numbers, _ = as_numbers(pa.array([self.low, self.high]), None)
        return float(numbers.min()), float(numbers.max())

    def state(self) -> Candidate:
        """What was seen so far, which stays as it is."""
        kept = copy.copy(self)
        kept.counted = self.ranges.copied()
        return kept

    def go_on_from(self, other: Candidate) -> None:
        """Take over what a narrower one has seen."""
        self.counted = other.ranges.copied()
        if other.low is not None:
            plain = float if self.kind.name == "real" else Decimal
            self._within(plain(other.low), plain(other.high))

    def _grouping(self, values: Any, typed: Any, weights: Weights) -> None:
        """How many numbers have a thousands sign."""
        grouped = pc.and_(pc.match_substring(values, self.layout.thousands_sign), pc.is_valid(typed))
        rows = np.flatnonzero(grouped.to_numpy(zero_copy_only=False))
        self.grouped += weighed(rows, weights)
        if len(rows) and not self.grouped_example:
            self.grouped_example = values[int(rows[0])].as_py()


@functools.cache
def readings() -> Sequence[Reading]:
    """All that a column may be, the narrower before the wider."""
    wide = decimal(38, 12)
    found = [Reading(Kind("boolean"), Layout(true_words=[t], false_words=[f]), f"{t} / {f}") for t, f in _WORDS]
    found.append(Reading(Kind("integer"), Layout(), "", ("point", "comma"), "whole"))
    found += [
        Reading(Kind("date"), Layout(date_forms=[form], two_digit_years_from=_century(form)), form) for form in _DATES
    ]
    found.append(Reading(wide, Layout(), "", ("point, grouped", "real"), "point"))
    found.append(Reading(wide, Layout(decimal_sign=","), "decimal comma", ("comma, grouped",), "comma"))
    grouped = Layout(decimal_sign=",", thousands_sign=".")
    found.append(Reading(Kind("integer"), Layout(thousands_sign=","), "grouping comma"))
    found.append(Reading(Kind("integer"), grouped, "grouping point"))
    found.append(Reading(wide, Layout(thousands_sign=","), "decimal point, grouping comma", (), "point, grouped"))
    found.append(Reading(wide, grouped, "decimal comma, grouping point", (), "comma, grouped"))
    found.append(Reading(Kind("real"), Layout(), "with exponents", (), "real"))
    found += [Reading(Kind("time"), Layout(time_forms=[form]), form) for form in _TIMES]
    found += [Reading(Kind("timestamp"), Layout(timestamp_forms=[form]), form) for form in _STAMPS]
    found.append(Reading(Kind("timestamptz"), Layout(timestamp_forms=list(_STAMPS[:2])), "with zone"))
    found.append(Reading(Kind("uuid"), Layout()))
    return [replace(each, rank=rank) for rank, each in enumerate(found)]


def _century(form: str) -> int | None:
    return CENTURY if "%y" in form else None


@functools.cache
def begun(fit: tuple[int, ...]) -> tuple[Sequence[Reading], Mapping[str, Reading]]:
    """Of the readings that values may have, by number: those to try first, and those that wait for one of them."""
    chosen = [readings()[at] for at in fit]
    wider = {name for each in chosen for name in each.wider}
    return [each for each in chosen if each.name not in wider], {
        each.name: each for each in chosen if each.name in wider
    }


def misfits_of(values: Any, weights: Weights) -> list[int]:
    """How many of some values do not fit each reading."""
    return [sum(weighed(each.rows, weights) for each in read_as(reading, values).misfits) for reading in readings()]
