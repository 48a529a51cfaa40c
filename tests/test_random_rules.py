"""Random rules of every form against plain Python, after loading and when judged: in five places.

ROUNDS="0 100" in the environment draws a hundred tables in each place instead of one.
"""

from __future__ import annotations

import datetime
import os
import random
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import pytest

from conftest import DAY, Space
from nomotheta.conditions import always_the_same, check
from test_flight import cell
from test_places import database, running, sort, there  # noqa: F401
from test_random_conditions import KINDS, Maker, Part, Row, rows
from test_rules import stepped

SIGNS: dict[str, Callable[[Any, Any], bool]] = {
    "<": lambda a, b: a < b, "<=": lambda a, b: a <= b, ">": lambda a, b: a > b, "=": lambda a, b: a == b,
    "<>": lambda a, b: a != b,
}  # fmt: skip
NUMBERS, TEXTS = ("n", "m", "f", "g"), ("t", "u")
PORTS = ("t", "n", "d", "b")
PATTERNS = [
    "[a-zA-Z]+",
    "[a-z]{1,2}",
    "..?",
    "a.*|b|Z",
    "[0-9]{1,2}|[ab ]+",
    ".*",
    "[^a]*",
    "(a|A)[bB%_]?b?",
    "[a-zA-Z0-9éÉ日本 %_]*",
]


@dataclass(frozen=True)
class Rule:
    """A declaration, and what it comes to: the breaks, of how many; or the excused ones, too."""

    text: str
    breaks: Callable[[Sequence[Row]], tuple[int, int]]
    name: str
    fails: str = "fail"
    allowed: Fraction = Fraction(0)


def real(part: Part) -> bool:
    node = check(part.sql, KINDS)
    return bool(node.columns()) and not always_the_same(node)


class Rules:
    """Rules, made at random."""

    def __init__(self, chance: random.Random) -> None:
        self.chance, self.maker, self.count = chance, Maker(chance), 0

    def condition(self) -> Part:
        while True:
            part = self.maker.condition(2)
            try:
                if real(part):
                    return part
            except ValueError:
                continue

    def ends(self) -> tuple[str, str, Fraction]:
        """What follows a break, and the share that is allowed."""
        share = self.chance.choice([0, 0, 0, 5, 50])
        told = f'\ntolerate = "{share}%"' if share else ""
        fails = self.chance.choice(["fail", "warn"])
        return f'otherwise = "{fails}"{told}', fails, Fraction(share, 100)

    def named(self, keys: str, breaks: Callable[[Sequence[Row]], tuple[int, int]], *, tolerant: bool = True) -> Rule:
        self.count += 1
        ends, fails, allowed = self.ends() if tolerant else ("", "fail", Fraction(0))
        name = f"rule {self.count}"
        return Rule(f'[[rules]]\nname = "{name}"\n{keys}\n{ends}\n', breaks, name, fails, allowed)

    def each(self) -> Rule:
        met, where = self.condition(), self.condition() if self.chance.random() < 0.4 else None
        narrowed = f"\nwhere = '''{where.sql}'''" if where else ""

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            looked = [row for row in some if where is None or where.of(row)]
            return sum(met.of(row) is False for row in looked), len(looked)

        return self.named(f"each = '''{met.sql}'''{narrowed}", breaks)

    def value(self) -> tuple[str, Callable[[Sequence[Row]], Any]]:
        """An aggregate, and what it comes to."""
        where = self.condition() if self.chance.random() < 0.3 else None
        filtered = f" filter (where {where.sql})" if where else ""
        pick, name = self.chance.randrange(6), self.chance.choice(NUMBERS)

        def values(some: Sequence[Row], of: str = name) -> list[Any]:
            return [row[of] for row in some if row[of] is not None and (where is None or where.of(row))]

        if pick == 0:
            return f"count(*){filtered}", lambda some: sum(where is None or bool(where.of(row)) for row in some)
        if pick == 1:
            other = self.chance.choice([*NUMBERS, *TEXTS, "d", "b", "s", "y"])
            return f"count({other}){filtered}", lambda some: len(values(some, other))
        if pick == 2:
            other = self.chance.choice([*NUMBERS, *TEXTS, "d", "y"])
            return f"count(distinct {other}){filtered}", lambda some: len(set(values(some, other)))
        if pick == 3:
            return f"sum({name}){filtered}", lambda some: sum(values(some)) if values(some) else None
        word, work = self.chance.choice([("min", min), ("max", max)])
        return f"{word}({name}){filtered}", lambda some: work(values(some)) if values(some) else None

    def whole(self) -> Rule:
        (said, of), sign, limit = self.value(), self.chance.choice(list(SIGNS)), self.chance.randrange(-5, 60)
        groups = self.chance.sample(PORTS, self.chance.randrange(3))
        by = f"\nby = [{', '.join(map(repr, groups))}]".replace("'", '"') if groups else ""

        def met(some: Sequence[Row]) -> bool:
            found = of(some)
            return found is not None and SIGNS[sign](found, limit)

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            if not groups:
                return int(not met(some)), 1
            parts = grouped(some, groups)
            return sum(not met(part) for part in parts), len(parts)

        return self.named(f"whole = '''{said} {sign} {limit}'''{by}", breaks, tolerant=bool(groups))

    def gaps(self) -> Rule:
        name, step = self.chance.choice([("n", 1), ("m", 2), ("d", 1), ("e", 7)])
        of = f'"{step} day"' if KINDS[name].name == "date" else str(step)
        groups = self.chance.sample(PORTS, self.chance.randrange(2))
        by = f'\nby = ["{groups[0]}"]' if groups else ""

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            found = [
                stepped([number(row[name]) for row in part if row[name] is not None], step)
                for part in (grouped(some, groups) if groups else [some])
            ]
            values, missing, odd = (sum(each[at] for each in found) for at in range(3))
            return missing + odd, values + missing

        return self.named(f'without_gaps = {{ column = "{name}", step = {of} }}{by}', breaks)

    def key(self) -> Rule:
        makers = [lambda: self.maker.column(*PORTS, "f", "s"), lambda: self.maker.whole(1), lambda: self.maker.text(1)]
        drawn = [self.chance.choice(makers)() for _ in range(self.chance.randrange(1, 3))]
        parts = [part for part in drawn if check(part.sql, KINDS, "row value").columns()] or [self.maker.column(*PORTS)]
        nulls = self.chance.random() < 0.4
        ends, fails, allowed = self.ends()

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            keys = [tuple(part.of(row) for part in parts) for row in some]
            keys = [key for key in keys if nulls or None not in key]
            return len(keys) - len(set(keys)), len(some)

        listed = ", ".join(f"'''{part.sql}'''" for part in parts)
        told = '\nnulls = "not distinct"' if nulls else ""
        name = f"key ({', '.join(part.sql for part in parts)}) never repeats{', nulls being the same' * nulls}"
        return Rule(f"[[keys]]\ncolumns = [{listed}]{told}\n{ends}\n", breaks, name, fails, allowed)

    def reference(self, listed: Sequence[Row]) -> Rule:
        names = self.chance.choice([("t",), ("n",), ("t", "n"), ("d", "u")])
        known = {tuple(row[name] for name in names) for row in listed}
        ends, fails, allowed = self.ends()

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            cells = [tuple(row[name] for name in names) for row in some]
            return sum(None not in each and each not in known for each in cells), len(some)

        columns = ", ".join(f'"{name}"' for name in names)
        text = f'[[references]]\ncolumns = [{columns}]\nlisted_in = "u({", ".join(names)})"\n{ends}\n'
        return Rule(text, breaks, f"{', '.join(names)} is listed in u({', '.join(names)})", fails, allowed)

    def equal(self, other: Sequence[Row]) -> Rule:
        (said, of), within = self.value(), self.chance.choice([0, 0, 3])

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            mine, theirs = of(some), of(other)
            return int(mine is None or theirs is None or abs(mine - theirs) > within), 1

        also = f", within = {within}" if within else ""
        return self.named(f"whole = '''{said}'''\nequals = {{ table = \"u\"{also} }}", breaks, tolerant=False)

    def excused(self) -> Rule:
        met, but = self.condition(), self.condition()
        rule = self.named(f"each = '''{met.sql}'''", lambda some: (
            sum(met.of(row) is False and not but.of(row) for row in some), len(some)))  # fmt: skip
        excuse = f"[[excused]]\nrule = \"{rule.name}\"\nwhere = '''{but.sql}'''\nreason = \"known\"\nby = \"Alda\"\nuntil = 2099-01-01\n"
        return Rule(rule.text + excuse, rule.breaks, rule.name, rule.fails, rule.allowed)

    def column(self, name: str) -> Rule:
        """A check of a column; its text goes below the column."""
        fails = self.chance.choice(["fail", "warn"])
        pattern, most = self.chance.choice(PATTERNS), self.chance.randrange(1, 4)
        words = self.chance.sample(["a", "ab", "Z", "", "10", "9", " a", "é", "b", "A", "aB", "z", "a "], 6)
        listed = ", ".join(f'"{word}"' for word in words)
        forms: list[tuple[str, str, Callable[[str], bool]]] = [
            ('blank = { value = "never"', "is never blank", lambda value: bool(value.strip())),
            (f"pattern = {{ value = '{pattern}'", f"matches {pattern}", lambda value: bool(re.fullmatch(pattern, value))),
            (f"among = {{ values = [{listed}]", f"is one of {', '.join(words)}", lambda value: value in words),
            (f"length = {{ values = [0, {most}]", f"has 0 to {most} characters", lambda value: len(value) <= most),
        ]  # fmt: skip
        text, told, met = self.chance.choice(forms)

        def breaks(some: Sequence[Row]) -> tuple[int, int]:
            return sum(not met(row[name]) if row[name] is not None else "blank" in told for row in some), len(some)

        return Rule(f'{text}, otherwise = "{fails}" }}', breaks, f"{name} {told}", fails)

    def columns(self) -> dict[str, list[Rule]]:
        """Checks of the columns of texts, each of a sort once."""
        found = {}
        for name in TEXTS:
            made = {rule.text.split(" ", 1)[0]: rule for rule in (self.column(name) for _ in range(4))}
            found[name] = list(made.values())
        return found

    def some(self, count: int, other: Sequence[Row]) -> list[Rule]:
        """Rules of every form, each said once."""
        makers = [self.each, self.whole, self.whole, self.gaps, self.key, self.excused,
                  lambda: self.reference(other), lambda: self.equal(other)]  # fmt: skip
        found: dict[str, Rule] = {}
        while len(found) < count:
            rule = self.chance.choice(makers)()
            if not any(rule.name == each.name for each in found.values()):
                found[rule.text.partition("[[excused]]")[0].replace(f'"{rule.name}"', "")] = rule
        return list(found.values())


def number(value: Any) -> int:
    return value.toordinal() if isinstance(value, datetime.date) else int(value)


def grouped(some: Sequence[Row], names: Sequence[str]) -> list[list[Row]]:
    found: dict[Any, list[Row]] = defaultdict(list)
    for row in some:
        found[tuple(row[name] for name in names)].append(row)
    return list(found.values())


def charter(table: str, rules: Sequence[Rule] = (), columns: Mapping[str, Sequence[Rule]] | None = None) -> str:
    lines = [
        f'table = "{table}"', "[delivery]", f'files = "inbox/{table}-{{day}}.csv"',
        'layout = { timestamp_forms = ["%Y-%m-%d %H:%M:%S.%f"] }', "[load]", 'after_fail = "keep"', 'empty = "accept"',
    ]  # fmt: skip
    for name, kind in KINDS.items():
        checks = (columns or {}).get(name, ())
        lines += [f"[columns.{name}]", f'kind = "{kind}"', *(check.text for check in checks)]
    return "\n".join([*lines, '[columns.load_no]\nfrom = "@load.no"', *(rule.text for rule in rules)]) + "\n"


def written(some: Sequence[Row]) -> str:
    return "\n".join([",".join(KINDS), *(",".join(cell(row[name]) for name in KINDS) for row in some)]) + "\n"


@pytest.mark.parametrize("seed", range(*map(int, os.environ.get("ROUNDS", "0 1").split())))
def test_random_rules_come_to_what_plain_python_says(there: Space, seed: int) -> None:  # noqa: F811
    chance = random.Random(seed)
    mine, other = rows(chance, chance.choice([60, 60, 0, 1, 300] if seed else [60])), rows(chance, 30)
    maker = Rules(chance)
    rules, columns = maker.some(40, other), maker.columns()
    there.charter(charter("u"), "u")
    there.charter(charter("t", rules, columns), "t")
    there.write(f"inbox/u-{DAY}.csv", written(other))
    there.write(f"inbox/t-{DAY}.csv", written(mine))
    there.load(table="u")

    load = there.load(table="t")
    judged = there.run("judge", "t", "--day", DAY, "--json").json["tables"][0]

    assert load["state"] == "loaded", [each for each in load["findings"] if each["verdict"] == "error"]
    for findings in (load["findings"], judged["findings"]):
        found = {each["rule"]: each for each in findings}
        for rule in [*rules, *columns["t"], *columns["u"]]:
            breaks, of = rule.breaks(mine)
            finding = found[rule.name]
            assert finding["breaks"] == breaks, (seed, rule.text, finding)
            bad = breaks > rule.allowed * of
            assert finding["verdict"] == (rule.fails if bad else "pass"), (seed, rule.text, finding, of)
    assert len(Counter(rule.text.split("\n", 1)[0] for rule in rules)) == 3
