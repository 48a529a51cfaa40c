"""The whole path against a plain Python reading of the same files, cell by cell."""

from __future__ import annotations

import datetime
import re
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import DAY, SETTINGS, Space
from nomotheta.charter import Delivery, Tell
from nomotheta.ledger import LoadResult, RunResult, TableResult
from nomotheta.report.table import safe_cells
from nomotheta.source.delivery import expected
from nomotheta.tell import worth_telling

CHARTER = """
table = "t"
[delivery]
files = "inbox/t-{day}.csv"
layout = "office"
[load]
tolerate = "all"
empty = "accept"
[columns.k]
kind = "text(3)"
blank = "never"
[columns.n]
kind = "integer"
between = [0, 50]
[columns.d]
kind = "decimal(4,1)"
[columns.day]
kind = "date"
[columns.c]
kind = "text"
among = ["a", "b"]
[[keys]]
columns = ["k"]
[[rules]]
name = "n covers d"
each = "n >= d"
otherwise = "reject"
"""
NULLS = {"", "n/a"}


def value(kind: str, text: str) -> Any:
    """What a cell is, told the slow way; ValueError where it does not fit."""
    if text in NULLS:
        return None
    if kind == "integer":
        if not re.fullmatch(r"[+-]?[0-9]+", text, re.ASCII):
            raise ValueError
        return int(text)
    if kind == "decimal":
        if not re.fullmatch(r"[+-]?([0-9]+(,[0-9]+)?|,[0-9]+)", text, re.ASCII):
            raise ValueError
        number = Decimal(text.replace(",", "."))
        if number != round(number, 1) or abs(number) >= 1000:
            raise ValueError
        return number
    if kind == "date":
        return (
            datetime.datetime.strptime(text, "%d.%m.%Y").date()
            if re.fullmatch(r"\d\d\.\d\d\.\d{4}", text)
            else int("x")
        )
    return text


def sound(row: list[str]) -> list[Any] | None:
    """The values of a row, or None where it is to be set aside; keys apart."""
    try:
        k, n, d, day, c = (
            value(kind, cell) for kind, cell in zip(("text", "integer", "decimal", "date", "text"), row, strict=True)
        )
    except (ValueError, InvalidOperation):
        return None
    fits = k is not None and k.strip() and len(k) <= 3 and (n is None or 0 <= n <= 50) and c in {None, "a", "b"}
    return [k, n, d, day, c] if fits and (n is None or d is None or n >= d) else None


CELLS = [
    st.sampled_from(["a", "b", "c", "dd", " ", "", "long", "é", "n/a"]),
    st.sampled_from(["1", "50", "51", "-1", "007", "", "x", "1.0", "+3", " 2"]),
    st.sampled_from(["1,5", "0", ",5", "5,", "1.5", "999,9", "1000", "1,55", "", "-0,1"]),
    st.sampled_from(["01.06.2026", "31.06.2026", "29.02.2024", "1.6.2026", "", "x"]),
    st.sampled_from(["a", "b", "c", "", "n/a", "A"]),
]


@settings(deadline=None, max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(*CELLS).map(list), max_size=12))
def test_what_is_loaded_and_set_aside_is_what_a_plain_reading_says(tmp_path: Path, rows: list[list[str]]) -> None:
    space = Space(tmp_path)
    for old in ("warehouse.duckdb", ".nomotheta/ledger.sqlite"):
        (tmp_path / old).unlink(missing_ok=True)
    for old in tmp_path.glob(".nomotheta/*-*"):
        old.unlink()
    space.write("nomotheta.toml", SETTINGS)
    space.charter(CHARTER, "t")
    space.write(f"inbox/t-{DAY}.csv", "k;n;d;day;c\n" + "".join(";".join(row) + "\n" for row in rows))
    kept: dict[str, list[Any]] = {}
    rejected = repeated = 0
    for values in map(sound, rows):
        rejected += values is None
        repeated += values is not None and values[0] in kept
        if values is not None:
            kept.setdefault(values[0], values)

    load = space.load(table="t")

    balance = load["balance"]
    assert [balance[name] for name in ("records", "loaded", "rejected")] == [len(rows), len(kept), rejected]
    assert balance["copies"] + balance["conflicts"] == repeated
    assert sorted(map(list, space.sql("select * from t")), key=str) == sorted(kept.values(), key=str)
    if rows:
        assert space.run("reconcile", "t").code == 0


@pytest.mark.parametrize(
    ("pattern", "name"),
    [("t-{day}.csv", "t-2026-06-01.csv"), ("{day:%d%m%Y}/t*.gz", "01062026/t*.gz"), ("list.csv", "list.csv")],
)
def test_the_day_is_filled_into_a_pattern(pattern: str, name: str) -> None:
    delivery = Delivery(files=pattern)

    assert expected(delivery, datetime.date(2026, 6, 1)) == [name]
    assert delivery.daily is ("{day" in pattern)


@pytest.mark.parametrize(
    ("cell", "written"),
    [("=A1", "'=A1"), ("+1", "+1"), ("-1.234,50", "-1.234,50"), ("-x", "'-x"), ("@cmd", "'@cmd"), ("\tx", "'\tx"), ("a=b", "a=b"), ("'x", "''x")],
)  # fmt: skip
def test_no_cell_of_a_csv_is_a_formula(cell: str, written: str) -> None:
    assert safe_cells(pa.array([cell])).to_pylist() == [written]


@pytest.mark.parametrize(
    ("on", "told"), [(["fail"], ["fail", "error"]), (["warn"], ["warn"]), (["fail", "pass"], ["pass", "fail", "error"])]
)
def test_only_what_was_asked_for_is_told(on: list[Any], told: list[str]) -> None:
    tables = tuple(
        TableResult(verdict, verdict, LoadResult(verdict, "w", datetime.date(2026, 6, 1), "loaded", verdict))  # type: ignore[arg-type]
        for verdict in ("pass", "warn", "fail", "error")
    )
    run = RunResult(1, "x", datetime.date(2026, 6, 1), datetime.datetime.now(datetime.UTC), 0.1, "error", tables)
    tell = Tell(**{"url": "folder:x", "from": "a@b", "to": ["c@d"], "on": on, "when": "always"})

    assert [table.table for table in worth_telling(run, tell, [])] == told


def test_two_runs_at_the_same_time_do_not_mix(space: Space) -> None:
    import subprocess
    import sys

    rows = "".join(f"T{n % 1000:03d};{n % 90},00;01.06.2026\n" for n in range(200_000))
    charter = (space.root / "charters/tickets.toml").read_text().replace('[[keys]]\ncolumns = ["ticket_no"]\n', "")
    space.charter(charter)
    space.tickets("ticket_no;fare;sold_on\n" + rows)
    command = [sys.executable, "-m", "nomotheta", "load", "tickets", "--day", DAY, "--create", "--json"]

    both = [subprocess.Popen(command, cwd=space.root, stdout=subprocess.PIPE, text=True) for _ in range(2)]
    codes = sorted(process.wait() for process in both if process.communicate() is not None)

    assert codes[0] == 0
    assert codes[1] in {1, 3}  # refused as loaded before, or the database was held by the other
    assert space.sql("select count(*) from tickets") == [(200_000,)]
