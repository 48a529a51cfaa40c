"""The kernel does what is done without it, only sooner: the same rows, the same rejects, whatever stands in the cells."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import without_kernel
from nomotheta import kernel
from nomotheta.charter import Settings, lint, read_charter
from nomotheta.load.blocks import worked_blocks
from nomotheta.load.engine import Engine
from nomotheta.load.work import Plan
from nomotheta.place.render import Now
from nomotheta.source.formats import open_file
from nomotheta.source.marks import Marks, without_lone_returns
from nomotheta.source.shape import match_columns

pytestmark = pytest.mark.skipif(kernel.library.library() is None, reason="there is no C compiler on this machine")

CHARTER = """
table = "t"
[delivery]
files = "x.csv"
[delivery.layout]
delimiter = ";"
MORE
[load]
tolerate = "all"
[columns.i]
kind = "integer"
between = [-50, 5000]
[columns.d]
kind = "decimal(6,2)"
between = [-10.55, 1000]
[columns.w]
kind = "decimal(38,0)"
between = [-3, ""]
[columns.s]
kind = "date"
[columns.m]
kind = "timestamp"
[columns.h]
kind = "time"
[columns.b]
kind = "boolean"
among = [true]
[columns.x]
kind = "text(5)"
blank = "never"
pattern = "[a-z][0-9]{2}"
among = ["a12", "e12", "", "é12", "abcde"]
"""
LAYOUTS = {
    "plain": "",
    "grouped": 'decimal_sign = ","\nthousands_sign = "."\ndate_forms = ["%d.%m.%Y", "%Y%m%d"]\nnull_words = ["", "n/a", "0"]',
    "trimmed": 'trim = true\nquote = "\'"\ntimestamp_forms = ["%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M:%S.%f"]\nmidnight_24 = true',
    "no quotes": 'quote = ""\ndate_forms = ["%-d/%m/%Y", "%Y-%m-%d", "%d %b %Y"]\ntrue_words = ["yes", "1"]\nfalse_words = ["no"]',
}  # fmt: skip
CELLS = st.one_of(
    st.sampled_from([
        "", "0", "7", "-12", "+3", "007", "1e3", "0x1A", " 5", "12,50", "12.50", "1.234,50", ".5", "5.", "-.5", "1234.567",
        "9999.99", "10000.00", "9223372036854775808", "99999999999999999999999999999999999999", "2026-02-28", "2026-02-29",
        "2024-02-29", "0000-01-01", "28.02.2026", "20260228", "1/02/2026", "2026-06-01 10:00", "2026-06-01 24:00",
        "2026-06-01 10:00:00", "2026-06-01T23:59:59", "2026-06-01T10:00:00.5", "10:00", "23:59:60", "true", "false", "yes",
        "no", "1", "a12", "é12", "abcdef", "n/a", "a\x0012", "\u00a0", "1 Feb 2026", "-", "12345678", "123456789.12",
    ]),
    st.text("0123456789.,-+:T /eé", max_size=12),
)  # fmt: skip


def loaded(folder: Path, layout: str) -> Any:
    """What comes of a file: the rows, the rejects, and the lines."""
    read, problems = read_charter(folder / "t.toml", "t.toml")
    compiled, more = lint([read], Settings(name="x", places={"w": {"url": "duckdb:///x"}})) if read else ({}, [])
    assert not problems, problems
    assert not more, more
    chosen = compiled["t"]
    source = open_file(folder / "x.csv", "x.csv", chosen.layout)
    shape = match_columns(source, chosen.charter)
    moment = datetime.datetime(2026, 6, 1, tzinfo=datetime.UTC)
    checks = [check for check in chosen.checks if check.on_rows and check.sort != "text_length"]
    engine = Engine(checks, Now(moment, moment.date()))
    plan = Plan(chosen, "x.csv", shape.positions, shape.width, {}, [], engine, "UTC", 0)
    return [
        (
            worked.good.to_pylist(),
            worked.records.tolist(),
            [table.to_pylist() for table in worked.set_aside.tables(0)],
            worked.batch.lines,
        )
        for worked in worked_blocks(source, plan)
    ]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("kernel")


@settings(max_examples=150)
@given(
    st.sampled_from(sorted(LAYOUTS)),
    st.lists(st.lists(st.tuples(CELLS, st.booleans()), min_size=7, max_size=9), min_size=1, max_size=12),
    st.sampled_from(["\n", "\r\n"]),
    st.booleans(),
)
def test_rows_and_rejects_are_the_same_with_and_without_it(
    folder: Path, name: str, rows: list[list[tuple[str, bool]]], end: str, empty: bool
) -> None:
    layout = LAYOUTS[name]
    (folder / "t.toml").write_text(CHARTER.replace("MORE", layout))
    quote = {"trimmed": "'", "no quotes": ""}.get(name, '"')
    lines = ["i;d;w;s;m;h;b;x"]
    for row in rows:
        lines.append(";".join(f"{quote}{cell}{quote}" if quoted else cell.replace(";", ",") for cell, quoted in row))
        lines += [""] if empty else []
    (folder / "x.csv").write_bytes((end.join(lines) + end * empty).encode())

    fast = loaded(folder, layout)
    with without_kernel():
        slow = loaded(folder, layout)

    assert fast == slow


@settings(max_examples=400)
@given(
    st.lists(st.sampled_from(["ab", '"', ",", "\n", "\r\n", "\r", '""', "x" * 61]), min_size=1, max_size=40).map(
        "".join
    ),
    st.booleans(),
)
def test_a_chunk_is_surveyed_alike(text: str, final: bool) -> None:
    data, _ = without_lone_returns(text.encode())
    marks, seen = Marks.of(data, ord('"'), ord(","), final=final), kernel.survey(data, ord(","), ord('"'), final=final)

    assert seen is not None
    cut = len(data) if final else marks.cut
    assert (seen.cut, seen.feeds) == (cut, data.count(b"\n", 0, cut))
    assert not cut or seen.well_formed == marks.well_formed(cut)
    if seen.well_formed and cut:
        ends = [at + 1 for at, byte in enumerate(data[:cut]) if byte == 10 and data.count(b'"', 0, at) % 2 == 0]
        assert seen.longest == max(np.diff([0, *ends, *([cut] if cut not in ends else [])]).tolist())
        assert seen.inner == seen.feeds - len(ends)


@given(st.binary(max_size=300), st.sampled_from([0, 10, 34, 255]))
def test_bytes_are_counted(data: bytes, byte: int) -> None:
    assert kernel.count_byte(data, byte) == data.count(byte)


@given(
    st.lists(st.text("ab é\0", max_size=9), min_size=1, max_size=32),
    st.lists(st.one_of(st.none(), st.text("ab é\0", max_size=9)), min_size=1),
    st.integers(0, 3),
)
def test_words_and_lengths_are_seen_in_any_part_of_an_array(
    words: list[str], texts: list[str | None], ahead: int
) -> None:
    array = pa.array(texts + words, pa.string())[ahead:]
    there = array.to_pylist()

    found = kernel.looks.none_of(array, kernel.Words(words))
    longest = kernel.looks.longest(array)

    assert found is not None
    assert found.tolist() == [text is not None and text not in words for text in there]
    nul = any("\0" in text for text in there if text)
    assert longest == (-1 if nul else max((len((text or "").encode()) for text in there), default=0))


@pytest.mark.parametrize("kind", [pa.int32(), pa.int64(), pa.decimal128(38, 0)], ids=str)
@given(
    st.lists(st.one_of(st.none(), st.integers(-(2**31), 2**31 - 1)), min_size=3),
    st.integers(-(2**63), 2**63 - 1),
    st.integers(-(2**63), 2**63 - 1),
)
def test_what_is_out_of_bounds_is_seen(kind: Any, numbers: list[int | None], least: int, most: int) -> None:
    wide = [*numbers, 2**100, -(2**70), least, most] if pa.types.is_decimal(kind) else numbers
    array = pa.array(wide, kind)[2:]

    found = kernel.looks.outside(array, least, most)

    assert found is not None
    assert found.tolist() == [number is not None and not least <= number <= most for number in wide[2:]]
