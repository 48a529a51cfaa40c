"""Rules on groups, gaps and other tables, held against plain Python in every place, after loading and when judged."""

from __future__ import annotations

import datetime
import itertools
import math
import operator
import random
import re
from collections import defaultdict
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

import pyarrow.parquet as pq
import pytest

from conftest import Space
from nomotheta.rules.finding import HIDDEN
from servers import Database
from test_places import database, running, sort, there  # noqa: F401

DAY = datetime.date(2026, 6, 1)
COLUMNS = """table = "t"
[delivery]
files = "inbox/t-{day}.csv"
[load]
after_fail = "keep"
[columns.n]
kind = "integer"
[columns.port]
kind = "text(9)"
[columns.fare]
kind = "decimal(8,2)"
[columns.sold]
kind = "date"
[columns.at]
kind = "timestamp"
[columns.share]
kind = "real"
[columns.load_no]
from = "@load.no"
"""
Row = tuple[int, str | None, Decimal | None, datetime.date | None, datetime.datetime, float | None]


def rule(name: str, keys: str) -> str:
    return f'[[rules]]\nname = "{name}"\n{keys}\n'


def drawn(seed: int, count: int = 300) -> list[Row]:
    some = random.Random(seed)
    ports = [None, "SKE", "ske", "Holm", "Holm ", "Hölm", "Å", "A\u030a", "x"]
    start = datetime.datetime(2026, 5, 28)

    def maybe(value: Any) -> Any:
        return None if some.random() < 0.1 else value

    return [
        (some.randrange(-6, 40) * some.choice([3, 3, 3, 1]), some.choice(ports), maybe(Decimal(some.randrange(9000)) / 100),
         maybe(DAY - datetime.timedelta(some.choice([0, 1, 2, 4, 7, 35, 100, 400]))),
         start + datetime.timedelta(minutes=15 * some.randrange(200) + some.choice([0] * 60 + [1])), maybe(some.random()))
        for _ in range(count)
    ]  # fmt: skip


def written(rows: Sequence[Row]) -> str:
    lines = ["n,port,fare,sold,at,share"]
    lines += [",".join("" if cell is None else f'"{cell}"' for cell in row) for row in rows]
    return "\n".join(lines) + "\n"


def findings(space: Space) -> list[dict[str, dict[str, Any]]]:
    """What came of the rules after loading, and when the table is judged."""
    load = space.load(table="t")
    judged = space.run("judge", "t", "--day", str(DAY), "--json").json["tables"][0]["findings"]
    return [{each["rule"]: each for each in found} for found in (load["findings"], judged)]


def groups_of(rows: Sequence[Row], *at: int) -> dict[tuple[Any, ...], list[Row]]:
    found: dict[tuple[Any, ...], list[Row]] = defaultdict(list)
    for row in rows:
        found[tuple(row[each] for each in at)].append(row)
    return found


def total(rows: Sequence[Row]) -> Decimal | None:
    fares = [row[2] for row in rows if row[2] is not None]
    return sum(fares) if fares else None


GROUPS: list[tuple[str, str, tuple[int, ...], Callable[[list[Row]], bool | None]]] = [
    ("counts", 'whole = "count(*) between 25 and 40"\nby = ["port"]', (1,), lambda rows: 25 <= len(rows) <= 40),
    ("sums", 'whole = "sum(fare) > 90 and count(distinct n) > 1"\nby = ["port", "sold"]\ntolerate = "20%"', (1, 3),
     lambda rows: (total(rows) or 0) > 90 and len({row[0] for row in rows}) > 1),
    ("days", 'whole = "count(*) filter (where fare is null) < 5"\nby = ["sold"]\notherwise = "warn"', (3,),
     lambda rows: sum(row[2] is None for row in rows) < 5),
    ("means", 'whole = "avg(share) < 0.5"\nby = ["port"]', (1,),
     lambda rows: mean([row[5] for row in rows if row[5] is not None]) < 0.5),
    ("medians", 'whole = "median(n) > 30 or max(at) > timestamp \'2026-05-29 01:00\'"\nby = ["port"]', (1,),
     lambda rows: middle([row[0] for row in rows]) > 30 or max(row[4] for row in rows) > datetime.datetime(2026, 5, 29, 1)),
]  # fmt: skip


def mean(values: list[float]) -> float:
    return sum(values) / len(values) if values else 1.0


def middle(values: list[int]) -> float:
    ordered = sorted(values)
    return (ordered[(len(ordered) - 1) // 2] + ordered[len(ordered) // 2]) / 2


@pytest.mark.parametrize("seed", [1, 2])
def test_a_condition_holds_in_each_group(there: Space, seed: int) -> None:  # noqa: F811
    rows = drawn(seed)
    there.charter(COLUMNS + "".join(rule(name, keys) for name, keys, _, _ in GROUPS), "t")
    there.write(f"inbox/t-{DAY}.csv", written(rows))

    for found in findings(there):
        for name, _, at, holds in GROUPS:
            groups = groups_of(rows, *at)
            broken = {key for key, some in groups.items() if not holds(some)}
            assert (found[name]["breaks"], found[name]["rows"]) == (len(broken), len(groups)), (name, found[name])
            allowed = name == "sums" and len(broken) <= 0.2 * len(groups)
            bad = "warn" if name == "days" else "fail"
            assert found[name]["verdict"] == (bad if broken and not allowed else "pass")
            listed = {tuple(row[: len(at)]) for row in found[name]["samples"]["rows"]}
            assert listed <= {tuple(None if part is None else str(part) for part in key) for key in broken}
            assert len(listed) == min(len(broken), 20)


def stepped(
    values: Sequence[int], step: int, first: int | None = None, last: int | None = None
) -> tuple[int, int, int]:
    """How many values there are, how many are missing, and how many are off the step."""
    there_are = sorted(set(values))
    pairs = list(itertools.pairwise(there_are))
    missing = sum(len(range(low + step, high, step)) for low, high in pairs)
    if first is not None and there_are and first < there_are[0]:
        missing += (
            len(range(there_are[0] - step, first - step, -step))
            if (there_are[0] - first) % step == 0
            else -(-(there_are[0] - first) // step)
        )
    if last is not None and there_are:
        missing += len(range(there_are[-1] + step, last + 1, step))
    return len(there_are), missing, sum((high - low) % step != 0 for low, high in pairs)


def minutes(moment: datetime.datetime) -> int:
    return int((moment - datetime.datetime(2026, 1, 1)).total_seconds()) // 60


GAPS: list[tuple[str, str, Callable[[list[Row]], Any]]] = [
    ("days", 'without_gaps = { column = "sold", step = "1 day" }', lambda rows: stepped([row[3].toordinal() for row in rows if row[3]], 1)),
    ("to the day", 'without_gaps = { column = "sold", step = "1 day", first = 2025-01-01, last = ":day + 3" }',
     lambda rows: stepped([row[3].toordinal() for row in rows if row[3]], 1, datetime.date(2025, 1, 1).toordinal(), DAY.toordinal() + 3)),
    ("weeks", 'without_gaps = { column = "sold", step = "1 week" }\ntolerate = 3', lambda rows: stepped([row[3].toordinal() for row in rows if row[3]], 7)),
    ("months", 'without_gaps = { column = "sold", step = "1 month", last = ":day" }',
     lambda rows: stepped([row[3].year * 12 + row[3].month for row in rows if row[3]], 1, None, DAY.year * 12 + DAY.month)),
    ("numbers", 'without_gaps = { column = "n", step = 3, last = 150 }', lambda rows: stepped([row[0] for row in rows], 3, None, 150)),
    ("quarters", 'without_gaps = { column = "at", step = "15 minutes" }\nover = "load"', lambda rows: stepped([minutes(row[4]) for row in rows], 15)),
    ("by port", 'without_gaps = { column = "n", step = 3 }\nby = ["port"]',
     lambda rows: tuple(map(sum, zip(*(stepped([row[0] for row in some], 3) for some in groups_of(rows, 1).values()), strict=True)))),
]  # fmt: skip


@pytest.mark.parametrize(("seed", "count"), [(3, 300), (4, 40), (5, 1)])
def test_what_is_missing_between_values_is_counted(there: Space, seed: int, count: int) -> None:  # noqa: F811
    rows = drawn(seed, count)
    there.charter(COLUMNS + "".join(rule(name, keys) for name, keys, _ in GAPS), "t")
    there.write(f"inbox/t-{DAY}.csv", written(rows))

    for found in findings(there):
        for name, _, oracle in GAPS:
            values, missing, odd = oracle(rows)
            assert (found[name]["breaks"], found[name]["rows"]) == (missing + odd, values + missing), (
                name,
                found[name],
            )


def test_the_gaps_are_listed_with_their_ends(there: Space) -> None:  # noqa: F811
    there.charter(COLUMNS + rule("days", 'without_gaps = { column = "sold", step = "2 days", last = ":day" }'), "t")
    days = ["2026-05-20", "2026-05-22", "2026-05-27", "2026-05-29"]
    there.write(
        f"inbox/t-{DAY}.csv",
        written(
            [(1, "x", None, datetime.date.fromisoformat(day), datetime.datetime(2026, 1, 1), None) for day in days]
        ),
    )

    for found in findings(there):
        assert found["days"]["message"] == "3 values are missing and 1 value is off the step of 2 days"
        assert found["days"]["samples"]["rows"] == [
            ["2026-05-31", "2026-05-31", "1 missing"], ["2026-05-24", "2026-05-26", "2 missing"], ["2026-05-22", "2026-05-27", "off the step"],
        ]  # fmt: skip


def test_a_value_is_equal_to_that_of_another_table_or_query_and_place(there: Space) -> None:  # noqa: F811
    rows = drawn(6, 50)
    there.write(
        "nomotheta.toml",
        (there.root / "nomotheta.toml").read_text() + '[places.other]\nurl = "duckdb:///other.duckdb"\n',
    )
    fares = sum(row[2] for row in rows if row[2] is not None)
    other = COLUMNS.replace('"t"', '"u"').replace("inbox/t-", "inbox/u-") + 'place = "other"\n'
    there.charter('place = "other"\n' + other.replace('place = "other"\n', ""), "u")
    sound = (
        COLUMNS
        + rule("as many", 'whole = "count(*)"\nequals = { table = "u", place = "other" }')
        + rule("one more", 'whole = "count(*) + 1"\nequals = { table = "u", whole = "count(*)", place = "other" }')
        + rule(
            "nearly",
            'whole = "count(*) + 1"\nequals = { table = "u", whole = "count(*)", place = "other", within = "2%" }',
        )
        + rule("fares", f'whole = "sum(fare)"\nequals = {{ query = "select {fares - 1}", within = 1 }}')
        + rule("latest", 'whole = "max(sold)"\nequals = { table = "u", place = "other" }')
        + rule("mean", 'whole = "avg(share)"\nequals = { table = "t", within = "0.0001%" }')
        + rule("none", 'whole = "sum(fare) filter (where n > 9000)"\nequals = { query = "select 3" }')
    )
    there.charter(sound, "t")
    there.write(f"inbox/u-{DAY}.csv", written(rows))
    there.write(f"inbox/t-{DAY}.csv", written(rows))
    assert there.load(table="u")["state"] == "loaded"

    for found in findings(there):
        verdicts = {name: each["verdict"] for name, each in found.items() if each["sort"] == "equals"}
        assert verdicts == {"as many": "pass", "one more": "fail", "nearly": "pass", "fares": "pass", "latest": "pass",
                            "mean": "pass", "none": "fail"}, found  # fmt: skip
        assert found["one more"]["message"] == "count(*) + 1 is 51, count(*) of u in other is 50: 1 apart"
        assert found["none"]["message"].startswith("it could not be decided: ")
    query = rule("two", 'whole = "count(*)"\nequals = { query = "select 3 as a union all select 4" }')
    there.charter(sound + rule("wrong", 'whole = "count(*)"\nequals = { table = "nowhere" }') + query, "t")
    judged = there.run("judge", "t", "--json").json["tables"][0]["findings"]
    told = {each["rule"]: each["message"] for each in judged if each["verdict"] == "error"}
    assert told.pop("wrong").startswith("there is no table 'nowhere' in ")
    assert told == {"two": "the query of 'equals' must give one value, and gives 2 rows of 1 column"}


def test_a_query_is_told_of_the_run_and_may_look_at_one_load(there: Space) -> None:  # noqa: F811
    query = "select n, ':day' as said, 1 as \":day\" -- not :this\n from t /* nor :day */ where sold = :day and load_no = :load_no"
    if not there.run("places").text.count("sqlalchemy") and "mariadb" in there.run("places").text.lower():
        query = query.replace('":day"', "`:day`")
    there.charter(COLUMNS + rule("o", 'over = "load"\noffenders = { file = "sql/today.sql" }'), "t")
    there.write("charters/sql/today.sql", query + ";\n")
    rows = drawn(7, 60)
    for day in (DAY - datetime.timedelta(1), DAY):
        there.write(f"inbox/t-{day}.csv", written(rows[:25] if day < DAY else rows[25:]))
    there.load(table="t", day=str(DAY - datetime.timedelta(1)))

    for found in findings(there):
        assert (found["o"]["breaks"], found["o"]["rows"]) == (sum(row[3] == DAY for row in rows[25:]), 35), found["o"]
        assert found["o"]["over"] == "load 2"


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ('whole = "count(*) > 1"\nequals = { table = "u" }', "'equals' needs a value"),
        ('whole = "avg(share)"\nequals = { table = "u" }', "two real numbers are never sure to be the same"),
        ('whole = "count(*)"\nequals = { table = "u", query = "select 1" }', "name one of them"),
        ('whole = "count(*)"\nequals = { table = "u", within = "a lot" }', 'write a number, or a share such as "0.5%"'),
        ('whole = "max(port)"\nequals = { table = "u" }', "never equal to one that is integer"),
        ('whole = "count(*)"\nequals = { table = "u", whole = "count(m)" }', "no column 'm' in u"),
        ('whole = "count(*)"\nequals = { table = "u", place = "werehouse" }', "did you mean 'warehouse'?"),
        ('offenders = { file = "sql/none.sql" }', "the query 'sql/none.sql' is not there"),
        ('each = "n > 1"\nby = ["port"]', "'by' makes groups"),
        ('whole = "count(*) > 1"\nby = ["prt"]', "did you mean 'port'?"),
        ('without_gaps = { column = "port", step = 1 }', "do not follow each other by 1"),
        ('without_gaps = { column = "n", step = "1 day" }', "do not follow each other by 1 day"),
        ('without_gaps = { column = "at", step = "1 month" }', "do not follow each other by 1 month"),
        ('without_gaps = { column = "sold", step = "1 fortnight" }', "'1 fortnight' is not a step"),
        ('without_gaps = { column = "sold", step = 0 }', "a step is at least 1"),
        ('without_gaps = { column = "sold", step = "1 day", last = "soon" }', "'soon' does not fit date"),
        (
            'without_gaps = { column = "n", step = 1, last = 9 }\nby = ["port"]',
            "'first' and 'last' are of the whole column",
        ),
    ],
)
def test_rules_that_cannot_be_meant_are_refused(space: Space, keys: str, told: str) -> None:
    space.charter(COLUMNS + rule("r", keys), "t")
    space.charter('table = "u"\n[columns.port]\nkind = "integer"\n', "u")

    run = space.run("lint")

    assert (run.code, told in run.text) == (2, True), run.text


KEYS: list[tuple[str, Callable[[Row], Any]]] = [
    ('columns = ["lower(trim(port))", "sold"]\notherwise = "fail"', lambda row: row[1] and row[3] and (row[1].strip().lower(), row[3])),
    ('columns = ["port", "sold"]\nnulls = "not distinct"\notherwise = "warn"', lambda row: (row[1], row[3])),
    ('columns = ["n - n % 3"]\ntolerate = "90%"\notherwise = "fail"', lambda row: row[0] - int(math.fmod(row[0], 3))),
    ('columns = ["coalesce(port, \'none\')"]\nnulls = "not distinct"\notherwise = "fail"', lambda row: row[1] or "none"),
]  # fmt: skip


def test_keys_are_worked_out_of_columns_and_nulls_are_as_declared(there: Space) -> None:  # noqa: F811
    rows = drawn(8)
    there.charter(COLUMNS + "".join(f"[[keys]]\n{keys}\n" for keys, _ in KEYS), "t")
    there.write(f"inbox/t-{DAY}.csv", written(rows))

    for found in findings(there):
        made = [each for each in found.values() if each["sort"] == "key"]
        for finding, (keys, of) in zip(made, KEYS, strict=True):
            values = [value for value in map(of, rows) if value is not None]
            assert finding["breaks"] == len(values) - len(set(values)), (keys, finding)
            bad = "warn" if "warn" in keys else "pass" if "90%" in keys else "fail"
            assert finding["verdict"] == bad


KEEPS: dict[str, Callable[[list[Row]], Row | None]] = {
    "": lambda some: some[0],
    'keep = "last"\n': lambda some: some[-1],
    'keep = "none"\n': lambda some: some[0] if len(some) == 1 else None,
    'keep = "last"\nby = "n"\n': lambda some: max(reversed(some), key=operator.itemgetter(0)),
}


@pytest.mark.parametrize(("at", "keep"), [(at, keep) for at in range(4) for keep in (list(KEEPS) * 2)[at : at + 2]])
def test_rows_that_repeat_what_is_worked_out_are_set_aside(there: Space, at: int, keep: str) -> None:  # noqa: F811
    keys, of = KEYS[at]
    key = "\n".join(line for line in keys.split("\n") if line.startswith(("columns", "nulls")))
    there.charter(COLUMNS.replace("[load]", '[load]\ntolerate = "all"') + f"[[keys]]\n{key}\n{keep}", "t")
    inside: dict[Any, Row] = {}
    for day, rows in (("2026-06-01", drawn(8, 60)), ("2026-06-02", drawn(9, 60))):
        there.write(f"inbox/t-{day}.csv", written(rows))

        balance = there.load(table="t", day=day)["balance"]

        keyed = [(value, row) for row in rows if (value := of(row)) is not None]
        fresh: dict[Any, list[Row]] = defaultdict(list)
        for value, row in keyed:
            if value not in inside:
                fresh[value].append(row)
        new = {value: row for value, some in fresh.items() if (row := KEEPS[keep](some)) is not None}
        before, inside = inside, inside | new
        apart = "none" in keep  # then rows of one delivery are in conflict with each other, even if they are equal
        copies = sum(
            row == there_already and row is not there_already and not (apart and value not in before)
            for value, row in keyed
            if (there_already := inside.get(value)) is not None
        )
        assert (balance["loaded"], balance["copies"]) == (len(new) + len(rows) - len(keyed), copies)
        assert balance["loaded"] + balance["copies"] + balance["conflicts"] == len(rows)
    (finding,) = [each for each in findings(there)[1].values() if each["sort"] == "key"]
    assert (finding["verdict"], finding["breaks"]) == ("pass", 0)


PORTS = [("SKE", 3), ("SKE", 6), ("Holm", 9), ("H\u00f6lm", 9), ("\u00c5", 12)]
LISTS = [
    ('columns = ["port"]\nlisted_in = "ports(code)"', 1), ('columns = ["port", "n"]\nlisted_in = "ports(code, n)"', 2),
    ('columns = ["port"]\nlisted_in = "ports(code)"\nplace = "other"', 1),
    ('columns = ["port", "n"]\nlisted_in = "ports(code, n)"\nplace = "other"', 2),
    ('columns = ["port"]\nlisted_in = { file = "lists/ports.csv", columns = "code" }', 1),
    ('columns = ["port", "n"]\nlisted_in = { file = "lists/ports.csv", columns = ["code", "n"] }', 2),
]  # fmt: skip
LIST = """table = "ports"
[delivery]
files = "inbox/ports.csv"
[load]
how = "overwrite"
[columns.code]
kind = "text(9)"
[columns.n]
kind = "integer"
"""


@pytest.mark.parametrize("otherwise", ["fail", "reject"])
def test_values_are_listed_in_a_table_of_any_place_or_in_a_file(there: Space, otherwise: str) -> None:  # noqa: F811
    rows = drawn(9)
    settings = (there.root / "nomotheta.toml").read_text() + '[places.other]\nurl = "duckdb:///other.duckdb"\n'
    there.write("nomotheta.toml", settings)
    listed = "code,n\n" + "".join(f"{code},{n}\n" for code, n in PORTS)
    there.write("charters/lists/ports.csv", listed)
    there.write("inbox/ports.csv", listed)
    there.charter(LIST, "ports")
    assert [there.load("--place", place, table="ports")["state"] for place in ("warehouse", "other")] == ["loaded"] * 2
    more = "".join(f'[[references]]\n{keys}\notherwise = "{otherwise}"\n' for keys, _ in LISTS)
    there.charter(COLUMNS.replace("[load]\n", '[load]\ntolerate = "all"\n') + more, "t")
    there.write(f"inbox/t-{DAY}.csv", written(rows))
    one = [at for at, row in enumerate(rows, 2) if row[1] is not None and row[1] not in {code for code, _ in PORTS}]
    two = [at for at, row in enumerate(rows, 2) if row[1] is not None and (row[1], row[0]) not in PORTS]

    load, judged = findings(there)

    for found in [load] if otherwise == "reject" else [load, judged]:
        made = [each for each in found.values() if each["sort"] == "reference"]
        for finding, (keys, width) in zip(made, LISTS, strict=True):
            count = finding["set_aside" if otherwise == "reject" else "breaks"]
            assert count == len(one if width == 1 else two), (keys, finding)
    if otherwise == "reject":
        assert sorted({each["line"] for each in there.rejects()}) == two
        assert {each["reason"] for each in there.rejects()} == {"reference"}
        assert [each["breaks"] for each in judged.values() if each["sort"] == "reference"] == [0] * len(LISTS)


def test_a_list_whose_file_has_changed_is_told_of_and_a_run_loads_it_first(there: Space) -> None:  # noqa: F811
    there.charter(LIST, "ports")
    there.charter(COLUMNS + '[[references]]\ncolumns = ["port"]\nlisted_in = "ports(code)"\n', "t")
    there.write("inbox/ports.csv", "code,n\nSKE,1\n")
    there.load(table="ports")
    there.write("inbox/ports.csv", "code,n\nSKE,1\nHolm,2\n")
    there.write(f"inbox/t-{DAY}.csv", "n,port,fare,sold,at,share\n1,SKE,,,,\n")

    for found in findings(there):
        assert found["port is listed in ports(code)"]["verdict"] == "warn"
        told = "the list ports is stale, inbox/ports.csv is newer: nomotheta load ports"
        assert found["port is listed in ports(code)"]["message"] == told
    there.write("inbox/t-2026-06-02.csv", "n,port,fare,sold,at,share\n2,Holm,,,,\n")
    run = there.run("run", "t", "--day", "2026-06-02", "--json").json
    assert [(each["table"], each["verdict"]) for each in run["tables"]] == [("ports", "pass"), ("t", "pass")]


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ('[[keys]]\ncolumns = ["lower(prt)"]', "did you mean 'port'?"),
        ('[[keys]]\ncolumns = ["1 + 1"]', "'1 + 1' uses no column"),
        ('[[keys]]\ncolumns = ["lower(port)"]\nkeep = "last"\nby = "port"', "does not say what comes last"),
        ('[[references]]\ncolumns = ["n"]\nlisted_in = "t(n)"\notherwise = "reject"', "of the same delivery list"),
        ('[[references]]\ncolumns = ["n"]\nlisted_in = "u(n)"\nplace = "werehouse"', "did you mean 'warehouse'?"),
        (
            '[[references]]\ncolumns = ["n"]\nlisted_in = { file = "n.txt", columns = ["a", "b"] }',
            "the list 'n.txt' is not there",
        ),
    ],
)
def test_keys_and_references_that_cannot_be_meant_are_refused(space: Space, keys: str, told: str) -> None:
    space.charter(COLUMNS + keys + "\n", "t")

    run = space.run("lint")

    assert (run.code, told in run.text) == (2, True), run.text


def excuse(rule_name: str, keys: str, until: str = "2126-12-31") -> str:
    return f'[[excused]]\nrule = "{rule_name}"\nreason = "known since May"\nby = "Ana"\nuntil = {until}\n{keys}\n'


def test_what_is_excused_is_counted_apart_and_counts_again_after_its_day(there: Space) -> None:  # noqa: F811
    rows = drawn(10, 120)
    there.charter(
        COLUMNS.replace("[load]\n", '[load]\ntolerate = "all"\n').replace('kind = "integer"\n', 'kind = "integer"\nbetween = [0, 100]\n', 1)
        + rule("fares", 'each = "fare < 60"') + excuse("fares", "where = \"port = 'SKE' or sold is null\"")
        + excuse("fares", "where = \"port = 'Holm'\"") + excuse("fares", "where = \"port = 'x'\"", "2026-01-01")
        + excuse("n is between 0 and 100", 'where = "n < -3"')
        + rule("plenty", 'whole = "count(*) > 1000"') + excuse("plenty", "")
        + rule("ports", 'whole = "count(*) > 20"\nby = ["port"]') + excuse("ports", "")
        + rule("late", 'whole = "count(*) > 1001"') + excuse("late", "", "2026-01-01")
        + '[[keys]]\ncolumns = ["lower(port)"]\notherwise = "fail"\n' + excuse("key (lower(port)) never repeats", 'where = "n > 30"')
        + '[[references]]\ncolumns = ["port"]\nlisted_in = { file = "p.txt" }\notherwise = "warn"\n'
        + excuse("port is listed in p.txt", "where = \"port = 'ske'\""), "t",
    )  # fmt: skip
    there.write("charters/p.txt", "SKE\n")
    there.write(f"inbox/t-{DAY}.csv", written(rows))
    kept = [row for row in rows if 0 <= row[0] <= 100 or row[0] < -3]
    dear = [row for row in kept if row[2] is not None and row[2] >= 60]
    excused = [row for row in dear if row[1] in {"SKE", "Holm"} or row[3] is None]
    unlisted = [row for row in kept if row[1] not in {None, "SKE"}]

    def repeats(some: list[Row]) -> int:
        values = [row[1].lower() for row in some if row[1] is not None]
        return len(values) - len(set(values))

    expected = {
        "fares": ("fail", len(dear) - len(excused), len(excused)), "plenty": ("pass", 0, 1), "late": ("fail", 1, 0),
        "n is between 0 and 100": ("pass", 0, sum(row[0] < -3 for row in rows)),
        "ports": ("pass", 0, sum(len(some) <= 20 for some in groups_of(kept, 1).values())),
        "key (lower(port)) never repeats":
            ("fail", repeats([row for row in kept if row[0] <= 30]), repeats(kept) - repeats([row for row in kept if row[0] <= 30])),
        "port is listed in p.txt": ("warn", sum(row[1] != "ske" for row in unlisted), sum(row[1] == "ske" for row in unlisted)),
    }  # fmt: skip
    for at, found in enumerate(findings(there)):
        assert {
            name: (found[name]["verdict"], found[name]["breaks"], found[name]["excused"]) for name in expected
        } == expected
        assert found["fares"]["excuses"] == ["until 2126-12-31 by Ana: known since May"] * 2
        assert "the excuse by Ana ended on 2026-01-01" in found["late"]["message"]
        assert found["n is between 0 and 100"]["set_aside"] == (len(rows) - len(kept) if at == 0 else 0)
    screen = there.run("judge", "t", "--day", str(DAY)).text
    assert "excused until 2126-12-31 by Ana: known since May" in screen


def test_rows_are_excused_by_their_keys(space: Space) -> None:
    more = excuse("small", 'keys = ["T001", "T003"]')
    space.charter(
        'table = "t"\n[columns.code]\nkind = "text(4)"\n[columns.n]\nkind = "integer"\n[[keys]]\ncolumns = ["code"]\n'
        + rule("small", 'each = "n < 3"') + more, "t",
    )  # fmt: skip
    space.sql("create table t (code varchar, n bigint)")
    space.sql("insert into t values ('T001', 5), ('T002', 6), ('T003', 1), ('T004', 2)")

    assert [(each["breaks"], each["excused"]) for each in [space.judge("t")["small"]]] == [(1, 1)]


@pytest.mark.parametrize(
    ("more", "told"),
    [
        (excuse("smal", ""), "did you mean 'small'?"),
        (excuse("small", 'where = "m > 1"'), "no column 'm'"),
        (excuse("small", 'where = "1 = 1"'), "it uses no column"),
        (excuse("many", 'where = "n > 1"'), "'many' is not about single rows"),
        (excuse("small", "keys = [1]"), "rows are named by a key, and the charter has none"),
        (excuse("n is integer", ""), "what cannot be stored cannot be excused"),
        (excuse("small", 'where = "n > 1"\nkeys = [1]'), "make an excuse of each"),
        (excuse("small", "", "'soon'"), "until: "),
    ],
)
def test_an_excuse_that_cannot_be_meant_is_refused(space: Space, more: str, told: str) -> None:
    rules = rule("small", 'each = "n < 3"') + rule("many", 'whole = "count(*) > 3"')
    space.charter(f'table = "t"\n[columns.n]\nkind = "integer"\n{rules}{more}', "t")

    run = space.run("lint")

    assert (run.code, told in run.text) == (2, True), run.text


MONEY = (
    '[columns.load_no]\nfrom = "@load.no"\n'
    + rule("fares", 'each = "fare >= 0"')
    + rule("some", 'whole = "count(*) > 1"')
)
SALES = 'table = "{0}"\n{1}[columns.fare]\nkind = "decimal(6,2)"\n'


def test_declarations_are_shared_by_name_or_by_the_names_of_tables(space: Space) -> None:
    space.write("charters/rules/money.toml", MONEY)
    space.charter('tables = ["sales_*"]\n' + rule("dear", 'each = "fare < 100"'), "dear")
    space.charter(SALES.format("sales_a", 'use = ["rules/money.toml"]\n'), "a")
    space.charter(SALES.format("sales_b", "") + rule("own", 'each = "fare < 7"'), "b")
    space.charter(SALES.format("other", ""), "c")
    for table in ("sales_a", "sales_b", "other"):
        space.sql(f"create table {table} (fare decimal(6,2), load_no bigint)")
        space.sql(f"insert into {table} values (-1, 1), (300, 1)")

    broken = {table: [name for name, each in space.judge(table).items() if isinstance(each, dict) and each["breaks"]]
              for table in ("sales_a", "sales_b", "other")}  # fmt: skip

    assert broken == {"sales_a": ["fares", "dear"], "sales_b": ["own", "dear"], "other": []}


@pytest.mark.parametrize(
    ("shared", "told", "tables"),
    [
        (rule("fares", 'each = "fair >= 0"'), "charters/shared.toml:4: no column 'fair'", ["other"]),
        (
            "[[ruls]]\nname = 'x'\n",
            "charters/shared.toml:2: unknown key 'ruls' in a file that charters share",
            ["other"],
        ),
        (
            rule("fares", 'each = "fare >= 0"\ntolerance = 3'),
            "charters/shared.toml:5: unknown key 'tolerance'",
            ["other"],
        ),
        ("[columns.x\n", "it is not valid TOML", []),
    ],
)
def test_what_is_wrong_in_a_shared_file_is_told_there_and_stops_the_tables_that_it_is_for(
    space: Space, shared: str, told: str, tables: list[str]
) -> None:
    space.write("charters/shared.toml", 'tables = ["sales_*"]\n' + shared)
    space.charter(SALES.format("sales_a", ""), "a")
    space.charter(SALES.format("other", ""), "c")
    for table in ("sales_a", "other"):
        space.sql(f"create table {table} (fare decimal(6,2))")

    lint = space.run("lint")

    assert (lint.code, told in lint.text) == (2, True), lint.text
    assert [table for table in ("sales_a", "other") if space.run("judge", table).code != 2] == tables


def test_a_shared_file_for_no_table_and_one_that_is_not_there_are_told(space: Space) -> None:
    space.charter('tables = ["sale_*"]\n' + rule("x", 'each = "fare < 3"'), "shared")
    space.charter(SALES.format("sales_a", 'use = ["rules/none.toml", "../x.toml"]\n'), "a")

    told = space.run("lint").text

    assert "charters/shared.toml:1: no table is called 'sale_*'" in told
    assert "charters/a.toml:2: rules/none.toml: the file is not there" in told
    assert "'../x.toml' is not kept with the charters" in told


def test_charters_are_held_against_the_real_tables(there: Space) -> None:  # noqa: F811
    there.charter(COLUMNS, "t")
    assert "t is not in warehouse yet" in there.run("lint", "--places").text
    there.write(f"inbox/t-{DAY}.csv", written(drawn(11, 3)))
    there.load(table="t")
    assert there.run("lint", "--places").code == 0
    wrong = COLUMNS.replace('columns.n]\nkind = "integer"', 'columns.n]\nkind = "uuid"').replace(
        "columns.fare]", "columns.fair]"
    )
    there.charter(wrong + '[[references]]\ncolumns = ["port"]\nlisted_in = "harbours(code)"\n', "t")

    run = there.run("lint", "--places")

    assert run.code == 2
    assert "charters/t.toml:6: in warehouse, 'n' is " in run.text
    assert "charters/t.toml:10: in warehouse, it has no column 'fair' (did you mean 'fare'?)" in run.text
    assert "charters/t.toml:22: there is no table 'harbours'" in run.text


def test_all_breaking_rows_are_kept_and_every_statement_can_be_run(there: Space, database: Database) -> None:  # noqa: F811
    rows = drawn(12, 90)
    there.charter(
        COLUMNS.replace('kind = "text(9)"', 'kind = "text(9)"\nprivate = true')
        + rule("dear", 'each = "fare < 60"') + rule("loud", 'each = "upper(port) <> port"')
        + rule("near", 'each = "extract(hour from at) < 12"') + rule("many", 'whole = "count(*) > 3"')
        + '[[keys]]\ncolumns = ["n", "sold"]\notherwise = "fail"\n'
        + '[[references]]\ncolumns = ["n"]\nlisted_in = "t(n)"\n', "t",
    )  # fmt: skip
    for day, some in ((DAY, rows[:60]), (DAY + datetime.timedelta(1), rows[60:])):
        there.write(f"inbox/t-{day}.csv", written(some))
        there.load(table="t", day=str(day))
    twice = {key for key, some in groups_of(rows, 0, 3).items() if None not in key and len(some) > 1}
    expected = {
        "dear": [row for row in rows if row[2] is not None and row[2] >= 60],
        "loud": [row for row in rows if row[1] is not None and row[1].upper() == row[1]],
        "near": [row for row in rows if row[4].hour >= 12],
        "key (n, sold) never repeats": [row for row in rows if (row[0], row[3]) in twice],
    }

    run = there.run("judge", "t", "--keep-breaks", str(there.root / "kept.parquet"))
    kept = pq.read_table(there.root / "kept.parquet").to_pylist()

    assert run.code == 1
    for name, some in expected.items():
        found = [
            (row["n"], row["fare"] and float(row["fare"]), row["sold"], row["at"])
            for row in kept
            if row["rule"] == name
        ]
        assert sorted(map(str, found)) == sorted(
            str((row[0], row[2] and float(row[2]), row[3], row[4])) for row in some
        ), name
    assert {row["port"] for row in kept} <= {None, "(masked)"}
    there.run("judge", "t", "--keep-breaks", str(there.root / "kept.csv"))
    assert (there.root / "kept.csv").read_text().count("\n") == len(kept) + 1

    one = there.run("judge", "t", "--load", "2", "--json").json["tables"][0]
    assert one["over"] == "load 2"
    assert {each["rule"]: each["breaks"] for each in one["findings"]}["near"] == sum(
        row[4].hour >= 12 for row in rows[60:]
    )

    _, *parts = re.split(r"^-- (?=[a-z])", there.run("judge", "t", "--show-sql").out, flags=re.M)[1:]
    for name, some in expected.items():
        (part,) = [each for each in parts if each.startswith(f"{name}: ")]
        sql = part.split("\n", 1)[1].strip().rstrip(";")
        if sql and database.sort != "mariadb":  # a statement of the place's own; MariaDB needs its session's mode
            assert database.ask(sql)[-1][0] in {len(some), len(some) - len(twice)}, name


def test_a_wide_table_is_judged_in_one_statement_that_every_place_takes(there: Space) -> None:  # noqa: F811
    lines = [
        'table = "t"',
        "[delivery]",
        'files = "inbox/t-{day}.csv"',
        "[load]",
        'after_fail = "keep"\nall_blank_rows = "load"',
    ]
    for at in range(200):
        kind, check = [("text(9)", "length = { values = [2, 9], otherwise = 'fail' }"),
                       ("decimal(8,2)", "between = { values = [0, 5], otherwise = 'fail' }"),
                       ("date", "between = { values = [2026-01-01, 2026-12-31], otherwise = 'warn' }")][at % 3]  # fmt: skip
        lines += [f"[columns.c{at}]", f'kind = "{kind}"', 'blank = { value = "never", otherwise = "fail" }', check]
    there.charter("\n".join(lines) + "\n", "t")
    cells = [["ab", "1.50", "2026-05-01"], ["x", "7", "2025-05-01"], ["", "", ""]]
    rows = [",".join((row if at < 3 else cells[0])[at % 3] for at in range(200)) for row in cells]
    there.write(f"inbox/t-{DAY}.csv", "\n".join([",".join(f"c{at}" for at in range(200)), *rows]) + "\n")

    findings(there)
    run = there.run("judge", "t", "--verbose", "--json")

    found = [each for each in run.json["tables"][0]["findings"] if each["sort"] in {"blank", "length", "between"}]
    assert len(found) == 400
    assert {(each["columns"][0] in {"c0", "c1", "c2"}, each["breaks"], each["rows"]) for each in found} == {
        (True, 1, 3),
        (False, 0, 3),
    }
    scans = [line for line in run.err.splitlines() if 'AS "nomotheta rows"' in line]
    assert len(scans) == 1


def test_breaking_rows_are_kept_in_a_table_beside(there: Space, database: Database) -> None:  # noqa: F811
    breaks = COLUMNS.replace("[delivery]", 'breaks = { table = "t_breaks" }\n[delivery]', 1)
    breaks = breaks.replace('kind = "text(9)"', 'kind = "text(9)"\nprivate = true')
    there.charter(
        breaks + rule("small", 'each = "n < 20"') + rule("paid", 'each = "fare > 10"\notherwise = "warn"'), "t"
    )
    select = "SELECT rule_name, looked_at, n, port FROM t_breaks"
    first, second = drawn(3, 40), drawn(4, 40)

    def broken(rows: Sequence[Row]) -> list[tuple[str, int]]:
        return sorted([("small", row[0]) for row in rows if row[0] >= 20]
                      + [("paid", row[0]) for row in rows if row[2] is not None and row[2] <= 10])  # fmt: skip

    for day, rows in (("2026-06-01", first), ("2026-06-02", second)):
        there.write(f"inbox/t-{day}.csv", written(rows))
        there.load(table="t", day=day)

    kept = database.ask(select)
    assert sorted((name, int(n)) for name, _, n, _ in kept) == sorted(broken(first) + broken(second))
    assert {over for _, over, _, _ in kept} == {"load 1", "load 2"}
    assert {port for _, _, _, port in kept} <= {None, HIDDEN}
    there.run("judge", "t")
    assert sorted((name, int(n)) for name, over, n, _ in database.ask(select) if over == "table") == [
        *sorted(broken(first) + broken(second))
    ]
    assert len(database.ask(select)) == len(broken(first) + broken(second))
    there.charter(breaks + rule("small", 'each = "n < 2000"'), "t")
    there.run("judge", "t")
    assert database.ask(select) == []
