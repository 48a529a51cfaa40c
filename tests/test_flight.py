"""Rules judged while the rows come in: what comes of each is what the place itself says of the rows that are in it."""

from __future__ import annotations

import datetime
from typing import Any

import pytest

from conftest import DAY, Space
from nomotheta.conditions import always_the_same, check
from nomotheta.load.flight import Flight
from servers import Database
from test_places import database, running, sort, there  # noqa: F401
from test_random_conditions import DATA, KINDS, made

WHOLES = [
    "count(*) = 40 and sum(n) > -1000 and avg(f) between -2 and 2", "sum(f) filter (where b) < 9 or max(t) > 'z'",
    "min(s) < timestamp '2024-03-29 01:00' and max(y) - min(y) > interval '3' day", "avg(n) filter (where n > 900) > 1",
    "sum(n) filter (where n > 900) is null and min(g) < max(g)", "count(u) * 2 > count(*) and sum(g) + sum(f) <> 0.123",
    "count(distinct t) > 3", "median(n) < 3",
]  # fmt: skip


def charter(rules: list[str], more: str = "") -> str:
    lines = [
        'table = "t"',
        "[delivery]",
        'files = "inbox/t-{day}.csv"',
        'layout = { timestamp_forms = ["%Y-%m-%d %H:%M:%S.%f"] }',
        "[load]",
        'after_fail = "keep"',
        'tolerate = "all"',
        more,
    ]
    for name, kind in KINDS.items():
        lines += [
            f"[columns.{name}]",
            f'kind = "{kind}"',
            'blank = { at_most = "9%", otherwise = "warn" }',
            "drift = true",
        ]
    lines += ["[columns.load_no]", 'from = "@load.no"', "[[keys]]", 'columns = ["id"]']
    for at, condition in enumerate(rules):
        of = "whole" if condition in WHOLES else "each"
        narrowed = f"where = '''{rules[at - 1]}'''" if of == "each" and at % 3 == 1 else ""
        lines += [
            "[[rules]]",
            f'name = "r{at}"',
            f"{of} = '''{condition}'''",
            narrowed,
            'over = "load"',
            'otherwise = "warn"',
        ]
    return "\n".join(lines) + "\n"


def cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime.datetime):
        return value.strftime("%Y-%m-%d %H:%M:%S.%f")
    return f'"{str(value).lower() if isinstance(value, bool) else value}"'


def told(findings: list[dict[str, Any]]) -> dict[str, Any]:
    return {each["rule"]: [each[name] for name in ("verdict", "breaks", "rows", "message", "measured")] for each in findings
            if each["sort"] in {"each", "whole", "blank", "drift"}}  # fmt: skip


def test_both_ways_come_to_the_same(there: Space) -> None:  # noqa: F811
    conditions = list(dict.fromkeys(part.sql for part in made(21, 60) if not always_the_same(check(part.sql, KINDS))))
    there.charter(charter([*conditions, *WHOLES]), "t")
    rows = [*DATA, *DATA[:5]]  # five that repeat a key stay out
    lines = [",".join(KINDS), *(",".join(cell(row[name]) for name in KINDS) for row in rows)]
    there.write(f"inbox/t-{DAY}.csv", "\n".join(lines) + "\n")

    load = there.load(table="t")
    ended = there.run("judge", "t", "--load", str(load["load_no"]), "--day", DAY, "--json").json["tables"][0]
    assert not ended["message"], (
        load["state"],
        load["message"],
        [each for each in load["findings"] if each["verdict"] == "error"],
    )
    judged = ended["findings"]

    assert load["balance"]["loaded"] == len(DATA), there.rejects()[:3]
    assert told(load["findings"]) == told(judged)
    broken = [each for each in load["findings"] if each["sort"] == "each" and each["breaks"]]
    assert len(broken) > 20
    native = there.run("places", "--json").json["places"][0]["version"] is not None
    for each in broken if native else ():
        lines_told = (
            {int(row[-1]) for row in each["samples"]["rows"]} if each["samples"]["columns"][-1] == "line" else set()
        )
        assert all(2 <= line <= len(DATA) + 1 for line in lines_told)


def test_what_a_place_may_change_is_judged_in_it(
    there: Space,  # noqa: F811
    database: Database,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    more = {"postgresql": ["create function up() returns trigger language plpgsql as 'begin new.n := 99; return new; end'",
                           "create trigger up before insert on t for each row execute function up()"],
            "mariadb": ["create trigger up before insert on t for each row set new.n = 99"],
            "sqlite": ["create trigger up after insert on t begin update t set n = 99; end"]}  # fmt: skip
    flights: list[Flight] = []
    looked = Flight.look
    monkeypatch.setattr(Flight, "look", lambda self, table: (flights.append(self), looked(self, table))[1])
    there.charter('table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[load]\nafter_fail = "keep"\n[columns.n]\nkind = "integer"\n'
                  '[columns.load_no]\nfrom = "@load.no"\n[[rules]]\nname = "small"\neach = "n < 50"\n', "t")  # fmt: skip
    there.write(f"inbox/t-{DAY}.csv", "n\n1\n2\n")
    there.write("inbox/t-2026-06-02.csv", "n\n3\n")
    there.load(table="t")
    flew = bool(flights)
    for statement in more.get(database.sort, []):
        database.ask(statement)
    flights.clear()

    second = {each["rule"]: each for each in there.load(table="t", day="2026-06-02")["findings"]}

    assert second["small"]["breaks"] == (1 if database.sort in more else 0)
    assert (flew, bool(flights)) in {(True, database.sort in {"duckdb", "delta"}), (False, False)}


def test_each_breaking_row_of_a_load_is_known_with_its_file_and_line(space: Space) -> None:
    space.charter('table = "t"\n[delivery]\nfiles = "inbox/{day}/*.csv"\n[load]\nafter_fail = "keep"\ntolerate = "all"\n[columns.code]\nkind = "text(3)"\n'
                  '[columns.n]\nkind = "integer"\nprivate = true\n[columns.load_no]\nfrom = "@load.no"\n[[keys]]\ncolumns = ["code"]\n'
                  '[[rules]]\nname = "small"\neach = "n < 50"\n', "t")  # fmt: skip
    space.write(f"inbox/{DAY}/a.csv", "code,n\na,1\nb,60\nb,70\nlong,9\n")
    space.write(f"inbox/{DAY}/b.csv", 'code,n\n"c",90\n')

    finding = {each["rule"]: each for each in space.load(table="t")["findings"]}["small"]

    assert finding["samples"] == {
        "columns": ["code", "n", "file", "line"],
        "rows": [["b", "(masked)", f"inbox/{DAY}/a.csv", "3"], ["c", "(masked)", f"inbox/{DAY}/b.csv", "2"]],
    }


def test_a_whole_that_cannot_be_reckoned_is_an_error_of_its_own(space: Space) -> None:
    space.charter('table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[columns.n]\nkind = "integer"\n[columns.load_no]\nfrom = "@load.no"\n'
                  '[[rules]]\nname = "far"\nwhole = "sum(n * n) > 0"\n', "t")  # fmt: skip
    space.write(f"inbox/t-{DAY}.csv", "n\n9000000000000000000\n")

    load = space.load(table="t")

    assert (load["state"], load["message"]) == ("undone", "a rule could not be judged")
    assert {each["rule"]: each["verdict"] for each in load["findings"]}["far"] == "error"
