"""Local times of a zone in UTC, a column at a time, by the rules of the time zone database (IANA) as Python reads them.

Arrow's own conversion knows no summer time after 2037. Here the clocks of a zone change as its rules say for ever:
after 2499 as 400 years before, since the calendar repeats, and before 1800 not at all.
"""

from __future__ import annotations

import datetime
import functools
import zoneinfo

import numpy as np

from nomotheta.kinds.cells import Bools, Ints

_SECOND = 1_000_000
_DAY = 86_400 * _SECOND
_CYCLE = 146_097 * _DAY  # 400 years
_FIRST_YEAR, _END_YEAR = 1800, 2500
_EPOCH = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)


def in_utc(local: Ints, zone: str) -> tuple[Ints, Bools]:
    """Local times in UTC, both in microseconds since 1970, and which of them the zone's clocks skip.

    Of a time that the clocks show twice, the earlier is meant.
    """
    if zone == "UTC" or not len(local):
        return local, np.zeros(len(local), np.bool_)
    first, end = (_micros(datetime.datetime(year, 1, 1, tzinfo=datetime.UTC)) for year in (_FIRST_YEAR, _END_YEAR))
    cycles = np.maximum(-((end - local) // _CYCLE), 0) if int(local.max()) >= end else 0
    there = local - cycles * _CYCLE
    years = (max(int(moment), first - _DAY) for moment in (there.min() - 2 * _DAY, there.max() + 2 * _DAY))
    until, offsets, skipped = _changes(zone, *(_year(moment) for moment in years))
    at = np.searchsorted(until, there, side="right")
    return local - offsets[at], there < skipped[at]


@functools.lru_cache(maxsize=64)
def _changes(zone: str, first: int, last: int) -> tuple[Ints, Ints, Ints]:
    """From which local time on a further offset holds, the offsets, one more, and until when the clocks skip to it."""
    clock = zoneinfo.ZoneInfo(zone)
    start = max(datetime.datetime(first, 1, 1, tzinfo=datetime.UTC), datetime.datetime(2, 1, 1, tzinfo=datetime.UTC))
    before = _offset(start, clock)
    until, offsets, skipped = [], [before], [np.iinfo(np.int64).min]
    for year in range(first, last + 1):
        for moment, offset in _year_changes(zone, year):
            until.append(moment + before)
            offsets.append(offset)
            skipped.append(moment + offset)
            before = offset
    return np.array(until, np.int64), np.array(offsets, np.int64), np.array(skipped, np.int64)


@functools.lru_cache(maxsize=4096)
def _year_changes(zone: str, year: int) -> list[tuple[int, int]]:
    """The moments of a year at which the offset of a zone changes, and the offset from then on, in microseconds.

    No zone changes its clocks twice within three days, so that looking every second day misses nothing.
    """
    clock = zoneinfo.ZoneInfo(zone)
    found = []
    low = datetime.datetime(year, 1, 1, tzinfo=datetime.UTC)
    end = datetime.datetime(year + 1, 1, 1, tzinfo=datetime.UTC)
    before = _offset(low, clock)
    while low < end:
        high = min(low + datetime.timedelta(days=2), end)
        after = _offset(high, clock)
        if after != before:
            found.append((_first_second(low, high, before, clock), after))
            before = after
        low = high
    return found


def _first_second(low: datetime.datetime, high: datetime.datetime, before: int, clock: zoneinfo.ZoneInfo) -> int:
    """The first second behind `low` at which the offset is another."""
    while high - low > datetime.timedelta(seconds=1):
        middle = low + datetime.timedelta(seconds=(high - low) // datetime.timedelta(seconds=2))
        low, high = (middle, high) if _offset(middle, clock) == before else (low, middle)
    return _micros(high)


def _offset(moment: datetime.datetime, clock: zoneinfo.ZoneInfo) -> int:
    east = moment.astimezone(clock).utcoffset() or datetime.timedelta()
    return east // datetime.timedelta(microseconds=1)


def _micros(moment: datetime.datetime) -> int:
    return (moment - _EPOCH) // datetime.timedelta(microseconds=1)


def _year(moment: int) -> int:
    return (_EPOCH + datetime.timedelta(microseconds=moment)).year


def changes_between(zone: str, first: int, end: int) -> tuple[list[int], list[int], list[int]]:
    """From which local times on further offsets hold in a zone, in microseconds since 1970: of the years between two.

    Then the offsets, one more, and for each until when the clocks skip to it.
    """
    until, offsets, skipped = _changes(zone, first, end)
    return until.tolist(), offsets.tolist(), skipped.tolist()
