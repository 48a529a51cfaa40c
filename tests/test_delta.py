"""A lake: Delta tables that other programs wrote, what is refused of them, and what our own loads leave behind."""

from __future__ import annotations

import base64
import datetime
import json
import math
import random
import shutil
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import boto3
import duckdb
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pytest
from deltalake import DeltaTable, QueryBuilder, Schema, write_deltalake
from deltalake.transaction import AddAction

from conftest import DAY, SETTINGS, TICKETS, Space
from nomotheta.conditions import Kind, decimal
from nomotheta.errors import PlaceError
from nomotheta.place.connect import connect
from nomotheta.place.delta.place import DeltaPlace
from nomotheta.place.delta.types import fields_of
from nomotheta.place.delta.written import Writer

HEAD = "ticket_no;fare;sold_on\n"
NEXT = "2026-06-02"


@pytest.fixture
def lake(space: Space) -> Space:
    """The workspace of the tickets, in a lake."""
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", "delta:///lake"))
    space.charter(TICKETS)
    return space


def place(space: Space) -> DeltaPlace:
    found = connect("warehouse", "delta:///lake", space.root, create=True)
    assert isinstance(found, DeltaPlace)
    return found


def foreign(space: Space, rows: Any, name: str = "t", **more: Any) -> Path:
    """A table that another program wrote."""
    write_deltalake(space.root / "lake" / name, rows, **more)
    return space.root / "lake" / name


def altered(table: Path, change: Any) -> None:
    """A table whose first entry of the log is otherwise: what a writer with more features would have made."""
    log = table / "_delta_log" / f"{0:020d}.json"
    lines = [json.loads(line) for line in log.read_text().splitlines()]
    log.write_text("\n".join(json.dumps(line) for line in change(lines)) + "\n")


def with_feature(lines: list[dict[str, Any]], reader: list[str], writer: list[str]) -> list[dict[str, Any]]:
    protocol = {
        "minReaderVersion": 3,
        "minWriterVersion": 7,
        "readerFeatures": reader,
        "writerFeatures": [*reader, *writer],
    }
    return [{"protocol": protocol} if "protocol" in line else line for line in lines]


def configured(lines: list[dict[str, Any]], **more: str) -> list[dict[str, Any]]:
    for line in lines:
        if "metaData" in line:
            line["metaData"]["configuration"] |= {key.replace("_", "."): value for key, value in more.items()}
    return lines


ROWS = pa.table({"k": ["A", "B", "C", "D"], "v": pa.array([1, 2, 3, 4], pa.int64())})
CHARTER = (
    'table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[columns.k]\nkind = "text"\n[columns.v]\nkind = "integer"\n'
    '[[rules]]\nname = "small"\neach = "v < 4"\n'
)


def judged(space: Space) -> tuple[str, Any]:
    found = space.judge("t")["small"]
    return found["verdict"], found["breaks"]


# ---- tables of others


def test_a_partitioned_table_is_judged_with_the_values_that_only_its_log_holds(lake: Space) -> None:
    odd = ["a b:c/d", "x%y", None, "it's"]
    rows = ROWS.append_column("p", pa.array(odd)).append_column(
        "d", pa.array([datetime.date(2026, 1, day) for day in (1, 2, 3, 4)])
    )
    foreign(lake, rows, partition_by=["p", "d"])
    lake.charter(CHARTER + '[columns.p]\nkind = "text"\n[columns.d]\nkind = "date"\n', "t")

    found = place(lake).fetch("SELECT k, v, p, d FROM t ORDER BY k")

    assert found.column("p").to_pylist() == odd
    assert found.equals(rows.cast(found.schema))
    assert judged(lake) == ("fail", 1)
    lake.write(f"inbox/t-{DAY}.csv", "k,v,p,d\nE,1,x,2026-01-01\n")
    assert "partitioned by 'p, d'" in lake.run("load", "t", "--day", DAY).text


def delete_two(table: Path) -> None:
    """Have a deletion vector take the rows 1 and 3 out of each file of a table, as other writers do."""
    bits = struct.pack("<I", 1681511377) + struct.pack("<Q", 1) + struct.pack("<I", 0)
    bits += struct.pack("<IIHHI", 12346, 1, 0, 1, 16) + struct.pack("<HH", 1, 3)  # a roaring bitmap of rows 1 and 3
    inline = base64.b85encode(bits).decode()
    z85 = str.maketrans(
        "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz!#$%&()*+-;<=>?@^_`{|}~",
        "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-:+=^!/*?&<>()[]{}@%$#",
    )
    vector = {"storageType": "i", "pathOrInlineDv": inline.translate(z85), "sizeInBytes": len(bits), "cardinality": 2}

    def change(lines: list[dict[str, Any]]) -> list[dict[str, Any]]:
        for line in lines:
            if "add" in line:
                line["add"]["deletionVector"] = vector
        return with_feature(lines, ["deletionVectors"], [])

    altered(table, change)


def test_rows_that_a_deletion_vector_deletes_are_not_there(lake: Space) -> None:
    delete_two(foreign(lake, ROWS))
    lake.charter(CHARTER, "t")

    assert place(lake).fetch("SELECT k FROM t ORDER BY k").column(0).to_pylist() == ["A", "C"]
    assert judged(lake) == ("pass", 0)
    lake.write(f"inbox/t-{DAY}.csv", "k,v\nE,1\n")
    assert lake.load(table="t")["balance"]["after"] == 3
    lake.charter(CHARTER.replace("[delivery]", '[load]\nhow = "overwrite"\n[delivery]'), "t")
    lake.write(f"inbox/t-{NEXT}.csv", "k,v\nF,1\n")
    assert "rows are deleted from its files" in lake.run("load", "t", "--day", NEXT).text


def test_columns_that_have_other_names_in_their_files_are_found_and_not_written(lake: Space) -> None:
    table = foreign(lake, ROWS.rename_columns(["c-1", "c-2"]))

    def change(lines: list[dict[str, Any]]) -> list[dict[str, Any]]:
        for line in lines:
            if "metaData" in line:
                schema = json.loads(line["metaData"]["schemaString"])
                for at, (field, name) in enumerate(zip(schema["fields"], ("k", "v"), strict=True)):
                    field["metadata"] = {
                        "delta.columnMapping.id": at + 1,
                        "delta.columnMapping.physicalName": field["name"],
                    }
                    field["name"] = name
                line["metaData"]["schemaString"] = json.dumps(schema)
        return with_feature(configured(lines, delta_columnMapping_mode="name"), ["columnMapping"], [])

    altered(table, change)
    lake.charter(CHARTER, "t")

    assert judged(lake) == ("fail", 1)
    lake.write(f"inbox/t-{DAY}.csv", "k,v\nE,1\n")
    assert "its columns have other names in its files" in lake.run("load", "t", "--day", DAY).text


def test_files_from_before_a_column_was_added_have_null_in_it(lake: Space) -> None:
    table = foreign(lake, ROWS.select(["k"]))
    lake.charter(CHARTER, "t")
    write_deltalake(table, ROWS, mode="append", schema_mode="merge")

    found = place(lake).fetch("SELECT k, v FROM t ORDER BY v, k")

    assert found.column("v").to_pylist() == [1, 2, 3, 4, None, None, None, None]
    DeltaTable(table).alter.add_columns(fields_schema("w"))
    assert place(lake).fetch("SELECT count(*) AS n, count(w) AS w FROM t").to_pylist() == [{"n": 8, "w": 0}]


def fields_schema(name: str) -> Any:
    from deltalake import Field
    from deltalake.schema import PrimitiveType

    return [Field(name, PrimitiveType("long"), nullable=True)]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda lines: configured(lines, delta_constraints_low="v < 9"), "a constraint that only its own engine checks: low"),
        (lambda lines: with_feature(lines, [], ["generatedColumns", "icebergCompatV1"]), "a feature that nomotheta does not know"),
        (lambda lines: configured(lines, delta_appendOnly="true"), "it only takes more rows"),
        (lambda lines: configured(lines, delta_enableChangeDataFeed="true"), "it records changes row by row"),
    ],
)  # fmt: skip
def test_what_a_table_asks_of_its_writers_is_kept_or_refused_in_words(lake: Space, change: Any, told: str) -> None:
    altered(foreign(lake, ROWS), change)
    lake.charter(CHARTER.replace("[delivery]", '[load]\nhow = "overwrite"\n[delivery]'), "t")
    lake.write(f"inbox/t-{DAY}.csv", "k,v\nE,1\n")

    ended = lake.run("load", "t", "--day", DAY)

    assert (ended.code, told in ended.text) == (3, True), ended.text
    assert place(lake).count("t") == 4
    assert judged(lake) == ("fail", 1)


def test_a_table_that_asks_its_readers_for_more_is_an_error_and_no_verdict(lake: Space) -> None:
    altered(foreign(lake, ROWS), lambda lines: with_feature(lines, ["somethingNew"], []))
    lake.charter(CHARTER, "t")

    ended = lake.run("judge", "t")

    assert ended.code == 3
    assert "somethingNew" in ended.text


@pytest.mark.parametrize("other", ["T", "main/t"])
def test_two_tables_that_differ_by_case_alone_are_never_taken_for_each_other(lake: Space, other: str) -> None:
    foreign(lake, ROWS)
    foreign(lake, ROWS.slice(0, 1), other)
    lake.charter(CHARTER, "t")

    ended = lake.run("judge", "t")

    assert (ended.code, "called alike but for upper and lower case" in ended.text) == (3, True), ended.text
    there = place(lake)
    for _ in range(2):
        with pytest.raises(PlaceError, match="called alike"):
            there.fetch("SELECT * FROM t")


@pytest.mark.parametrize("name", ["a/b", "../out", "_hidden", ".log", "a.b.c", "a\\b"])
def test_no_table_lies_outside_of_its_lake(lake: Space, name: str) -> None:
    with pytest.raises(PlaceError, match="cannot have this name"):
        place(lake).create(name, {"v": Kind("integer")})


def test_a_text_that_is_none_of_the_noted_kind_is_an_error_and_not_null(lake: Space) -> None:
    there = place(lake)
    there.create("t", {"k": Kind("uuid"), "v": Kind("integer")})
    rows = pa.table({"k": ["no uuid"], "v": pa.array([1], pa.int64())})
    write_deltalake(lake.root / "lake/t", rows, mode="append")
    lake.charter(
        CHARTER.replace('kind = "text"', 'kind = "uuid"\nblank = { value = "never", otherwise = "warn" }'), "t"
    )

    assert lake.judge("t")["exit"] == 3


@pytest.mark.parametrize("other", [ROWS.slice(0, 1), ROWS.set_column(1, "v", pa.array([1.4, 2.0, 3.0, 3.2])), None])
def test_a_file_that_is_not_the_one_of_the_log_is_an_error(lake: Space, other: Any) -> None:
    (file,) = foreign(lake, ROWS).glob("*.parquet")
    file.unlink() if other is None else pq.write_table(other, file)
    lake.charter(CHARTER, "t")

    ended = lake.run("judge", "t")

    assert (ended.code, "a file of the table" in ended.text) == (3, True), ended.text


# ---- what our loads leave


def test_statistics_are_true_and_a_reader_that_prunes_by_them_finds_every_row(tmp_path: Path) -> None:
    chance = random.Random(5)
    kinds = {
        "n": Kind("integer"), "d": decimal(38, 4), "e": decimal(8, 2), "t": Kind("text"), "y": Kind("date"),
        "s": Kind("timestamp"), "z": Kind("timestamptz"), "r": Kind("real"), "b": Kind("boolean"), "x": Kind("binary"),
    }  # fmt: skip
    letters = ["", "a", "ä", "\U0010ffff", "~" * 40, "\U0010ffff" * 40, "日本" * 20, "a" * 32, "a" * 33]
    moment = datetime.datetime(1, 1, 1)
    makers: dict[str, Any] = {
        "n": lambda: chance.choice([-(2**63), 2**63 - 1, chance.randrange(-5, 5)]),
        "d": lambda: Decimal(chance.randrange(-(10**37), 10**37)).scaleb(-4), "e": lambda: Decimal(chance.randrange(-999, 999)).scaleb(-2),
        "t": lambda: chance.choice(letters), "y": lambda: datetime.date(1, 1, 1) + datetime.timedelta(chance.randrange(3_650_000)),
        **dict.fromkeys("sz", lambda: chance.choice([datetime.datetime.max, moment + datetime.timedelta(microseconds=chance.randrange(10**17))])),
        "r": lambda: chance.choice([float("nan"), float("inf"), -0.0, chance.random()]), "b": lambda: chance.random() < 0.5,
        "x": lambda: chance.choice([b"", b"\xff"]),
    }  # fmt: skip
    there = DeltaPlace("lake", tmp_path / "lake")
    there.create("t", kinds)
    types = {
        "d": pa.decimal128(38, 4),
        "e": pa.decimal128(8, 2),
        "z": pa.timestamp("us", "UTC"),
        "s": pa.timestamp("us"),
    }
    for _ in range(12):
        empty = chance.choice(list(kinds))
        made = {  # three rows a file, so that each has bounds of its own
            name: pa.array(
                [None if name == empty or chance.random() < 0.2 else make() for _ in range(3)], types.get(name)
            )
            for name, make in makers.items()
        }
        rows = pa.table(made)
        rows = rows.cast(
            pa.schema(
                [
                    (
                        f.name,
                        {
                            "n": pa.int64(),
                            "t": pa.string(),
                            "y": pa.date32(),
                            "r": pa.float64(),
                            "b": pa.bool_(),
                            "x": pa.binary(),
                        }.get(f.name, f.type),
                    )
                    for f in rows.schema
                ]
            )
        )
        with there.transaction("t"):
            there.append("t", rows.column_names, iter(rows.to_batches()), rows.schema)
    table = DeltaTable(tmp_path / "lake/t")
    everything = table.to_pyarrow_table()
    pruning = QueryBuilder().register("pruned", table)

    for field in everything.schema:
        for value in everything[field.name].drop_null().unique().to_pylist()[:20]:
            if (isinstance(value, float) and math.isnan(value)) or isinstance(value, bytes | bool):
                continue
            scalar = pa.scalar(value, field.type)
            cell = f"{value:f}" if isinstance(value, Decimal) else str(value).replace("'", "''")
            of = str(field.type).replace("128", "").replace("date32[day]", "date").replace("int64", "bigint")
            cast = f"cast('{cell}' as {of})"
            if isinstance(value, datetime.datetime):
                zone = "None" if value.tzinfo is None else 'Some("UTC")'
                cast = f"arrow_cast('{cell}', 'Timestamp(Microsecond, {zone})')"
            for sign, meant in (("=", pc.equal), ("<=", pc.less_equal), (">=", pc.greater_equal)):
                if field.name == "r" and sign == ">=":
                    continue  # where engines take what is no number for the greatest, some look for it and some do not
                asked = f'select count(*) as n from pruned where "{field.name}" {sign} {cast}'
                found = pa.table(pruning.execute(asked)).column(0)[0].as_py()
                assert found == pc.sum(meant(everything[field.name], scalar)).as_py(), (field.name, sign, value)


def test_the_versions_of_a_table_are_told_and_an_older_one_comes_back(lake: Space) -> None:
    lake.charter(
        TICKETS.replace("[load]", '[load]\nhow = "merge"').replace('[columns.load_no]\nfrom = "@load.no"\n', "")
    )
    lake.tickets(HEAD + "T001;1,00;01.06.2026\nT002;2,00;01.06.2026\n")
    first = lake.load()
    before = DeltaTable(lake.root / "lake/tickets").to_pyarrow_table()
    lake.tickets(HEAD + "T002;9,00;01.06.2026\nT003;3,00;01.06.2026\n", NEXT)
    second = lake.load(day=NEXT)
    merged = place(lake).fetch("SELECT ticket_no, fare FROM tickets ORDER BY 1").to_pylist()

    undone = lake.run("undo", "2")

    assert [each["notes"] for each in (first, second)] == [
        ["version 1 of the Delta table"],
        ["version 2 of the Delta table"],
    ]
    assert [(row["ticket_no"], str(row["fare"])) for row in merged] == [
        ("T001", "1.00"),
        ("T002", "9.00"),
        ("T003", "3.00"),
    ]
    assert undone.code == 0, undone.text
    assert (
        DeltaTable(lake.root / "lake/tickets")
        .to_pyarrow_table()
        .sort_by("ticket_no")
        .equals(before.sort_by("ticket_no"))
    )
    again = lake.load(day=NEXT)
    assert (again["state"], again["balance"]["inserted"], again["balance"]["updated"]) == ("loaded", 1, 1)
    lake.tickets(HEAD + "T009;9,00;01.06.2026\n", "2026-06-03")
    lake.load(day="2026-06-03")
    refused = lake.run("undo", str(again["load_no"]))
    assert refused.code in {1, 2} and "undo" in refused.text


def test_what_a_load_replaces_is_kept_without_a_copy(lake: Space) -> None:
    lake.charter(TICKETS.replace("[load]", '[load]\nhow = "overwrite"\nkeep_previous = true'))
    lake.tickets(HEAD + "T001;1,00;01.06.2026\n")
    lake.load()
    lake.tickets(HEAD + "T002;2,00;01.06.2026\n", NEXT)
    lake.load(day=NEXT)
    write_deltalake(
        lake.root / "lake/tickets",
        place(lake)
        .fetch(
            "SELECT 'T777' AS ticket_no, CAST(1 AS DECIMAL(6,2)) AS fare, DATE '2026-06-01' AS sold_on, 7 AS load_no"
        )
        .cast(DeltaTable(lake.root / "lake/tickets").to_pyarrow_table().schema),
        mode="append",
    )

    files = len(list((lake.root / "lake/tickets").glob("*.parquet")))
    undone = lake.run("undo", "2")

    assert (undone.code, files) == (0, 3), undone.text
    assert [path.name for path in (lake.root / "lake").iterdir() if path.name[0] != "_"] == ["tickets"]
    assert place(lake).fetch("SELECT ticket_no FROM tickets").to_pylist() == [{"ticket_no": "T001"}]


def test_marks_that_are_gone_are_an_error_and_not_a_table_without_loads(lake: Space) -> None:
    lake.tickets(HEAD + "T001;1,00;01.06.2026\n")
    lake.load()
    for path in (lake.root / "lake/tickets/_nomotheta").glob("*.json"):
        path.unlink()

    ended = lake.run("load", "tickets", "--day", DAY)

    assert (ended.code, "the marks of loads are gone" in ended.text) == (3, True), ended.text
    assert place(lake).count("tickets") == 1


def test_whoever_reads_sees_all_of_a_load_or_nothing_and_no_file_stays_that_is_nobodys(lake: Space) -> None:
    rows = 60_000
    charter = (
        TICKETS.replace("text(4)", "text(7)")
        .replace("[0-9]{3}", "[0-9]{6}")
        .replace("[load]", '[load]\nhow = "overwrite"')
    )
    lake.charter(charter)
    table = lake.root / "lake/tickets"
    command = [sys.executable, "-m", "nomotheta", "load", "tickets", "--create", "--day"]
    chance, seen = random.Random(8), set[int]()
    lake.tickets(HEAD + "".join(f"T{at:06d};1,00;01.06.2026\n" for at in range(rows)))
    subprocess.run([*command, DAY], cwd=lake.root, check=True, capture_output=True)
    for at in range(10):
        day = f"2026-07-{at + 1:02d}"
        lake.tickets(HEAD + "".join(f"T{number:06d};2,00;01.06.2026\n" for number in range(rows + at + 1)), day)
        running = subprocess.Popen([*command, day], cwd=lake.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until = time.monotonic() + chance.uniform(0.5, 1.6)
        while time.monotonic() < until and running.poll() is None:
            seen.add(DeltaTable(table).to_pyarrow_table(columns=["fare"]).num_rows)
        running.kill()
        running.wait()

    lake.tickets(HEAD + "T000001;1,00;01.06.2026\n", "2026-08-01")
    assert lake.load(day="2026-08-01")["state"] == "loaded"

    assert seen <= {rows + at for at in range(11)} and rows in seen
    there = {path.name for path in table.glob("part-*.parquet")}
    named = set[str]()
    for version in range(DeltaTable(table).version() + 1):
        named |= {Path(uri).name for uri in DeltaTable(table, version=version).file_uris()}
    assert there == named
    assert not list((table / "_nomotheta").glob("writing-*"))


def test_of_two_loads_that_start_from_one_version_one_is_refused(lake: Space, monkeypatch: pytest.MonkeyPatch) -> None:
    first, second = place(lake), place(lake)
    first.create("t", {"v": Kind("integer")})
    rows = pa.table({"v": pa.array([1, 2], pa.int64())})
    monkeypatch.setattr("nomotheta.place.delta.locks.fcntl", None)

    with pytest.raises(PlaceError, match="another program changed the table"), first.transaction("t"):
        first.append("t", ["v"], iter(rows.to_batches()), rows.schema)
        with second.transaction("t"):
            second.append("t", ["v"], iter(rows.to_batches()), rows.schema)

    assert (first.count("t"), second.count("t")) == (2, 2)
    assert len(list((lake.root / "lake/t").glob("*.parquet"))) == 1


def test_large_loads_become_files_of_a_size_that_others_read_well(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nomotheta.place.delta.written._BYTES", 100_000)
    there = DeltaPlace("lake", tmp_path / "lake")
    there.create("t", {"v": Kind("integer")})
    rows = pa.table({"v": pa.array(range(400_000), pa.int64())})

    with there.transaction("t"):
        assert there.append("t", ["v"], iter(rows.to_batches(max_chunksize=10_000)), rows.schema) == 400_000
        assert there.delete("t", '"v" < 10') == 10

    assert there.fetch("SELECT count(*) AS n, sum(v) AS s FROM t").to_pylist() == [
        {"n": 399_990, "s": sum(range(10, 400_000))}
    ]
    assert len(DeltaTable(tmp_path / "lake/t").file_uris()) == 4
    assert Writer.__doc__


# ---- an object store


@pytest.fixture
def store(tmp_path: Path) -> Iterator[tuple[str, str]]:
    """A bucket, in a process of its own: a store within ours would wait for itself."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = [str(Path(sys.executable).with_name("moto_server")), "-H", "127.0.0.1", "-p", str(port)]
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    url = f"http://127.0.0.1:{port}"
    try:
        for _ in range(300):
            with socket.socket() as tried:
                if tried.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        client = boto3.client(
            "s3", endpoint_url=url, aws_access_key_id="clerk", aws_secret_access_key="s3cret", region_name="us-east-1"
        )
        client.create_bucket(Bucket="skerry")
        yield url, "s3://skerry/lake"
    finally:
        running.kill()
        running.wait()


def test_a_lake_in_an_object_store_is_loaded_judged_reconciled_and_undone(
    space: Space, store: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    endpoint, url = store
    monkeypatch.setenv("LAKE_SECRET", "s3cret")
    options = f'{{ aws_endpoint_url = "{endpoint}", aws_access_key_id = "clerk", aws_secret_access_key = "${{LAKE_SECRET}}", aws_region = "us-east-1", aws_allow_http = "true" }}'
    space.write("nomotheta.toml", SETTINGS.replace('"duckdb:///warehouse.duckdb"', f'"{url}"\noptions = {options}'))
    space.charter(TICKETS)
    space.tickets(HEAD + "T001;1,00;01.06.2026\nT002;2,00;01.06.2026\nT002;2,00;01.06.2026\nT003;x;01.06.2026\n")
    space.tickets(HEAD + "T004;4,00;02.06.2026\n", NEXT)

    run = space.run("run", "--day", DAY, "--create")
    second = space.load(day=NEXT)

    assert run.code == 0, run.text
    assert (second["balance"]["before"], second["balance"]["after"]) == (2, 3)
    assert space.judge()["verdict"] == "pass"
    assert space.run("reconcile", "tickets").code == 0
    assert "the same content was loaded before" in space.run("load", "tickets", "--day", DAY).text
    assert space.run("undo", "2").code == 0
    assert space.run("judge", "--json").json["tables"][0]["findings"]
    assert "s3cret" not in "".join(path.read_text(errors="ignore") for path in space.root.rglob("*") if path.is_file())
    client = boto3.client(
        "s3", endpoint_url=endpoint, aws_access_key_id="clerk", aws_secret_access_key="s3cret", region_name="us-east-1"
    )
    for each in client.list_objects_v2(Bucket="skerry", Prefix="lake/tickets/part-")["Contents"]:
        client.put_object(Bucket="skerry", Key=each["Key"], Body=b"PAR1")
    other = space.run("judge")
    assert other.code == 3 and "has 4 bytes, and the log says" in other.text
    space.write("nomotheta.toml", (space.root / "nomotheta.toml").read_text().replace(endpoint, "http://127.0.0.1:9"))
    gone = space.run("places")
    assert gone.code == 3 and "Traceback" not in gone.text


def test_a_lake_is_one_format_for_all(lake: Space) -> None:
    lake.tickets(HEAD + "T001;1,00;01.06.2026\nT002;;01.06.2026\n")
    lake.load()
    table = lake.root / "lake/tickets"

    by_delta = DeltaTable(table).to_pyarrow_table().select(["ticket_no", "fare"]).to_pylist()
    by_files = duckdb.sql(f"SELECT ticket_no, fare FROM read_parquet('{table}/*.parquet')").fetchall()

    assert by_delta == [{"ticket_no": "T001", "fare": Decimal("1.00")}, {"ticket_no": "T002", "fare": None}]
    assert by_files == [("T001", Decimal("1.00")), ("T002", None)]
    assert fields_of(DeltaTable(table).schema().to_json())[0].kind == Kind("text", 4)
    assert pq.read_schema(next(table.glob("*.parquet"))).field("sold_on").type == pa.date32()
    shutil.rmtree(table)
    assert lake.run("judge", "tickets").code == 3


FILE_TYPES: dict[str, tuple[Any, list[Any]]] = {
    "byte": (pa.int8(), [-128, 5]), "short": (pa.int16(), [32767]), "integer": (pa.int32(), [2**31 - 1, -1]),
    "long": (pa.int64(), [2**53 + 1, 7]), "unsigned": (pa.uint32(), [2**32 - 1]), "float": (pa.float32(), [0.5, 0.1]),
    "double": (pa.float64(), [1.005, 2.0, math.inf]), "decimal(5,3)": (pa.decimal128(5, 3), [Decimal("1.005")]),
    "decimal(9,2)": (pa.decimal128(9, 2), [Decimal("1234567.89")]), "string": (pa.string(), ["1", "2026-01-01"]),
    "binary": (pa.binary(), [b"1", b"\xff"]), "boolean": (pa.bool_(), [True]), "date": (pa.date32(), [datetime.date(2026, 1, 1)]),
    "timestamp_ntz": (pa.timestamp("us"), [datetime.datetime(2026, 1, 1, 12, 30)]),
    "timestamp": (pa.timestamp("us", "UTC"), [datetime.datetime(2026, 1, 1, 12, 30, tzinfo=datetime.UTC)]),
    "nanoseconds": (pa.timestamp("ns"), [1_000_000_001]), "instants": (pa.timestamp("ns", "UTC"), [1_000_000_001]),
}  # fmt: skip


@pytest.mark.parametrize("told", [name for name in FILE_TYPES if name not in {"unsigned", "nanoseconds", "instants"}])
def test_values_of_a_file_are_those_that_are_in_it_whatever_type_the_log_tells_of(lake: Space, told: str) -> None:
    kept = []
    for name, (of, values) in FILE_TYPES.items():
        table, rows = (
            lake.root / "lake" / f"t_{len(list((lake.root / 'lake').glob('*')))}",
            pa.table({"v": pa.array(values, of)}),
        )
        field = json.dumps(
            {"type": "struct", "fields": [{"name": "v", "type": told, "nullable": True, "metadata": {}}]}
        )
        made = DeltaTable.create(table, Schema.from_json(field))
        pq.write_table(rows, table / "part-1.parquet", coerce_timestamps=None)
        size = (table / "part-1.parquet").stat().st_size
        stats = json.dumps({"numRecords": len(values)})
        made.create_write_transaction(
            [AddAction("part-1.parquet", size, {}, 0, True, stats)], "append", made.schema()  # noqa: FBT003
        )  # fmt: skip

        try:
            found = place(lake).fetch(f"SELECT v FROM {table.name}").column("v").to_pylist()
        except PlaceError as error:
            assert "part-1.parquet" in str(error) and "the log says" in str(error)
        else:
            kept.append(name)
            wanted = rows.column("v").cast(pa.timestamp("us") if told == "timestamp_ntz" else of).to_pylist()
            assert found == wanted, name

    assert told in kept
