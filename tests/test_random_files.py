"""Random files of every format, cell by cell against a reader of the ecosystem; random bytes end in rows or one message."""

from __future__ import annotations

import csv
import datetime
import io
import json
import random
from decimal import Decimal
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from conftest import without_kernel
from nomotheta import unpack
from nomotheta.errors import DeliveryError, NomothetaError
from nomotheta.kinds.native import as_texts
from nomotheta.layout import Layout
from nomotheta.peek import look
from nomotheta.source.formats import open_file


def cells_of(path: Path, layout: Layout, width: int, chunk: int = 1 << 20) -> tuple[list[list[str | None]], int]:
    """The canonical texts of a file's cells, and how many records have no place in its columns."""
    before, unpack.CHUNK = unpack.CHUNK, chunk
    try:
        source = open_file(path, path.name, layout)
        source.read_header()
        rows: list[list[str | None]] = []
        odd = 0
        for block in source.blocks():
            batch = source.read(block, width)
            rows += map(list, zip(*(as_texts(column).to_pylist() for column in batch.columns), strict=True))
            odd += len(batch.odd)
        return rows, odd
    finally:
        unpack.CHUNK = before


def both_ways(path: Path, layout: Layout, width: int, chunk: int = 1 << 20) -> tuple[list[list[str | None]], int]:
    found = cells_of(path, layout, width, chunk)
    with without_kernel():
        assert cells_of(path, layout, width, chunk) == found
    return found


@pytest.mark.parametrize("seed", range(60))
def test_delimited_text_is_read_as_pythons_csv_module_reads_it(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    width, end = chance.randint(2, 5), chance.choice(["\n", "\r\n", "\r"])
    letters = "ab;\"'é 1" + chance.choice(["", "\r", "\n\r"])
    rows = [
        ["".join(chance.choices(letters, k=chance.randint(0, 6))) for _ in range(width)]
        for _ in range(chance.randint(1, 40))
    ]
    out = io.StringIO()
    writer = csv.writer(
        out, delimiter=";", lineterminator=end, quoting=csv.QUOTE_ALL if "\r" in letters else csv.QUOTE_MINIMAL
    )
    writer.writerows([[f"n{at}" for at in range(width)], *rows])
    (tmp_path / "x").write_bytes(out.getvalue().encode())

    found, odd = both_ways(tmp_path / "x", Layout(delimiter=";", null_words=[]), width, chance.choice([3, 17, 1 << 20]))

    assert (found, odd) == (rows, 0)


STRAY = [
    ('a;b\r1;5" pipe\r2;x\r3;y\r', {}, [["1", '5" pipe'], ["2", "x"], ["3", "y"]]),
    ('a;b\r# 5" pipe\r1;x\r2;"p\rq"\r', {"comment": "#"}, [["1", "x"], ["2", "p\rq"]]),
    ('a;b\r"a\rb";1\rc;2', {}, [["a\rb", "1"], ["c", "2"]]),
    ('"t\ra;b\r1;2\r', {"header": 2}, [["1", "2"]]),
    ('a;b\r1;2\r\n3;"x\ry"\n4;z"z\r5;6\r', {}, [["1", "2"], ["3", "x\ry"], ["4", 'z"z'], ["5", "6"]]),
]  # fmt: skip


@pytest.mark.parametrize("chunk", [1, 5, 1 << 20])
@pytest.mark.parametrize(("text", "layout", "rows"), STRAY)
def test_a_quote_astray_leaves_lone_carriage_returns_what_they_are(
    tmp_path: Path, text: str, layout: dict[str, Any], rows: list[list[str]], chunk: int
) -> None:
    (tmp_path / "x").write_bytes(text.encode())

    assert both_ways(tmp_path / "x", Layout(delimiter=";", **layout), 2, chunk) == (rows, 0)


def exact(value: Any) -> str | None:
    """A JSON value as its canonical text."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return str(value).lower()
    return format(value, "f") if isinstance(value, Decimal) else json.dumps(value, default=str)


NUMBERS = [
    "0", "-0", "1.50", "1.1000000000000000055", "12345678901234567890123456789", "1e3", "-2.5E-2",
    "9007199254740993", "1E400",
]  # fmt: skip


@pytest.mark.parametrize("seed", range(40))
def test_json_lines_are_read_as_pythons_json_module_reads_them(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    names = ["a", "né", 'q"', "e\\scaped"][: chance.randint(1, 4)]

    def value() -> str:
        return chance.choice([
            chance.choice(NUMBERS), json.dumps("".join(chance.choices('ab"\\/é\n\u2028😀 ', k=chance.randint(0, 5))), ensure_ascii=chance.random() < 0.5),
            "null", "true", "false", '""', '[1, {"x": [2.50, "]"]}]', "{}", '"\\ud83d\\ude00"', '"\\u0000"',
        ])  # fmt: skip

    lines, expected, odd = [], [], 0
    for _ in range(chance.randint(1, 30)):
        chosen = chance.sample(names, chance.randint(0, len(names)))
        pad = chance.choice(["", " ", "\t"])
        parts = [f"{json.dumps(name, ensure_ascii=chance.random() < 0.5)}{pad}:{pad}{value()}" for name in chosen]
        fault = chance.random()
        line = pad + "{" + f"{pad},{pad}".join(parts) + "}" + pad
        if fault < 0.3:
            line = chance.choice([
                line + "x", "[1]", '{"a": NaN}', '{"a": 01}', '{"a": 1,}', '{"a": 1, "a": 2}', '{"a": "\\ud800"}', '{"a": "\t"}', '{"a": .5}', "{",
                '{"a": 1 "b": 2}', '{"\\u0061": 1, "a": 1}', "{'a': 1}", '{"a": Infinity}', '{"a": tru}', '{"a": "\\x"}', '"text"', '{"a": [1,]}', '{"a": 1}}',
            ])  # fmt: skip
            odd += 1
        else:
            read = json.loads(line, parse_float=Decimal, parse_int=Decimal)
            raw = json.loads(line, parse_float=str, parse_int=str)
            expected.append(
                [
                    None if name not in read else raw[name] if isinstance(read[name], Decimal) else exact(read[name])
                    for name in names
                ]
            )
        lines.append(line)
    lines.append("{" + ", ".join(f"{json.dumps(name)}: 0" for name in names) + "}")
    expected.append(["0"] * len(names))
    (tmp_path / "x").write_text("\n".join(lines))
    known = [name for name in names if sum(json.dumps(name)[1:-1] in line or name in line for line in lines)]
    source = open_file(tmp_path / "x", "x", Layout(format="json-lines"))
    source.header = known

    def read_all() -> tuple[list[list[str | None]], int]:
        rows, strange = [], 0
        for block in source.blocks():
            batch = source.read(block, len(known))
            rows += map(list, zip(*(as_texts(column).to_pylist() for column in batch.columns), strict=True))
            strange += len(batch.odd)
        return rows, strange

    found = read_all()
    with without_kernel():
        assert read_all() == found
    plain = [[None if cell is None else cell.replace(" ", "") for cell in row] for row in found[0]]
    for ours, theirs in zip(plain, expected, strict=True):
        for mine, his in zip(ours, theirs, strict=True):
            same = mine == (his.replace(" ", "") if his else his)
            number = his is not None and his in NUMBERS and mine is not None and Decimal(mine) == Decimal(his)
            assert same or number or (his or "").startswith("["), (mine, his)
    assert found[1] == odd


@pytest.mark.parametrize("seed", range(12))
def test_sheets_are_read_as_openpyxl_reads_them(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    book = openpyxl.Workbook()
    sheet = book.active
    if seed % 3 == 2:
        book.epoch = openpyxl.utils.datetime.CALENDAR_MAC_1904
    sheet.append(["a", "b", "c"])
    expected: list[list[str | None]] = []
    odd = 0
    for row in range(2, 40):
        values = [
            chance.choice(
                [
                    None,
                    "x",
                    "ä ö",
                    7,
                    -2.5,
                    1e15,
                    True,
                    datetime.date(2026, 6, 1),
                    datetime.time(10, 30),
                    0.1,
                    "=1/0",
                    "#N/A",
                    60,
                ]
            )
            for _ in range(3)
        ]
        for at, value in enumerate(values):
            cell = sheet.cell(row, at + 1, value)
            if value == "#N/A":
                cell.data_type = "e"
        beyond = chance.random() < 0.1
        if beyond:
            sheet.cell(row, 5, "further right")
        if beyond or any(value in {"#N/A", "=1/0"} for value in values if isinstance(value, str)):
            odd += 1
        elif any(value is not None for value in values):
            expected.append(
                [
                    exact(
                        Decimal(str(value))
                        if isinstance(value, float)
                        else str(value)
                        if isinstance(value, datetime.date | datetime.time)
                        else value
                    )
                    for value in values
                ]
            )
    book.save(tmp_path / "x.xlsx")

    found, strange = cells_of(tmp_path / "x.xlsx", Layout(format="sheet"), 3)

    assert strange == odd
    plain = [
        [None if each is None else each.removesuffix(".0").replace("1000000000000000", "1E+15") for each in row]
        for row in expected
    ]
    assert [
        [None if each is None else each.replace("1000000000000000", "1E+15") for each in row] for row in found
    ] == plain


@pytest.mark.parametrize("seed", range(10))
@pytest.mark.parametrize("form", ["parquet", "arrow"])
def test_table_files_are_read_as_pyarrow_reads_them(tmp_path: Path, form: str, seed: int) -> None:
    chance = random.Random(seed)
    count = chance.randint(1, 50)
    columns: dict[str, Any] = {
        "i": pa.array([chance.choice([None, chance.randint(-(2**63), 2**63 - 1)]) for _ in range(count)], pa.int64()),
        "d": pa.array([chance.choice([None, Decimal(chance.randint(-(10**9), 10**9)).scaleb(-3)]) for _ in range(count)], pa.decimal128(20, 3)),
        "t": pa.array([chance.choice([None, "", "é", "a\nb"]) for _ in range(count)]).dictionary_encode(),
        "day": pa.array([datetime.date(2026, 1, 1) + datetime.timedelta(chance.randint(-9999, 9999)) for _ in range(count)]),
        "v": pa.array([chance.choice([None, "view", ""]) for _ in range(count)], pa.string_view() if form == "arrow" else pa.string()),
    }  # fmt: skip
    table = pa.table(columns)
    if form == "parquet":
        pq.write_table(table, tmp_path / "x", row_group_size=chance.randint(1, 60), write_page_checksum=True)
    else:
        with pa.ipc.new_stream(tmp_path / "x", table.schema) as file:
            file.write_table(table, max_chunksize=chance.randint(1, 60))

    found, _ = cells_of(tmp_path / "x", Layout(format=form), table.num_columns)

    assert found == [[None if cell is None else str(cell) for cell in row.values()] for row in table.to_pylist()]


@pytest.mark.parametrize("form", ["delimited", "fixed", "json-lines", "parquet", "arrow", "sheet"])
def test_any_bytes_end_in_rows_or_in_one_message(tmp_path: Path, form: str) -> None:
    chance = random.Random(form)
    seeds = [
        b"", b"a,b\n1,2\n", b'{"a": 1}\n', b"PAR1" + bytes(20) + b"PAR1", b"ARROW1", b"\xff\xff\xff\xff\x10\0\0\0",
        b"PK\x03\x04", b"\xd0\xcf\x11\xe0\xa1\xb1",
    ]  # fmt: skip
    table = pa.table({"a": [1, 2, 3], "b": ["x", "y", None]})
    pq.write_table(table, tmp_path / "p")
    book = openpyxl.Workbook()
    book.active.append(["a", 1])
    book.save(tmp_path / "s.xlsx")
    seeds += [(tmp_path / "p").read_bytes(), (tmp_path / "s.xlsx").read_bytes()]
    for _ in range(60):
        data = bytearray(chance.choice(seeds))
        for _ in range(chance.randint(0, 6)):
            at = chance.randint(0, len(data))
            data[at : at + chance.randint(0, 3)] = chance.randbytes(chance.randint(0, 5))
        (tmp_path / "x").write_bytes(data)
        for what in (lambda: cells_of(tmp_path / "x", Layout(format=form), 2), lambda: look(tmp_path / "x")):
            try:
                what()
            except NomothetaError as error:
                assert isinstance(error, DeliveryError) or form == "fixed"
                assert error.what
