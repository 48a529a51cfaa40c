"""Formats: the same fares, however they come, end in the same table, with rejects that name the line."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import zipfile
from decimal import Decimal
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.ipc
import pyarrow.parquet as pq
import pytest

from conftest import DAY, TICKETS, Space, without_kernel
from nomotheta import unpack
from nomotheta.load.rejects import read_rejects

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


def test_fixed_width_text_has_no_header_unless_one_is_declared(space: Space) -> None:
    space.charter(charter('format = "fixed"'), "fares")
    space.write(f"inbox/fares-{DAY}.x", "K001   12.50  402026-06-01\n")

    assert space.load(table="fares")["balance"]["records"] == 1


@pytest.mark.parametrize(
    ("at", "code", "told"),
    [
        ("at = 9", 1, "declared to be field 9, but the header has 3"),
        ("at = 2", 2, "are both taken from the same place, at = 2"),
    ],
)
def test_a_place_that_is_not_there_or_taken_is_told(space: Space, at: str, code: int, told: str) -> None:
    space.charter(
        TICKETS.replace('kind = "date"', f'kind = "date"\n{at}').replace(
            'kind = "decimal(6,2)"', 'kind = "decimal(6,2)"\nat = 2'
        )
    )
    space.tickets("ticket_no;fare;sold_on\nT001;1,00;01.06.2026\n")

    ended = space.run("load", "tickets", "--day", DAY, "--create")

    assert (ended.code, told in ended.text) == (code, True), ended.text


def test_a_member_that_comes_late_is_read_and_one_that_never_comes_is_missed(space: Space) -> None:
    space.charter(charter('format = "json-lines"'), "fares")
    line = '{"code": "K%03d", "fare": 1.50, "valid_on": null}\n'
    space.write(f"inbox/fares-{DAY}.x", "".join(line % at for at in range(900)) * 2)

    refused = space.load(table="fares")
    space.write(f"inbox/fares-{DAY}.x", "".join(line % at for at in range(900)) * 2 + '{"code": "K999", "seats": 7}\n')
    load = space.load(table="fares")

    assert (refused["state"], "no object has the member 'seats'" in refused["message"]) == ("refused", True)
    assert load["balance"]["loaded"] == 1801
    assert space.sql("select sum(seats) from fares") == [(7,)]


def test_an_empty_text_in_json_is_a_text_and_no_null(space: Space) -> None:
    space.charter(charter('format = "json-lines"').replace('blank = "never"', ""), "fares")
    space.write(f"inbox/fares-{DAY}.x", '{"code": "", "fare": "", "seats": 1, "valid_on": ""}\n')

    space.load(table="fares")

    assert space.sql("select code, fare, valid_on from fares") == [("", None, None)]


def test_one_json_array_is_refused_in_words(space: Space) -> None:
    space.charter(charter('format = "json-lines"'), "fares")
    space.write(f"inbox/fares-{DAY}.x", '[{"code": "K1"},\n {"code": "K2"}]\n')

    assert "begins with an array" in space.load(table="fares")["message"]
    assert "one JSON array" in space.run("peek", f"inbox/fares-{DAY}.x").text


@pytest.mark.parametrize(
    ("epoch", "number", "day"),
    [("1900", 59, "1900-02-28"), ("1900", 60, None), ("1900", 61, "1900-03-01"), ("1900", 1, "1900-01-01"), ("1900", 0, None), ("1904", 0, "1904-01-01"),
     ("1904", 44347, "2025-06-01")],
)  # fmt: skip
def test_days_that_a_sheet_stores_as_numbers_follow_its_own_calendar(
    space: Space, epoch: str, number: int, day: str | None
) -> None:
    space.charter(charter('format = "sheet"'), "fares")
    book = openpyxl.Workbook()
    if epoch == "1904":
        book.epoch = openpyxl.utils.datetime.CALENDAR_MAC_1904
    for row in (["code", "fare", "seats", "valid_on"], ["K1", 1, 1, number]):
        book.active.append(row)
    book.save(space.root / f"inbox/fares-{DAY}.x")

    load = space.load(table="fares")

    assert load["balance"]["rejected"] == (day is None)
    assert day is None or space.sql("select valid_on::text from fares") == [(day,)]


def test_files_that_are_none_and_names_that_cannot_be_written_are_told(space: Space) -> None:
    (space.root / "inbox/loop.csv").symlink_to("loop.csv")
    os.mkfifo(space.root / "inbox/pipe.csv")
    for name, told in (("loop.csv", "cannot be read"), ("pipe.csv", "this is a pipe")):
        assert told in space.run("peek", f"inbox/{name}").text
    (space.root / "inbox" / os.fsdecode(b"tickets-2026-06-01.csv\xff")).write_text(
        "ticket_no;fare;sold_on\nT001;1,00;01.06.2026\n"
    )

    ended = space.run("run", "--day", DAY, "--create", "--json")

    assert ended.code == 1
    assert "the file's name is not UTF-8" in ended.text


@pytest.mark.parametrize(
    ("content", "delimiter"),
    [("47.8,2010/01/01 00:00:00\n47.9,2010/01/01 00:05:00\n", ","), ("1,5;2,5\n3,5;4,5\n", ";"), ("1,2,3\n4,5,6\n", ","), ("a:b\nc:d\n", ":"),
     ("10:20\t1,5\n10:30\t2,5\n", "\t")],
)  # fmt: skip
def test_what_stands_within_numbers_and_times_is_no_delimiter(space: Space, content: str, delimiter: str) -> None:
    space.write("x.csv", content)

    assert space.run("peek", "x.csv", "--json").json["delimiter"] == delimiter


@pytest.mark.parametrize("kernel", [True, False])
@pytest.mark.parametrize("extra", ["refuse", "ignore"])
def test_a_member_that_most_objects_do_not_have(space: Space, extra: str, *, kernel: bool) -> None:
    text = 'table = "t"\n[load]\nextra_columns = "{}"\ntolerate = 1\n[delivery]\nfiles = "t.x"\n[delivery.layout]\nformat = "json-lines"\n'
    space.charter(text.format(extra) + '[columns.a]\nkind = "integer"\n', "t")
    space.write("t.x", '{"a": 1}\n' * 1500 + '{"a": 2, "x": 3}\n')
    with contextlib.nullcontext() if kernel else without_kernel():
        load = space.load(table="t")

    assert (load["balance"]["loaded"], load["balance"]["rejected"]) == ((1500, 1) if extra == "refuse" else (1501, 0))


PLACED = """
[columns.a]
kind = "integer"
{at}
[columns.b]
kind = "integer"
{bt}
"""
PLACES = [
    ("delimited", "header = 1", "a,b\r\n" + '"x\ny",1\r\n' * 9),
    ("delimited", "header = 3\ncomment = '#'", "a title\nunits\na,b\n#\n" + "x,ü\n\n" * 9),
    ("json-lines", "", '{"a": "x", "b": 1}\n' * 9),
    ("fixed", "header = 2", "a title\nanother\n" + "xü\n" * 9),
]


@pytest.mark.parametrize(("form", "layout", "text"), PLACES, ids=[f"{row[0]} {row[1][:10]}" for row in PLACES])
@pytest.mark.parametrize("chunk", [8, 1 << 20])
def test_a_reject_says_at_which_byte_its_record_begins(
    space: Space, monkeypatch: pytest.MonkeyPatch, form: str, layout: str, text: str, chunk: int
) -> None:
    monkeypatch.setattr(unpack, "CHUNK", chunk)
    at = {"at": "at = [1, 1]", "bt": "at = [2, 2]"} if form == "fixed" else {"at": "", "bt": ""}
    charter = f'table = "t"\n[delivery]\nfiles = "t.x"\n[delivery.layout]\nformat = "{form}"\n{layout}\n'
    space.charter(charter + PLACED.format(**at), "t")
    space.write("t.x", text)
    space.load(table="t")

    rejects = read_rejects(space.root / ".nomotheta/rejects/load-1.parquet")
    found = {(each.offset, each.original) for each in rejects}

    assert len(found) == 9
    assert all(text.encode()[offset:].startswith(original.encode()) for offset, original in found)
