"""Files against the table: a single changed cell is noticed and named."""

from __future__ import annotations

import hashlib
import re
import sys
from pathlib import Path
from typing import Any

import duckdb
import pytest

from conftest import DAY, TICKETS, Space
from nomotheta.conditions import parse_kind
from nomotheta.place.fingerprint import Fingerprint

MORE = """
[columns.note]
kind = "text"
[columns.share]
kind = "real"
[columns.paid]
kind = "boolean"
[columns.sold_at]
kind = "timestamp"
"""
HEAD = "ticket_no;fare;sold_on;note;share;paid;sold_at\n"
ROWS = "".join(
    f"T{n:03d};{n},50;{n % 28 + 1:02d}.06.2026;note {n % 7};0,{n};true;2026-06-01 10:00:{n % 60:02d}\n"
    for n in range(200)
)


@pytest.fixture
def loaded(space: Space) -> Space:
    """Two hundred tickets in the table, one reject and one repeat beside them."""
    space.charter(TICKETS + MORE)
    space.tickets(HEAD + ROWS + "T000;1,00;01.06.2026;;;;\nT999;x;01.06.2026;;;;\n")
    assert space.load()["balance"]["loaded"] == 200
    return space


def reconciled(space: Space, *more: str) -> dict[str, Any]:
    ended = space.run("reconcile", "tickets", "--json", *more)
    (found,) = ended.json["tables"]
    return found | {"exit": ended.code}


def test_what_was_loaded_is_equal_to_its_files(loaded: Space) -> None:
    found = reconciled(loaded)

    assert (found["verdict"], found["exit"]) == ("pass", 0)
    assert [found[key] for key in ("records", "rejected", "conflicts", "source_rows", "target_rows")] == [
        202, 1, 1, 200, 200,
    ]  # fmt: skip
    assert found["source_fingerprint"] == found["target_fingerprint"]
    totals = {each["column"]: (each["measure"], each["source_count"], each["source"]) for each in found["totals"]}
    assert totals["fare"] == ("sum", 200, ["20000.00"])
    assert totals["note"] == ("length", 200, ["1200"])
    assert totals["sold_on"] == ("range", 200, ["2026-06-01", "2026-06-28"])
    assert totals["paid"] == ("true", 200, ["200"])
    assert found["uncompared"] == ["load_no"]
    loaded.sql("alter table tickets add column later integer")
    assert "or not in the charter): load_no, later" in loaded.run("reconcile", "tickets").text


CHANGES = [
    ("note", "'note x'", "note 3", "note x"),
    ("fare", "fare + 0.01", "10.50", "10.51"),
    ("sold_on", "sold_on + 1", "2026-06-11", "2026-06-12"),
    ("paid", "false", "true", "false"),
    ("sold_at", "sold_at + interval 1 microsecond", "2026-06-01 10:00:10", "2026-06-01 10:00:10.000001"),
    ("note", "null", "note 3", None),
    ("note", "''", "note 3", ""),
]


@pytest.mark.parametrize(
    ("column", "change", "source", "target"), CHANGES, ids=[f"{row[0]} {row[1]}" for row in CHANGES]
)
def test_a_single_changed_cell_is_noticed_and_its_row_and_column_named(
    loaded: Space, column: str, change: str, source: str, target: str | None
) -> None:
    loaded.sql(f"update tickets set {column} = {change} where ticket_no = 'T010'")

    found = reconciled(loaded)

    assert (found["verdict"], found["exit"], found["differing"]) == ("fail", 1, [column])
    assert found["differences"] == [
        {
            "sort": "changed",
            "key": [["ticket_no", "T010"]],
            "file": f"inbox/tickets-{DAY}.csv",
            "line": 12,
            "cells": [{"column": column, "source": source, "target": target}],
        }
    ]


@pytest.mark.parametrize("change", ["", "update tickets set sold_on = sold_on + 400 where ticket_no = 'T010'"])
def test_totals_show_no_value_of_a_private_column(space: Space, change: str) -> None:
    text = (TICKETS + MORE).replace('kind = "date"', 'kind = "date"\nprivate = true')
    space.charter(text.replace('kind = "decimal(6,2)"', 'kind = "decimal(6,2)"\nprivate = true'))
    space.tickets(HEAD + ROWS)
    space.load()
    if change:
        space.sql(change)

    found = reconciled(space)

    totals = {each["column"]: each for each in found["totals"]}
    assert totals["sold_on"]["source"] == totals["sold_on"]["target"] == ["(masked)", "(masked)"]
    assert totals["fare"]["source"] == ["(masked)"]
    assert totals["sold_on"]["equal"] is (not change)
    assert found["verdict"] == ("fail" if change else "pass")
    assert "2026-06-28" not in space.run("reconcile", "tickets").out
    assert b"2026-06-28" not in (space.root / ".nomotheta/ledger.sqlite").read_bytes()


def test_what_the_charter_says_may_differ_is_excused_and_counted_and_nothing_else(loaded: Space) -> None:
    said = '[reconcile]\nleave_out = ["paid"]\n[reconcile.columns.note]\ncase = "upper"\n[reconcile.columns.fare]\nwithin = 0.05\n'
    loaded.charter(TICKETS + MORE + said)
    loaded.sql("update tickets set note = upper(note), paid = false, fare = fare + 0.01 where ticket_no < 'T150'")
    partly = reconciled(loaded)
    loaded.sql("update tickets set note = upper(note)")
    right = reconciled(loaded)
    loaded.sql("update tickets set fare = fare + 1 where ticket_no = 'T010'")
    wrong = reconciled(loaded)

    assert (partly["verdict"], partly["differing"], partly["sorts"]) == ("fail", ["note"], {"changed": 50})
    assert (right["verdict"], right["records"], right["source_rows"], right["over"]) == ("pass", 202, 200, "load 1")
    assert right["excused"] == {"note": {"put into upper case": 200}, "fare": {"within 0.05": 150}}
    assert sorted(right["uncompared"]) == ["load_no", "paid"]
    assert (wrong["verdict"], wrong["differing"]) == ("fail", ["fare"])
    loaded.charter(TICKETS + MORE + said.replace("columns.fare", "columns.fair").replace('"paid"', '"pay"'))
    lint = loaded.run("lint")
    assert (lint.code, "the charter has no column 'fair'" in lint.text, "no column 'pay'" in lint.text) == (
        2,
        True,
        True,
    )


def test_where_too_many_rows_differ_the_columns_are_named_all_the_same(
    loaded: Space, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sys.modules["nomotheta.reconcile.compare"], "_MOST_ROWS", 10)
    loaded.sql("update tickets set fare = fare + 1, paid = false")

    found = reconciled(loaded)

    assert (found["verdict"], found["differing_rows"], found["differing"]) == ("fail", None, ["fare", "paid"])


def test_two_values_that_changed_places_are_noticed(loaded: Space) -> None:
    loaded.sql(
        "update tickets set note = case note when 'note 1' then 'note 2' else 'note 1' end where ticket_no in ('T001', 'T002')"
    )

    found = reconciled(loaded)

    assert found["verdict"] == "fail"
    assert {each["key"][0][1] for each in found["differences"]} == {"T001", "T002"}


def test_lost_and_added_rows_are_named(loaded: Space) -> None:
    loaded.sql("delete from tickets where ticket_no = 'T005'")
    loaded.sql("insert into tickets (ticket_no, load_no) values ('T500', 1), ('T501', 1)")

    found = reconciled(loaded)

    assert (found["source_rows"], found["target_rows"], found["differing_rows"]) == (200, 201, 3)
    assert sorted((each["sort"], each["key"][0][1]) for each in found["differences"]) == [
        ("missing", "T005"), ("unexpected", "T500"), ("unexpected", "T501"),
    ]  # fmt: skip


def test_a_real_that_is_off_by_its_last_bit_is_named(loaded: Space) -> None:
    loaded.sql("update tickets set share = share + 3e-17 where ticket_no = 'T015'")

    found = reconciled(loaded)

    assert (found["verdict"], found["differing"]) == ("fail", ["share"])
    assert found["differences"][0]["cells"] == [{"column": "share", "source": "0.15", "target": "0.15000000000000002"}]


def test_without_a_key_the_rows_are_named_whole(loaded: Space) -> None:
    loaded.charter((TICKETS + MORE).replace('[[keys]]\ncolumns = ["ticket_no"]\n', ""))
    loaded.sql("update tickets set note = 'note x' where ticket_no = 'T010'")

    found = reconciled(loaded)

    assert found["differing"] == ["note"]
    assert [each["sort"] for each in found["differences"]] == ["missing", "unexpected"]


def test_the_newest_load_is_reconciled_or_the_one_that_is_asked_for(loaded: Space) -> None:
    loaded.tickets(HEAD + "T800;8,00;01.06.2026;;;;\n", "2026-06-02")
    loaded.load(day="2026-06-02")
    loaded.sql("update tickets set note = 'x' where ticket_no = 'T010'")

    assert (reconciled(loaded)["over"], reconciled(loaded)["verdict"]) == ("load 2", "pass")
    assert (reconciled(loaded, "--load", "1")["over"], reconciled(loaded, "--load", "1")["verdict"]) == (
        "load 1",
        "fail",
    )
    assert loaded.run("reconcile", "tickets", "--load", "9").code == 2


def test_loads_that_cannot_be_told_apart_are_reconciled_together(space: Space) -> None:
    space.charter(TICKETS.replace('[columns.load_no]\nfrom = "@load.no"\n', ""))
    for day in ("2026-06-01", "2026-06-02"):
        space.tickets(f"ticket_no;fare;sold_on\nT{day[-2:]}1;1,00;\n", day)
        space.load(day=day)

    found = reconciled(space)

    assert (found["over"], found["loads"], found["target_rows"], found["verdict"]) == ("all loads", [1, 2], 2, "pass")


def test_a_file_that_is_gone_or_has_changed_is_told(loaded: Space) -> None:
    file = loaded.root / f"inbox/tickets-{DAY}.csv"
    file.write_text(HEAD + ROWS)
    changed = loaded.run("reconcile", "tickets")
    file.unlink()

    gone = loaded.run("reconcile", "tickets")
    loaded.sql("update tickets set fare = fare + 1 where ticket_no = 'T010'")
    unequal = reconciled(loaded)
    loaded.sql("delete from tickets where ticket_no = 'T011'")
    fewer = reconciled(loaded)

    assert (changed.code, gone.code) == (0, 0)
    assert "it has changed since; the table was compared with what was recorded at loading" in changed.text
    assert "no such file has arrived; the table was compared with what was recorded at loading" in gone.text
    assert (unequal["verdict"], unequal["differing"], unequal["differing_rows"]) == ("fail", ["fare"], None)
    totals = {each["column"]: (each["source"], each["target"]) for each in unequal["totals"]}
    assert totals["fare"] == (["20000.00"], ["20001.00"])
    assert (fewer["verdict"], fewer["source_rows"], fewer["target_rows"]) == ("fail", 200, 199)


def test_nothing_loaded_is_nothing_to_reconcile(space: Space) -> None:
    space.sql("create table tickets (ticket_no varchar)")

    ended = space.run("reconcile", "tickets")

    assert ended.code == 2
    assert "nomotheta load tickets" in ended.text


ROW_TEXTS = [
    ("text", "'äb|:'", "5:äb|:"), ("text", "null", ":"), ("text", "''", "0:"), ("integer", "-7", "-7|"), ("integer", "null", "|"),
    ("decimal(8,2)", "1.5", "1.50|"), ("decimal(8,2)", "-0.004", "0.00|"), ("boolean", "true", "1|"),
    ("date", "date '0001-01-02'", "0001-01-02|"), ("time", "time '01:02:03.5'", "01:02:03.5|"),
    ("timestamp", "timestamp '2026-06-01 10:00:00.250'", "2026-06-01 10:00:00.25|"),
    ("timestamptz", "timestamptz '2026-06-01 10:00:00+02'", "2026-06-01 08:00:00|"),
    ("real", "12.5", "125e-1|"), ("real", "-0.1", "-1e-1|"), ("real", "null", "|"), ("real", "-0.0", "0|"),
    ("real", "'nan'", "nan|"), ("real", "'-inf'", "-inf|"), ("real", "9007199254740992", "b4512985939662074e-292|"),
    ("binary", "'\\xFF'::blob", "ff|"), ("uuid", "'6F9619FF-8B86-D011-B42D-00C04FC964FF'::uuid", "6f9619ff-8b86-d011-b42d-00c04fc964ff|"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "value", "text"), ROW_TEXTS, ids=[f"{row[0]} {row[1]}" for row in ROW_TEXTS])
def test_a_fingerprint_is_the_md5_of_the_canonical_text(kind: str, value: str, text: str, tmp_path: Path) -> None:
    kinds = {"v": parse_kind(kind)}
    types = {"text": "varchar", "integer": "bigint", "binary": "blob", "real": "double"}

    with duckdb.connect() as connection:
        connection.execute("set TimeZone = 'UTC'").fetchall()
        relation = f"(select cast({value} as {types.get(kind, kind)}) as v)"
        ((found,),) = connection.execute(f"select {Fingerprint().hash_sum(kinds)} from {relation}").fetchall()

    assert found == int.from_bytes(hashlib.md5(text.encode()).digest()[:8], "big")


def test_what_the_sender_states_stands_in_the_same_account(space: Space) -> None:
    stated = '[delivery]\nstated = { in = "footer", pattern = "END (?P<rows>[0-9]+) (?P<fare>[0-9,]+)" }\nlayout = { delimiter = ";", decimal_sign = ",", date_forms = ["%d.%m.%Y"], footer = 1 }\n'
    text = re.sub(r'layout = ".*"\n', "", TICKETS).replace("[delivery]\n", stated)
    space.charter(text)
    space.tickets("ticket_no;fare;sold_on\nT001;1,50;01.06.2026\nT002;2,00;01.06.2026\nEND 2 3,50\n")
    assert space.load()["state"] == "loaded"

    found, shown = reconciled(space), space.run("reconcile", "tickets").text

    where = f"inbox/tickets-{DAY}.csv, its footer"
    assert found["stated"] == [{"where": where, "rows": 2, "totals": {"fare": "3.50"}}]
    assert f"stated 2 rows, fare 3.50 ({where})" in shown
