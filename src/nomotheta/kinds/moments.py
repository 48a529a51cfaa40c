"""Texts into dates, times and timestamps: a declared form has a fixed width, so a column is a matrix of bytes.

Calendar arithmetic is the proleptic Gregorian calendar's, days counted from 1970-01-01 (ISO 8601).
"""

from __future__ import annotations

import functools
import itertools
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.cells import Bools, Cells, Ints, compact
from nomotheta.kinds.typed import Misfit, Typed, together
from nomotheta.kinds.zones import in_utc
from nomotheta.layout import Layout

_WIDTHS = {"Y": 4, "y": 2, "m": 2, "d": 2, "H": 2, "I": 2, "M": 2, "S": 2, "p": 2}
_MICROSECONDS_A_DAY = 86_400_000_000
_LAST_YEAR = 9999
FIRST_DAY, LAST_DAY = -719_162, 2_932_896  # 0001-01-01 and 9999-12-31, counted from 1970-01-01
FIRST_MOMENT, LAST_MOMENT = FIRST_DAY * _MICROSECONDS_A_DAY, (LAST_DAY + 1) * _MICROSECONDS_A_DAY - 1
_MICRO, _FRACTION = 6, 9  # digits; what stands beyond microseconds must be zero
Parts = dict[str, NDArray[np.int32]]


@frozen
class Form:
    """A written form of fixed width: where each field and each literal byte stands.

    `names` are the words, in lower case, that stand for the months in a field.
    """

    width: int
    fields: tuple[tuple[str, int, int], ...]
    literals: tuple[tuple[int, int], ...]
    names: Mapping[str, tuple[bytes, ...]]

    @classmethod
    def all_of(cls, text: str, layout: Layout) -> Sequence[Form]:
        """The fixed-width forms that a declared form stands for: fractions, short numbers and names vary in width."""
        return _forms(text, tuple(layout.months), tuple(layout.months_short))

    @classmethod
    def of(cls, parts: Sequence[str], widths: Sequence[int], names: Mapping[str, tuple[bytes, ...]]) -> Form:
        """The form with each of its parts as wide as it is told."""
        at, fields, literals = 0, [], []
        for part, width in zip(parts, widths, strict=True):
            if width:
                fields.append((part[1:], at, width))
                at += width
                continue
            for byte in part[-1].encode():
                literals.append((at, byte))
                at += 1
        return cls(at, tuple(fields), tuple(literals), names)

    def read(self, matrix: NDArray[np.uint8]) -> tuple[Parts, Bools]:
        """The fields of each row of bytes, shape (n, width), and whether the row has this form at all."""
        good = np.ones(len(matrix), np.bool_)
        for at, byte in self.literals:
            good &= matrix[:, at] == byte
        parts: Parts = {}
        for sign, first, width in self.fields:
            if sign in {"b", "B", "p"}:
                words = self.names[sign]
                parts["p" if sign == "p" else "m"] = number = _word(matrix[:, first : first + width], words)
                good &= number > 0
                continue
            value = _number(matrix, first, min(width, _MICRO), good)
            for at in range(first + _MICRO, first + width):
                good &= matrix[:, at] == ord("0")
            if sign.startswith("-"):  # a short number has no zero before it
                good &= matrix[:, first] > ord("0") if width > 1 else True
            parts[sign.removeprefix("-")] = value * 10 ** max(_MICRO - width, 0) if sign == "f" else value
        return parts, good


def _number(matrix: NDArray[np.uint8], first: int, width: int, good: Bools) -> NDArray[np.int32]:
    """The number that `width` bytes of each row spell, two at a time; `good` is false where they are not digits."""
    count, stride = matrix.shape
    value: Any = None
    at, end = first, first + width
    while at < end:
        if end - at == 1:
            digits = matrix[:, at] - np.uint8(ord("0"))
            good &= digits <= 9
            read, power = digits.astype(np.int32), 10
        else:
            pair = np.ndarray((count,), "<u2", matrix, at, (stride,)) ^ np.uint16(0x3030)
            good &= (((pair + np.uint16(0x0606)) | pair) & np.uint16(0xF0F0)) == 0
            read, power = ((pair & np.uint16(255)) * np.uint16(10) + (pair >> np.uint16(8))).astype(np.int32), 100
        value = read if value is None else value * np.int32(power) + read
        at += 1 if power == 10 else 2
    return value if value is not None else np.zeros(count, np.int32)


def _word(matrix: NDArray[np.uint8], words: Sequence[bytes]) -> NDArray[np.int32]:
    """Which of the words is in each row of bytes, from 1; 0 for none. Case says nothing."""
    lower = matrix | np.where((matrix >= ord("A")) & (matrix <= ord("Z")), np.uint8(32), np.uint8(0))
    found = np.zeros(len(matrix), np.int32)
    for number, word in enumerate(words, 1):
        if len(word) == matrix.shape[1]:
            found[(lower == np.frombuffer(word, np.uint8)).all(axis=1)] = number
    return found


@functools.lru_cache(maxsize=256)
def _forms(text: str, months: tuple[str, ...], short: tuple[str, ...]) -> Sequence[Form]:
    names = {sign: tuple(lower(name) for name in words) for sign, words in (("B", months), ("b", short))}
    names["p"] = (b"am", b"pm")
    parts = re.findall(r"%-?[A-Za-z]|%%|[^%]", text)
    widths = []
    for part in parts:
        sign = part[1:]
        if part == "%%" or part[0] != "%":
            widths.append([0])
        elif sign in {"b", "B"}:
            widths.append(sorted({len(name) for name in names[sign]}))
        elif sign == "f":
            widths.append(list(range(1, _FRACTION + 1)))
        else:
            widths.append([1, 2] if sign.startswith("-") else [_WIDTHS[sign]])
    return [Form.of(parts, chosen, names) for chosen in itertools.product(*widths)]


def lower(name: str) -> bytes:
    """A word's bytes with its ASCII letters in lower case."""
    return name.encode().lower()


def read_date(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A day that the calendar has, in one of the declared forms, years 0001 to 9999."""
    days, bad, none = _read(texts, layout.date_forms, layout, _days)
    return Typed(pa.array(days.astype(np.int32), pa.int32(), mask=none).cast(pa.date32()), Misfit.all(kind=bad))


def read_time(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A time of day, 00:00:00 to 23:59:59.999999, in one of the declared forms."""
    moments, bad, none = _read(texts, layout.time_forms, layout, _clock)
    return Typed(pa.array(moments, pa.int64(), mask=none).cast(pa.time64("us")), Misfit.all(kind=bad))


def read_timestamp(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A day and a time, in one of the declared forms."""
    moments, bad, none = _read(texts, layout.timestamp_forms, layout)
    return Typed(pa.array(moments, pa.int64(), mask=none).cast(pa.timestamp("us")), Misfit.all(kind=bad))


_ZONED = r"(?s)^(?P<moment>.*?) ?(?P<zone>Z|[+-](?:0[0-9]|1[0-5]):?[0-5][0-9])$"


def read_timestamptz(texts: Any, _kind: Kind, layout: Layout, zone: str = "UTC") -> Typed:
    """A timestamp with Z or an offset such as +01:00 behind it; without one, in the workspace's time zone.

    A local time that the zone's clocks skip does not fit; of one that they show twice, the earlier is meant. Each text
    is read without a zone first.
    """
    moments, bad, none = _read(texts, layout.timestamp_forms, layout)
    local = np.flatnonzero(~none) if none is not None else np.arange(len(texts))
    skipped, far = (to_utc(moments, local, zone), np.zeros(0, np.int64))
    if len(bad):
        split = pc.extract_regex(texts.take(pa.array(bad)), _ZONED)
        zoned, _, unread = _read(compact(pc.struct_field(split, "moment")), layout.timestamp_forms, layout)
        wrong = np.flatnonzero(unread) if unread is not None else np.zeros(0, np.int64)
        given = pc.dictionary_encode(pc.fill_null(pc.struct_field(split, "zone"), ""))
        east = np.array([_offset(text) for text in given.dictionary.to_pylist()], np.int64)
        moments[bad] = zoned - east[given.indices.to_numpy()]
        right = np.setdiff1d(np.arange(len(bad)), wrong)
        far = bad[right][(moments[bad[right]] < FIRST_MOMENT) | (moments[bad[right]] > LAST_MOMENT)]
        bad = bad[wrong]
    misfits = together(*skipped, *Misfit.all(kind=bad, range=far))
    fits = texts.is_valid().to_numpy(zero_copy_only=False).copy()
    for misfit in misfits:
        fits[misfit.rows] = False
    values = pa.array(moments, pa.int64(), mask=~fits).cast(pa.timestamp("us", "UTC"))
    return Typed(values, misfits)


def to_utc(moments: Ints, local: Ints, zone: str) -> tuple[Misfit, ...]:
    """Bring local times among some moments to UTC, in place; which of them do not exist, or are too far off."""
    if not len(local):
        return ()
    there, skipped = in_utc(moments[local], zone)
    moments[local] = there
    far = ~skipped & ((there < FIRST_MOMENT) | (there > LAST_MOMENT))
    return Misfit.all(kind=local[skipped], range=local[far])


def _offset(text: str) -> int:
    """Microseconds east of UTC."""
    if text in {"", "Z"}:
        return 0
    hours, minutes = int(text[1:3]), int(text[-2:])
    return (-1 if text[0] == "-" else 1) * (hours * 60 + minutes) * 60_000_000


_Reader = Callable[[Parts, int, Layout], tuple[Any, Bools]]


def _read(texts: Any, forms: Sequence[str], layout: Layout, reader: _Reader | None = None) -> tuple[Ints, Ints, Any]:
    """Days, or microseconds, since 1970 of each text, the rows that have none of the forms, and the mask of nulls."""
    reader = reader or _moment
    cells = Cells.of(texts)
    lengths, count = cells.lengths, len(texts)
    moments = np.zeros(count, np.int64)
    missing = cells.valid.copy()
    for text in forms:
        for form in Form.all_of(text, layout):
            chosen = np.flatnonzero(missing & (lengths == form.width))
            if not len(chosen):
                continue
            parts, good = form.read(cells.matrix(chosen, form.width))
            read, real = reader(parts, len(chosen), layout)
            good &= real
            if len(chosen) == count and good.all():
                return np.array(read, np.int64), np.zeros(0, np.int64), None
            moments[chosen[good]] = read[good]
            missing[chosen[good]] = False
    return moments, np.flatnonzero(missing), missing | ~cells.valid


def _days(parts: Parts, count: int, layout: Layout) -> tuple[Any, Bools]:
    """Days since 1970, and whether the calendar has such a day."""
    one = np.ones(count, np.int32)
    if "y" in parts:
        first = np.int32(layout.two_digit_years_from or 0)
        parts["Y"] = first + (parts["y"] - first) % np.int32(100)
    year, month, day = parts.get("Y", 1970 * one), parts.get("m", one), parts.get("d", one)
    # what is not a digit spells any number at all, also one of no year that the table of months has
    real = (year >= 1) & (year <= _LAST_YEAR) & (month >= 1) & (month <= 12) & (day >= 1)
    index = np.where(real, year * np.int32(12) + month - np.int32(1), np.int32(12))
    starts, length = _months()
    real &= day <= length[index]
    return starts[index] + (day - np.int32(1)), real


def _clock(parts: Parts, count: int, _layout: Layout) -> tuple[Any, Bools]:
    """Microseconds since midnight, and whether a clock shows such a time."""
    return _time(parts, count, midnight_24=False)


def _time(parts: Parts, count: int, *, midnight_24: bool) -> tuple[Any, Bools]:
    zero = np.zeros(count, np.int32)
    hour, minute, second = parts.get("H", zero), parts.get("M", zero), parts.get("S", zero)
    real = (minute <= 59) & (second <= 59)
    if "I" in parts:
        real &= (parts["I"] >= 1) & (parts["I"] <= 12)
        hour = parts["I"] % 12 + 12 * (parts.get("p", zero) == 2)
    seconds = (hour * np.int32(60) + minute) * np.int32(60) + second
    fraction = parts.get("f")
    if midnight_24:
        latest = (seconds == 24 * 3600) & (hour == 24)
        if fraction is not None:
            latest &= fraction == 0
        real &= (seconds < 24 * 3600) | latest
    else:
        real &= hour <= 23
    micros = seconds * np.int64(1_000_000)
    return micros if fraction is None else micros + fraction, real


def _moment(parts: Parts, count: int, layout: Layout) -> tuple[Any, Bools]:
    """Microseconds since 1970, and whether there is such a moment."""
    days, real = _days(parts, count, layout)
    moments = days * np.int64(_MICROSECONDS_A_DAY)
    if "H" in parts or "I" in parts:
        micros, shown = _time(parts, count, midnight_24=layout.midnight_24)
        moments += micros
        real &= shown & (moments <= LAST_MOMENT)  # 24:00 of the last day is beyond it
    return moments, real


@functools.cache
def _months() -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """For month m of year y, at index 12 y + m - 1: the days from 1970-01-01 to its first, and how many it has."""
    starts = np.arange("0000-01", "10000-02", dtype="datetime64[M]").astype("datetime64[D]").astype(np.int32)
    return starts[:-1], np.diff(starts)
