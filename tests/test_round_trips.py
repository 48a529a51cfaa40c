"""What a place gives back is what was sent, or the load failed: every kind, tables made by us and tables made by hand."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

from conftest import SETTINGS, Space
from nomotheta.conditions import parse_kind, quoted
from nomotheta.kinds.native import as_texts
from nomotheta.kinds.read import read_column
from nomotheta.layout import CANONICAL, UNTYPED
from nomotheta.place.connect import connect
from nomotheta.rules.anew import as_kind
from servers import Database, server

SORTS = ["duckdb", "postgresql", "mariadb", "sqlite", "delta", "general"]
EDGES: dict[str, list[str]] = {
    "text": ["a", "ß", "日本", " x ", "a'b", "a\\b", "a\tb", '"', "1e5", "007", "\u2028", "NULL", "\\N"],
    "text(5)": ["abcde", "äöüßé", "a", " b"],
    "integer": ["0", "-1", "9223372036854775807", "-9223372036854775808", "9007199254740993"],
    "decimal(6,2)": ["0.01", "-9999.99", "0.00", "12.50"],
    "decimal(8,5)": ["0.00005", "-0.00001", "999.99999", "0.10000"],
    "decimal(15,3)": ["999999999999.999", "0.001", "-0.001"],
    "decimal(38,0)": ["99999999999999999999999999999999999999", "-1", "12345678901234567890"],
    "decimal(38,20)": ["999999999999999999.99999999999999999999", "0.00000000000000000001"],
    "real": ["0.1", "-1e300", "5e-300", "123456789.125", "0", "1e15"],
    "boolean": ["true", "false"],
    "date": ["0001-01-01", "9999-12-31", "1970-01-01", "2024-02-29"],
    "time": ["00:00:00", "23:59:59.999999", "10:30:00", "10:30:00.100000"],
    "timestamp": ["0001-01-01 00:00:00", "9999-12-31 23:59:59.999999", "2026-06-01 10:20:30.000001"],
    "timestamptz": ["1970-01-02 00:00:01Z", "2038-01-01 00:00:00Z", "2026-06-01 10:20:30.123456Z"],
    "uuid": ["6f9619ff-8b86-4011-b42d-00c04fc964ff", "00000000-0000-4000-8000-000000000000"],
    "binary": ["00ff", "27", "5c5c", "0a0d"],
}  # fmt: skip


@pytest.fixture(scope="module", params=SORTS)
def sort(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(scope="module")
def running(sort: str) -> Iterator[str]:
    with server("mariadb" if sort == "general" else sort) as url:
        yield url


@pytest.fixture
def database(sort: str, running: str) -> Iterator[Database]:
    found = Database("mariadb" if sort == "general" else sort, running)
    if sort == "general":
        found.ask(f"ALTER DATABASE {found.name} CHARACTER SET utf8mb4")
        found.url = found.url.replace("mariadb://", "mysql+pymysql://")
    yield found
    found.drop()


def sent(
    space: Space,
    database: Database,
    kinds: dict[str, str],
    rows: list[list[str | None]],
    more: str = "",
    *,
    create: bool,
) -> Any:
    """Load rows of canonical texts; the result, with its exit code."""
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    columns = "".join(
        f'[columns.{name}]\nkind = "{kind}"\n' + ('blank = "never"\n' if name == "k" else "")
        for name, kind in kinds.items()
    )
    layout = 'null_words = ["∅"]\ntime_forms = ["%H:%M:%S", "%H:%M:%S.%f"]\ntimestamp_forms = ["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f"]'
    space.charter(f'table = "t"\n[delivery]\nfiles = "t.csv"\n[delivery.layout]\n{layout}\n{more}\n{columns}', "t")
    cells = [
        ["∅" if cell is None else f'"{cell}"'.replace('"""', '""""""') if cell != '"' else '""""' for cell in row]
        for row in rows
    ]
    space.write("t.csv", "\n".join([",".join(kinds), *(",".join(row) for row in cells)]) + "\n")
    ended = space.run("load", "t", "--json", *(["--create"] if create else []))
    assert "loads" in ended.json, ended.text
    return ended.json["loads"][0] | {"exit": ended.code}


def back(database: Database, table: str, column: str, written: str) -> list[str | None]:
    """A column as the place gives it back, as canonical texts."""
    kind = parse_kind(written)
    place = connect("there", database.url, Path())
    try:
        place.expect(table, {"n": parse_kind("integer"), column: kind})
        found = [
            as_kind(batch.column(0), kind)
            for batch in place.stream(f"SELECT {quoted(column)} {place.rowset(table)} ORDER BY {quoted('n')}")
        ]
        return [text for array in found for text in as_texts(array).to_pylist()]
    finally:
        place.close()


@pytest.mark.parametrize("written", EDGES)
def test_every_kind_comes_back_from_a_table_of_ours(space: Space, database: Database, sort: str, written: str) -> None:
    values: list[str | None] = [*EDGES[written], None]
    if sort in {"general", "mariadb"}:
        values = [value for value in values if value != "0001-01-01 00:00:00" or sort == "mariadb"]
    kinds = {"n": "integer", "v": written}

    load = sent(space, database, kinds, [[str(at), value] for at, value in enumerate(values)], create=True)

    assert load["exit"] == 0, load
    read = read_column(
        pa.array(values, pa.string()), parse_kind(written), CANONICAL if written != "boolean" else UNTYPED
    ).values
    assert back(database, "t", "v", written) == as_texts(read).to_pylist()
    assert space.run("reconcile", "t").code == 0


# by database: the type by hand, the kind, a value that it holds and one that it does not, and what is said of that
HAND: list[tuple[str, str, str, str | None, str | None, str]] = [
    ("postgresql", "timestamp(0)", "timestamp", "2026-06-01 10:20:30", "2026-06-01 10:20:30.5", "whole seconds"),
    ("postgresql", "time(3)", "time", "10:20:30.125000", "10:20:30.000125", "3 digits of a second"),
    ("postgresql", "real", "real", "0.5", "1e300", "32 bits"),
    ("postgresql", "real", "real", "-1024", "0.1", "32 bits"),
    ("postgresql", "char(5)", "text(5)", "abcde", "ab ", "spaces at the end"),
    ("postgresql", "text NOT NULL", "text", "", None, "may not be null"),
    ("postgresql", "smallint", "integer", "-32768", "32768", "-32,768 to 32,767"),
    ("postgresql", "integer CHECK (v < 5)", "integer", "4", "5", "check constraint"),
    ("duckdb", "FLOAT", "real", "0.25", "0.1", "32 bits"),
    ("duckdb", "UTINYINT", "integer", "255", "-1", "0 to 255"),
    ("duckdb", "VARCHAR NOT NULL", "text", "a", None, "may not be null"),
    ("duckdb", "ENUM('a', 'B')", "text", "B", "b", "it holds a, B"),
    ("duckdb", "INTEGER CHECK (v < 5)", "integer", "4", "5", "CHECK"),
    ("mariadb", "int auto_increment unique", "integer", "0", None, "may not be null"),
    ("mariadb", "enum('a','B') character set utf8mb4", "text", "B", "b", "it holds a, B"),
    ("mariadb", "enum('a','B')", "text", "a", "1", "it holds a, B"),
    ("mariadb", "binary(4)", "binary", "00ff00ff", "00ff", "4 bytes"),
    ("mariadb", "double(7,2)", "real", None, "1.25", "does not hold real"),
    ("mariadb", "float", "real", "0.5", "0.1", "32 bits"),
    ("mariadb", "timestamp not null", "timestamptz", "2026-06-01 10:20:30Z", None, "may not be null"),
    ("mariadb", "datetime(2)", "timestamp", "2026-06-01 10:20:30.120000", "2026-06-01 10:20:30.123", "2 digits"),
    ("mariadb", "char(5)", "text(5)", "ab", "ab ", "spaces at the end"),
    ("mariadb", "tinyint unsigned", "integer", "255", "256", "0 to 255"),
    ("mariadb", "int check (v < 5)", "integer", "4", "5", "CONSTRAINT"),
    ("sqlite", "REAL", "integer", "9007199254740992", "9007199254740993", "53 bits"),
    ("sqlite", "REAL", "decimal(20,2)", "1234567890123.45", "123456789012345678.12", "15 digits"),
    ("sqlite", "NUMERIC", "decimal(15,5)", "0.00005", None, ""),
    ("sqlite", "TEXT NOT NULL", "text", "a", None, "may not be null"),
    ("sqlite", "INTEGER CHECK (v < 5)", "integer", "4", "5", "CHECK"),
    ("general", "float", "real", "0.5", "0.1", "32 bits"),
    ("general", "datetime", "timestamp", "2026-06-01 10:20:30", "2026-06-01 10:20:30.5", "whole seconds"),
    ("general", "enum('a','B')", "text", "a", "A", "it holds a, B"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("place", "of", "kind", "good", "bad", "told"), HAND, ids=[f"{row[0]} {row[1]} {row[4]}" for row in HAND]
)
def test_a_table_made_by_hand_gives_back_what_was_sent_or_the_load_fails(
    space: Space,
    request: pytest.FixtureRequest,
    place: str,
    of: str,
    kind: str,
    good: str | None,
    bad: str | None,
    told: str,
) -> None:
    with server("mariadb" if place == "general" else place) as url:
        database = Database("mariadb" if place == "general" else place, url)
        request.addfinalizer(database.drop)
        database.ask(f"CREATE TABLE t (n integer, v {of})")
        if place == "general":
            database.url = database.url.replace("mariadb://", "mysql+pymysql://")
        kinds = {"n": "integer", "v": kind}
        if good is not None:
            load = sent(space, database, kinds, [["1", good]], create=False)
            assert load["exit"] == 0, load
            read = read_column(pa.array([good]), parse_kind(kind), CANONICAL).values
            assert back(database, "t", "v", kind) == as_texts(read).to_pylist()
        if told:
            refused = sent(space, database, kinds, [["2", good or "1.5"], ["3", bad]], create=False)
            assert refused["exit"] == 3, refused
            assert told in refused["message"], refused["message"]
            assert (
                bad is None
                or kind == "binary"
                or bad.rstrip("Z ") in refused["message"]
                or "e300" in bad
                or "hold real" in told
            ), refused["message"]
            assert database.ask("SELECT count(*) FROM t") == [(int(good is not None),)]


@pytest.mark.parametrize(
    ("place", "of"),
    [("sqlite", "TEXT COLLATE NOCASE"), ("sqlite", "TEXT COLLATE RTRIM"), ("duckdb", "VARCHAR COLLATE NOCASE"), ("mariadb", "text"),
     ("postgresql", "text COLLATE folding")],
)  # fmt: skip
def test_a_merge_goes_by_code_point_whatever_the_collation(
    space: Space, request: pytest.FixtureRequest, place: str, of: str
) -> None:
    with server(place) as url:
        database = Database(place, url)
        request.addfinalizer(database.drop)
        if place == "postgresql":
            database.ask("CREATE COLLATION folding (provider = icu, locale = 'und-u-ks-level1', deterministic = false)")
        database.ask(f"CREATE TABLE t (k {of}, v integer)")
        more = '[load]\nhow = "merge"\n[[keys]]\ncolumns = ["k"]'
        for rows in ([["a", "1"], ["b", "2"]], [["A", "3"], ["b ", "4"], ["b", "5"]]):
            load = sent(space, database, {"k": "text", "v": "integer"}, rows, more, create=False)  # type: ignore[arg-type]
            assert load["exit"] == 0, load

        assert sorted(database.ask("SELECT k, v FROM t"), key=str) == [("A", 3), ("a", 1), ("b ", 4), ("b", 5)]


def test_what_is_none_of_its_column_in_sqlite_is_no_null(space: Space, request: pytest.FixtureRequest) -> None:
    database = Database("sqlite", "")
    request.addfinalizer(database.drop)
    rows: list[list[str | None]] = [[str(at), "7", "0.50", "abc"] for at in range(6)]
    kinds = {"n": "integer", "w": "integer", "d": "decimal(6,2)", "x": "text"}
    assert sent(space, database, kinds, rows, create=True)["exit"] == 0
    for change in (
        "w = 'text' WHERE n = 0",
        "w = 1.5 WHERE n = 1",
        "w = 9e999 WHERE n = 2",
        "d = 'x' WHERE n = 3",
        "x = 'abc' || char(0) || 'd' WHERE n = 4",
    ):
        database.ask(f"UPDATE t SET {change}")
        assert space.run("reconcile", "t").code == 1, change
        database.ask("UPDATE t SET w = 7, d = 0.5, x = 'abc'")
        assert space.run("reconcile", "t").code == 0
    database.ask("UPDATE t SET w = NULL WHERE n = 0")
    assert space.run("reconcile", "t").code == 1


def test_a_small_decimal_in_sqlite_is_judged_by_its_value(space: Space, request: pytest.FixtureRequest) -> None:
    database = Database("sqlite", "")
    request.addfinalizer(database.drop)
    more = '[[rules]]\nname = "large"\neach = "v >= 1"'
    assert (
        sent(space, database, {"n": "integer", "v": "decimal(8,5)"}, [["1", "0.00005"]], more, create=True)["exit"] == 1
    )
    space.charter(
        (space.root / "charters/t.toml").read_text().replace("v >= 1", "v < 1") + '[columns.b]\nkind = "binary"\n', "t"
    )
    database.ask("ALTER TABLE t ADD COLUMN b BLOB")
    database.ask("INSERT INTO t VALUES (2, 0.00005, x'00ff')")

    assert space.judge("t")["verdict"] == "pass"
