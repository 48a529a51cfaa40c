"""Metadata of CSV on the Web: what it says of a file becomes a charter that loads it, and back."""

from __future__ import annotations

import json
import tomllib
from typing import Any

import pytest

from conftest import DAY, Space

METADATA: dict[str, Any] = {
    "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}],
    "tables": [
        {
            "url": f"fares-{DAY}.csv",
            "dc:description": "Fares of the line",
            "dialect": {"delimiter": "|", "quoteChar": "'", "skipRows": 1, "commentPrefix": "#", "trim": True},
            "null": ["", "-"],
            "tableSchema": {
                "columns": [
                    {"name": "id", "titles": "Ticket", "datatype": "positiveInteger", "required": True},
                    {"name": "zone", "titles": {"en": ["Fare zone"]}, "datatype": {"base": "string", "maxLength": 6}},
                    {"name": "class", "datatype": {"base": "string", "format": "foot|car"}},
                    {"name": "code", "datatype": {"base": "token", "format": "[A-Z]{2}[0-9]+"}},
                    {"name": "fare", "datatype": {"base": "decimal", "minimum": "0", "maximum": "9000", "format": {
                        "pattern": "#,##0.00", "decimalChar": ",", "groupChar": "."}}},
                    {"name": "sold", "datatype": {"base": "date", "format": "d.M.yyyy"}},
                    {"name": "at", "datatype": {"base": "datetime", "format": "yyyy-MM-ddTHH:mm:ss.SSS"}},
                    {"name": "paid", "datatype": {"base": "boolean", "format": "Y|N"}},
                    {"name": "tags", "separator": ";", "datatype": "string"},
                    {"name": "length", "datatype": "duration"},
                    {"name": "seen", "virtual": True, "valueUrl": "http://line.example/{id}"},
                ],
                "primaryKey": "id",
                "foreignKeys": [
                    {"columnReference": "zone", "reference": {"resource": "zones.csv", "columnReference": "Zone code"}}
                ],
            },
        },
        {"url": "other.csv", "tableSchema": {"columns": [{"name": "x"}]}},
    ],
}  # fmt: skip
FILE = """as of tonight
Ticket|Fare zone|class|code|fare|sold|at|paid|tags|length
# nothing yet
1|A|foot|AB1|1.234,50|1.6.2026|2026-06-01T10:00:00.25|Y|a;b|P1D
2| B |car|-|'7,00'|11.12.2026|2026-06-01T10:00:00|N||
"""


def test_a_charter_comes_of_metadata(space: Space) -> None:
    space.write("inbox/fares.json", json.dumps(METADATA))

    proposed = space.run("propose", "inbox/fares.json", "--table", f"fares_{DAY.replace('-', '_')}")

    charter = tomllib.loads(proposed.out)
    assert charter["about"] == "Fares of the line"
    assert charter["references"] == [{"columns": ["zone"], "listed_in": "zones(zone_code)"}]
    assert charter["keys"] == [{"columns": ["id"]}]
    assert charter["columns"]["id"] == {"kind": "integer", "from": "Ticket", "blank": "never", "between": [1, ""]}
    assert charter["columns"]["class"] == {"kind": "text", "among": ["foot", "car"]}
    assert charter["columns"]["code"]["pattern"] == "[A-Z]{2}[0-9]+"
    assert "lists of values in one field (tags)" in proposed.out
    assert "a virtual column" in proposed.out
    assert "duration, for which there is no kind" in proposed.out


def test_the_described_file_loads_with_nothing_rejected(space: Space) -> None:
    space.write("inbox/fares.json", json.dumps(METADATA))
    space.write(f"inbox/fares-{DAY}.csv", FILE)
    text = space.run("propose", "inbox/fares.json", "--table", "fares_2026_06_01").out
    space.write("charters/fares.toml", text[: text.index("[[references]]")].replace("fares_2026_06_01", "fares"))

    ended = space.run("load", "fares", "--create", "--day", DAY, "--json")

    assert ended.code == 0, ended.text
    rows = space.sql("select * exclude (tags, load_no) from fares order by id")
    assert [tuple(map(str, row)) for row in rows] == [
        ("1", "A", "foot", "AB1", "1234.50", "2026-06-01", "2026-06-01 10:00:00.250000", "True", "P1D"),
        ("2", "B", "car", "None", "7.00", "2026-12-11", "2026-06-01 10:00:00", "False", "None"),
    ]


def test_a_charter_written_as_metadata_comes_back_the_same(space: Space) -> None:
    charter = """
table = "fares"
about = "Fares, \\"net\\""
[delivery]
files = "inbox/fares.csv"
[delivery.layout]
delimiter = "\\t"
quote = ""
encoding = "cp1252"
null_words = ["", "none"]
decimal_sign = ","
date_forms = ["%d.%m.%Y"]
timestamp_forms = ["%Y%m%d %H:%M"]
true_words = ["ja"]
false_words = ["nein"]
[load]
how = "append"
tolerate = "none"
[columns.id]
kind = "integer"
from = "Ticket no"
blank = "never"
between = [1, 99]
[columns.who]
kind = "text(20)"
about = "as written"
[columns.class]
kind = "text"
among = ["foot", "car"]
length = [3, ""]
[columns.port]
kind = "text(4)"
length = [2, ""]
pattern = "[a-zA-Z]+"
[columns.fare]
kind = "decimal(18,2)"
[columns.sold]
kind = "date"
[columns.at]
kind = "timestamptz"
[columns.paid]
kind = "boolean"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["id"]
[[references]]
columns = ["class"]
listed_in = "classes(name)"
"""
    space.write("charters/fares.toml", charter)

    written = space.run("propose", "--from-charter", "fares", "--metadata", "--to", "fares.json")
    back = space.run("propose", "fares.json")

    assert written.code == back.code == 0, written.text + back.text
    expected, found = tomllib.loads(charter), tomllib.loads(back.out)
    assert found["delivery"].pop("files") == "fares.csv"
    expected["delivery"].pop("files")
    assert found == expected


def test_a_file_of_data_is_described_too(space: Space) -> None:
    space.write("inbox/a.csv", "id;fare\n1;2,50\n2;3,75\n")

    found = space.run("propose", "inbox/a.csv", "--metadata").json

    assert found["url"] == "a.csv"
    assert found["dialect"]["delimiter"] == ";"
    assert found["tableSchema"]["primaryKey"] == ["id"]
    assert [each["datatype"] for each in found["tableSchema"]["columns"]] == [
        "long", {"base": "decimal", "format": {"decimalChar": ",", "pattern": "#0.00"}},
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"tableSchema": {}}, "describes no columns"),
        ({"tableSchema": "http://line.example/schema.json"}, "its schema is elsewhere"),
        ({"tableSchema": "gone.json"}, "cannot be read"),
        ({"tableSchema": {"columns": [7]}}, "column 1 is not an object"),
        ({"dialect": {"headerRowCount": "many"}}, "not written as the vocabulary has it"),
        ({"dialect": {"encoding": "klingon"}}, "is not an encoding"),
        ({"tableSchema": {"columns": [{"name": "x", "datatype": {"base": "string", "maxLength": "x"}}]}}, "vocabulary"),
    ],
)
def test_metadata_that_says_too_little_is_refused_in_one_line(space: Space, change: dict[str, Any], told: str) -> None:
    base = {"@context": "http://www.w3.org/ns/csvw", "url": "a.csv", "tableSchema": {"columns": [{"name": "x"}]}}
    space.write("m.json", json.dumps({**base, **change}))

    ended = space.run("propose", "m.json")

    assert ended.code == 2
    assert told in ended.text
    assert "m.json" in ended.text or "gone.json" in ended.text


def test_what_is_no_delimited_text_has_no_such_metadata(space: Space) -> None:
    space.write("a.jsonl", '{"a": 1}\n')

    ended = space.run("propose", "a.jsonl", "--metadata")

    assert ended.code == 2
    assert "describes delimited text" in ended.text


def test_of_several_tables_one_is_asked_for(space: Space) -> None:
    space.write("m.json", json.dumps(METADATA))

    assert "--table fares_2026_06_01" in space.run("propose", "m.json").text
    assert "did you mean 'other'" in space.run("propose", "m.json", "--table", "othr").text


def test_what_a_layout_has_once_is_not_taken_from_one_column_for_another(space: Space) -> None:
    columns = [
        {"name": "a", "null": "-", "datatype": {"base": "boolean", "format": "Y|N"}},
        {"name": "b", "null": "n/a", "datatype": {"base": "boolean", "format": "1|0"}},
        {"name": "c", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
        {"name": "d", "datatype": {"base": "date", "format": "MM/dd/yyyy"}},
        {"name": "e", "datatype": {"base": "decimal", "format": {"decimalChar": ","}}},
        {"name": "f", "datatype": {"base": "decimal", "format": {"groupChar": ","}}},
    ]
    metadata = {"@context": "http://www.w3.org/ns/csvw", "url": "../data/x.csv", "tableSchema": {"columns": columns},
                "dialect": {"trim": "start", "lineTerminators": ["|"]}}  # fmt: skip
    space.write("inbox/m.json", json.dumps(metadata))

    proposed = space.run("propose", "inbox/m.json")

    charter = tomllib.loads(proposed.out)
    assert [column["kind"] for column in charter["columns"].values() if "kind" in column] == [
        "boolean", "text", "date", "text", "decimal(38,10)", "text",
    ]  # fmt: skip
    assert charter["delivery"]["files"] == "data/x.csv"
    assert not charter["delivery"]["layout"]["null_words"]
    for told in ("'-' for null (a)", "'n/a' for null (b)", "trimming at one end alone", "line ends other than"):
        assert told in proposed.text
