"""What MariaDB alone does: engines without transactions, warnings, servers that take no local data, cut fractions."""

from __future__ import annotations

import io
import socket
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pymysql
import pytest

from conftest import DAY, SETTINGS, Space
from nomotheta.conditions import Kind
from nomotheta.errors import DeclarationError, PlaceError
from nomotheta.place.connect import connect
from nomotheta.place.mariadb import bulk
from nomotheta.place.mariadb import packets as reading
from nomotheta.place.mariadb.bulk import BulkInsert
from nomotheta.place.mariadb.place import MariaPlace
from servers import Database, server
from test_places import GOOD, goes_in_and_comes_out

TABLE = "CREATE TABLE tickets (ticket_no varchar(9), fare numeric(8,2), sold_on date, load_no bigint)"


@pytest.fixture
def database() -> Iterator[Database]:
    with server("mariadb") as url:
        made = Database("mariadb", url)
        yield made
        made.drop()


@pytest.fixture
def there(space: Space, database: Database) -> Space:
    """The workspace of the tickets, whose place is a MariaDB database."""
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    return space


WAYS = ["bulk execution", "LOAD DATA", "INSERT", "what a proxy leaves"]


def only(way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Let rows go into MariaDB in one way alone."""

    def refused(*_: object) -> None:
        raise pymysql.OperationalError(1047, "Unknown command")

    if way == "what a proxy leaves":
        monkeypatch.setattr(BulkInsert, "__init__", refused)
    elif way == "INSERT":
        monkeypatch.setattr(MariaPlace, "takes_bulk", lambda _: False)
    elif way == "LOAD DATA":
        for module in ("mariadb.place", "mariadb.url"):
            monkeypatch.setattr(f"nomotheta.place.{module}.can_copy", lambda: False)


@pytest.mark.parametrize("engine", ["MyISAM", "Aria", "MEMORY"])
def test_a_table_that_cannot_undo_is_refused(there: Space, database: Database, engine: str) -> None:
    database.ask(f"{TABLE} ENGINE={engine}")
    there.tickets(GOOD)

    found = there.run("load", "tickets", "--day", DAY)

    assert found.code == 3
    assert f"kept by the engine {engine}, which cannot undo a load" in found.text
    assert "ENGINE=InnoDB" in found.text
    assert database.ask("SELECT count(*) FROM tickets") == [(0,)]


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize(
    ("made", "told"),
    [
        (TABLE.replace("load_no bigint", "load_no bigint, CHECK (fare < 3)"), "CONSTRAINT_1"),
        (TABLE.replace("sold_on date", "sold_on date, UNIQUE (sold_on)"), "Duplicate entry '2026-06-01'"),
        (TABLE.replace("varchar(9)", "varchar(9) CHARACTER SET ascii"), "Incorrect string value"),
    ],
)
def test_what_would_be_a_warning_undoes_the_load(
    there: Space, database: Database, monkeypatch: pytest.MonkeyPatch, made: str, told: str, way: str
) -> None:
    only(way, monkeypatch)
    database.ask(made)
    there.charter((there.root / "charters/tickets.toml").read_text().replace('pattern = "T[0-9]{3}"', ""))
    there.tickets(GOOD + "T\u00e14;4,00;01.06.2026\n")

    found = there.run("load", "tickets", "--day", DAY)

    assert found.code == 3, found.text
    assert told in found.text
    assert database.ask("SELECT count(*) FROM tickets") == [(0,)]


@pytest.mark.parametrize("way", WAYS)
def test_rows_come_out_as_they_went_in_whatever_the_server_takes(
    database: Database, monkeypatch: pytest.MonkeyPatch, way: str
) -> None:
    only(way, monkeypatch)

    goes_in_and_comes_out("mariadb", database)


def test_a_driver_without_what_bulk_execution_needs_is_told_of_and_does_it_another_way(
    there: Space, database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(bulk, "_INNER", (*bulk._INNER, "_gone"))
    there.tickets(GOOD)

    loaded = there.load()

    assert (loaded["state"], loaded["balance"]["after"]) == ("loaded", 3)
    (note,) = loaded["notes"]
    assert note.startswith("rows go in more slowly: PyMySQL")
    assert note.endswith("has no _gone")
    assert "has no _gone" in there.run("places").text


def test_the_row_that_does_not_fit_is_told_among_all_that_were_sent(database: Database) -> None:
    place = connect("there", database.url, Path())
    database.ask("CREATE TABLE t (v varchar(3))")
    schema = pa.schema([("v", pa.string())])

    def append(values: list[str]) -> int:
        batches = pa.table([pa.array(values, pa.string())], schema).to_batches(max_chunksize=70_000)
        with place.transaction("t"):
            return place.append("t", ["v"], iter(batches), schema)

    for value in ("too long", "a    "):  # spaces at the end are cut with a warning
        with pytest.raises(PlaceError, match=r"'v' \(row 123,457 of those sent\)"):
            append(["a"] * 123_456 + [value] + ["b"] * 100_000)
        assert place.count("t") == 0
    assert append(["a"] * 123_456) == place.count("t") == 123_456  # the answers that were still to come were read
    place.close()


def test_rows_that_do_not_come_to_an_end_leave_the_connection_in_step(database: Database) -> None:
    place = connect("there", database.url, Path())
    database.ask("CREATE TABLE t (v int)")
    schema = pa.schema([("v", pa.int64())])

    def batches() -> Iterator[object]:
        yield from pa.table([pa.array(range(50_000))], schema).to_batches(max_chunksize=1000)
        raise PlaceError("the file changed")

    with pytest.raises(PlaceError, match="the file changed"), place.transaction("t"):
        place.append("t", ["v"], batches(), schema)
    assert place.count("t") == 0
    place.close()


def test_digits_of_a_second_that_the_column_does_not_keep_are_told(there: Space, database: Database) -> None:
    there.charter('table = "t"\n[delivery]\nfiles = "t.csv"\n[columns.at]\nkind = "timestamp"\n', "t")
    there.write("t.csv", "at\n2026-06-01 10:00:00\n")
    database.ask("CREATE TABLE t (at datetime)")
    assert there.load(table="t")["state"] == "loaded"
    there.charter(
        'table = "t"\n[delivery]\nfiles = "t.csv"\nlayout = { timestamp_forms = ["%Y-%m-%d %H:%M:%S.%f"] }\n'
        '[columns.at]\nkind = "timestamp"\n', "t",
    )  # fmt: skip
    there.write("t.csv", "at\n2026-06-01 10:00:00.000000\n2026-06-01 10:00:00.250000\n")

    found = there.run("load", "t")

    assert "10:00:00.250000 does not fit 'at', which is datetime" in found.text
    assert database.ask("SELECT count(*) FROM t") == [(1,)]


def test_a_charter_is_proposed_from_a_table_and_judges_it(there: Space, database: Database) -> None:
    database.ask(
        "CREATE TABLE seen (a varchar(9) NOT NULL, n decimal(9,3), ok boolean, at timestamp NULL, e enum('x', 'y'))"
    )
    database.ask("INSERT INTO seen VALUES ('x', 1.5, true, now(), 'x'), ('Y', NULL, false, NULL, 'y')")

    proposed = there.run("propose", "--from-table", "seen", "--to", str(there.root / "charters" / "seen.toml"))

    assert proposed.code == 0, proposed.text
    assert 'kind = "decimal(9,3)"' in (there.root / "charters" / "seen.toml").read_text()
    assert there.judge("seen")["verdict"] == "pass"


def test_a_url_that_is_wrong_and_a_user_without_rights_are_told(there: Space, database: Database) -> None:
    for more, told in (("?ssl_cs=x", "ssl_ca"), ("?connect_timeout=soon", "not a number")):
        with pytest.raises(DeclarationError, match=told):
            connect("there", database.url + more, Path())
    who = database.name[:20]
    database.ask(f"CREATE USER {who}@'%'")
    database.ask(f"GRANT SELECT, INSERT ON {database.name}.* TO {who}@'%'")
    database.ask(TABLE)
    try:
        clerk = database.url.replace("root@", f"{who}@")
        there.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", clerk))
        there.tickets(GOOD)

        (answer,) = there.run("places", "--json").json["places"]
        refused = there.run("load", "tickets", "--day", DAY)

        assert (answer["answers"], answer["may_create"]) == (True, False)
        assert "CREATE TABLE IF NOT EXISTS nomotheta_marks" in answer["mend"]
        assert "have them made by one who may: CREATE TABLE" in refused.text
        with pytest.raises(PlaceError, match="cannot be reached: Access denied"):
            connect("there", clerk.replace(f"{who}@", f"{who}:wrong@"), Path())
    finally:
        database.ask(f"DROP USER {who}@'%'")


# ---- rows out of packets


def lengthy(value: str | None) -> bytes:
    """A text with its length in front."""
    if value is None:
        return b"\xfb"
    data = value.encode()
    for most, mark, width in ((0xFB, b"", 1), (1 << 16, b"\xfc", 2), (1 << 24, b"\xfd", 3), (1 << 60, b"\xfe", 8)):
        if len(data) < most:
            return mark + len(data).to_bytes(width, "little") + data
    raise AssertionError


def packets(payload: bytes) -> bytes:
    """A payload in as many packets as it needs."""
    parts = [payload[at : at + 0xFFFFFF] for at in range(0, len(payload) + 1, 0xFFFFFF)]
    return b"".join(len(part).to_bytes(3, "little") + b"\x00" + part for part in parts)


class Connection:
    """What the driver knows of a connection, over bytes that are there already."""

    encoding = "utf8"

    def __init__(self, data: bytes) -> None:
        self._rfile, (self._sock, self._other) = io.BufferedReader(io.BytesIO(data)), socket.socketpair()
        self.closed = False

    def _force_close(self) -> None:
        self.closed = True


END, FAILED = packets(b"\xfe\x00\x00\x02\x00"), packets(b"\xff\x15\x04#42S02no such table")


@pytest.mark.parametrize("piece", [3, 1000, 1 << 22])
def test_rows_come_out_of_packets_whole_however_they_are_cut(piece: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "_PIECE", piece)
    sizes = [0, 1, 250, 251, 300, 65535, 65536, *([0xFFFFFF - 8, 0xFFFFFF, 1 << 24] if piece > 1000 else [])]
    rows = [
        ("", None),
        (None, ""),
        ("é", "x"),
        *(("a" * size, None if size % 2 else "b") for size in sizes),
        ("z", "z"),
    ]
    connection = Connection(b"".join(packets(b"".join(map(lengthy, row))) for row in rows) + END)

    stream = reading._Stream(connection, 2)

    blocks = list(stream.blocks())

    assert [row for block in blocks for row in zip(*(column.to_pylist() for column in block), strict=True)] == rows
    assert (stream.ended, connection.closed) == (True, False)


def test_what_ends_rows_too_soon_is_an_error() -> None:
    row = packets(lengthy("x"))
    for data, code in ((row + FAILED, 1045), (row + row[:-1], 2013), (row, 2013), (packets(b"\x05ab") + END, 2013)):
        with pytest.raises(pymysql.Error) as told:
            list(reading._Stream(Connection(data), 1).blocks())
        assert told.value.args[0] == code


def test_a_connection_goes_on_where_its_rows_are_not_wanted_any_more(there: Space, database: Database) -> None:
    database.ask("create table many (v varchar(100))")
    database.ask("insert into many select concat(seq, repeat('x', 80)) from seq_1_to_200000")
    place = connect("there", database.url, there.root)
    blocks = place.text_blocks({"v": Kind("text")}, place.rowset("many"))
    assert blocks is not None
    assert len(next(iter(blocks))[0]) < 200_000
    assert place.count("many") == 200_000  # though nobody has closed it
    again = place.text_blocks({"v": Kind("text")}, place.rowset("many"))
    assert again is not None
    assert sum(len(block[0]) for block in again) == 200_000
    with pytest.raises(PlaceError, match="nosuch"):
        list(place.text_blocks({"v": Kind("text")}, "FROM nosuch") or ())
    place.close()
