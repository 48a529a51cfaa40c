"""Rules over a table, however it was loaded."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import Space

CHARTER = """
table = "sales"
[columns.id]
kind = "integer"
blank = "never"
[columns.code]
kind = "text(3)"
pattern = "[A-Z]+"
blank = "never"
[columns.price]
kind = "decimal(6,2)"
between = {{ values = [0, 100], otherwise = "warn" }}
[columns.class]
kind = "text"
among = {{ values = ["a", "b"], tolerate = "50%" }}
[columns.owner]
kind = "text"
private = true
{more}
"""
TABLE = "create table sales (id bigint, code varchar, price decimal(6,2), class varchar, owner varchar)"


def given(space: Space, rows: str, more: str = "", table: str = TABLE) -> dict[str, Any]:
    """A table that was loaded by other means, judged."""
    space.charter(CHARTER.format(more=more), "sales")
    space.sql(table)
    if rows:
        space.sql(f"insert into sales values {rows}")
    return space.judge("sales")


SOUND = "(1, 'A', 1, 'a', 'x'), (2, 'BB', 2, null, 'y')"


def test_a_sound_table_passes(space: Space) -> None:
    found = given(space, SOUND)

    assert (found["verdict"], found["exit"]) == ("pass", 0)
    assert found["price is between 0 and 100"]["rows"] == 2


BROKEN = [
    ("(null, 'A', 1, 'a', 'x')", "id is never blank", "fail", 1),
    ("(3, ' \t\u3000', 1, 'a', 'x')", "code is never blank", "fail", 1),
    ("(3, 'ABCD', 1, 'a', 'x')", "code has at most 3 characters", "fail", 1),
    ("(3, 'a', 1, 'a', 'x')", "code matches [A-Z]+", "fail", 1),
    ("(3, 'A\n', 1, 'a', 'x')", "code matches [A-Z]+", "fail", 1),
    ("(3, 'A', 100.01, 'a', 'x')", "price is between 0 and 100", "warn", 1),
    ("(3, 'A', 1, 'c', 'x')", "class is one of a, b", "pass", 1),
    ("(3, 'A', 1, 'c', 'x'), (4, 'A', 1, 'c', 'x')", "class is one of a, b", "pass", 2),
    ("(3, 'A', 1, 'c', 'x'), (4, 'A', 1, 'c', 'x'), (5, 'A', 1, 'A', 'x')", "class is one of a, b", "fail", 3),
]


@pytest.mark.parametrize(("rows", "rule", "verdict", "breaks"), BROKEN, ids=[f"{row[1]} {row[3]}" for row in BROKEN])
def test_what_a_column_declares_is_counted(space: Space, rows: str, rule: str, verdict: str, breaks: int) -> None:
    finding = given(space, f"{SOUND}, {rows}")[rule]

    assert (finding["verdict"], finding["breaks"]) == (verdict, breaks)
    assert len(finding["samples"]["rows"]) == breaks
    assert space.sql(finding["sql"])[0][0] == breaks


def test_a_column_wider_than_its_kind_is_read_value_by_value(space: Space) -> None:
    wide = TABLE.replace("decimal(6,2)", "decimal(8,2)")

    assert given(space, f"{SOUND}, (3, 'A', 12345.00, 'a', 'x')", table=wide)["price is decimal(6,2)"]["breaks"] == 1


KEY = '[[keys]]\ncolumns = ["id", "code"]\n'


def test_a_key_counts_the_rows_too_many_and_nulls_repeat_nothing(space: Space) -> None:
    found = given(
        space,
        f"{SOUND}, (1, 'A', 9, 'a', 'x'), (1, 'A', 8, 'a', 'x'), (null, 'N', 1, 'a', 'x'), (null, 'N', 1, 'a', 'x')",
        KEY,
    )

    finding = found["key (id, code) never repeats"]
    assert (finding["verdict"], finding["breaks"], finding["rows"]) == ("fail", 2, 6)
    assert finding["samples"] == {"columns": ["id", "code", "times"], "rows": [["1", "A", "3"]]}


def test_a_reference_names_the_values_that_are_not_listed(space: Space) -> None:
    space.sql("create table codes (code varchar); insert into codes values ('A')")
    more = '[[references]]\ncolumns = ["code"]\nlisted_in = "codes(code)"\notherwise = "warn"\n' + KEY

    finding = given(space, SOUND, more)["code is listed in codes(code)"]

    assert (finding["verdict"], finding["breaks"]) == ("warn", 1)
    assert finding["samples"]["rows"] == [["2", "BB"]]


def test_a_list_of_texts_is_read_by_the_kind_of_what_refers_to_it(space: Space) -> None:
    space.sql("create table ids (id varchar); insert into ids values ('1'), ('+2'), ('x')")
    more = '[[references]]\ncolumns = ["id"]\nlisted_in = "ids(id)"\n'

    finding = given(space, f"{SOUND}, (3, 'C', 3, 'a', 'z')", more)["id is listed in ids(id)"]

    assert (finding["verdict"], [row[0] for row in finding["samples"]["rows"]]) == ("fail", ["3"])


RULES = [
    ('each = "price > id"', "fail", 2, ""),
    ("each = \"class = 'a'\"", "pass", 0, ""),  # null is no break, as in SQL's CHECK
    ('each = "price > id"\ntolerate = 2', "pass", 2, "within the tolerance of 2 rows"),
    ('each = "price > id"\notherwise = "warn"', "warn", 2, "2 of 2 rows (100.00%)"),
    ('whole = "count(*) between 3 and 9"', "fail", 1, "count(*) is 2"),
    (
        'whole = "sum(price) = 3 and count(distinct class) = 1"',
        "pass",
        0,
        "sum(price) is 3.00, count(distinct class) is 1",
    ),
    (
        "whole = \"max(price) filter (where class = 'z') > 1\"",
        "fail",
        1,
        "it could not be decided: max(price) filter (…) is null",
    ),
    ('offenders = "select id, owner from sales where id > 1"', "fail", 1, "1 of 2 rows"),
    ('offenders = "select id from sales"\ntolerate = "100%"', "pass", 2, "within"),
    ('offenders = "select nothing from nowhere"', "error", None, "nowhere"),
]


@pytest.mark.parametrize(("rule", "verdict", "breaks", "message"), RULES, ids=[row[0] for row in RULES])
def test_rules_of_all_three_forms(space: Space, rule: str, verdict: str, breaks: int | None, message: str) -> None:
    found = given(space, SOUND, f'[[rules]]\nname = "it"\n{rule}\n')

    assert (found["it"]["verdict"], found["it"]["breaks"]) == (verdict, breaks)
    assert message in found["it"]["message"]
    assert found["exit"] == {"fail": 1, "error": 3}.get(verdict, 0)


def test_a_rule_that_cannot_be_judged_is_an_error_for_itself_alone(space: Space) -> None:
    more = '[[rules]]\nname = "far"\neach = "id * 5000000000 * 5000000000 > 0"\n[[rules]]\nname = "near"\neach = "id > 0"\n'

    found = given(space, SOUND, more)

    assert (found["far"]["verdict"], found["near"]["verdict"], found["exit"]) == ("error", "pass", 3)
    assert found["far"]["breaks"] is None


def test_a_column_of_another_kind_is_read_by_the_kinds_own_definition(space: Space) -> None:
    table = "create table sales (id varchar, code varchar, price double, class varchar, owner varchar)"

    found = given(
        space, "('1', 'A', 1.5, 'a', 'x'), ('0x1A', 'A', 1.234, 'a', 'x'), ('', 'A', 2, 'a', 'x')", table=table
    )

    assert (found["id is integer"]["verdict"], found["id is integer"]["breaks"]) == ("fail", 1)
    assert found["id is integer"]["samples"]["rows"] == [["0x1A"]]
    assert "stored as VARCHAR" in found["id is integer"]["message"]
    assert found["price is decimal(6,2)"]["breaks"] == 1


def test_a_missing_column_is_an_error_and_a_missing_table_names_the_nearest(space: Space) -> None:
    found = given(
        space,
        "",
        table="create table sales (id bigint, code varchar, prize decimal(6,2), class varchar, owner varchar)",
    )
    gone = space.judge("tickets")

    assert found["price is decimal(6,2)"]["message"] == "the table has no column 'price'; did you mean 'prize'?"
    assert (found["exit"], gone["exit"], gone["verdict"]) == (3, 3, "error")
    assert "there is no table 'tickets'" in gone["message"]


def test_private_values_are_shown_nowhere(space: Space) -> None:
    secret = "Eyðna Sandvág"
    more = '[[rules]]\nname = "owned"\neach = "owner = \'x\'"\n[[rules]]\nname = "who"\noffenders = "select owner from sales"\n'
    given(space, f"(1, 'A', 1, 'a', '{secret}')", more)

    ended = space.run("judge", "sales")

    assert "(masked)" in ended.out
    assert secret not in ended.out
    assert secret.encode() not in (space.root / ".nomotheta" / "ledger.sqlite").read_bytes()


def test_a_whole_shows_no_value_of_a_private_column(space: Space) -> None:
    secret = "Eyðna Sandvág"
    found = given(
        space,
        f"(1, 'A', 1, 'a', '{secret}')",
        '[[rules]]\nname = "last"\nwhole = "max(owner) < \'A\' and count(owner) = 1"\n',
    )

    assert found["last"]["message"] == "max(owner) is (masked), count(owner) is 1"
    assert secret not in space.run("judge", "sales").out


def test_control_characters_from_data_do_not_reach_the_terminal(space: Space) -> None:
    given(space, "(3, '\x1b[31mX', 1, 'a', 'x')")

    ended = space.run("judge", "sales")

    assert "\x1b" not in ended.out
    assert "\\x1b[31mX" in ended.out


def test_judging_a_view_or_a_table_of_a_schema_works_too(space: Space) -> None:
    space.sql("create schema shop")
    space.charter(CHARTER.format(more="").replace('"sales"', '"shop.sales"'), "sales")
    space.sql("create view shop.sales as select 1::bigint id, 'A' code, 1::decimal(6,2) price, 'a' class, 'x' as owner")

    assert space.judge("shop.sales")["verdict"] == "pass"
