"""Files: cell by cell as they were written, every line accounted for, the fast and the slow way alike."""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import lzma
import random
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import without_kernel
from nomotheta import unpack
from nomotheta.errors import DeliveryError
from nomotheta.layout import Layout
from nomotheta.source.formats.delimited import DelimitedFile

if sys.version_info >= (3, 14):
    from compression import zstd
else:
    from backports import zstd

Found = tuple[list[list[str | None]], list[int], list[tuple[int, str, str]]]


def read(path: Path, data: bytes, layout: Layout, width: int, chunk: int = 1 << 20) -> Found:
    """Rows, the line of each, and the records that do not fit, with every line accounted for; with and without kernel."""
    path.write_bytes(data)
    found = read_once(path, layout, width, chunk)
    with without_kernel():
        assert read_once(path, layout, width, chunk) == found
    return found


def read_once(path: Path, layout: Layout, width: int, chunk: int) -> Found:
    before, unpack.CHUNK = unpack.CHUNK, chunk
    try:
        file = DelimitedFile(path, path.name, layout)
        rows, lines, odd = [], [], []
        for block in file.blocks():
            batch = file.read(block, width)
            file.lines.records += batch.lines - batch.empty - batch.comments
            file.lines.empty += batch.empty
            file.lines.comment += batch.comments
            rows += [list(row) for row in zip(*(column.to_pylist() for column in batch.columns), strict=True)]
            lines += batch.line_numbers(batch.records).tolist() if len(batch.records) else []
            for each in batch.odd:
                line = int(batch.line_numbers(np.array([each.record]))[0])
                odd.append((line, each.reason, batch.original(each.record)))
        lines_told = file.lines
        told = lines_told.header + lines_told.comment + lines_told.empty + lines_told.footer + lines_told.records
        assert lines_told.read == told, lines_told
    finally:
        unpack.CHUNK = before
    return rows, lines, odd


@pytest.fixture(scope="module")
def path(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("files") / "file.csv"


CELL = st.text('ab"; \né1', max_size=5)


@settings(deadline=None)
@given(
    st.integers(2, 4).flatmap(
        lambda width: st.lists(st.lists(CELL, min_size=width, max_size=width), min_size=1, max_size=8)
    ),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]),
    st.sampled_from(["\n", "\r\n"]),
    st.integers(1, 40),
    st.booleans(),
)
def test_what_pythons_csv_module_writes_comes_back(
    path: Path, rows: list[list[str]], quoting: int, end: str, chunk: int, cut: bool
) -> None:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=";", lineterminator=end, quoting=quoting)  # type: ignore[arg-type]
    writer.writerow([f"column {at}" for at in range(len(rows[0]))])
    writer.writerows(rows)
    text = out.getvalue()
    data = (text[: -len(end)] if cut else text).encode()

    found, lines, odd = read(path, data, Layout(delimiter=";", null_words=[]), len(rows[0]), chunk)

    assert (found, odd) == (rows, [])
    starts = [1 + sum(cell.count("\n") for row in rows[:at] for cell in row) + at + 1 for at in range(len(rows))]
    assert lines == starts


@given(
    st.lists(st.lists(st.text("ab\"';,\t|\\ é1", max_size=5), min_size=2, max_size=3), min_size=1, max_size=6),
    st.sampled_from([";", ",", "\t", "|"]),
    st.sampled_from(['"', "'"]),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL, csv.QUOTE_NONNUMERIC, csv.QUOTE_NONE]),
    st.sampled_from(["\n", "\r\n", "\r"]),
    st.integers(1, 40),
)
def test_escaped_dialects_come_back_too(
    path: Path, rows: list[list[str]], delimiter: str, quote: str, quoting: int, end: str, chunk: int
) -> None:
    rows = [[*row, "x"][:3] if len(row) == 2 else row for row in rows]
    out = io.StringIO()
    writer = csv.writer(
        out, delimiter=delimiter, quotechar=quote, escapechar="\\", doublequote=False, lineterminator=end, quoting=quoting,  # type: ignore[arg-type]
    )  # fmt: skip
    writer.writerows([["a", "b", "c"], *rows])
    layout = Layout(
        delimiter=delimiter, quote="" if quoting == csv.QUOTE_NONE else quote, escape="\\", null_words=[],
    )  # fmt: skip

    found, _, odd = read(path, out.getvalue().encode(), layout, 3, chunk)

    assert (found, odd) == (rows, [])


@settings(deadline=None, max_examples=300)
@given(
    st.lists(st.sampled_from(["x", '"', ";", "\n", "\r\n", '""', '"q"']), max_size=60).map("".join), st.integers(1, 30)
)
def test_mutilated_files_read_alike_however_they_are_cut_into_blocks(path: Path, text: str, chunk: int) -> None:
    layout = Layout(delimiter=";", null_words=[], record_bytes=64, record_lines=3)
    data = ("a;b;c\n" + text).encode()

    assert read(path, data, layout, 3) == read(path, data, layout, 3, chunk)


@settings(deadline=None, max_examples=200)
@given(st.binary(max_size=80), st.sampled_from(["latin-1", "utf-16", "utf-8"]))
def test_any_bytes_end_in_rows_or_in_one_clear_message(path: Path, data: bytes, encoding: str) -> None:
    try:
        read(path, b"a;b\n" + data, Layout(delimiter=";", encoding=encoding), 2)
    except DeliveryError as error:
        assert error.what


CORPUS = [
    ("a quote inside an unquoted value is itself", '1;5" pipe\n', [["1", '5" pipe']], []),
    ("a quoted delimiter, quote and line end", '1;"a;""b""\nc"\n', [["1", 'a;"b"\nc']], []),
    ("text after a closing quote", '"x"y;2\n1;2\n', [["1", "2"]], [(2, "stray_quote", '"x"y;2')]),
    ("a quote that never closes", '1;2\n"open;2\n3;4\n', [["1", "2"], ["3", "4"]], [(3, "stray_quote", '"open;2')]),
    ("too few and too many fields", "1\n1;2;3\n1;2\n", [["1", "2"]], [(2, "too_few_fields", "1"), (3, "too_many_fields", "1;2;3")]),
    ("empty lines are no records", "\n1;2\n\n\n3;4\n\n", [["1", "2"], ["3", "4"]], []),
    ("lone carriage returns end lines", "1;2\r3;4\r", [["1", "2"], ["3", "4"]], []),
    ("mixed line ends", "1;2\r\n3;4\n5;6\r7;8", [["1", "2"], ["3", "4"], ["5", "6"], ["7", "8"]], []),
    ("nulls are unquoted, empty texts quoted", ';"";n/a;"n/a"\n'.replace(";n/a", "\nn/a", 1), [[None, ""], [None, "n/a"]], []),
    ("a file of quotes alone", '"\n"\n', [], [(2, "too_few_fields", '"\n"')]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "rows", "odd"), [row[1:] for row in CORPUS], ids=[row[0] for row in CORPUS])
@pytest.mark.parametrize("chunk", [1 << 20, 3])
def test_awkward_files(path: Path, text: str, rows: list, odd: list, chunk: int) -> None:
    layout = Layout(delimiter=";", null_words=["", "n/a"])

    found, _, strange = read(path, b"a;b\n" + text.encode(), layout, 2, chunk)

    assert (found, strange) == (rows, odd)


LAYOUTS = [
    ("a delimiter of several characters", {"delimiter": "||"}, 'a||b\n1||2|3\n"x||y"||"q""q"\n||\n', [["1", "2|3"], ["x||y", 'q"q'], [None, None]]),
    ("a delimiter that is not ASCII", {"delimiter": "¦"}, "a¦b\n1¦2\n\x1f¦3\n", [["1", "2"], ["\x1f", "3"]]),
    ("no byte left to stand in", {"delimiter": "¦"}, "a¦b\n\x1f\x1e\x1d\x1c\x02\x01¦\n", [["\x1f\x1e\x1d\x1c\x02\x01", None]]),
    ("no quote at all", {"quote": ""}, 'a,b\n"1,2"\n', [['"1', '2"']]),
    ("another quote", {"quote": "'"}, "a,b\n'1,2','it''s'\n", [["1,2", "it's"]]),
    ("an escape", {"escape": "\\"}, 'a,b\n1\\,2,"x\\"y\\\\"\nplain,\\n\n', [["1,2", 'x"y\\'], ["plain", "n"]]),
    ("header of three lines", {"header": 3}, "Skerry Line,,\nbookings\na,b\n1,2\n", [["1", "2"]]),
    ("no header", {"header": 0}, "1,2\n3,4\n", [["1", "2"], ["3", "4"]]),
    ("a footer", {"footer": 2}, "a,b\n1,2\n3,4\ntotal,2\nend\n", [["1", "2"], ["3", "4"]]),
    ("a footer without a line end", {"footer": 1}, "a,b\n1,2\ntotal,1", [["1", "2"]]),
    ("a footer and nothing else", {"footer": 2}, "a,b\ntotal,0\n", []),
    ("comments", {"comment": "#"}, '# made up\na,b\n# more\n1,"#2"\n\n#end\n3,4#\n', [["1", "#2"], ["3", "4#"]]),
    ("comments of several characters", {"comment": "//"}, "a,b\n/1,2\n//,\n", [["/1", "2"]]),
]  # fmt: skip


@pytest.mark.parametrize(("layout", "text", "rows"), [row[1:] for row in LAYOUTS], ids=[row[0] for row in LAYOUTS])
@pytest.mark.parametrize("chunk", [1 << 20, 1, 5])
@pytest.mark.parametrize("end", ["\n", "\r\n"])
def test_layouts_of_all_sorts(path: Path, layout: dict, text: str, rows: list, chunk: int, end: str) -> None:
    found, _, odd = read(path, text.replace("\n", end).encode(), Layout(**layout), 2, chunk)

    assert (found, odd) == (rows, [])


@settings(deadline=None)
@given(
    st.lists(st.lists(st.text('ab\\";,é ', max_size=5), min_size=2, max_size=2), min_size=1, max_size=8),
    st.sampled_from([csv.QUOTE_NONE, csv.QUOTE_ALL]),
    st.integers(1, 40),
)
def test_what_pythons_csv_module_escapes_comes_back(
    path: Path, rows: list[list[str]], quoting: int, chunk: int
) -> None:
    out = io.StringIO()
    writer = csv.writer(out, escapechar="\\", doublequote=False, quoting=quoting, lineterminator="\n")  # type: ignore[arg-type]
    writer.writerows([["one", "two"], *rows])  # no row is the header again

    found, _, odd = read(path, out.getvalue().encode(), Layout(escape="\\", null_words=[]), 2, chunk)

    assert (found, odd) == (rows, [])


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "cp1252", "latin-1"])
@pytest.mark.parametrize("chunk", [1 << 20, 1])
def test_encodings_and_byte_order_marks(path: Path, encoding: str, chunk: int) -> None:
    rows, _, odd = read(path, "a;b\nå;ö\n£;1\n".encode(encoding), Layout(delimiter=";", encoding=encoding), 2, chunk)

    assert rows == [["å", "ö"], ["£", "1"]]
    assert odd == []


def test_one_stray_quote_costs_no_more_than_its_own_record(path: Path) -> None:
    chance = random.Random(3)
    lines = [f'{n};"text {chance.randint(0, 99)}"' for n in range(20_000)]
    lines[5_000] = '5000;"never closed'
    layout = Layout(delimiter=";", record_bytes=4096)

    rows, _, odd = read(path, ("a;b\n" + "\n".join(lines) + "\n").encode(), layout, 2, 1 << 16)

    assert len(rows) == 19_999
    assert odd == [(5_002, "stray_quote", '5000;"never closed')]


def zipped(data: bytes, *names: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.mkdir("folder")
        for name in names or ("folder/a.csv",):
            archive.writestr(name, data)
    return out.getvalue()


PACKED = {
    "gzip": gzip.compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "zstd": lambda data: zstd.compress(data, options={zstd.CompressionParameter.checksum_flag: 1}),
    "zip": zipped,
}


@pytest.mark.parametrize("packing", PACKED)
def test_packed_files_are_known_by_their_content_and_damage_is_told(path: Path, packing: str) -> None:
    text = b"a;b\n" + b"".join(b"%d;%d\n" % (n * 7919 % 10007, n) for n in range(5000))
    packed = PACKED[packing](text)

    assert len(read(path, packed, Layout(delimiter=";"), 2, 1 << 12)[0]) == 5000
    for broken in (packed[: len(packed) // 2], packed[:40] + bytes(200) + packed[240:]):
        with pytest.raises(DeliveryError, match=f"the {packing} data (ends in the middle|is damaged)"):
            read(path, broken, Layout(delimiter=";"), 2, 1 << 12)


@pytest.mark.parametrize("packing", ["gzip", "bzip2", "xz", "zstd"])
def test_packed_files_of_several_members_are_one(path: Path, packing: str) -> None:
    packed = PACKED[packing](b"a;b\n1;2\n") + PACKED[packing](b"3;4\n")

    assert read(path, packed, Layout(delimiter=";"), 2)[0] == [["1", "2"], ["3", "4"]]


def test_a_zip_of_several_files_is_refused_with_their_names(path: Path) -> None:
    with pytest.raises(DeliveryError, match=r"holds 2 files \(a.csv, b.csv\), where one is expected"):
        read(path, zipped(b"a;b\n", "a.csv", "b.csv"), Layout(delimiter=";"), 2)


def test_a_line_without_end_is_refused_not_swallowed(path: Path) -> None:
    with pytest.raises(DeliveryError, match="a line is longer than the largest record"):
        read(path, b"a;b\n" + b"x" * 500, Layout(delimiter=";", record_bytes=64), 2, 16)


def test_values_are_trimmed_only_where_declared_and_may_become_null(path: Path) -> None:
    data = b"a;b\n x ;  \n"

    assert read(path, data, Layout(delimiter=";"), 2)[0] == [[" x ", "  "]]
    assert read(path, data, Layout(delimiter=";", trim=True), 2)[0] == [["x", None]]
