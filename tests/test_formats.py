"""Formats: the same fares, however they come, end in the same table, with rejects that name the line."""

from __future__ import annotations

import datetime
import json
import zipfile
from decimal import Decimal
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.ipc
import pyarrow.parquet as pq
import pytest

from conftest import DAY, Space

CHARTER = """
table = "fares"
[delivery]
files = "inbox/fares-{day}.*"
[delivery.layout]
LAYOUT
[load]
tolerate = "all"
[columns.code]
kind = "text(4)"
blank = "never"
[columns.fare]
kind = "decimal(6,2)"
[columns.seats]
kind = "integer"
[columns.valid_on]
kind = "date"
[columns.line]
from = "@file.line"
"""
ROWS = [("K001", "12.50", 40, "2026-06-01"), ("K002", "7.00", None, "2026-06-02"), ("Köln", None, 3, None)]
LOADED = [("K001", Decimal("12.50"), 40, datetime.date(2026, 6, 1)), ("K002", Decimal(7), None, datetime.date(2026, 6, 2)),
          ("Köln", None, 3, None)]  # fmt: skip


def records() -> list[dict[str, Any]]:
    return [dict(zip(("code", "fare", "seats", "valid_on"), row, strict=True)) for row in ROWS]


def table() -> pa.Table:
    columns: dict[str, Any] = {name: [row[name] for row in records()] for name in records()[0]}
    columns["fare"] = pa.array(
        [None if fare is None else Decimal(fare) for fare in columns["fare"]], pa.decimal128(9, 2)
    )
    columns["valid_on"] = pa.array(
        [None if day is None else datetime.date.fromisoformat(day) for day in columns["valid_on"]]
    )
    return pa.table(columns)


def as_json(path: Path) -> None:
    path.write_text("\n".join(json.dumps(row, ensure_ascii=False) for row in records()) + "\n\n")


def as_fixed(path: Path) -> None:
    lines = [
        f"{code:<4}{fare or '':>8}{'' if seats is None else seats:>4}{day or '':<10}" for code, fare, seats, day in ROWS
    ]
    path.write_text("a title that is no data\n" + "\n".join(lines))


def as_parquet(path: Path) -> None:
    pq.write_table(table(), path)


def as_arrow(path: Path) -> None:
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table().schema) as writer:
        writer.write_table(table())


def as_arrow_stream(path: Path) -> None:
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_stream(sink, table().schema) as writer:
        writer.write_table(table(), max_chunksize=2)


def as_sheet(path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.title = "cover"
    sheet = book.create_sheet("fares")
    sheet.append(["", "fares of the summer"])
    sheet.append([])
    sheet.append(["", *records()[0]])
    sheet.append(["", "K001", "12.50", 40, datetime.date(2026, 6, 1)])  # a number stored as text
    sheet.append(["", "K002", 7, None, 46175])  # a day stored as a number
    sheet.append(["", "Köln", None, 3, None])
    book.save(path)


def as_open_document(path: Path) -> None:
    cells = [["code", "fare", "seats", "valid_on"], *map(list, ROWS)]

    def cell(value: Any) -> str:
        if value is None:
            return "<table:table-cell/>"
        if isinstance(value, int):
            return f'<table:table-cell office:value-type="float" office:value="{value}"/>'
        if len(value) == 10:
            return f'<table:table-cell office:value-type="date" office:date-value="{value}"/>'
        return f'<table:table-cell office:value-type="string"><text:p>{value}</text:p></table:table-cell>'

    rows = "".join(f"<table:table-row>{''.join(map(cell, row))}</table:table-row>" for row in cells)
    spaces = "".join(
        f' xmlns:{each}="urn:oasis:names:tc:opendocument:xmlns:{each}:1.0"' for each in ("office", "table", "text")
    )
    body = f'<office:body><office:spreadsheet><table:table table:name="fares">{rows}</table:table></office:spreadsheet></office:body>'
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", "<manifest/>")
        archive.writestr("content.xml", f"<office:document-content{spaces}>{body}</office:document-content>")


FIXED = 'format = "fixed"\nheader = 1'
AT = {"code": "[1, 4]", "fare": "[5, 12]", "seats": "[13, 16]", "valid_on": "[17, 26]"}
FORMATS = [
    ("json-lines", 'format = "json-lines"', as_json, [1, 2, 3]),
    ("fixed", FIXED, as_fixed, [2, 3, 4]),
    ("parquet", 'format = "parquet"', as_parquet, [1, 2, 3]),
    ("arrow", 'format = "arrow"', as_arrow, [1, 2, 3]),
    ("arrow stream", 'format = "arrow"', as_arrow_stream, [1, 2, 3]),
    ("sheet", 'format = "sheet"\nsheet = "fares"\nrange = "B3:E"', as_sheet, [4, 5, 6]),
    ("open document", 'format = "sheet"', as_open_document, [2, 3, 4]),
]


def charter(layout: str) -> str:
    text = CHARTER.replace("LAYOUT", layout)
    if "fixed" in layout:
        for column, at in AT.items():
            text = text.replace(f"[columns.{column}]\n", f"[columns.{column}]\nat = {at}\n")
    return text


@pytest.mark.parametrize(("layout", "write", "lines"), [row[1:] for row in FORMATS], ids=[row[0] for row in FORMATS])
def test_the_same_rows_in_any_format_are_the_same_table(
    space: Space, layout: str, write: Any, lines: list[int]
) -> None:
    space.charter(charter(layout), "fares")
    write(space.root / f"inbox/fares-{DAY}.x")

    load = space.load(table="fares")

    assert (load["state"], load["rejects"]) == ("loaded", []), load
    assert space.sql("select code, fare, seats, valid_on from fares order by code") == LOADED
    assert [line for (line,) in space.sql("select line from fares order by code")] == lines
    assert space.run("reconcile", "fares").code == 0


@pytest.mark.parametrize(
    ("name", "write"),
    [("json-lines", as_json), ("parquet", as_parquet), ("arrow", as_arrow), ("sheet", as_open_document)],
)
def test_a_file_of_any_format_is_looked_at_and_loads_under_its_own_proposal(
    space: Space, name: str, write: Any
) -> None:
    write(space.root / f"inbox/fares-{DAY}.x")

    found = space.run("peek", f"inbox/fares-{DAY}.x", "--json").json
    space.run("propose", f"inbox/fares-{DAY}.x", "--table", "fares", "--to", "charters/fares.toml")
    load = space.load(table="fares")

    assert (found["file_format"], found["rows"]) == (name, 3)
    kinds = [column["kind"].partition("(")[0] for column in found["columns"]]
    assert kinds == ["text", "decimal", "integer", "date"]
    assert (load["state"], load["balance"]["loaded"]) == ("loaded", 3)
    rows = space.sql("select code, fare, seats, valid_on from fares order by code")
    assert rows == LOADED


def test_a_sheet_says_what_was_stored_as_something_else(space: Space) -> None:
    space.charter(charter(FORMATS[-2][1]), "fares")
    as_sheet(space.root / f"inbox/fares-{DAY}.x")

    notes = space.load(table="fares")["notes"]

    assert [note.split(": ", 1)[1] for note in notes] == [
        "fare: 1 numbers stored as text", "valid_on: 1 dates stored as numbers",
    ]  # fmt: skip


FAULTS = [
    ("json-lines", 'format = "json-lines"', '{"code": "K1", "fare": 1.5, "seats": 1, "valid_on": null}\n%s\n', [
        ('{"code": "K2", "fare": 1.555, "seats": 1, "valid_on": null}', "range", "1.555"),
        ('{"code": "K2", "fare": 123456789012345678.25, "seats": 1, "valid_on": null}', "range", "123456789012345678.25"),
        ('{"code": "K2", "fare": 1, "seats": 1e40, "valid_on": null}', "range", "1" + 40 * "0"),
        ('{"code": "K2", "fare": 1, "seats": 9223372036854775808, "valid_on": null}', "range", "9223372036854775808"),
        ('{"code": "K2", "fare": 1, "seats": 1.5, "valid_on": null}', "kind", "1.5"),
        ('{"code": "K2", "fare": [1], "seats": 1, "valid_on": null}', "kind", "[1]"),
        ('{"code": null, "fare": 1, "seats": 1}', "blank", None),
        ('{"code": "K2", "fare": 1, "seets": 1}', "unknown_member", None),
        ('{"code": "K2", "code": "K3", "fare": 1, "seats": 1, "valid_on": null}', "member_twice", None),
        ('{"code": "K2", ', "no_object", None),
        ('["K2"]', "no_object", None),
    ]),
    ("fixed", FIXED, "title\nK001   12.50  402026-06-01\n%s\n", [
        ("K002    7.00", "too_few_fields", None),
        ("K002    7,00  402026-06-01", "kind", "7,00"),
        ("        7.00  402026-06-01", "blank", None),
        ("K002    7.00  402026-02-30", "kind", "2026-02-30"),
    ]),
]  # fmt: skip
FAULTY = [(name, layout, text, *fault) for name, layout, text, faults in FAULTS for fault in faults]


@pytest.mark.parametrize(
    ("layout", "text", "line", "reason", "value"),
    [row[1:] for row in FAULTY],
    ids=[f"{row[0]} {row[3]}" for row in FAULTY],
)
def test_what_does_not_fit_is_set_aside_with_its_line(
    space: Space, layout: str, text: str, line: str, reason: str, value: str | None
) -> None:
    space.charter(charter(layout), "fares")
    space.write(f"inbox/fares-{DAY}.x", text % line)

    load = space.load(table="fares")

    (reject,) = space.rejects()
    assert (reject["reason"], reject["value"], reject["original"]) == (reason, value, line), reject
    assert reject["line"] == text.count("\n")
    assert [load["balance"][key] for key in ("records", "loaded", "rejected")] == [2, 1, 1]


def test_typed_values_that_do_not_fit_are_rejects_too(space: Space) -> None:
    space.charter(charter('format = "parquet"'), "fares")
    faulty = (
        table().set_column(1, "fare", pa.array([1.5, 12345.0, 0.125])).set_column(2, "seats", pa.array([1.0, 2.0, 2.5]))
    )
    pq.write_table(faulty, space.root / f"inbox/fares-{DAY}.x")

    space.load(table="fares")

    found = [(reject["line"], reject["column"], reject["reason"], reject["value"]) for reject in space.rejects()]
    assert found == [(2, "fare", "range", "12345"), (3, "fare", "range", "0.125"), (3, "seats", "kind", "2.5")]
    assert json.loads(space.rejects()[0]["original"])["code"] == "K002"


WRONG = [
    ('format = "parquet"', "code,fare,seats,valid_on\n", "this cannot be read as parquet"),
    ('format = "arrow"', "code,fare,seats,valid_on\n", "this cannot be read as arrow"),
    ('format = "sheet"', "code,fare,seats,valid_on\n", "this cannot be read as sheet"),
    ('format = "json-lines"', "code,fare,seats,valid_on\n", "missing: 'code'"),
    ("", b"PAR1\x15\x04\x15\x00\x15", 'format = "parquet"'),
]


@pytest.mark.parametrize(("layout", "content", "told"), WRONG)
def test_a_file_of_another_format_is_refused_in_one_sentence(
    space: Space, layout: str, content: Any, told: str
) -> None:
    space.charter(charter(layout), "fares")
    space.write(f"inbox/fares-{DAY}.x", content)

    load = space.load(table="fares")

    assert (load["state"], load["exit"]) == ("refused", 1)
    assert told in load["message"] + load["mend"]
