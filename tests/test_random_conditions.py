"""Random conditions against an oracle in plain Python, row by row: in five places, and where rows are loaded."""

from __future__ import annotations

import contextlib
import datetime
import math
import random
import zoneinfo
from collections.abc import Callable
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction
from typing import Any

import pyarrow as pa
import pytest

from nomotheta.charter import Check
from nomotheta.charter.tolerance import Tolerance
from nomotheta.conditions import ConditionError, Kind, check, decimal, quoted
from nomotheta.kinds.read import arrow_type
from nomotheta.load.engine import Engine
from nomotheta.place.base import Place
from nomotheta.rules.anew import Anew, Column
from test_conditions import NOW
from test_places import answered, fill, place, running, sort  # noqa: F401

KINDS = {
    "id": Kind("integer"), "n": Kind("integer"), "m": Kind("integer"), "f": decimal(8, 2), "g": decimal(6, 3),
    "t": Kind("text"), "u": Kind("text", 8), "d": Kind("date"), "e": Kind("date"), "b": Kind("boolean"), "c": Kind("boolean"),
    "s": Kind("timestamp"), "w": Kind("timestamp"), "y": Kind("timestamptz"), "z": Kind("timestamptz"),
}  # fmt: skip
TEXTS = ["", "a", "A", "ab", "aB", " a", "a ", "b", "é", "Z", "z", "10", "9", "a%b", "a_b", "日本"]
Row = dict[str, Any]


@dataclass(frozen=True)
class Part:
    """A piece of SQL, and what it comes to in a row."""

    sql: str
    of: Callable[[Row], Any]


def rows(chance: random.Random, count: int = 40) -> list[Row]:
    makers: dict[str, Callable[[], Any]] = {
        "n": lambda: chance.randrange(-5, 6), "m": lambda: chance.randrange(-3, 4),
        "f": lambda: Decimal(chance.randrange(-300, 300)).scaleb(-2), "g": lambda: Decimal(chance.randrange(-3000, 3000)).scaleb(-3),
        "t": lambda: chance.choice(TEXTS), "u": lambda: chance.choice(TEXTS),
        "d": lambda: datetime.date(2024, 2, 20) + datetime.timedelta(chance.randrange(40)),
        "e": lambda: datetime.date(2024, 2, 20) + datetime.timedelta(chance.randrange(40)),
        **dict.fromkeys("sw", lambda: near(chance)), **dict.fromkeys("yz", lambda: near(chance).replace(tzinfo=datetime.UTC)),
        "b": lambda: chance.random() < 0.5, "c": lambda: chance.random() < 0.5,
    }  # fmt: skip
    return [
        {"id": at} | {name: None if chance.random() < 0.2 else make() for name, make in makers.items()}
        for at in range(count)
    ]


def near(chance: random.Random) -> datetime.datetime:
    """A moment of the days about a change of the clocks."""
    minutes = datetime.timedelta(minutes=chance.randrange(4 * 24 * 60), microseconds=chance.choice([0, 0, 1, 999_999]))
    return datetime.datetime(2024, 3, 29) + minutes


def lifted(work: Callable[..., Any]) -> Callable[..., Any]:
    """SQL's way: null as soon as one part is null."""
    return lambda *parts: None if any(part is None for part in parts) else work(*parts)


def call(sql: str, work: Callable[..., Any], *parts: Part) -> Part:
    return Part(sql.format(*(part.sql for part in parts)), lambda row: work(*(part.of(row) for part in parts)))


class Maker:
    """Conditions, made at random."""

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance

    def column(self, *names: str) -> Part:
        name = self.chance.choice(names)
        return Part(name, lambda row: row[name])

    def whole(self, deep: int) -> Part:
        pick = self.chance.randrange(10 if deep else 2)
        if pick == 0:
            value = self.chance.randrange(-4, 5)
            return Part(str(value), lambda _: value)
        if pick == 1:
            return self.column("n", "m")
        if pick == 2:
            return call("char_length({})", lifted(len), self.text(deep - 1))
        if pick == 3:
            return call("({} - {})", lifted(lambda a, b: (a - b).days), self.day(deep - 1), self.day(deep - 1))
        if pick == 4:
            part, work = self.chance.choice([
                ("month", lambda a: a.month), ("week", lambda a: a.isocalendar().week),
                ("isoyear", lambda a: a.isocalendar().year), ("isodow", lambda a: a.isoweekday()),
            ])  # fmt: skip
            return call(f"extract({part} from {{}})", lifted(work), self.day(deep - 1))
        if pick == 5:
            return call(
                "coalesce({}, {})", lambda a, b: b if a is None else a, self.whole(deep - 1), self.whole(deep - 1)
            )
        if pick == 6:
            return call("abs({})", lifted(abs), self.whole(deep - 1))
        if pick == 7:
            part = self.chance.choice(["day", "hour", "minute", "second"])
            of = self.chance.choice([self.moment, self.instant])
            return call(f"extract({part} from {{}})", lifted(lambda a: getattr(a, part)), of(deep - 1))
        sign, work = self.chance.choice(
            [("+", lambda a, b: a + b), ("-", lambda a, b: a - b), ("*", lambda a, b: a * b)]
        )
        return call(f"({{}} {sign} {{}})", lifted(work), self.whole(deep - 1), self.whole(deep - 1))

    def money(self, deep: int) -> Part:
        pick = self.chance.randrange(6 if deep else 2)
        if pick == 0:
            value = Decimal(self.chance.randrange(-400, 400)).scaleb(-2)
            return Part(str(value), lambda _: value)
        if pick == 1:
            return self.column("f", "g")
        if pick == 2:
            return call("abs({})", lifted(abs), self.money(deep - 1))
        if pick == 3:
            places = self.chance.randrange(3)
            rounded = lifted(lambda a: a.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP))
            return call(f"round({{}}, {places})", rounded, self.column("f", "g"))
        sign, work = self.chance.choice(
            [("+", lambda a, b: a + b), ("-", lambda a, b: a - b), ("*", lambda a, b: a * b)]
        )
        return call(f"({{}} {sign} {{}})", lifted(work), self.money(deep - 1), self.whole(0))

    def text(self, deep: int) -> Part:
        pick = self.chance.randrange(7 if deep else 2)
        if pick == 0:
            value = self.chance.choice(TEXTS)
            return Part(f"'{value}'", lambda _: value)
        if pick == 1:
            return self.column("t", "u")
        if pick == 2:
            return call("trim({})", lifted(str.strip), self.text(deep - 1))
        if pick == 3:
            return call(
                "coalesce({}, {})", lambda a, b: b if a is None else a, self.text(deep - 1), self.text(deep - 1)
            )
        if pick == 4:
            return call("replace({}, 'a', 'xy')", lifted(lambda a: a.replace("a", "xy")), self.text(deep - 1))
        if pick == 5:
            size = self.chance.randrange(1, 4)
            return call(f"left({{}}, {size})", lifted(lambda a: a[:size]), self.text(deep - 1))
        return call("({} || {})", lifted(lambda a, b: a + b), self.text(deep - 1), self.text(deep - 1))

    def day(self, deep: int) -> Part:
        pick = self.chance.randrange(4 if deep else 2)
        if pick == 0:
            value = datetime.date(2024, 2, 1) + datetime.timedelta(self.chance.randrange(60))
            return Part(f"date '{value}'", lambda _: value)
        if pick == 1:
            return self.column("d", "e")
        moved = lifted(lambda a, b: a + datetime.timedelta(b))
        return call("({} + {})", moved, self.column("d", "e"), self.column("n", "m"))

    def shifted(self, of: Part) -> Part:
        amount, unit = self.chance.randrange(-90, 90), self.chance.choice(["minute", "hour", "second"])
        sign, by = self.chance.choice("+-"), datetime.timedelta(**{f"{unit}s": amount})
        moved = lifted(lambda a: a + by if sign == "+" else a - by)
        return call(f"({{}} {sign} interval '{amount}' {unit})", moved, of)

    def moment(self, deep: int) -> Part:
        pick = self.chance.randrange(5 if deep > 0 else 2)
        if pick == 0:
            value = near(self.chance)
            return Part(f"timestamp '{value}'", lambda _: value)
        if pick == 1:
            return self.column("s", "w")
        if pick == 2:
            zone = self.chance.choice(["Europe/Berlin", "Atlantic/Faroe", "America/New_York", "UTC"])
            local = lifted(lambda a: a.astimezone(zoneinfo.ZoneInfo(zone)).replace(tzinfo=None))
            return call(f"({{}} at time zone '{zone}')", local, self.instant(deep - 1))
        if pick == 3:
            return call("cast({} as timestamp)", lifted(lambda a: a.replace(tzinfo=None)), self.instant(deep - 1))
        return self.shifted(self.moment(deep - 1))

    def instant(self, deep: int) -> Part:
        pick = self.chance.randrange(4 if deep > 0 else 2)
        if pick == 0:
            value, hours = near(self.chance), self.chance.choice([0, 2, -5])
            zone = datetime.timezone(datetime.timedelta(hours=hours))
            return Part(
                f"timestamp '{value}{hours:+03}:00'", lambda _: value.replace(tzinfo=zone).astimezone(datetime.UTC)
            )
        return self.column("y", "z") if pick == 1 else self.shifted(self.instant(deep - 1))

    def span(self, deep: int) -> Part:
        pick = self.chance.randrange(5 if deep > 0 else 3)
        if pick == 0:
            amount = self.chance.randrange(-3000, 3000)
            return Part(f"interval '{amount}' minute", lambda _: datetime.timedelta(minutes=amount))
        if pick < 3:
            of = self.chance.choice([self.moment, self.instant])
            return call("({} - {})", lifted(lambda a, b: a - b), of(deep - 1), of(deep - 1))
        if pick == 3:
            return call("abs({})", lifted(abs), self.span(deep - 1))
        return call("({} + {})", lifted(lambda a, b: a + b), self.span(deep - 1), self.span(deep - 1))

    def condition(self, deep: int) -> Part:
        pick = self.chance.randrange(12 if deep else 6)
        some = self.chance.choice([self.whole, self.money, self.text, self.day, self.moment, self.instant, self.span])
        inner = max(deep - 1, 1)
        if pick < 3:
            signs = {"=": lambda a, b: a == b, "<>": lambda a, b: a != b, "<": lambda a, b: a < b, "<=": lambda a, b: a <= b,
                     ">": lambda a, b: a > b, ">=": lambda a, b: a >= b}  # fmt: skip
            sign = self.chance.choice(list(signs))
            return call(f"({{}} {sign} {{}})", lifted(signs[sign]), some(inner), some(inner))
        if pick == 3:
            return call("({} is null)", lambda a: a is None, some(inner))
        if pick == 4:
            return self.column("b", "c")
        if pick == 5:
            like = self.chance.choice(["a%", "%b", "_", "%", "a_", "%a%"])
            return call(f"({{}} like '{like}')", lifted(lambda a: liked(a, like)), self.text(inner))
        if pick == 6:
            parts = [some(inner) for _ in range(3)]
            return call("({} between {} and {})", lambda a, b, c: both(at_most(b, a), at_most(a, c)), *parts)
        if pick == 7:
            return call("({} is distinct from {})", lambda a, b: a != b, some(inner), some(inner))
        if pick == 8:
            return call("(not {})", lambda a: None if a is None else not a, self.condition(deep - 1))
        if pick == 9:
            other, listed = self.chance.choice([self.whole, self.text]), self.chance.randrange(1, 4)
            parts = [some(0), other(0), *(make(0) for _ in range(listed) for make in (some, other))]
            shape = ", ".join(["({}, {})"] * listed)
            return call(f"(({{}}, {{}}) in ({shape}))", one_of, *parts)
        word, work = self.chance.choice([("and", both), ("or", either)])
        return call(f"({{}} {word} {{}})", work, self.condition(deep - 1), self.condition(deep - 1))


def one_of(first: Any, second: Any, *listed: Any) -> bool | None:
    """SQL's way: a row is equal to another if all of its values are; null where none is, and one might be."""
    found: bool | None = False
    for one, other in zip(listed[::2], listed[1::2], strict=True):
        same = [None if a is None or b is None else a == b for a, b in ((first, one), (second, other))]
        found = either(found, both(*same))
    return found


def liked(text: str, pattern: str) -> bool:
    if not pattern:
        return not text
    if pattern[0] == "%":
        return any(liked(text[at:], pattern[1:]) for at in range(len(text) + 1))
    return bool(text) and pattern[0] in {"_", text[0]} and liked(text[1:], pattern[1:])


def at_most(low: Any, high: Any) -> bool | None:
    return None if low is None or high is None else low <= high


def both(one: bool | None, other: bool | None) -> bool | None:
    return False if one is False or other is False else None if one is None or other is None else True


def either(one: bool | None, other: bool | None) -> bool | None:
    return True if one or other else None if one is None or other is None else False


def made(seed: int, count: int) -> list[Part]:
    """Conditions that speak of a column, and that the program takes: what is always so or never is refused by lint."""
    maker, found = Maker(random.Random(seed)), []
    while len(found) < count:
        part = maker.condition(3)
        with contextlib.suppress(ConditionError):  # it may need more digits than there are
            if check(part.sql, KINDS).columns():
                found.append(part)
    return found


DATA = rows(random.Random(5))
COLUMNS = {name: [row[name] for row in DATA] for name in KINDS}


def test_random_conditions_mean_the_same_in_every_place(place: Place) -> None:  # noqa: F811
    fill(place, "random", KINDS, list(COLUMNS.values()))
    place.expect("random", KINDS)
    parts = sorted(made(1, 350), key=lambda part: place.differs(check(part.sql, KINDS)) == ())
    everything = Anew(place, {"random": [Column(name, kind) for name, kind in KINDS.items()]})

    for first in range(0, len(parts), 25):
        some = parts[first : first + 25]
        by = place if all(place.differs(check(part.sql, KINDS)) != () for part in some) else everything
        said = [by.render(check(part.sql, KINDS), NOW) for part in some]
        listed = ", ".join(
            f"CASE WHEN {sql} THEN 1 WHEN NOT {sql} THEN 0 END AS {quoted(f'c{at}')}" for at, sql in enumerate(said)
        )
        found = by.fetch(f"SELECT {quoted('id')}, {listed} {by.rowset('random')}").to_pylist()
        assert len(found) == len(DATA)
        for answer in found:
            row = DATA[answer["id"]]
            for at, part in enumerate(some):
                expected = part.of(row)
                assert answer[f"c{at}"] == (None if expected is None else int(expected)), (part.sql, row)


TOGETHER = [("t", "u"), ("n", "f"), ("d", "b"), ("t", "n", "g"), ("u", "d", "f", "b")]


def test_values_are_counted_together_where_all_of_them_are_there(place: Place) -> None:  # noqa: F811
    fill(place, "together", KINDS, list(COLUMNS.values()))
    place.expect("together", KINDS)
    for names in TOGETHER:
        rows = [(row["c"], *(row[name] for name in names)) for row in DATA]
        found = {row[1:] for row in rows if None not in row[1:]}
        some = {row[1:] for row in rows if None not in row[1:] and row[0]}
        counted = f"count(distinct {', '.join(names)})"

        node = check(f"{counted} = {len(found)} and {counted} filter (where c) = {len(some)}", KINDS, "whole")
        sql = f"SELECT CASE WHEN {place.render(node, NOW)} THEN 1 END AS met {place.rowset('together')}"

        assert len(found) > len(some) > 3
        assert place.fetch(sql).to_pylist() == [{"met": 1}], names


def test_what_is_worked_out_of_sorted_values_is_the_same_everywhere(place: Place) -> None:  # noqa: F811
    chance = random.Random(3)
    rows = [[chance.randrange(-40, 40), Decimal(chance.randrange(-9000, 9000)).scaleb(-2)] for _ in range(137)]
    kinds = {"n": Kind("integer"), "f": decimal(8, 2)}
    fill(place, "sorted", kinds, [list(column) for column in zip(*rows, strict=True)])
    place.expect("sorted", kinds)
    said = []
    for at, name in enumerate(kinds):
        values = sorted(row[at] for row in rows)
        mean = Fraction(sum(values)) / len(values)
        spread = math.sqrt(sum((Fraction(value) - mean) ** 2 for value in values) / (len(values) - 1))
        said += [f"abs(stddev_samp({name}) / {spread:.15e} - 1) < 1e-12"]
        for hundredths in range(0, 101, 3):
            share = Fraction(hundredths, 100)
            least = values[max(math.ceil(share * len(values)) - 1, 0)]
            below, part = divmod(share * (len(values) - 1), 1)
            cont = (
                Fraction(values[int(below)]) * (1 - part)
                + Fraction(values[min(int(below) + 1, len(values) - 1)]) * part
            )
            of = f"({hundredths / 100}) within group (order by {name})"
            said += [f"percentile_disc{of} = {least}", f"abs(percentile_cont{of} - {float(cont):.15e}) < 1e-9"]
    node = check(" and ".join(said), kinds, "whole")

    assert answered(place, "sorted", node, kinds) == [True]


def test_random_conditions_set_the_rows_aside_that_break_them() -> None:
    schema = pa.schema([(name, arrow_type(kind)) for name, kind in KINDS.items()])
    table = pa.table([pa.array(COLUMNS[name], field.type) for name, field in zip(KINDS, schema, strict=True)], schema)
    parts = made(2, 400)
    checks = [Check(f"c{at}", "each", (), "reject", node=check(part.sql, KINDS)) for at, part in enumerate(parts)]

    found = Engine(checks, NOW).broken(table)

    for at, part in enumerate(parts):
        assert list(found.get(at, [])) == [n for n, row in enumerate(DATA) if part.of(row) is False], part.sql


@pytest.mark.parametrize("seed", range(3))
def test_shares_are_exact_at_every_boundary(seed: int) -> None:
    chance = random.Random(seed)
    for _ in range(20_000):
        of, tenths = chance.randrange(1, 5000), chance.randrange(0, 1000)
        limit = Fraction(of) * Fraction(tenths, 1000)
        tolerance = Tolerance(share=Decimal(tenths).scaleb(-3))
        for broken in (int(limit), int(limit) + 1):
            assert tolerance.allows(broken, of) == (Fraction(broken) <= limit), (broken, of, tenths)
