"""Any two sides from the command line: tables, places, files, queries and comparisons that are kept."""

from __future__ import annotations

import csv
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import pyarrow.parquet as pq
import pytest

from conftest import SETTINGS, TICKETS, Space

OTHERS = """
[places.production]
url = "duckdb:///production.duckdb"
[places.small]
url = "sqlite:///small.sqlite"
"""
ROWS = "(n, 'c' || n, n + 0.5, date '2026-06-01' + (n % 3)::int, timestamp '2026-06-01 10:00:00' + to_hours(n::int))"
MADE = (
    "create table fares (id bigint, code varchar, fare decimal(8,2), on_day date, sold_at timestamp); insert into fares "
    f"select {ROWS[1:-1]} from range(60) t(n)"
)


@pytest.fixture
def two(space: Space) -> Space:
    """The same sixty fares here and in production."""
    space.write("nomotheta.toml", SETTINGS.replace("[layouts", OTHERS + "[layouts", 1))
    for name in ("warehouse", "production"):
        with duckdb.connect(str(space.root / f"{name}.duckdb")) as connection:
            connection.execute(MADE)
    return space


def there(space: Space, sql: str) -> None:
    with duckdb.connect(str(space.root / "production.duckdb")) as connection:
        connection.execute(sql)


def compared(space: Space, *words: str) -> dict[str, Any]:
    ended = space.run("reconcile", *words, "--json")
    (found,) = ended.json["tables"]
    return found | {"exit": ended.code}


KEY = ("fares", "--with", "production:fares", "--key", "id")


def test_tables_of_two_places_are_equal_until_a_row_is_not(two: Space) -> None:
    right = compared(two, *KEY)
    there(
        two,
        "update fares set code = 'other' where id = 7; delete from fares where id = 9; insert into fares values (99, 'x', 1, null, null)",
    )
    wrong = compared(two, *KEY)

    assert (right["verdict"], right["exit"], right["source_rows"]) == ("pass", 0, 60)
    assert (wrong["verdict"], wrong["exit"]) == ("fail", 1)
    assert wrong["sorts"] == {"changed": 1, "missing": 1, "unexpected": 1}
    assert {(each["sort"], each["key"][0][1]) for each in wrong["differences"]} == {
        ("changed", "7"), ("missing", "9"), ("unexpected", "99"),
    }  # fmt: skip
    assert [entry["what"] for entry in two.run("ledger", "--json").json["entries"]] == ["reconcile", "reconcile"]
    assert compared(two, *KEY, "--where", "id = 1")["verdict"] == "pass"
    assert compared(two, *KEY, "--where", "id in (1, 7)")["differing_rows"] == 1
    assert "nothing was compared" in two.run("reconcile", *KEY, "--where", "id > 1000").text


def test_distinct_values_and_fingerprints_of_columns_are_told_where_they_are_asked_for(two: Space) -> None:
    words = (*KEY, "--distinct", "CODE,on_day", "--fingerprints")
    there(two, "update fares set code = 'c8' where id = 7")

    found = {each["column"]: each for each in compared(two, *words)["totals"]}
    shown = two.run("reconcile", *words).text

    assert [(found[name]["source_distinct"], found[name]["target_distinct"]) for name in ("code", "on_day", "fare")] == [
        (60, 59), (3, 3), (None, None),
    ]  # fmt: skip
    unequal = {name for name, each in found.items() if each["source_fingerprint"] != each["target_fingerprint"]}
    assert unequal == {"code"}
    assert found["code"]["target_fingerprint"] in shown
    assert "distinct names nothing" in two.run("reconcile", *KEY, "--distinct", "nothing").text


def test_a_column_that_one_side_lacks_makes_them_differ_unless_it_is_left_out(two: Space) -> None:
    there(two, "alter table fares add column later integer")

    found = compared(two, *KEY)

    assert (found["verdict"], found["lacking"], found["differing_rows"]) == ("fail", [["later", "warehouse:fares"]], 0)
    assert "warehouse:fares has no column later" in two.run("reconcile", *KEY).text
    assert compared(two, *KEY, "--without", "later")["verdict"] == "pass"
    assert "neither side has such a column" in two.run("reconcile", *KEY, "--without", "latter").text


CAUSES = [
    ("update fares set fare = round(fare, 0)", "fare: values were rounded to whole numbers in all 60 rows"),
    ("update fares set sold_at = sold_at + interval 1 hour", "sold_at: the target is 1 hour later in all 60 rows"),
    ("update fares set code = code || '  ' where id < 9", "code: spaces were added at the end in all 9 rows"),
    ("update fares set code = upper(code) where id < 2", "code: upper and lower case differ in both rows"),
    ("update fares set fare = fare * 100", "fare: the target is 100 times the source in all 60 rows"),
    ("update fares set code = left(code, 1) where id > 50", "code: texts were cut to 1 character in all 9 rows"),
    ("update fares set sold_at = null where id > 50", "sold_at: values became null in all 9 rows"),
    ("delete from fares where on_day = '2026-06-02'", "all 20 rows that are missing have on_day 2026-06-02"),
    ("insert into fares select * from fares where id < 5", "all 5 rows are copies of rows that the source has too: the target holds them more often"),
]  # fmt: skip


@pytest.mark.parametrize(("change", "cause"), CAUSES, ids=[each[1][:30] for each in CAUSES])
def test_one_cause_is_told_in_a_line(two: Space, change: str, cause: str) -> None:
    there(two, change)

    assert compared(two, *KEY)["cause"] == cause


def test_the_rows_that_differ_are_written_to_files(two: Space, tmp_path: Path) -> None:
    there(two, "update fares set code = '=1+1' where id < 30")

    ended = two.run("reconcile", *KEY, "--csv", "out/rows.csv", "--parquet", "rows.parquet", "--limit", "3")

    with (two.root / "out/rows.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert (len(rows), rows[0]["sort"], rows[0]["column"], rows[0]["target"]) == (30, "changed", "code", "'=1+1")
    assert pq.read_table(two.root / "rows.parquet").column("target").to_pylist() == ["=1+1"] * 30
    assert (ended.out.count("changed\n"), "30 rows differ: 30 changed; the first 3" in ended.text) == (3, True)


def test_a_file_is_compared_with_a_table_that_nobody_here_loaded_and_with_a_file(two: Space) -> None:
    lines = [
        f"{n};c{n};{n},50;{n % 3 + 1:02d}.06.2026;2026-06-0{n // 14 + 1} {(10 + n) % 24:02d}:00:00" for n in range(14)
    ]
    head = "id;code;fare;on_day;sold_at\n"
    two.write("a.csv", head + "\n".join(lines) + "\n")
    two.write("b.csv", head + "\n".join([*reversed(lines[1:]), lines[0].replace("c0", "C0")]) + "\n")
    two.write("bad.csv", head + "\n".join([*lines[:-1], lines[-1].replace("13,50", "thirteen")]) + "\n")
    narrow = ("--key", "id", "--where", "id < 14")

    right = compared(two, "a.csv", "--with", "production:fares", *narrow)
    wrong = compared(two, "a.csv", "--with", "b.csv", "--key", "id")
    bad = compared(two, "bad.csv", "--with", "production:fares", *narrow)

    assert (right["verdict"], right["source_rows"], right["source"]) == ("pass", 14, "a.csv where id < 14")
    assert (wrong["verdict"], wrong["differing"]) == ("fail", ["code"])
    assert (wrong["differences"][0]["file"], wrong["differences"][0]["line"]) == ("a.csv", 2)
    assert (bad["verdict"], bad["unread"], bad["sorts"]) == ("fail", 1, {"unexpected": 1})
    assert "bad.csv:15: fare is not a decimal(8,2)" in "".join(bad["notes"])


KEPT = """
about = "Fares as production has them."
key = ["id"]
[source]
table = "fares"
place = "warehouse"
[target]
table = "prices"
place = "production"
[columns.code]
target = "label"
trimmed = true
case = "upper"
[columns.fare]
target = "price"
times = 100
rounded = 0
[columns.sold_at]
zone = "Atlantic/Faroe"
[columns.on_day]
from = "cast(on_day as text)"
"""
PRICES = (
    "set timezone = 'UTC'; create table prices as select id, upper(trim(code)) as label, (fare * 100)::bigint as price, "
    "on_day::varchar as on_day, sold_at at time zone 'Atlantic/Faroe' as sold_at from fares"
)


def test_declared_changes_are_made_and_what_they_excuse_is_counted(two: Space) -> None:
    two.write("comparisons/prices.toml", KEPT)
    there(two, PRICES)

    right = compared(two, "prices")
    there(two, "update prices set price = price + 1 where id = 3")
    wrong = compared(two, "prices")

    assert (right["verdict"], right["table"]) == ("pass", "prices"), right
    assert right["excused"] == {
        "code": {"trimmed, put into upper case": 60}, "fare": {"multiplied by 100, rounded to whole numbers": 60},
    }  # fmt: skip
    assert (wrong["verdict"], wrong["differing"]) == ("fail", ["fare"])
    assert wrong["differences"][0]["cells"] == [{"column": "fare", "source": "350", "target": "351"}]


def test_values_that_may_be_apart_pass_within_their_tolerance_and_are_counted(two: Space) -> None:
    two.write(
        "comparisons/near.toml",
        KEPT.partition("[columns")[0].replace("prices", "fares") + "[columns.fare]\nwithin = 0.01\n",
    )
    there(two, "update fares set fare = fare + 0.01 where id < 5")
    near = compared(two, "near")
    there(two, "update fares set fare = fare + 0.01 where id = 3")
    far = compared(two, "near")
    there(two, "insert into fares select * from fares where id = 8")
    repeated = compared(two, "near")
    two.sql("insert into fares select * from fares where id = 8")

    assert (near["verdict"], near["excused"]) == ("pass", {"fare": {"within 0.01": 5}})
    assert (far["verdict"], far["differing"], far["differences"][0]["key"]) == ("fail", ["fare"], [["id", "3"]])
    assert far["differences"][0]["cells"] == [{"column": "fare", "source": "3.50", "target": "3.52"}]
    assert (repeated["verdict"], repeated["sorts"]) == ("fail", {"changed": 1, "repeated": 1})
    undecided = two.run("reconcile", "near")
    assert (undecided.code, "cannot be decided" in undecided.text) == (3, True)


def test_a_tolerance_finer_than_ten_places_is_held(two: Space) -> None:
    text = KEPT.partition("[columns")[0].replace("prices", "fares")
    two.write("comparisons/fine.toml", text + "[columns.fare]\nwithin = 0.0000000000001\n")
    for sql in (
        "alter table fares alter fare type decimal(30,15)",
        "update fares set fare = fare + 0.000000000001 where id = 3",
    ):
        there(two, sql)
    two.sql("alter table fares alter fare type decimal(30,15)")

    assert (compared(two, "fine")["verdict"], compared(two, "fine")["sorts"]) == ("fail", {"changed": 1})


def test_an_empty_text_is_null_where_that_is_declared(two: Space) -> None:
    text = KEPT.partition("[columns")[0].replace("prices", "fares")
    two.write("comparisons/plain.toml", text)
    two.write("comparisons/blank.toml", text + "[columns.code]\nempty_is_null = true\n")
    two.sql("update fares set code = '' where id = 4")
    there(two, "update fares set code = null where id = 4")

    assert compared(two, "plain")["differing"] == ["code"]
    found = compared(two, "blank")
    assert (found["verdict"], found["excused"]) == ("pass", {"code": {"empty in the source": 1}})


def test_a_query_is_compared_with_a_table(two: Space) -> None:
    two.write(
        "comparisons/cheap.toml",
        '[source]\nplace = "warehouse"\nquery = "select id, fare from fares where fare < 10 -- cheap"\n'
        '[target]\ntable = "fares"\nplace = "production"\nwhere = "id < 10"\n',
    )
    found = compared(two, "cheap")

    assert (found["verdict"], found["lacking"]) == (
        "fail",
        [[name, "a query in warehouse"] for name in ("code", "on_day", "sold_at")],
    )
    text = (two.root / "comparisons/cheap.toml").read_text()
    two.write("comparisons/cheap.toml", 'leave_out = ["code", "on_day", "sold_at"]\n' + text)
    assert (compared(two, "cheap")["verdict"], compared(two, "cheap")["source_rows"]) == ("pass", 10)


def test_a_query_of_sqlite_is_typed_by_its_values(two: Space) -> None:
    def found(query: str) -> Any:
        source, target = f'place = "small"\nquery = """{query}"""', 'table = "days"\nplace = "small"'
        two.write("comparisons/days.toml", f"[source]\n{source}\n[target]\n{target}\n")
        return two.run("reconcile", "days", "--json")

    with closing(sqlite3.connect(two.root / "small.sqlite")) as small:
        small.executescript(
            "create table f(day date, port text, fare decimal(8,2));"
            "insert into f values('2026-01-01', 'AND', 10.25), ('2026-01-01', 'BRK', 3), ('2026-01-02', 'AND', 7.5);"
            "create table days(day date, n integer, total decimal(10,2), ports text, no text);"
            "insert into days values('2026-01-01', 2, 13.25, 'AND', null), ('2026-01-02', 1, 7.5, 'AND', null);"
        )
    query = "select day, count(*) as n, sum(fare) as total, min(port) as ports, null as no from f group by day -- all"

    assert found(query).json["verdict"] == "pass"
    assert found(query.replace("sum(fare)", "sum(fare) + 1")).json["tables"][0]["differing"] == ["total"]
    assert "no such column: dag" in found("select dag from f").text
    assert 'near ";"' in found("select * from f; drop table f").json["what"]


def test_a_run_carries_comparisons_out(two: Space) -> None:
    text = KEPT.partition("[columns")[0].replace("prices", "fares")
    two.write("comparisons/in-production.toml", text)
    two.write("comparisons/wrong.toml", text.replace('table = "fares"', 'table = "nosuch"', 1))
    two.tickets("ticket_no;fare;sold_on\nT001;1,50;01.06.2026\n")
    there(two, "delete from fares where id = 3")

    run = two.run("run", "--day", "2026-06-01", "--create", "--json")

    parts = {each["table"]: each for each in run.json["tables"]}
    assert (run.code, parts["tickets"]["verdict"]) == (3, "pass")
    assert parts["in-production"]["reconciliation"]["sorts"] == {"missing": 1}
    assert (parts["wrong"]["verdict"], "no table 'nosuch'" in parts["wrong"]["load"]["message"]) == ("error", True)
    two.run("report")
    assert "nomotheta reconcile in-production" in two.run("run", "--day", "2026-06-01").text
    (beside,) = (two.root / "reports/differences").iterdir()
    assert [each["sort"] for each in csv.DictReader(beside.open())] == ["missing"]
    assert f'href="differences/{beside.name}"' in (two.root / "reports" / f"{beside.name[:16]}.html").read_text()
    assert "1 night since 2026-06-01" in two.run("reconcile", "in-production").text
    page = two.run("report", "--to", "page.html")
    assert page.code == 0
    assert "warehouse:fares and production:fares differ" in (two.root / "page.html").read_text()


def test_a_value_of_another_kind_in_a_loose_database_is_not_taken_for_null(two: Space) -> None:
    with closing(sqlite3.connect(two.root / "small.sqlite")) as small, small:
        small.execute("create table fares (id bigint, code text, fare decimal(8,2), on_day date, sold_at timestamp)")
        small.executemany(
            "insert into fares values (?, ?, ?, ?, ?)",
            [(n, f"c{n}", n + 0.5, f"2026-06-0{n % 3 + 1}", f"2026-06-01 1{n}:00:00") for n in range(10)],
        )
    words = ("fares", "--with", "small:fares", "--key", "id", "--where", "id < 10")
    right = compared(two, *words)
    two.sql("update fares set fare = null where id = 4")
    with closing(sqlite3.connect(two.root / "small.sqlite")) as small, small:
        small.execute("update fares set fare = 'four' where id = 4")
    wrong = compared(two, *words)

    assert right["verdict"] == "pass", right
    assert (wrong["verdict"], wrong["differing"]) == ("fail", ["fare"])
    assert wrong["differences"][0]["cells"] == [{"column": "fare", "source": None, "target": "four"}]


def test_landed_texts_are_compared_with_the_table_of_their_values(space: Space) -> None:
    text = TICKETS.replace('table = "tickets"', 'table = "landed"\nstored = "text"')
    space.charter(text.replace("[load]", '[load]\ninto = { typed = "tickets" }'))
    space.tickets("ticket_no;fare;sold_on\nT001;1,50;01.06.2026\nT002;n/a;02.06.2026\nT003;x;02.06.2026\n")
    space.run("load", "landed", "--day", "2026-06-01", "--create")
    words = ("landed", "--with", "tickets", "--key", "ticket_no", "--without", "load_no")
    found = compared(space, *words)
    space.sql("delete from landed where ticket_no = 'T003'")
    right = compared(space, *words)
    space.sql("update tickets set fare = 1.51 where ticket_no = 'T001'")
    wrong = compared(space, *words)

    assert (found["verdict"], found["unread"], found["sorts"]) == ("fail", 1, {})
    assert "fare 'x' is not a decimal(6,2)" in "".join(found["notes"])
    assert (right["verdict"], right["source_rows"]) == ("pass", 2)
    assert wrong["differences"][0]["cells"] == [{"column": "fare", "source": "1.50", "target": "1.51"}]


WRONG = [
    (("fares", "--with", "nowhere:fares"), "no place 'nowhere' is declared"),
    (("fares", "--with", "production:fare"), "there is no table 'fare'"),
    (("fares", "tickets", "--with", "production:fares"), "compares one table or file"),
    (("fares", "--with", "production:fares", "--load", "1"), "--load is for the files of a load"),
    (("fares", "--with", "production:fares", "--key", "nosuch"), "the key names nosuch"),
    (("fares", "--with", "production:fares", "--where", "nosuch = 1"), "nosuch"),
    (("fares", "--where", "id = 1"), "--where is for two sides"),
    (("nosuch.csv", "--with", "fares"), "no such file"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "told"), WRONG, ids=[each[1] for each in WRONG])
def test_what_cannot_be_compared_is_told(two: Space, words: tuple[str, ...], told: str) -> None:
    ended = two.run("reconcile", *words)

    assert ended.code in {1, 2, 3}
    assert told in ended.text
    assert "Traceback" not in ended.text


def test_values_of_kinds_that_are_no_others_are_not_compared(two: Space) -> None:
    there(two, "alter table fares alter fare type double")
    ended = two.run("reconcile", *KEY)

    assert (ended.code, "fare is decimal(8,2) in warehouse:fares and real in production:fares" in ended.text) == (
        2,
        True,
    )


# ---- rows by groups


def counts(space: Space, *words: str) -> dict[str, Any]:
    ended = space.run("reconcile", *words, "--json")
    (found,) = ended.json["counts"]
    return found | {
        "exit": ended.code,
        "apart": {
            each["value"]: (each["source"], each["target"])
            for each in found["groups"]
            if each["source"] != each["target"]
        },
    }


def test_a_missing_or_doubled_group_is_seen_at_once(two: Space) -> None:
    words = ("fares", "--with", "production:fares", "--by", "on_day")
    right = counts(two, *words)
    there(
        two,
        "delete from fares where on_day = '2026-06-02'; insert into fares select * from fares where on_day = '2026-06-03'",
    )
    wrong = counts(two, *words)

    assert (right["verdict"], right["apart"], len(right["groups"])) == ("pass", {}, 3)
    assert (wrong["verdict"], wrong["exit"]) == ("fail", 1)
    assert wrong["apart"] == {"2026-06-02": (20, 0), "2026-06-03": (20, 40)}
    assert "2 of 3 groups differ" in two.run("reconcile", *words).text


def test_the_loads_of_a_period_are_counted_by_load_day_file_and_column(space: Space) -> None:
    for day in ("2026-06-01", "2026-06-02", "2026-06-03"):
        space.tickets(
            "ticket_no;fare;sold_on\n" + "".join(f"T{day[-2:]}{n};1,00;0{n + 1}.06.2026\n" for n in range(3)), day
        )
        space.load(day=day)
    space.sql(
        "delete from tickets where ticket_no = 'T021'; insert into tickets (ticket_no, load_no) values ('T9', 3), ('T8', null)"
    )

    by_load, by_day = counts(space, "tickets", "--by", "load"), counts(space, "tickets", "--by", "day")
    by_column = counts(space, "tickets", "--by", "sold_on")

    assert by_load["apart"] == {"2": (3, 2), "3": (3, 4), None: (0, 1)}
    assert by_day["apart"] == {"2026-06-02": (3, 2), "2026-06-03": (3, 4), None: (0, 1)}
    assert by_column["apart"] == {None: (0, 2), "2026-06-02": (3, 2)}
    assert counts(space, "tickets", "--by", "load", "--until", "2026-06-01")["apart"] == {None: (0, 1)}
    assert counts(space, "tickets", "--by", "day", "--since", "2026-06-03")["apart"] == {
        "2026-06-03": (3, 4),
        None: (0, 1),
    }
    assert 'add a column with from = "@file.name"' in space.run("reconcile", "tickets", "--by", "file").text
