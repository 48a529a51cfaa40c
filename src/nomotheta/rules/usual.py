"""Values held against those of earlier loads, robustly: by medians, and by weekday once there are eight weeks."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from nomotheta.frozen import frozen

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
_WEEKS = 8
_FITTED = 15  # levels of weeks and weekdays that are taken from the values
_WIDTH, _WIDER = 5.0, 3.0  # deviations that a value may be off: five leave less than one alarm in two hundred nights
_SPREAD = 1.4826  # of a median absolute deviation, to be a standard deviation where values are normal
_LEAST = 0.03  # a spread that is smaller is one of few values, or of counts that hardly ever change
_MOST = 0.1  # how much wider than what was seen the range is while weekdays are not told apart


@frozen
class Range:
    """What is usual: from `low` to `high`; `by_weekday` says whether that of the weekday is."""

    low: float
    high: float
    by_weekday: bool

    def holds(self, value: float) -> bool:
        """Whether a value is within it."""
        return self.low <= value <= self.high


def usual_range(days: Sequence[datetime.date], values: Sequence[float], day: datetime.date) -> Range:
    """The range of a value on a day, by those of earlier days.

    Values above zero are compared by their logarithms, so that half is as far off as double. Once there are eight
    weeks, levels of weeks and of weekdays are taken out by medians (Tukey's median polish), and what is left is the
    spread; before, the range is that of all that was seen, and somewhat wider.
    """
    given = np.asarray(values, np.float64)
    logs = bool((given > 0).all())
    numbers = np.log(given) if logs else given
    least = _LEAST if logs else _LEAST * float(np.median(np.abs(given)))
    ago = np.array([(day - each).days for each in days])
    weekdays = np.array([each.weekday() for each in days])
    recent = (ago >= 1) & (ago <= 7 * _WEEKS)
    known = int((weekdays[recent] == day.weekday()).sum())
    if ago.max(initial=0) >= 7 * _WEEKS and known >= _WEEKS // 2 and recent.sum() > 2 * _FITTED:
        center, spread = _polished(numbers[recent], (ago[recent] - 1) // 7, weekdays[recent], day.weekday())
        width = _WIDTH * max(spread, least)
        low, high, by_weekday = center - width, center + width, True
    else:
        low, high = _seen(numbers[-7 * _WEEKS :], least)
        by_weekday = False
    return Range(float(np.exp(low)), float(np.exp(high)), by_weekday) if logs else Range(low, high, by_weekday)


def _seen(numbers: Floats, least: float) -> tuple[float, float]:
    """All that was seen, and around the median as far as values usually lie."""
    median = float(np.median(numbers))
    spread = max(_deviation(numbers - median), least)
    beyond = _WIDER * (min(spread, _MOST) if least == _LEAST else spread)
    return (
        min(float(numbers.min()) - beyond, median - _WIDER * spread),
        max(float(numbers.max()) + beyond, median + _WIDER * spread),
    )


def _polished(
    numbers: Floats, weeks: NDArray[np.int64], weekdays: NDArray[np.int64], today: int
) -> tuple[float, float]:
    """The value to expect on a weekday, and the spread about such."""
    of_day, of_week = np.zeros(7), np.zeros(int(weeks.max()) + 1)
    for _ in range(4):
        for each in range(7):
            if (there := weekdays == each).any():
                of_day[each] = np.median(numbers[there] - of_week[weeks[there]])
        for each in range(len(of_week)):
            if (there := weeks == each).any():
                of_week[each] = np.median(numbers[there] - of_day[weekdays[there]])
    left = numbers - of_day[weekdays] - of_week[weeks]
    spread = _deviation(left) * np.sqrt(len(left) / (len(left) - _FITTED))
    latest = weeks == weeks.min()
    return float(of_day[today] + np.median((numbers - of_day[weekdays])[latest])), float(spread)


def _deviation(numbers: Floats) -> float:
    return float(_SPREAD * np.median(np.abs(numbers)))
