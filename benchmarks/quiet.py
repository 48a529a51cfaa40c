"""A thousand quiet years: how many nights raise a false alarm, and what of four faults is found on its first night.

    python benchmarks/quiet.py [YEARS] [SEED]

Counts go by weekday, by season, and a little by chance; fares and classes of each night are drawn from one distribution,
whose mean wanders by a twentieth of its spread from night to night, and the shares of the classes by a twentieth.
"""

from __future__ import annotations

import datetime
import sys

import numpy as np
from numpy.typing import NDArray

from nomotheta.rules.past import moved
from nomotheta.rules.sketch import SHARES, Sketch
from nomotheta.rules.usual import usual_range

START = datetime.date(2026, 1, 5)
DAYS = np.arange(365)
NIGHTS = 1  # of a year, on which distributions are compared: each is held against 28 before it
CLASSES, USUAL = ["foot", "cycle", "car", "freight"], [0.55, 0.25, 0.15, 0.05]


def counts(chance: np.random.Generator) -> NDArray[np.int64]:
    """The counts of a year's nights."""
    weekday = np.exp(chance.normal(0, 0.05, 7))
    weekday[5:] *= chance.uniform(0.3, 1, 2)
    season = 1 + chance.uniform(0, 0.3) * np.sin(2 * np.pi * (DAYS / 365 + chance.random()))
    level = 10 ** chance.uniform(2.5, 5) * weekday[DAYS % 7] * season
    return chance.poisson(level * np.exp(chance.normal(0, chance.uniform(0.02, 0.08), 365)))


def fares(chance: np.random.Generator, shift: float = 0) -> Sketch:
    """The fares of a night."""
    size = int(chance.integers(300, 3000))
    values = chance.gamma(4, 10, size) + 20 * (chance.normal(0, 0.05) + shift)  # whose standard deviation is 20
    return Sketch(size, tuple(np.quantile(values, SHARES, method="inverted_cdf").tolist()))


def classes(chance: np.random.Generator, gone: bool = False) -> Sketch:
    """The classes of a night."""
    size = int(chance.integers(600, 3000))
    shares = np.array(USUAL) * np.exp(chance.normal(0, 0.05, 4))
    shares[3] *= not gone
    names, times = np.unique(chance.choice(CLASSES, size, p=shares / shares.sum()), return_counts=True)
    return Sketch(size, words=dict(zip(map(str, names), map(int, times), strict=True)))


def alarmed(now: Sketch, past: list[Sketch]) -> bool:
    """Whether the rule would break."""
    return moved(now, past)[0]


def main(years: int, seed: int) -> None:
    """Simulate them and print what came of it."""
    chance = np.random.default_rng(seed)
    nights = alarms = tried = double = half = 0
    looked = drifted = shifted = vanished = 0
    for _ in range(years):
        year = counts(chance).tolist()
        days = [START + datetime.timedelta(int(at)) for at in DAYS]
        for at in range(8, 365):
            usual = usual_range(days[:at], year[:at], days[at])
            nights, alarms = nights + 1, alarms + (not usual.holds(year[at]))
            if usual.by_weekday:
                tried += 1
                double, half = double + (not usual.holds(2 * year[at])), half + (not usual.holds(year[at] // 2))
        past, before = [fares(chance) for _ in range(28)], [classes(chance) for _ in range(28)]
        for _ in range(NIGHTS):
            looked += 2
            drifted += alarmed(fares(chance), past) + alarmed(classes(chance), before)
        shifted += alarmed(fares(chance, 1), past)
        vanished += alarmed(classes(chance, gone=True), before)
    print(f"{years:,} years: counts, {nights:,} nights: {alarms / nights:.2%} false alarms")
    print(f"  of {tried:,} doubled counts {double / tried:.2%} found at once, of as many halved {half / tried:.2%}")
    print(f"  distributions, {looked:,} comparisons: {drifted / looked:.2%} false alarms")
    print(f"  of {years:,} means moved by a standard deviation {shifted / years:.2%}, of as many classes that vanished "
          f"{vanished / years:.2%} found at once")  # fmt: skip


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1000, int(sys.argv[2]) if len(sys.argv) > 2 else 1)
