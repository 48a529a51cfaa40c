"""Rules that look at earlier loads: quiet years are left alone, and what is not usual is found on its first night."""

from __future__ import annotations

import datetime
from collections.abc import Iterator

import numpy as np
import pytest

from conftest import Space
from nomotheta.rules.sketch import SHARES, Sketch, drift
from nomotheta.rules.usual import usual_range
from test_places import database, running, sort, there  # noqa: F401

START = datetime.date(2026, 1, 5)


def quiet_years(seed: int, count: int) -> Iterator[list[int]]:
    """Counts of a year's nights: by weekday, by season, and a little by chance."""
    chance = np.random.default_rng(seed)
    days = np.arange(365)
    for _ in range(count):
        weekday = np.exp(chance.normal(0, 0.05, 7))
        weekday[5:] *= chance.uniform(0.3, 1, 2)
        season = 1 + chance.uniform(0, 0.3) * np.sin(2 * np.pi * (days / 365 + chance.random()))
        level = 10 ** chance.uniform(2.5, 5) * weekday[days % 7] * season
        noise = chance.normal(0, chance.uniform(0.02, 0.08), 365)
        yield chance.poisson(level * np.exp(noise)).tolist()


def test_quiet_years_are_left_alone_and_double_and_half_are_found_at_once() -> None:
    nights = alarms = tried = found = 0
    for year in quiet_years(1, 12):
        days = [START + datetime.timedelta(at) for at in range(len(year))]
        for at in range(8, len(year)):
            known = usual_range(days[:at], year[:at], days[at])
            nights, alarms = nights + 1, alarms + (not known.holds(year[at]))
            if known.by_weekday:
                tried, found = tried + 2, found + sum(not known.holds(year[at] * by) for by in (2, 0.5))

    assert alarms < 0.01 * nights
    assert found > 0.99 * tried > 0


@pytest.mark.parametrize(
    ("values", "today", "usual"),
    [([0, 0, 0, 0, 0, 0, 0, 0], 0, True), ([0, 0, 0, 0, 0, 0, 0, 0], 9, False), ([-5.0, -6, -5, -4, -5, -6, -5, -5], -5, True),
     ([100] * 8, 100, True), ([100] * 8, 0, False), ([100, 110, 90, 105, 95, 100, 30, 25], 28, True)],
)  # fmt: skip
def test_few_and_odd_values_have_a_range_too(values: list[float], today: float, usual: bool) -> None:
    days = [START + datetime.timedelta(at) for at in range(len(values))]

    assert usual_range(days, values, days[-1] + datetime.timedelta(1)).holds(today) is usual


def numbers(values: np.ndarray) -> Sketch:
    return Sketch(len(values), tuple(float(np.quantile(values, share, method="inverted_cdf")) for share in SHARES))


def words(values: np.ndarray) -> Sketch:
    names, counts = np.unique(values, return_counts=True)
    return Sketch(len(values), words=dict(zip(map(str, names), map(int, counts), strict=True)))


def test_a_distribution_that_moved_is_told_from_one_that_did_not() -> None:
    chance = np.random.default_rng(2)
    past = [numbers(chance.normal(10, 2, 500)) for _ in range(20)]
    classes = [words(chance.choice(["foot", "car", "cycle"], 500, p=[0.6, 0.37, 0.03])) for _ in range(20)]

    same = drift(numbers(chance.normal(10, 2, 500)), past)
    moved = drift(numbers(chance.normal(12, 2, 500)), past)  # by one standard deviation
    gone = drift(words(chance.choice(["foot", "car"], 800, p=[0.62, 0.38])), classes)
    alike = drift(words(chance.choice(["foot", "car", "cycle"], 800, p=[0.6, 0.37, 0.03])), classes)

    assert (same.distance < 0.1, same.chance() > 1e-4) == (True, True)
    assert (0.3 < moved.distance < 0.5, moved.chance() < 1e-6) == (True, True)
    assert (gone.gone, alike.gone) == (("cycle",), ())
    assert Sketch.of_text(past[0].text()) == past[0]


CHARTER = """table = "t"
[delivery]
files = "inbox/t-{day}.csv"
[load]
after_fail = "keep"
[columns.n]
kind = "integer"
drift = { least = 5 }
[columns.sold]
kind = "timestamp"
drift = { otherwise = "fail" }
[columns.class]
kind = "text(9)"
drift = true
[columns.load_no]
from = "@load.no"
[[rules]]
name = "count"
usual = "count(*)"
[[rules]]
name = "near the last"
whole = "count(*) between 0.8 * :last.count and 1.2 * :last.count and sum(n) <= 2 * :last.sum.n"
over = "load"
"""


def night(
    space: Space, day: int, count: int, shift: int = 0, classes: str | list[str] = "abc"
) -> dict[str, tuple[str, str]]:
    chance = np.random.default_rng(day)
    cells = zip(chance.normal(1000 + shift, 100, count).astype(int), chance.choice(list(classes), count), strict=True)
    date = str(START + datetime.timedelta(day))
    space.write(
        f"inbox/t-{date}.csv",
        "n,sold,class\n" + "".join(f"{n},2026-01-01 10:{n % 60:02}:00,{name}\n" for n, name in cells),
    )
    load = space.load(table="t", day=date)
    return {each["rule"]: (each["verdict"], each["message"]) for each in load["findings"]}


def test_a_load_is_held_against_earlier_ones_in_every_place(there: Space) -> None:  # noqa: F811
    there.charter(CHARTER, "t")
    first = night(there, 0, 200)
    found = [night(there, day, 200 + day % 3) for day in range(1, 9)]

    assert first["near the last"] == (
        "warn",
        "there is no earlier load to compare with; count(*) is 200, sum(n) is "
        + first["near the last"][1].rpartition(" ")[2],
    )
    assert first["count"] == ("warn", "count(*) is 200; there are 0 earlier loads to compare with, and 8 are needed")
    assert {each["near the last"][0] for each in found} == {"pass"}
    assert (
        found[-1]["count"][0],
        found[-1]["n is distributed as usual"][0],
        found[-1]["class is distributed as usual"][0],
    ) == ("pass",) * 3
    odd = night(there, 9, 400, 100, "ab")
    assert odd["count"][0] == "fail"
    judged = {each["rule"]: each for each in there.run("judge", "t", "--json").json["tables"][0]["findings"]}
    assert (judged["count"]["breaks"], judged["count"]["samples"]["rows"][0][:2]) == (1, ["9", "2026-01-13"])
    assert odd["count"][1].startswith("count(*) is 400; usual is ")
    assert odd["near the last"][0] == "fail"
    assert odd["n is distributed as usual"][0] == "warn"
    assert odd["class is distributed as usual"][1].endswith("; gone: c")
    blank = night(there, 10, 200, classes=[""])
    assert blank["class is distributed as usual"] == ("warn", "there are no values, and 10 earlier loads had some")
    judged = {each["rule"]: each for each in there.run("judge", "t", "--json").json["tables"][0]["findings"]}
    assert (judged["count"]["breaks"], judged["class is distributed as usual"]["breaks"]) == (0, 1)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("drift = true", "drift = true\nprivate = true", "values of a private column would be kept"),
        ('usual = "count(*)"', 'usual = "max(class)"', "usual works on numbers"),
        ('usual = "count(*)"', 'usual = "count(*) > 3"', "usual works on numbers"),
        ("[columns.load_no]\nfrom = \"@load.no\"\n", "", "the rows of one load cannot be told apart"),
        (":last.count", ":last.median.n", "is not a value of the load before"),
        (":last.sum.n", ":last.sum.m", "no column 'm'"),
        (":last.count", ":lastcount", "no parameter ':lastcount'"),
    ],
)  # fmt: skip
def test_what_cannot_be_compared_with_the_past_is_refused(space: Space, old: str, new: str, told: str) -> None:
    assert old in CHARTER
    space.charter(CHARTER.replace(old, new, 1), "t")

    run = space.run("lint")

    assert (run.code, told in run.text) == (2, True), run.text
