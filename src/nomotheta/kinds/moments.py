"""Texts into dates, times and timestamps: a declared form has a fixed width, so a column is a matrix of bytes.

Calendar arithmetic is the proleptic Gregorian calendar's, days counted from 1970-01-01 (ISO 8601).
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Layout
from nomotheta.conditions import Kind
from nomotheta.kinds.cells import Bools, Cells, Ints
from nomotheta.kinds.typed import Misfit, Typed

_WIDTHS = {"Y": 4, "m": 2, "d": 2, "H": 2, "M": 2, "S": 2}
_MICROSECONDS_A_DAY = 86_400_000_000
Parts = dict[str, NDArray[np.int32]]


@dataclass(frozen=True, slots=True)
class Form:
    """A written form of fixed width: where each field and each literal byte stands."""

    width: int
    fields: tuple[tuple[str, int, int], ...]
    literals: tuple[tuple[int, int], ...]

    @classmethod
    def all_of(cls, text: str) -> list[Form]:
        """The fixed-width forms that a declared form stands for; `%f` is one to six digits."""
        if "%f" in text:
            return [cls.of(text, digits) for digits in range(1, 7)]
        return [cls.of(text, 0)]

    @classmethod
    def of(cls, text: str, digits: int) -> Form:
        """The form with `%f` as wide as `digits`."""
        at, fields, literals = 0, [], []
        for part in re.findall(r"%.|[^%]", text):
            sign = part[1:]
            if part[0] == "%" and sign != "%":
                width = digits if sign == "f" else _WIDTHS[sign]
                fields.append((sign, at, width))
                at += width
                continue
            for byte in part[-1].encode():
                literals.append((at, byte))
                at += 1
        return cls(at, tuple(fields), tuple(literals))

    def read(self, matrix: NDArray[np.uint8]) -> tuple[Parts, Bools]:
        """The fields of each row of bytes, shape (n, width), and whether the row has this form at all."""
        columns = np.ascontiguousarray(matrix.T)
        digits = columns - np.uint8(ord("0"))  # what is no digit wraps around to more than 9
        good = np.ones(len(matrix), np.bool_)
        for at, byte in self.literals:
            good &= columns[at] == byte
        parts: Parts = {}
        for sign, first, width in self.fields:
            value = np.zeros(len(matrix), np.int32)
            for at in range(first, first + width):
                good &= digits[at] <= 9
                value = value * 10 + digits[at]
            parts[sign] = value * 10 ** (6 - width) if sign == "f" else value
        return parts, good


def read_date(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A day that the calendar has, in one of the declared forms, years 0001 to 9999."""
    days, bad, none = _read(texts, layout.date_forms)
    values = pa.array((days // _MICROSECONDS_A_DAY).astype(np.int32), pa.int32(), mask=none)
    return Typed(values.cast(pa.date32()), Misfit.all(kind=bad))


def read_time(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A time of day, 00:00:00 to 23:59:59.999999, in one of the declared forms."""
    moments, bad, none = _read(texts, layout.time_forms)
    return Typed(pa.array(moments, pa.int64(), mask=none).cast(pa.time64("us")), Misfit.all(kind=bad))


def read_timestamp(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A day and a time, in one of the declared forms."""
    moments, bad, none = _read(texts, layout.timestamp_forms)
    return Typed(pa.array(moments, pa.int64(), mask=none).cast(pa.timestamp("us")), Misfit.all(kind=bad))


_ZONED = r"^(?P<moment>.*?)(?P<zone>Z|[+-][0-9]{2}:?[0-9]{2})?$"


def read_timestamptz(texts: Any, _kind: Kind, layout: Layout, zone: str = "UTC") -> Typed:
    """A timestamp with Z or an offset such as +01:00 behind it; without one, in the workspace's time zone."""
    split = pc.extract_regex(texts, _ZONED)
    moments, bad, none = _read(pc.struct_field(split, "moment"), layout.timestamp_forms)
    given = pc.fill_null(pc.struct_field(split, "zone"), "").to_numpy(zero_copy_only=False)
    local = pa.array(moments, pa.int64(), mask=none).cast(pa.timestamp("us"))
    there = pc.assume_timezone(local, zone, ambiguous="earliest", nonexistent="earliest").cast(pa.int64())
    offsets = {text: _offset(text) for text in set(given.tolist()) if text}
    shifted = moments - np.array([offsets.get(text, 0) for text in given.tolist()], np.int64)
    chosen = pc.if_else(pa.array(given != ""), pa.array(shifted, pa.int64(), mask=none), there)
    return Typed(chosen.cast(pa.timestamp("us", "UTC")), Misfit.all(kind=bad))


def _offset(text: str) -> int:
    """Microseconds east of UTC."""
    if text == "Z":
        return 0
    hours, minutes = int(text[1:3]), int(text[-2:])
    return (-1 if text[0] == "-" else 1) * (hours * 60 + minutes) * 60_000_000


def _read(texts: Any, forms: Sequence[str]) -> tuple[Ints, Ints, Bools]:
    """Microseconds since 1970 of each text, the rows that have none of the forms, and the mask of what is null."""
    cells = Cells.of(texts)
    lengths = cells.lengths
    moments = np.zeros(len(lengths), np.int64)
    missing = cells.valid.copy()
    for text in forms:
        for form in Form.all_of(text):
            chosen = np.flatnonzero(missing & (lengths == form.width))
            if not len(chosen):
                continue
            parts, good = form.read(cells.matrix(chosen, form.width))
            read, real = _moment(parts, len(chosen))
            good &= real
            moments[chosen[good]] = read[good]
            missing[chosen[good]] = False
    return moments, np.flatnonzero(missing), missing | ~cells.valid


def _moment(parts: Parts, count: int) -> tuple[Ints, Bools]:
    """Microseconds since 1970 and whether such a moment exists."""
    one, zero = np.ones(count, np.int32), np.zeros(count, np.int32)
    year, month, day = parts.get("Y", 1970 * one), parts.get("m", one), parts.get("d", one)
    real = (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1)
    index = np.where(real, year * 12 + month - 1, 12)
    first, length = _months()
    real &= day <= length[index]
    micros = (first[index] + day - 1) * _MICROSECONDS_A_DAY
    if "H" in parts:
        hour, minute, second = parts["H"], parts.get("M", zero), parts.get("S", zero)
        real &= (hour <= 23) & (minute <= 59) & (second <= 59)
        micros += (hour * 3600 + minute * 60 + second) * np.int64(1_000_000) + parts.get("f", zero)
    return micros, real


@functools.cache
def _months() -> tuple[Ints, NDArray[np.int32]]:
    """For month m of year y, at index 12 y + m - 1: the days from 1970-01-01 to its first, and how many it has."""
    starts = np.arange("0000-01", "10000-02", dtype="datetime64[M]").astype("datetime64[D]").astype(np.int64)
    return starts[:-1], np.diff(starts).astype(np.int32)
