"""The shape of files: which column stands where, and what is said when the header is not what it should be."""

from __future__ import annotations

import datetime
from decimal import Decimal
from typing import Any

import pytest

from conftest import DAY, Space

CHARTER = """
table = "fares"
[delivery]
files = "inbox/fares-{{day}}.csv"
[delivery.layout]
{layout}
[load]
tolerate = "all"
{load}
[columns.code]
kind = "text(4)"
{code}
[columns.fare]
kind = "decimal(6,2)"
{fare}
[columns.valid_on]
kind = "date"
"""
ROW = ("K001", Decimal("12.50"), datetime.date(2026, 6, 1))
BODY = "K001,12.50,2026-06-01\n"
FITS: list[tuple[str, dict[str, str], str]] = [
    ("in another order", {}, "valid_on,code,fare\n2026-06-01,K001,12.50\n"),
    ("with another case and space", {"layout": 'header_match = "loose"'}, ' CODE,Fare ,"Valid_on"\n' + BODY),
    ("more columns than declared", {"load": 'extra_columns = "ignore"'}, "code,who,fare,valid_on,\nK001,x,12.50,2026-06-01,\n"),
    ("a name twice, told by position", {"load": 'extra_columns = "ignore"', "fare": "at = 3"}, "code,fare,fare,valid_on\nK001,1,12.50,2026-06-01\n"),
    ("no header", {"layout": "header = 0"}, BODY),
    ("no header, told by position", {"layout": "header = 0", "code": "at = 2", "fare": "at = 4"}, "x,K001,y,12.50,2026-06-01,z\n"),
    ("two lines of header", {"layout": "header = 2"}, "fares of the summer\ncode,fare,valid_on\n" + BODY),
    ("the header again, skipped", {"layout": 'repeated_header = "skip"'}, "code,fare,valid_on\n" + BODY + "code,fare,valid_on\n"),
]  # fmt: skip


def charter(**parts: str) -> str:
    return CHARTER.format(**{"layout": "", "load": "", "code": "", "fare": ""} | parts)


@pytest.mark.parametrize(("parts", "text"), [row[1:] for row in FITS], ids=[row[0] for row in FITS])
def test_columns_are_found_where_they_stand(space: Space, parts: dict[str, str], text: str) -> None:
    space.charter(charter(**parts), "fares")
    space.write(f"inbox/fares-{DAY}.csv", text)

    load = space.load(table="fares")

    assert (load["state"], load["rejects"]) == ("loaded", []), load
    assert space.sql("select * from fares") == [ROW]
    assert space.run("reconcile", "fares").code == 0


def test_a_column_that_the_file_lacks_is_null_where_that_is_declared_and_is_said(space: Space) -> None:
    space.charter(charter(load='missing_columns = "null"'), "fares")
    space.write(f"inbox/fares-{DAY}.csv", "code,valid_on\nK001,2026-06-01\n")

    load = space.load(table="fares")

    assert load["notes"] == [f"inbox/fares-{DAY}.csv has no column 'fare': filled with null"]
    assert space.sql("select fare from fares") == [(None,)]


def test_a_header_in_the_middle_is_a_reject(space: Space) -> None:
    space.charter(charter().replace("decimal(6,2)", "text").replace('"date"', '"text"'), "fares")
    space.write(f"inbox/fares-{DAY}.csv", "code,fare,valid_on\n" + BODY + "code,fare,valid_on\n" + BODY)

    space.load(table="fares")

    assert [(each["line"], each["reason"]) for each in space.rejects()] == [(3, "repeated_header")]
    assert len(space.sql("select * from fares")) == 2


WRONG: list[tuple[str, dict[str, str], str, str, str]] = [
    ("header read as data", {"layout": "header = 0"}, "code,fare,valid_on\n" + BODY, "looks like a header ('code', 'fare', 'valid_on')", "header = 1"),
    ("header of other names read as data", {"layout": "header = 0"}, "Sailing,Price,Until\n" + BODY, "looks like a header", "header = 1"),
    ("row skipped as header", {}, BODY + "K002,1.00,2026-06-01\n", "is a row and no header: its values ('K001', '12.50', '2026-06-01')", "header = 0"),
    ("case", {}, "Code,fare ,valid_on\n" + BODY, "missing: 'code', 'fare'", 'header_match = "loose"'),
    ("unknown", {}, "code,fare,valid_on,who\nK001,1,2026-06-01,x\n", "not in the charter: 'who'", 'extra_columns = "ignore"'),
    ("twice", {}, "code,fare,valid_on,fare\nK001,1,2026-06-01,x\n", "named twice: 'fare'", "at = 3"),
    ("nearly", {}, "code,fares,valid_on\n" + BODY, "missing: 'fare'", "'fares' looks like 'fare'"),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "text", "told", "mend"), [row[1:] for row in WRONG], ids=[row[0] for row in WRONG])
def test_what_is_wrong_with_a_header_is_said_with_its_mend(
    space: Space, parts: dict[str, Any], text: str, told: str, mend: str
) -> None:
    space.charter(charter(**parts), "fares")
    space.write(f"inbox/fares-{DAY}.csv", text)

    load = space.load(table="fares")

    assert (load["state"], load["exit"]) == ("refused", 1), load
    assert told in load["message"]
    assert mend in load["mend"]
