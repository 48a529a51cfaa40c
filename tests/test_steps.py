# ruff: noqa: F401, F811 - fixtures of another module
"""The team's own SQL around a load, in every place: within its transaction or after it, and never half of it."""

from __future__ import annotations

import random
from typing import Any

import pytest

from conftest import DAY, TICKETS, Space
from nomotheta.errors import DeclarationError
from nomotheta.place.statements import ALL, NONE, ROWS, can_be_undone, statements_of
from servers import Database

# the places, as that module has them
from test_places import database, running, sort, there

HEAD = "ticket_no;fare;sold_on\n"
SUMS = "INSERT INTO day_sums SELECT :day, sum(fare), :load_no FROM tickets -- the day; and its sum\n"


def stepped(space: Space, sql: str, when: str, more: str = "") -> None:
    space.write("sql/step.sql", sql)
    rule = '[[rules]]\nname = "not dear"\neach = "fare <= 50"\n'
    step = f'[[steps]]\nsql = "sql/step.sql"\nwhen = "{when}"\n'
    space.charter(TICKETS.replace("[[keys]]", f"{rule}{step}{more}[[keys]]"))


def sums(database: Database) -> list[tuple[float, int]]:
    rows = database.ask("SELECT fares, load_no FROM day_sums ORDER BY load_no")
    return [(float(str(fares)), int(str(load_no))) for fares, load_no in rows]


@pytest.mark.parametrize("when", ["before", "after", "after commit"])
def test_a_step_stands_with_its_load_and_falls_with_it(there: Space, database: Database, sort: str, when: str) -> None:
    there.tickets(HEAD + "T001;1,50;01.06.2026\n", "2026-05-30")
    there.load(day="2026-05-30")
    database.ask("CREATE TABLE day_sums (day date, fares decimal(10,2), load_no integer)")
    stepped(there, SUMS, when)
    there.tickets(HEAD + "T002;2,50;01.06.2026\n")
    there.tickets(HEAD + "T003;60,00;01.06.2026\n", "2026-06-02")
    first = there.load()

    if sort == "delta" or (sort == "general" and when != "after commit"):
        assert (first["state"], first["exit"]) == ("failed", 3)
        lake = "warehouse is a lake, which carries out no SQL of your own"
        refused = lake if sort == "delta" else "'INSERT INTO …' cannot be undone with the load in warehouse"
        assert first["message"] == refused
        assert there.run("load", "tickets", "--day", DAY).code == 3 and sums(database) == []
        return
    dear = there.load(day="2026-06-02")
    assert (first["state"], first["verdict"], dear["state"]) == ("loaded", "pass", "undone")
    assert f"carried out sql/step.sql (1 statement, {when})" in first["notes"]
    assert sums(database) == [(1.5 if when == "before" else 4.0, 2)]


def test_a_step_that_fails_takes_the_load_with_it_unless_it_comes_after(
    there: Space, database: Database, sort: str
) -> None:
    if sort in {"general", "delta"}:
        pytest.skip("no steps within a transaction are known there")
    there.tickets(HEAD + "T001;1,50;01.06.2026\n", "2026-05-30")
    there.load(day="2026-05-30")
    database.ask("CREATE TABLE noted (n integer)")
    there.tickets(HEAD + "T002;2,50;01.06.2026\n")
    for when in ("before", "after"):
        stepped(there, "INSERT INTO noted VALUES (1); INSERT INTO nowhere VALUES (1)", when)
        failed = there.load()
        assert (failed["state"], failed["exit"], failed["where"]) == ("failed", 3, "sql/step.sql, statement 2")
        assert database.ask("SELECT count(*) FROM noted") == [(0,)]
    assert database.ask("SELECT count(*) FROM tickets") == [(1,)]
    stepped(there, "INSERT INTO nowhere VALUES (1)", "after commit")
    late = there.load()

    assert (late["state"], late["verdict"], late["where"]) == ("loaded", "error", "sql/step.sql, statement 1")
    assert late["message"].startswith("loaded; but a step after the commit failed:")
    assert database.ask("SELECT count(*) FROM tickets") == [(2,)]


def test_a_temporary_table_of_a_step_is_gone_for_the_next_and_another_of_its_name_is_not(
    there: Space, database: Database, sort: str
) -> None:  # fmt: skip
    if sort in {"general", "delta"}:
        pytest.skip("no steps within a transaction are known there")
    there.write("sql/again.sql", "INSERT INTO kept SELECT n FROM of_step")
    database.ask("CREATE TABLE kept (n integer)")
    stepped(there, "CREATE TEMPORARY TABLE of_step (n integer); INSERT INTO of_step VALUES (1)", "before",
            '[[steps]]\nsql = "sql/again.sql"\n')  # fmt: skip
    text = (there.root / "charters/tickets.toml").read_text()
    there.charter(text.replace("tickets", "others"), "others")
    there.tickets(HEAD + "T001;1,50;01.06.2026\n")
    there.write(f"inbox/others-{DAY}.csv", HEAD + "T001;1,50;01.06.2026\n")

    run = there.run("run", "--day", DAY, "--create")
    assert run.code == 0, run.text
    assert database.ask("SELECT count(*) FROM kept") == [(2,)]
    database.ask("CREATE TABLE of_step (n integer)")
    stepped(there, "SELECT n FROM missing_table; CREATE TEMPORARY TABLE of_step (n integer)", "before")
    there.tickets(HEAD + "T009;1,50;01.06.2026\n", "2026-06-09")
    assert there.load(day="2026-06-09")["state"] == "failed"
    assert database.ask("SELECT count(*) FROM of_step") == [(0,)]  # it is still there


@pytest.mark.parametrize(
    ("sql", "told"),
    [("", "the step has no statement"), ("select :week", "there is no value :week"), (None, "the step cannot be read")],
)
def test_a_step_that_cannot_be_is_told_by_lint(space: Space, sql: str | None, told: str) -> None:
    stepped(space, sql or "", "after")
    if sql is None:
        (space.root / "sql/step.sql").unlink()

    ended = space.run("lint")

    assert (ended.code, told in ended.text) == (2, True), ended.text


@pytest.mark.parametrize("statement", ["COMMIT", "rollback", "BEGIN", "SAVEPOINT x", "VACUUM", "CALL p()", "SET x = 1",
                                       "COPY t TO 'x'", "ATTACH 'x'", "PRAGMA x", "(COMMIT)"])  # fmt: skip
def test_what_ends_a_transaction_or_reaches_out_of_it_is_no_step(statement: str) -> None:
    assert not any(can_be_undone(statement, takes) for takes in (ALL, ROWS, NONE))


def test_tables_are_made_only_where_that_is_undone() -> None:
    for statement, of_all, of_rows in (
        ("create table x (n int)", True, False), ("drop temporary table x", True, True), ("truncate x", True, False),
        ("CREATE  TEMP TABLE x AS SELECT 1", True, True), ("with a as (select 1) insert into x select * from a", True, True),
        ("alter table x add y int", True, False), ("create index i on x (n)", True, False),
    ):  # fmt: skip
        found = [can_be_undone(statement, takes) for takes in (ALL, ROWS, NONE)]
        assert found == [of_all, of_rows, False], statement


def test_a_text_is_taken_apart_as_it_was_put_together() -> None:
    made = random.Random(5)
    parts = ["select 'a;b'", "insert into t values ('it''s :day', E'a\\';b')", 'update "odd;name" set x = 1',
             "select $$a;b :day$$ || $x$ $$;$$ $x$", "select `b;c`, n::date", "delete from t"]  # fmt: skip
    noise = ["-- a; comment 'with\n", "/* ; ' :load_no */", "\n", " "]
    for _ in range(300):
        chosen = [made.choice(parts) for _ in range(made.randrange(1, 6))]
        text = ";".join(made.choice(noise) + each + made.choice(noise) for each in chosen) + made.choice(
            ["", ";", ";;\n"]
        )
        assert statements_of(text, {}, "x") == chosen, text
    values: dict[str, Any] = {"day": "DATE '2026-06-01'", "load_no": "7"}
    assert statements_of("select :day, ':day', :load_no::text", values, "x") == [
        "select DATE '2026-06-01', ':day', 7::text"
    ]
    with pytest.raises(DeclarationError, match="there is no value :month"):
        statements_of("select :month", values, "x")
