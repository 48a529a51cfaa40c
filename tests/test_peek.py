"""A look at a file: what it is, why it seems so, and what is odd about it."""

from __future__ import annotations

import gzip
import re
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Space
from nomotheta.peek import Look, look
from nomotheta.peek.spread import Ranges

ROWS = "".join(f"{n};A{n % 3};{n % 40},50;{n % 28 + 1:02d}.06.2026;note {n % 5}\n" for n in range(300))
TEXT = "id;code;fare;sold_on;note\n" + ROWS


def seen(path: Path, data: str | bytes, rows: int | None = None) -> Look:
    file = path / "file.csv"
    file.write_bytes(data.encode() if isinstance(data, str) else data)
    return look(file, rows)


def kinds(found: Look) -> list[tuple[str, str]]:
    return [(column.kind, column.form) for column in found.columns]


def test_a_sound_file_is_known_for_what_it_is(tmp_path: Path) -> None:
    found = seen(tmp_path, TEXT)

    assert (found.delimiter, found.encoding, found.header, found.rows, found.whole) == (";", "utf-8", True, 300, True)
    assert found.line_ends == {"LF": 301}
    assert kinds(found) == [
        ("integer", ""), ("text(2)", ""), ("decimal(4,2)", "decimal comma"), ("date", "%d.%m.%Y"), ("text(6)", ""),
    ]  # fmt: skip
    first, code, fare, *_ = found.columns
    assert (first.distinct, first.distinct_exact, first.lowest, first.highest) == (300, True, "0", "299")
    assert (code.distinct, code.blanks, code.examples) == (3, 0, ("A0", "A1", "A2"))
    assert (fare.lowest, fare.highest) == ("0.5", "39.5")
    assert found.keys == (("id",),)
    assert found.oddities == ()
    assert found.first_rows[0] == ("0", "A0", "0,50", "01.06.2026", "note 0")


FILES: list[tuple[str, str | bytes, dict[str, Any]]] = [
    ("commas", "a,b\n1,x\n2,y\n", {"delimiter": ","}),
    ("tabs", "a\tb\n1\tx, y\n2\tz\n", {"delimiter": "\t"}),
    ("bars", "a|b|c\n1|x|1,5\n2|y|2,5\n", {"delimiter": "|"}),
    ("commas in quotes", 'a;b\n1;"x,y,z"\n2;"x,y,z"\n', {"delimiter": ";", "quote": '"'}),
    ("single quotes", "a,b\n1,'x,y'\n2,'y'\n", {"quote": "'"}),
    ("one column", "name\nx\ny\n", {"rows": 2, "header": True}),
    ("no header, values at the top", "1,2026-06-01\n2,2026-06-02\n", {"header": False, "rows": 2}),
    ("no header, words that stand below", "red,blue\nblue,red\nred,red\n", {"header": False}),
    ("crlf", "a,b\r\n1,2\r\n", {"line_ends": {"CRLF": 2}}),
    ("cr", "a,b\r1,2\r", {"line_ends": {"CR": 2}, "rows": 1}),
    ("utf-16", "a,b\n1,é\n".encode("utf-16"), {"encoding": "utf-16"}),
    ("utf-16 without a mark", ("a,b\n" + "1,é\n" * 50).encode("utf-16-le"), {"encoding": "utf-16-le"}),
    ("a byte order mark", "a,b\n1,é\n".encode("utf-8-sig"), {"encoding": "utf-8", "rows": 1}),
    ("cp1252", "a,b\n1,café €\n".encode("cp1252"), {"encoding": "cp1252"}),
    ("latin-1", "a,b\n1,caf\xe9\x81\n".encode("latin-1"), {"encoding": "latin-1"}),
    ("gzip", gzip.compress(b"a,b\n1,2\n"), {"packing": "gzip", "rows": 1}),
]


@pytest.mark.parametrize(("data", "expected"), [row[1:] for row in FILES], ids=[row[0] for row in FILES])
def test_layouts_are_told(tmp_path: Path, data: str | bytes, expected: dict[str, Any]) -> None:
    found = seen(tmp_path, data)

    assert {name: getattr(found, name) for name in expected} == expected


def column(values: list[str]) -> str:
    return "k,v\n" + "".join(f'{n},"{value}"\n' for n, value in enumerate(values))


KINDS = [
    (["1", "22", "-3"], "integer", ""),
    (["01", "22", "03"], "text(2)", ""),
    (["1.5", "22", "-3.25"], "decimal(4,2)", ""),
    (["1.234,5", "2,5"], "decimal(5,1)", "decimal comma, grouping point"),
    (["1e5", "2.5e-3"], "real", "with exponents"),
    (["2026-06-01", "2026-06-30"], "date", "%Y-%m-%d"),
    (["20260601", "20260630"], "integer", ""),
    (["13/06/2026", "01/07/2026"], "date", "%d/%m/%Y"),
    (["06/13/2026", "07/01/2026"], "date", "%m/%d/%Y"),
    (["2026-06-01 10:00:00", "2026-06-01 11:30:00"], "timestamp", "%Y-%m-%d %H:%M:%S"),
    (["2026-06-01T10:00:00Z", "2026-06-01T11:30:00+02:00"], "timestamptz", "with zone"),
    (["10:00", "23:59"], "time", "%H:%M"),
    (["yes", "no"], "boolean", "yes / no"),
    (["6f9619ff-8b86-d011-b42d-00c04fc964ff"] * 2, "uuid", ""),
    (["abc", "de"], "text(3)", ""),
]


@pytest.mark.parametrize(("values", "kind", "form"), KINDS, ids=[row[1] + " " + row[0][0] for row in KINDS])
def test_kinds_are_told_by_all_values(tmp_path: Path, values: list[str], kind: str, form: str) -> None:
    found = seen(tmp_path, column(values * 20))

    assert (found.columns[1].kind, found.columns[1].form) == (kind, form)


ODD = [
    (TEXT + "1;2\n", "record with too few fields", 1),
    (TEXT + "1;2;3;4;5;6\n" * 2, "records with too many fields", 2),
    (TEXT + '1;"x"y;3;4;5\n', "stray quote", 1),
    (TEXT + "id;code;fare;sold_on;note\n", "repeat of the header further down", 1),
    (TEXT + "\n\n", "empty lines", 2),
    (TEXT + "7;x;1,00;01.06.2026;z\n", "row that repeats a value, where nearly all values are unique", 1),
    (TEXT + TEXT.splitlines()[3] + "\n", "row equal to another throughout", 1),
    (TEXT + "x;x;1,00;01.06.2026;z\n", "value other than a whole number", 1),
    (TEXT + "900;x;1.234,00;01.06.2026;z\n", "number with a thousands sign", 1),
    (TEXT + "900;x;1,00;31.06.2026;z\n", "value other than a date", 1),
    (TEXT + "900; x;1,00;01.06.2026;z\n", "white space at the ends of values", 1),
    (TEXT + "900;NULL;1,00;01.06.2026;z\n", "value that may mean null", 1),
    (column(["007", "12"] * 10), "leading zeros, which a number would lose", 10),
    (column([""] * 5), "it is blank throughout", 0),
    (column(["01/02/2026"] * 9), "dates that could be %d/%m/%Y as well as %m/%d/%Y", 0),
    (column(["2026-06-01", "01.06.2026"] * 9), "mixed forms of dates: %Y-%m-%d and %d.%m.%Y", 0),
    (TEXT.replace("id;code", "code;code"), "the header has it more than once", 0),
    (TEXT + "1;2;3;4;5\r\n", "mixed line ends at the start: 1 CRLF, 301 LF", 0),
]


@pytest.mark.parametrize(("data", "what", "count"), ODD, ids=[row[1] for row in ODD])
def test_what_is_odd_is_told(tmp_path: Path, data: str, what: str, count: int) -> None:
    found = {oddity.what: oddity for oddity in seen(tmp_path, data).oddities}

    assert what in found
    assert found[what].count == count


def test_two_columns_may_be_a_key_together(tmp_path: Path) -> None:
    rows = "".join(f"{n // 10},{n % 10},x\n" for n in range(100))

    assert seen(tmp_path, "a,b,c\n" + rows).keys == (("a", "b"),)


def test_many_distinct_values_are_estimated_closely(tmp_path: Path) -> None:
    found = seen(tmp_path, column([str(n % 30_000) for n in range(60_000)])).columns[1]

    assert not found.distinct_exact
    assert found.distinct == pytest.approx(30_000, rel=0.08)


def test_only_the_start_of_a_large_file_is_read_where_that_is_asked_for(tmp_path: Path) -> None:
    data = "a,b\n" + "".join(f"{n},{'x' * 50}\n" for n in range(200_000))

    found = seen(tmp_path, data, rows=1000)

    assert not found.whole
    assert 1000 <= found.rows < 200_000


def test_bytes_that_are_not_utf_8_far_down_are_no_obstacle(tmp_path: Path) -> None:
    data = b"a,b\n" + b"1,plain ascii\n" * 100_000 + "2,caf\xe9\n".encode("latin-1")

    found = seen(tmp_path, data)

    assert (found.encoding, found.rows) == ("cp1252", 100_001)


def test_the_command_shows_what_matters_on_a_narrow_and_on_a_wide_terminal(demo: Space) -> None:
    file = "inbox/tickets-2026-06-02.csv"

    ended = demo.run("peek", file)
    document = demo.run("peek", file, "--json").json

    assert ended.code == 0
    for told in ("semicolon", "cp1252", "decimal(6,2)", "1.250,00", "row equal to another"):
        assert told in ended.out
    assert document["format"] == "nomotheta/look/1"


def test_the_page_has_a_chart_a_column_and_nothing_from_outside(demo: Space) -> None:
    ended = demo.run("peek", "inbox/tickets-2026-06-02.csv", "--page", "look.html")
    page = (demo.root / "look.html").read_text()

    assert ended.code == 0
    assert page.count('<svg role="img"') == 8
    assert "all values have 9 characters" in page  # of ticket_no there is nothing to draw
    assert "value other than a date" in page
    assert not re.search(r'(?:src|href)="(?!data:|#)', page)


def test_how_values_are_spread_is_counted_exactly(tmp_path: Path) -> None:
    rows = [f"{n % 97};{n % 3};{'x' * (n % 2 + 1)}{n};2026-06-{n % 30 + 1:02d}" for n in range(40_000)]
    rows[7:7] = ["-5000;1;x;2026-06-01", "99999;2;x;2024-02-29"]

    number, few, many, day = (column.spread for column in seen(tmp_path, "a;b;c;d\n" + "\n".join(rows)).columns)

    assert number and few and many and day
    assert (few.sort, few.labels, few.counts) == ("values", ("0", "1", "2"), (13_334, 13_334, 13_334))
    assert (number.sort, sum(number.counts), number.counts[-1]) == ("ranges", 40_002, 1)
    assert number.counts[0] in {1, 40_001}
    assert (many.sort, sum(many.counts)) == ("lengths", 40_002)
    assert (day.sort, sum(day.counts), day.counts[0]) == ("ranges", 40_002, 1)
    assert day.labels[0] <= "2024-02-29" < day.labels[1]


@given(
    st.lists(
        st.lists(st.integers(-(10**10), 10**10).map(lambda n: n / 64), min_size=1, max_size=20), min_size=1, max_size=6
    )
)
def test_a_histogram_counts_every_value_where_it_belongs(blocks: list[list[float]]) -> None:
    ranges = Ranges()
    for block in blocks:
        ranges.add(np.array(block))

    edges, counts = ranges.filled()

    values = np.array([value for block in blocks for value in block])
    assert sum(counts) == len(values)
    assert edges[0] <= values.min()
    assert values.max() <= edges[-1]
    assert len(counts) <= 16
    at = np.searchsorted(edges, values, side="right") - 1
    assert np.bincount(at, minlength=len(counts)).tolist() == counts


@pytest.mark.parametrize("width", [60, 200])
def test_a_narrow_terminal_shows_what_fits_and_says_what_is_left(
    demo: Space, monkeypatch: pytest.MonkeyPatch, width: int
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))

    shown = demo.run("peek", "inbox/tickets-2026-06-02.csv").out

    assert ("examples" in shown) == (width == 200)
    assert ("more: " in shown) == (width == 60)
    assert max(map(len, shown.splitlines())) <= width


@pytest.mark.parametrize(
    ("data", "what"), [(b"", "the file is empty"), (b"\n\n", "only empty lines"), (None, "is not there")]
)
def test_a_file_that_cannot_be_looked_at_is_told(space: Space, data: bytes | None, what: str) -> None:
    if data is not None:
        space.write("x.csv", data)

    ended = space.run("peek", "x.csv")

    assert ended.code == 1
    assert what in ended.text


def test_a_typed_column_whose_values_no_kind_has_is_proposed_as_what_loads(space: Space) -> None:
    table = pa.table({
        "u": pa.array([2**64 - 1, 1], pa.uint64()), "ns": pa.array([1_780_275_723_456_789_001, 5], pa.timestamp("ns")),
        "s": pa.array([{"text": "a", "value": 1}, None]), "": pa.array(["x", "y"]), "@at": pa.array([1, 2]),
    })  # fmt: skip
    (space.root / "inbox").mkdir(exist_ok=True)
    pq.write_table(table, space.root / "inbox/z.parquet")
    space.run("propose", "inbox/z.parquet", "--table", "z", "--to", "charters/z.toml")

    ended = space.run("load", "z", "--create")

    assert ended.code == 0, ended.text
    assert space.sql("select u, ns, s from z order by u")[1] == (
        2**64 - 1, "2026-06-01 01:02:03.456789001", '{"text": "a", "value": 1}',
    )  # fmt: skip
