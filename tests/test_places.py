"""What holds in every place: the whole path, the meaning of conditions and fingerprints, and all or nothing."""

from __future__ import annotations

import contextlib
import datetime
import random
import signal
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

from conftest import DAY, SETTINGS, TICKETS, Space, without_kernel
from nomotheta.conditions import Kind, Node, build, check, decimal, quoted
from nomotheta.errors import PlaceError
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.layout import CANONICAL
from nomotheta.load import stage
from nomotheta.place.base import Place
from nomotheta.place.connect import connect
from nomotheta.place.marks import forget_files
from nomotheta.place.render import Now
from nomotheta.rules.anew import Anew, Column, as_kind
from servers import Database, server
from test_conditions import KINDS, MEANS, NOW, ROW, WHOLES

GOOD = "ticket_no;fare;sold_on\nT001;1,50;01.06.2026\nT002;n/a;02.06.2026\nT003;3,00;\n"
SORTS = [
    "duckdb",
    "postgresql",
    "mariadb",
    "sqlite",
    "delta",
    "general",
]  # the last is MariaDB behind a dialect of SQLAlchemy


@pytest.fixture(scope="module", params=SORTS)
def sort(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(scope="module")
def running(sort: str) -> Iterator[str]:
    with server("mariadb" if sort == "general" else sort) as url:
        yield url


def made(sort: str, running: str) -> Database:
    found = Database("mariadb" if sort == "general" else sort, running)
    if sort == "general":
        found.ask(f"ALTER DATABASE {found.name} CHARACTER SET utf8mb4")
        found.url = found.url.replace("mariadb://", "mysql+pymysql://")
    return found


@pytest.fixture
def database(sort: str, running: str) -> Iterator[Database]:
    found = made(sort, running)
    yield found
    found.drop()


@pytest.fixture(scope="module")
def place(sort: str, running: str) -> Iterator[Place]:
    """A place that a module shares, with a table of one row of every kind, one of three numbers and one of texts."""
    database = made(sort, running)
    found = connect("there", database.url, Path(), create=True)
    fill(found, "means", KINDS, [[ROW[name]] for name in KINDS])
    fill(found, "numbers", {"v": Kind("integer")}, [[10, 20, None]])
    fill(found, "written", {"v": Kind("text"), "n": Kind("integer")}, [WRITTEN, list(range(len(WRITTEN)))])
    fill(found, "texts", {"v": Kind("text"), "n": Kind("integer")}, [BLANKS, list(range(len(BLANKS)))])
    yield found
    found.close()
    database.drop()


@pytest.fixture
def there(space: Space, database: Database) -> Space:
    """The workspace of the tickets, whose place is that database."""
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    return space


def fill(place: Place, table: str, kinds: dict[str, Kind], columns: list[list[Any]]) -> None:
    schema = pa.schema([(name, arrow_type(kind)) for name, kind in kinds.items()])
    rows = pa.table([pa.array(values, of.type) for values, of in zip(columns, schema, strict=True)], schema)
    place.create(table, kinds)
    with place.transaction(table):
        assert place.append(table, list(kinds), iter(rows.to_batches()), schema) == len(columns[0])


@pytest.mark.parametrize("gathered", [False, True])
def test_rows_for_which_a_load_was_rolled_back_are_beside_its_page(there: Space, gathered: bool) -> None:
    rule = '[[rules]]\nname = "not dear"\neach = "fare <= 50"\n[[keys]]'
    there.charter(
        TICKETS.replace("[[keys]]", rule).replace(
            "[load]", "[load]\nstaging = { rows = 1000 }" if gathered else "[load]"
        )
    )
    there.write("reports/index.html", "")  # so that pages are kept
    rows = "".join(f"T{at:03};{at},00;01.06.2026\n" for at in range(80))
    there.tickets("ticket_no;fare;sold_on\n" + rows)

    assert "rolled back" in there.run("run", "--day", DAY, "--create").text

    page = next((there.root / "reports").glob("run-1-*.html")).read_text()
    written = (there.root / f"reports/breaks/run-1-{DAY}-tickets.csv").read_text().splitlines()
    assert [line.split(",")[:3] for line in written[1:]] == [
        ['"not dear"', f'"T{at:03}"', f"{at}.00"] for at in range(51, 80)
    ]
    assert f'href="breaks/run-1-{DAY}-tickets.csv"' in page


def test_the_whole_path_ends_as_it_does_on_duckdb(there: Space, database: Database) -> None:
    text = GOOD + "T001;9,00;03.06.2026\nx;1,00;01.06.2026\nT004;zwei;01.06.2026\nT005;1;2;3\n"
    there.tickets(text)
    there.tickets("ticket_no;fare;sold_on\nT002;5,00;01.06.2026\nT006;6,00;01.06.2026\n", "2026-06-02")

    first, second = there.load(), there.load(day="2026-06-02")

    counts = ("records", "loaded", "rejected", "conflicts", "before", "after")
    assert [first["balance"][name] for name in counts] == [7, 3, 3, 1, 0, 3]
    assert [second["balance"][name] for name in counts] == [2, 1, 0, 1, 3, 4]
    rows = database.ask("SELECT ticket_no, fare, sold_on FROM tickets ORDER BY 1")
    assert [(number, fare and Decimal(str(fare)), day and str(day)) for number, fare, day in rows] == [
        ("T001", Decimal("1.50"), "2026-06-01"), ("T002", None, "2026-06-02"), ("T003", 3, None),
        ("T006", 6, "2026-06-01"),
    ]  # fmt: skip
    assert there.judge()["verdict"] == "pass"
    assert there.run("reconcile", "tickets").code == 0
    assert there.load()["verdict"] == "fail"  # the same content again

    database.ask("UPDATE tickets SET fare = 7 WHERE ticket_no = 'T006'")
    found = there.run("reconcile", "tickets")
    assert found.code == 1
    assert "T006" in found.out


def test_a_rule_that_fails_undoes_all_of_it(there: Space, database: Database) -> None:
    there.charter(TICKETS + '[[rules]]\nname = "enough"\nwhole = "sum(fare) > 100"\n')
    there.tickets(GOOD)

    load = there.load()

    assert load["exit"] == 1
    assert database.ask("SELECT count(*) FROM tickets") == [(0,)]
    with opened(there, database.url) as place:
        assert place.marks("tickets") == []


def test_overwriting_replaces_a_slice_and_leaves_the_rest(sort: str, there: Space, database: Database) -> None:
    charter = TICKETS.replace('tolerate = "all"', 'tolerate = "all"\nhow = "overwrite"\nslice = "sold_on = :day"')
    there.charter(charter)
    there.tickets("ticket_no;fare;sold_on\nT001;1;01.06.2026\n")
    there.tickets("ticket_no;fare;sold_on\nT002;1;02.06.2026\n", "2026-06-02")
    if sort == "general":
        assert "a primary key" in there.run("load", "tickets", "--day", DAY, "--create").text
        return
    there.load()
    there.load(day="2026-06-02")
    there.tickets("ticket_no;fare;sold_on\nT007;2;01.06.2026\nT008;2;01.06.2026\n")

    balance = there.load()["balance"]

    assert [balance[name] for name in ("before", "removed", "loaded", "after")] == [2, 1, 2, 3]
    assert [number for (number,) in database.ask("SELECT ticket_no FROM tickets ORDER BY 1")] == [
        "T002", "T007", "T008",
    ]  # fmt: skip


def test_a_second_load_into_a_table_is_told_so(sort: str, database: Database) -> None:
    if sort in {"general", "duckdb"}:
        pytest.skip("the locks of one are its own affair, and the file of the other is locked by a process")
    url = database.url + "?lock_wait_timeout=0" * (sort == "sqlite")
    first, second = (connect("there", url, Path(), create=True) for _ in range(2))

    with first.transaction("t"), pytest.raises(PlaceError, match=r"under way, by|is locked"), second.transaction("t"):
        pass
    with second.transaction("t"):
        pass

    first.close()
    second.close()


def test_what_a_column_does_not_hold_ends_the_load(sort: str, there: Space, database: Database) -> None:
    there.charter(
        'table = "t"\n[delivery]\nfiles = "t.csv"\n[columns.n]\nkind = "integer"\n[columns.d]\nkind = "decimal(20,2)"\n',
        "t",
    )
    there.write("t.csv", "n,d\n1,1.5\n3000000000,123456789012345678.12\n")
    database.ask("CREATE TABLE t (n integer, d numeric(20,2))")

    found = there.run("load", "t")

    told = {
        "postgresql": "t.csv:3: 3000000000 does not fit 'n', which is integer", "duckdb": "t.csv:3: 3000000000 does not fit 'n'",
        "mariadb": "t.csv:3: 3000000000 does not fit 'n'", "delta": "t.csv:3: 3000000000 does not fit 'n'", "sqlite": "t.csv:3: 123456789012345678.12 does not fit 'd'",
        "general": "Out of range value for column 'n'",
    }  # fmt: skip
    assert found.code == 3
    assert told[sort] in found.text
    assert database.ask("SELECT count(*) FROM t") == [(0,)]


def test_a_constraint_that_the_charter_does_not_know_undoes_the_load_in_words(
    there: Space, database: Database, sort: str
) -> None:
    if sort == "delta":
        pytest.skip("a Delta table knows of no unique values")
    database.ask("CREATE TABLE tickets (ticket_no varchar(9), fare numeric(8,2), sold_on date, load_no bigint)")
    database.ask("CREATE UNIQUE INDEX one_a_day ON tickets (sold_on)")
    there.tickets(GOOD + "T004;1,00;01.06.2026\n")

    found = there.run("load", "tickets", "--day", DAY)

    assert found.code == 3
    assert "unique" in found.text.lower() or "duplicate" in found.text.lower()
    assert database.ask("SELECT count(*) FROM tickets") == [(0,)]


def test_capitals_and_accents_make_keys_of_their_own(there: Space) -> None:
    there.charter(
        'table = "Select"\n[delivery]\nfiles = "t.csv"\n[columns."group"]\nkind = "text(9)"\n'
        '[[keys]]\ncolumns = ["group"]\n', "names"
    )  # fmt: skip
    there.write("t.csv", "group\na\nA\n\u00e1\n\u00e5\n\U0001f6a2\n'\\ b\n")

    load = there.load(table="Select")

    assert load["balance"]["loaded"] == 6
    assert there.judge("Select")["verdict"] == "pass"
    assert there.run("reconcile", "Select").code == 0


def test_a_load_killed_at_any_moment_comes_right_with_the_next(sort: str, there: Space, database: Database) -> None:
    if sort == "general":
        pytest.skip("it is MariaDB again")
    killed_often(there, database.url)


def test_a_load_in_batches_killed_at_any_moment_comes_right_with_the_next(space: Space) -> None:
    database = Database("sqlite", "")
    killed_often(space, database.url, 10, "staging = { rows = 2000 }\n")
    database.drop()


def killed_often(there: Space, url: str, times: int = 18, more: str = "") -> None:
    """Loads are killed at random moments; the table holds all or nothing each time, and the ledger learns of it."""
    rows = 20_000
    charter = TICKETS.replace("text(4)", "text(7)").replace("[0-9]{3}", "[0-9]{6}")
    there.charter(charter.replace("[load]\n", f"[load]\n{more}"))
    there.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", url))
    there.tickets("ticket_no;fare;sold_on\n" + "".join(f"T{at:06d};1,00;01.06.2026\n" for at in range(rows)))
    chance, command = random.Random(4), [sys.executable, "-m", "nomotheta", "load", "tickets", "--day", DAY, "--create"]
    started = time.monotonic()
    subprocess.run(command, cwd=there.root, check=True, capture_output=True)
    usual = time.monotonic() - started
    stood = 0

    for at in range(times):
        with opened(there, url) as place, place.transaction("tickets"):
            place.delete("tickets", None)
            for mark in place.marks("tickets"):
                place.unmark(mark)
                forget_files(place, mark, Now(datetime.datetime.now(datetime.UTC), mark.day))
        running = subprocess.Popen(command, cwd=there.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(
            usual * chance.uniform(0.3, 1.1) * (1 if stood else 1 + at / 25)
        )  # on a busy machine it takes longer
        running.send_signal(signal.SIGKILL)
        running.wait()
        with opened(there, url) as place, eventually(place) as count:
            assert count in {0, rows}
            assert len(place.marks("tickets")) == count // rows
        if count:
            stood += 1
            assert there.run("load", "tickets", "--day", DAY).code == 1  # it was loaded before
            entries = there.run("ledger", "--last", "999", "--json").json["entries"]
            assert sum(each["verdict"] == "pass" for each in entries) == stood + 1
    found = there.run("load", "tickets", "--day", DAY)

    assert found.code in {0, 1}
    with opened(there, url) as place:
        keys = place.fetch('SELECT count(*) AS n, count(DISTINCT "ticket_no") AS d FROM "tickets"').to_pylist()
    assert keys == [{"n": rows, "d": rows}]
    assert times < 50 or 0 < stood < times  # some were killed before their commit, and some after


def test_the_rows_afterwards_are_what_the_transaction_left(sort: str, database: Database) -> None:
    if sort == "general":
        pytest.skip("there, rows that meet a condition can be removed only by a primary key")
    place = connect("there", database.url, Path(), create=True)
    fill(place, "t", {"v": Kind("integer")}, [[1, 2, 3]])
    fill(place, "u", {"v": Kind("integer")}, [[1]])
    schema = pa.schema([("v", pa.int64())])
    counted: list[str] = []
    counts = place.count

    def count(table: str, where: str | None = None) -> int:
        counted.append(table)
        return counts(table, where)

    place.count = count  # type: ignore[method-assign]
    reckons = sort in {"postgresql", "mariadb"}
    with place.transaction("t"):
        assert place.delete("t", '"v" = 1') == 1
        assert place.append("t", ["v"], iter(pa.table([pa.array([4, 5])], schema).to_batches()), schema) == 2
        assert place.count_after("t", 3, 1, 2) == 4
        assert bool(counted) != reckons
    with place.transaction("t"):  # what it is told is not what has happened
        place.delete("t", '"v" = 2')
        assert place.count_after("t", 4, 0, 0) == 3
        assert "t" in counted
        if sort != "delta":  # where a transaction changes one table
            place.delete("u", None)
        place.append("t", ["v"], iter(pa.table([pa.array([6])], schema).to_batches()), schema)
        counted.clear()
        assert place.count_after("t", 4, 1, 1) == 4
        assert bool(counted) != (sort == "postgresql")  # which keeps account of each table
    place.close()


@contextlib.contextmanager
def opened(there: Space, url: str) -> Iterator[Place]:
    for _ in range(100):  # a server, or the lock of a file, notices a moment later that its client is gone
        with contextlib.suppress(PlaceError):
            place = connect("there", url, there.root)
            break
        time.sleep(0.05)
    try:
        yield place
    finally:
        place.close()


@contextlib.contextmanager
def eventually(place: Place) -> Iterator[int]:
    """The rows of the tickets, once a server has noticed that whoever loaded them is gone."""
    for _ in range(100):
        with contextlib.suppress(PlaceError), place.transaction("tickets"):
            break
        time.sleep(0.05)
    yield place.count("tickets")


# ---- the same meaning


NUMBERS = [Kind("integer"), decimal(8, 2), decimal(4, 4), decimal(3, 0), decimal(38, 0), decimal(38, 10)]


@pytest.mark.parametrize("kind", NUMBERS, ids=str)
def test_a_text_is_cast_to_the_number_that_loading_would_read_or_to_null(place: Place, kind: Kind) -> None:
    asked = place.render(check(f"cast(v as {kind}) is null", {"v": Kind("text")}), NOW)
    cast = asked.removeprefix("(").removesuffix(" IS NULL)")
    found = place.fetch(f"SELECT {cast} AS v {place.rowset('written')} ORDER BY {quoted('n')}").column("v").to_pylist()
    read = read_column(pa.array(WRITTEN, pa.string()), kind, CANONICAL).values.to_pylist()

    assert dict(zip(WRITTEN, found, strict=True)) == dict(zip(WRITTEN, read, strict=True))


def test_rows_are_counted_all_of_them_or_those_that_a_condition_holds_for(place: Place) -> None:
    assert [place.count("numbers"), place.count("numbers", f"{quoted('v')} > 10")] == [3, 1]


@pytest.mark.parametrize(("text", "answer"), MEANS, ids=[row[0] for row in MEANS])
def test_a_condition_means_the_same(place: Place, text: str, answer: bool | None) -> None:
    assert answered(place, "means", check(text, KINDS), KINDS) == [answer]


@pytest.mark.parametrize(("text", "answer"), WHOLES)
def test_a_whole_means_the_same(place: Place, text: str, answer: bool | None) -> None:
    kinds = {"v": Kind("integer")}

    assert answered(place, "numbers", check(text, kinds, "whole"), kinds) == [answer]


def test_blank_means_the_same(place: Place) -> None:
    node = build.not_blank("v", Kind("text"))
    white = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2028\u2029\u202f\u205f\u3000" + "".join(map(chr, range(0x2000, 0x200B)))

    found = answered(place, "texts", node, {"v": Kind("text"), "n": Kind("integer")}, order='"n"')

    assert found == [text is not None and text.strip(white) != "" for text in BLANKS]


def answered(place: Place, table: str, node: Node, kinds: dict[str, Kind], order: str = "1") -> list[bool | None]:
    """What a condition comes to, asked of whoever judges it: what a place means in another way, it does not judge."""
    columns = {table: [Column(name, kind) for name, kind in kinds.items()]}
    by = Anew(place, columns) if place.differs(node) == () else place
    sql = f"SELECT {by.render(node, NOW)} AS met {by.rowset(table)} ORDER BY {order}"
    rows = by.fetch(sql).column("met").to_pylist()
    return [None if met is None else bool(met) for met in rows]


WRITTEN = [
    None, "", " ", "1", "+1", "-1", " 1", "1 ", "1\n", "007", "0" * 70 + "1", "-" + "0" * 70 + "12.50", "1.", ".5", "-.5", "+.50", "1.5",
    "1.50", "1.500000000000000000000", "1.505", "1.0000", "0.00001", "0.0001", "999", "1000", "999999.99", "1000000", "-999999.99",
    "9223372036854775807", "9223372036854775808", "-9223372036854775808", "-9223372036854775809", "9" * 28 + "." + "9" * 10, "9" * 38,
    "-" + "9" * 38, "1" + "0" * 38, "1" + "0" * 69, "9" * 200, "1e3", "0x10", "1_000", "1,5", "abc", "--1", "+", "-", ".", "Infinity", "NaN", "٣",
]  # fmt: skip
BLANKS = ["", " ", "\t", "\u3000", "\u00a0 ", "a", " a ", "é", "字", "\u200b", "\x1f", None]
MOMENT = datetime.datetime(2026, 2, 28, 23, 59, 59, 120000)
NASTY: dict[Kind, list[Any]] = {
    Kind("text"): ["", " ", "é|:", "'\\", "a\nb", "\U0001f6a2", None, "NULL"],
    Kind("text", 9): ["x", "", None, "äöü", "1", "a", "b", "c"],
    Kind("integer"): [0, -1, 2**63 - 1, -(2**63), None, 7, 8, 9],
    decimal(38, 5): [Decimal("0"), Decimal("-0.00001"), Decimal(10) ** 32, None, *map(Decimal, ("1", "1.5", "-2", "3"))],
    Kind("real"): [0.5, -1e300, None, 1.0, 2.0, 3.0, 4.0, 5.0],
    Kind("boolean"): [True, False, None, True, True, False, True, False],
    Kind("date"): [datetime.date(1, 1, 1), datetime.date(9999, 12, 31), None, *[datetime.date(2024, 2, 29)] * 5],
    Kind("time"): [datetime.time(0), datetime.time(23, 59, 59, 999999), None, *[datetime.time(1, 2, 3, 500000)] * 5],
    Kind("timestamp"): [MOMENT, datetime.datetime(1, 1, 1), None, *[MOMENT.replace(microsecond=0)] * 5],
    Kind("timestamptz"): [MOMENT.replace(tzinfo=datetime.UTC), None, *[MOMENT.replace(hour=1, tzinfo=datetime.UTC)] * 6],
    Kind("uuid"): [str(uuid.UUID(int=at * 3**70 % 2**128, version=4)) for at in range(7)] + [None],
    Kind("binary"): [b"", b"\x00\xff", None, b"a", b"b", b"c", b"d", b"e"],
}  # fmt: skip


@pytest.mark.parametrize("compiled", [True, False], ids=["kernel", "no kernel"])
def test_every_kind_goes_in_and_comes_out_with_the_same_fingerprint(
    sort: str, database: Database, compiled: bool
) -> None:
    if compiled:
        goes_in_and_comes_out(sort, database)
        return
    with without_kernel():
        goes_in_and_comes_out(sort, database)


def goes_in_and_comes_out(sort: str, database: Database) -> None:
    place = connect("there", database.url, Path(), create=True)
    strange = 'Select."Ünïcode" table' if sort == "postgresql" else '"Ünïcode" table'
    kinds = {f'c {at} é"': kind for at, kind in enumerate(NASTY)}
    schema = pa.schema([(name, arrow_type(kind)) for name, kind in kinds.items()])
    table = pa.table([pa.array(NASTY[kind], arrow_type(kind)) for kind in kinds.values()], schema)
    duck = memory()

    found = []
    for each, name in ((place, strange), (duck, "t")):
        each.create(name, kinds)
        with each.transaction(name):
            parts = [batch for part in (table.slice(0, 3), table.slice(3)) for batch in part.to_batches()]
            assert each.append(name, list(kinds), iter(parts), schema) == 8
        prints = each.fingerprint
        hashed = {column: kind for column, kind in kinds.items() if kind.name != "real"}
        row = each.fetch(f"SELECT {prints.hash_sum(hashed)} AS h {each.rowset(name)}").to_pylist()[0]
        buckets = each.fetch(f"SELECT {prints.bucket(hashed, 1024)} AS b {each.rowset(name)}").column("b").to_pylist()
        rows = each.fetch(f"SELECT {prints.row_hash(hashed)} AS h {each.rowset(name)}").column("h").to_pylist()
        found.append((int(row["h"]), sorted(buckets), sorted(map(int, rows))))
        unlike = {"uuid": "text"} if sort == "general" and each is place else {}
        assert [column.kind.name if column.kind else None for column in each.columns(name) or []] == [
            unlike.get(kind.name, kind.name) for kind in kinds.values()
        ]
        assert each.missing(name, table.select([next(iter(kinds))]).slice(1, 1)) == 0
        (texts,) = each.stream(f"SELECT {', '.join(map(quoted, kinds))} {each.rowset(name)}")
        back = [as_kind(column, kind) for column, kind in zip(texts.columns, kinds.values(), strict=True)]
        for column, kind in zip(back, kinds.values(), strict=True):
            wanted = pa.array(NASTY[kind], arrow_type(kind)).to_pylist()  # a table has no order
            assert sorted(map(repr, column.to_pylist())) == sorted(map(repr, wanted)), kind

    assert found[0] == found[1]
    assert place.tables() == [strange]
    place.close()
    duck.close()


def memory() -> Place:
    from nomotheta.place.embedded.duckdb import DuckPlace

    return DuckPlace("d", None)


MERGED = TICKETS.replace('tolerate = "all"', 'tolerate = "all"\nhow = "merge"').replace(
    '[columns.load_no]', '[columns.note]\nkind = "text"\n[columns.load_no]'
)  # fmt: skip


def test_a_merge_adds_changes_and_leaves_rows_by_their_key(sort: str, there: Space, database: Database) -> None:
    there.charter(MERGED)
    head = "ticket_no;fare;sold_on;note\n"
    there.tickets(head + "T001;1,50;01.06.2026;a\nT002;n/a;02.06.2026;\nT003;3,00;;c\n")
    first = there.run("load", "tickets", "--day", DAY, "--create", "--json")
    if sort == "general":
        assert "rows cannot be merged" in first.text
        return
    there.tickets(
        head + "T001;1,50;01.06.2026;A\nT002;n/a;02.06.2026;\nT003;;;c\nT004;9,00;;\nT004;8,00;;\nT005;x;;\n",
        "2026-06-02",
    )

    balance = there.load(day="2026-06-02")["balance"]

    names = ("how", "records", "loaded", "rejected", "conflicts", "inserted", "updated", "unchanged", "before", "after")
    assert [balance[name] for name in names] == ["merge", 6, 4, 1, 1, 1, 2, 1, 3, 4]
    rows = database.ask("SELECT ticket_no, fare, note, load_no FROM tickets ORDER BY 1")
    assert [(number, fare and float(fare), note, load) for number, fare, note, load in rows] == [
        ("T001", 1.5, "A", 2), ("T002", None, None, 1), ("T003", None, "c", 2), ("T004", 9.0, None, 2),
    ]  # fmt: skip
    assert there.judge()["verdict"] == "pass"
    assert there.run("reconcile", "tickets").code == 0
    database.ask("UPDATE tickets SET fare = 2 WHERE ticket_no = 'T002'")
    found = there.run("reconcile", "tickets")
    assert found.code == 1
    assert "T002" in found.out


def test_a_merge_into_a_table_whose_key_is_none_is_refused(sort: str, there: Space, database: Database) -> None:
    if sort == "general":
        pytest.skip("it does not merge")
    there.charter(MERGED)
    database.ask(
        "CREATE TABLE tickets (ticket_no varchar(9), fare numeric(8,2), sold_on date, note text, load_no bigint)"
    )
    database.ask("INSERT INTO tickets (ticket_no) VALUES ('T001'), ('T001'), ('T009')")
    there.tickets("ticket_no;fare;sold_on;note\nT001;1,50;01.06.2026;\n")

    found = there.run("load", "tickets", "--day", DAY)

    assert "the table has 1 row with a repeated key" in found.text
    assert database.ask("SELECT count(*) FROM tickets") == [(3,)]


def test_a_whole_number_beyond_64_bits_in_a_column_of_texts_breaks_its_kind(there: Space, database: Database) -> None:
    there.charter('table = "w"\n[columns.n]\nkind = "integer"\n', "w")
    database.ask("CREATE TABLE w (n varchar(40))")
    ends = (
        "-9223372036854775808", "9223372036854775807", "-9223372036854775809", "9223372036854775808",
        "1" + "0" * 30,
    )  # fmt: skip
    database.ask(f"INSERT INTO w VALUES {', '.join(f'({end!r})' for end in ends)}")

    found = there.judge("w")["n is integer"]

    assert (found["rows"], found["breaks"]) == (5, 3)


LISTS = {"i": "bigint", "n": "numeric(8,2)", "t": "varchar(20)", "d": "date", "r": "double precision"}
REFERRED = [
    ("i", "n"), ("i", "t"), ("n", "i"), ("n", "t"), ("t", "i"), ("t", "d"), ("d", "t"), ("i", "r"), ("t", "n"), ("d", "i"),
]  # fmt: skip


def test_a_reference_means_the_same_everywhere_or_is_an_error(sort: str, there: Space, database: Database) -> None:
    kinds = {"i": "integer", "n": "decimal(8,2)", "t": "text", "d": "date"}
    rows = [(1, "1.00", "'1'", "'2026-06-01'"), (2, "2.50", "'2026-06-01'", "'2026-06-02'"), (3, "3.00", "'x'", "null")]
    columns = "".join(f'[columns.{name}]\nkind = "{kind}"\n' for name, kind in kinds.items())
    references = "".join(f'[[references]]\ncolumns = ["{one}"]\nlisted_in = "l{other}(v)"\n' for one, other in REFERRED)
    there.charter(f'table = "w"\n{columns}{references}', "w")
    database.ask("CREATE TABLE w (i bigint, n numeric(8,2), t varchar(20), d date)")
    database.ask(f"INSERT INTO w VALUES {', '.join('({}, {}, {}, {})'.format(*row) for row in rows)}")
    for name, kind in LISTS.items():
        database.ask(f"CREATE TABLE l{name} (v {kind})")
        values = {"t": "('01'), ('2.5'), ('x'), ('2026-06-01')", "d": "('2026-06-01')"}.get(name, "(1), (3)")
        database.ask(f"INSERT INTO l{name} VALUES {values}")

    judged = there.judge("w")
    found = [judged[f"{one} is listed in l{other}(v)"] for one, other in REFERRED]

    breaks = [1, 2, 1, 1, 2, 2, 1, None, None, None]
    if sort == "sqlite":  # whose columns may hold numbers of any kind
        breaks[7] = 1
    assert [each["breaks"] for each in found] == breaks
    assert "such values cannot be compared" in found[-1]["message"]


NARROW = [
    "cast(n as decimal(4,2)) < 100",
    "cast(m as integer) < 9223372036854775807",
    "cast(m as decimal(5,1)) < 10000",
    "n * 4000000000000000 > n",
]


@pytest.mark.parametrize("rule", NARROW)
def test_a_number_that_a_kind_does_not_hold_is_an_error_of_the_rule(
    there: Space, database: Database, rule: str
) -> None:
    columns = '[columns.n]\nkind = "integer"\n[columns.m]\nkind = "decimal(38,0)"\n'
    there.charter(f'table = "w"\n{columns}[[rules]]\nname = "r"\neach = "{rule}"\n', "w")
    database.ask("CREATE TABLE w (n bigint, m numeric(38,0))")
    database.ask(f"INSERT INTO w VALUES (5000, {10**30})")

    assert there.judge("w")["r"]["verdict"] == "error"


def test_a_table_has_one_name_in_its_place(sort: str, there: Space, database: Database) -> None:
    if sort == "delta":
        pytest.skip("there, a schema is a folder, and no table is in two")
    there.tickets(GOOD)
    there.load()
    schema = {"duckdb": "main", "sqlite": "main", "postgresql": "public"}.get(sort, database.name)
    there.charter(TICKETS.replace('table = "tickets"', f'table = "{schema}.tickets"'))

    assert "is called tickets there" in there.load(table=f"{schema}.tickets")["message"]


NUMBERED = {
    "postgresql": "BIGINT GENERATED ALWAYS AS IDENTITY", "mariadb": "BIGINT AUTO_INCREMENT UNIQUE",
    "duckdb": "BIGINT DEFAULT 7", "sqlite": "BIGINT DEFAULT 7", "general": "BIGINT DEFAULT 7",
    "delta": "BIGINT DEFAULT 7",
}  # fmt: skip
TWICE = {
    "sqlite": "INTEGER AS (fare * 2)",
    "duckdb": "",
    "delta": "",
    "postgresql": "NUMERIC GENERATED ALWAYS AS (fare * 2) STORED",
}


def test_undo_puts_back_the_columns_that_no_charter_names(sort: str, there: Space, database: Database) -> None:
    there.charter(TICKETS.replace('tolerate = "all"', 'tolerate = "all"\nhow = "overwrite"\nkeep_previous = true'))
    day = "01.06.2026"
    there.tickets(f"ticket_no;fare;sold_on\nT001;1;{day}\nT002;2;{day}\nT003;3;{day}\n")
    there.load()
    twice = TWICE.get(sort, "DECIMAL(9,2) AS (fare * 2)")
    for column in ("remark VARCHAR(20)", f"numbered {NUMBERED[sort]}", f"twice {twice}" if twice else ""):
        database.ask(f"ALTER TABLE tickets ADD COLUMN {column}" if column else "SELECT 1")
    database.ask("UPDATE tickets SET remark = 'by hand' WHERE ticket_no <> 'T002'")
    database.ask("DELETE FROM tickets WHERE ticket_no = 'T001'")
    before = database.ask("SELECT * FROM tickets ORDER BY ticket_no")
    there.tickets(f"ticket_no;fare;sold_on\nT004;4;{day}\n")
    there.load()
    assert database.ask("SELECT remark FROM tickets") == [(None,)]

    ended = there.run("undo", "2")

    assert ended.code == 0, ended.text
    assert database.ask("SELECT * FROM tickets ORDER BY ticket_no") == before


def test_the_same_content_goes_in_again_where_it_is_meant(there: Space, database: Database) -> None:
    there.charter(TICKETS.replace('[[keys]]\ncolumns = ["ticket_no"]\n', ""))
    there.tickets(GOOD)
    there.load()

    assert "--even-if-loaded" in there.run("load", "tickets", "--day", DAY).text
    assert "would be loaded" in there.run("load", "tickets", "--day", DAY, "--rehearse", "--even-if-loaded").text
    again = there.load("--even-if-loaded")

    assert (again["balance"]["after"], again["despite"]) == (6, 1)
    assert "although load 1 brought the same content" in there.run("ledger", "--json").json["entries"][0]["summary"]


def test_a_rehearsal_leaves_nothing_behind(there: Space, database: Database) -> None:
    there.tickets(GOOD)
    there.load()
    there.tickets(GOOD.replace("T00", "T10"), "2026-06-02")
    before = len(there.run("ledger", "--json").json["entries"])

    found = there.run("load", "tickets", "--day", "2026-06-02", "--rehearse")

    assert found.code == 0, found.text
    assert "would be loaded" in found.text
    assert database.ask("SELECT count(*) FROM tickets") == [(3,)]
    assert len(there.run("ledger", "--json").json["entries"]) == before
    assert there.load(day="2026-06-02")["balance"]["after"] == 6


@pytest.mark.parametrize("staged", [False, True])
def test_two_workspaces_that_load_at_once_never_share_a_number(
    there: Space, database: Database, sort: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, *, staged: bool
) -> None:
    if staged:
        there.charter(STAGED.replace("text(7)", "text(4)").replace("[0-9]{6}", "[0-9]{3}"))
    other = Space(tmp_path / "other")
    for name in ("nomotheta.toml", "charters/tickets.toml"):
        other.write(name, (there.root / name).read_text())
    other.tickets("ticket_no;fare;sold_on\nT101;1,00;01.06.2026\n", "2026-06-02")
    there.tickets("ticket_no;fare;sold_on\nT001;x;01.06.2026\nT002;2,00;01.06.2026\n")
    first = there.load()
    with opened(there, database.url) as place:
        of, honest_number = type(place), type(place).next_load_no
    asked = iter([first["load_no"]])  # the other one asked for a number before this load was committed
    monkeypatch.setattr(of, "next_load_no", lambda place: next(asked, None) or honest_number(place))

    second = other.load(day="2026-06-02")

    assert (second["load_no"], second["balance"]["after"]) == (first["load_no"] + 1, 2)
    if sort == "general":  # which takes single rows out by a primary key only
        return
    assert other.run("undo", str(second["load_no"])).code == 0
    assert database.ask("SELECT ticket_no FROM tickets") == [("T002",)]
    assert there.run("undo", str(first["load_no"])).code == 0


def test_only_tables_that_a_load_has_made_are_dropped(there: Space, database: Database) -> None:
    there.charter(STAGED.replace("text(7)", "text(4)").replace("[0-9]{6}", "[0-9]{3}"))
    there.tickets("ticket_no;fare;sold_on\nT002;2,00;01.06.2026\n")
    database.ask("CREATE TABLE tickets_staging_7_0123456789ab (mine INTEGER)")

    assert there.load()["balance"]["after"] == 1

    with opened(there, database.url) as place:
        assert sorted(place.tables()) == ["tickets", "tickets_staging_7_0123456789ab"]
        assert place.marks("tickets_staging_7_0123456789ab") == []


STAGED = TICKETS.replace("[load]\n", "[load]\nstaging = { rows = 1000 }\n").replace("text(4)", "text(7)").replace(
    "[0-9]{3}", "[0-9]{6}"
)  # fmt: skip


def test_tables_beside_one_with_a_long_name_have_names_that_fit(there: Space, database: Database) -> None:
    name = "tickets_of_the_skerry_line_by_the_night_of_their_sale_and_port"
    charter = STAGED.replace('"tickets"', f'"{name}"').replace(
        "[load]", '[load]\nhow = "overwrite"\nkeep_previous = true'
    )
    there.charter(charter, "long")
    for first in (0, 20_000):
        staged_tickets(there, first=first)
        assert there.load(table=name)["balance"]["after"] == 8_910

    assert there.run("undo", "2").code == 0

    assert database.ask(f"SELECT min(ticket_no) FROM {name}") == [("T000000",)]
    with opened(there, database.url) as place:
        assert [table for table in place.tables() if table != name] == []


def staged_tickets(there: Space, day: str = DAY, first: int = 0) -> None:
    rows = [f"T{at:06d};{'x' if at % 100 == 7 else '1,00'};01.06.2026\n" for at in range(first, first + 9_000)]
    there.tickets("ticket_no;fare;sold_on\n" + "".join(rows) + rows[0], day)


def test_a_load_in_batches_goes_on_where_it_was_cut_off(
    there: Space, database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    there.charter(STAGED)
    staged_tickets(there)
    with monkeypatch.context() as cut:
        cut.setattr(stage, "_batches", lambda *given: cut_short(honest(*given)))
        assert there.run("load", "tickets", "--day", DAY, "--create").code == 3
    with opened(there, database.url) as place:
        (name,) = set(place.tables()) - {"tickets"}
        assert place.count("tickets") == 0
        there_before = place.count(name)
    sent: list[int] = []
    monkeypatch.setattr(stage, "_batches", lambda *given: (sent.append(b.num_rows) or b for b in honest(*given)))

    load = there.load()

    assert 0 < there_before < sum(sent) == 8_910
    assert load["load_no"] == 1
    names = ("records", "loaded", "rejected", "copies", "before", "after")
    assert [load["balance"][each] for each in names] == [9_001, 8_910, 90, 1, 0, 8_910]
    with opened(there, database.url) as place:
        assert place.tables() == ["tickets"]
        assert place.fetch('SELECT count(*) AS n, count(DISTINCT "ticket_no") AS d FROM "tickets"').to_pylist() == [
            {"n": 8_910, "d": 8_910}
        ]
    assert there.run("reconcile", "tickets").code == 0


honest = stage._batches


def cut_short(batches: Iterator[Any]) -> Iterator[Any]:
    yield next(batches)
    raise PlaceError("the cable was pulled")


def test_what_was_gathered_is_thrown_away_where_the_charter_has_changed_or_a_rule_fails(
    sort: str, there: Space, database: Database, place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    if sort == "general":
        pytest.skip("nothing of it is the place's own")
    there.charter(STAGED)
    staged_tickets(there)
    with monkeypatch.context() as cut:
        cut.setattr(stage, "_batches", lambda *given: cut_short(honest(*given)))
        there.run("load", "tickets", "--day", DAY, "--create")
    there.charter(STAGED + '[[rules]]\nname = "few"\nwhole = "count(*) < 10"\nover = "load"\n')
    monkeypatch.setattr(type(place), "copy", None)  # the table itself is not touched

    undone = there.load()

    assert (undone["state"], undone["load_no"]) == ("undone", 2)
    assert [undone["balance"][name] for name in ("records", "loaded", "before")] == [9_001, 8_910, 0]
    with opened(there, database.url) as found:
        assert found.tables() == ["tickets"]
        assert found.count("tickets") == 0


LANDED = """table = "landed"
[delivery]
files = "landed.csv"
[delivery.layout]
decimal_sign = ","
date_forms = ["%d.%m.%Y"]
[columns.k]
kind = "integer"
[columns.n]
kind = "integer"
blank = "never"
[columns.m]
kind = "integer"
[columns.day]
kind = "date"
between = [2026-02-01, 2026-12-31]
[columns.fare]
kind = "decimal(8,2)"
between = [2, 100]
[[keys]]
columns = ["k"]
otherwise = "fail"
[[references]]
columns = ["m"]
listed_in = "listed(m)"
[[rules]]
name = "more"
each = "n > m"
[[rules]]
name = "in all"
whole = "sum(fare) = 25.75"
"""


def test_a_table_of_texts_is_judged_by_the_kinds_that_are_declared(there: Space, database: Database) -> None:
    there.write("charters/landed.toml", LANDED)
    there.write("charters/listed.toml", 'table = "listed"\n[columns.m]\nkind = "integer"\n')
    text = "VARCHAR(40)"
    database.ask(f"CREATE TABLE landed ({', '.join(f'{name} {text}' for name in ('k', 'n', 'm', 'day', 'fare'))})")
    database.ask("CREATE TABLE listed (m BIGINT)")
    database.ask("INSERT INTO listed VALUES (7), (9)")
    rows = [
        ("1", "10", "9", "01.03.2026", "10,50"),  # as texts '10' is less than '9', and 10,50 less than 2
        ("2", "9", "10", "31.01.2026", "9,25"),  # is less, not listed, and too early; as a text the day is late enough
        ("01", "8", "7", "02.12.2026", "1,00"),  # the key again, and the fare too low
        ("3", "", "7", "x", "5"),  # blank, and no date
        ("4", "100", "abc", "01.04.2026", ""),  # no number: MariaDB would take it for 0
    ]
    for row in rows:
        database.ask(f"INSERT INTO landed VALUES ({', '.join(repr(each) for each in row)})")

    found = there.judge("landed")

    broken = {name: each["breaks"] for name, each in found.items() if isinstance(each, dict) and each["breaks"]}
    assert broken == {
        "n is never blank": 1, "day is between 2026-02-01 and 2026-12-31": 1, "fare is between 2 and 100": 1,
        "key (k) never repeats": 1, "m is listed in listed(m)": 1, "more": 1, "day is date": 1, "m is integer": 1,
    }  # fmt: skip
    assert found["in all"]["verdict"] == "pass"


ALIKE = """
table = "tickets"
[delivery]
files = "inbox/tickets-{day}.csv"
[columns.n]
kind = "integer"
[columns.t]
kind = "text(30)"
[columns.r]
kind = "real"
[columns.m]
kind = "decimal(20,2)"
[columns.d]
kind = "date"
[columns.at]
kind = "timestamptz"
between = { values = [2026-06-01T00:00:00, 2026-06-01T23:59:59], otherwise = "warn" }
[load]
after_fail = "keep"
"""
SAME = {
    "capitals": "upper(t) not in ('SS', 'ẞ', 'ß', 'I', 'Ǆ', 'STRASSE')", "small": "lower(t) = t",
    "both": "upper(lower(t)) = upper(t)", "number": "coalesce(cast(t as integer), 0) < 5", "money": "coalesce(cast(t as decimal(6,2)), 0) < 5",
    "clamped": "floor(r) > -5", "rounded": "cast(m as integer) < 100", "narrow": "cast(m as decimal(4,1)) < 100",
    "late": "d + 3000000 > date '2000-01-01'", "later": "d + interval '9000' year > date '2000-01-01'",
}  # fmt: skip
TEXTS = ["ß", "İ", "ı", "ǆ", "Straße", "abc", "ÉÈ", "σς", "ﬁ", "99999999999999999999", "9223372036854775807", "-9223372036854775809",
         "1234567.5", "12.345", "4", "", "K"]  # fmt: skip


def test_a_condition_means_the_same_in_every_place(sort: str, there: Space, database: Database, tmp_path: Path) -> None:
    rules = "".join(f'[[rules]]\nname = "{name}"\neach = "{sql}"\notherwise = "warn"\n' for name, sql in SAME.items())
    rows = [
        f"{at},{text},{(-1) ** at * 10.0 ** (at * 3)},{at}{at}.5{at % 10},{2000 + at * 400}-01-0{at % 9 + 1},2026-0{5 + (at % 2)}-{31 - at % 2 * 30:02d} 2{at % 4}:30:00Z"
        for at, text in enumerate(TEXTS)
    ]
    other = Space(tmp_path / "embedded")
    found = []
    for space, url in ((there, database.url), (other, "duckdb:///warehouse.duckdb")):
        settings = SETTINGS.replace("duckdb:///warehouse.duckdb", url).replace(
            "name =", 'time_zone = "Atlantic/Faroe"\nname ='
        )
        space.write("nomotheta.toml", settings)
        space.charter(ALIKE)
        space.tickets("\n".join(["n,t,r,m,d,at", *rows]) + "\n")
        loaded = {
            each["rule"].split()[0]: each["breaks"] for each in space.load()["findings"] if each["columns"] == ["at"]
        }
        space.charter(ALIKE + rules)
        judged = space.judge()
        found.append({name: (judged[name]["verdict"], judged[name]["breaks"]) for name in SAME} | loaded)

    assert found[0] == found[1]


def test_a_table_is_looked_at_alike_in_every_place(there: Space) -> None:
    there.charter(
        'table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[columns.k]\nkind = "text(9)"\nprivate = true\n'
        '[columns.v]\nkind = "integer"\n[[keys]]\ncolumns = ["k"]\n', "t",
    )  # fmt: skip
    there.write("inbox/t-2026-06-01.csv", 'k,v\nA,1\n"",2\n"  ",3\n"\t",5\n,7\n')
    assert there.load(table="t")["balance"]["loaded"] == 5

    found = there.run("peek", "t", "--json").json
    some = there.run("peek", "t", "--where", "v > 1 and v < 7", "--by", "v", "--json").json
    shown = there.run("peek", "t").out

    columns = {each["name"]: each for each in found["columns"]}
    assert [columns["k"][name] for name in ("nulls", "empty", "spaces", "white", "distinct")] == [1, 1, 1, 1, 4]
    assert [columns["v"][name] for name in ("nulls", "distinct", "lowest", "highest")] == [0, 5, "1", "7"]
    assert (found["rows"], found["key"], found["repeats"], columns["k"]["lowest"]) == (5, ["k"], 0, "(masked)")
    assert (some["rows"], some["by"]["counts"]) == (3, [["5", 1], ["3", 1], ["2", 1]])
    assert "no row repeats it" in shown


def test_a_night_is_rehearsed_and_what_cannot_be_known_is_an_error(there: Space, sort: str) -> None:
    for name, more in (("a", ""), ("b", '[[references]]\ncolumns = ["k"]\nlisted_in = "a(k)"\n')):
        there.charter(
            f'table = "{name}"\n[delivery]\nfiles = "inbox/{name}-{{day}}.csv"\n[columns.k]\nkind = "integer"\n{more}',
            name,
        )
        for day, value in (("2026-06-01", 1), ("2026-06-02", 2)):
            there.write(f"inbox/{name}-{day}.csv", f"k\n{value}\n")
    assert there.run("run", "a", "b", "--day", "2026-06-01", "--create").code == 0

    trial = there.run("run", "a", "b", "--day", "2026-06-02", "--rehearse", "--json")
    real = there.run("run", "a", "b", "--day", "2026-06-02", "--json").json

    known = sort == "duckdb"
    assert [each["verdict"] for each in trial.json["tables"]] == ["pass", "pass" if known else "error"], trial.out
    assert trial.code == (0 if known else 3)
    assert [each["load"]["table_rows"] for each in real["tables"]] == [2, 2]


TEXTS_OF_SORTS = [
    "AB", "ab", "Ab", " AB", "AB ", "", "  ", "\t", "ÄÖ", "äö", "ß", "İ", "ABCDEF", "A", None, "a1", "A-1", "e\u0301",
    "\u00a0A", "B\u3000", "\u200bC",
]  # fmt: skip
COLUMN_CHECKS = {
    "c is in upper case": ('case = "upper"', lambda text: text == text.upper()),
    "c is in lower case": ('case = "lower"', lambda text: text == text.lower()),
    "c has no white space at its ends": ("trimmed = true", lambda text: text == text.strip()),
    "c has 2 to 3 characters": ("length = [2, 3]", lambda text: 2 <= len(text) <= 3),
    "c has at least 2 characters": ('length = [2, ""]', lambda text: len(text) >= 2),
    "c has 2 characters": ("length = 2", lambda text: len(text) == 2),
    "c matches a[b1].*, whatever the case": (
        'pattern = { value = "a[b1].*", case = "ignore" }', lambda text: text[:1] in "aA" and text[1:2] in tuple("bB1"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", COLUMN_CHECKS)
@pytest.mark.parametrize("otherwise", ["reject", "fail"])
def test_a_check_of_a_column_means_what_it_does_in_python(there: Space, name: str, otherwise: str) -> None:
    key, oracle = COLUMN_CHECKS[name]
    word, _, value = key.partition(" = ")
    long = {"[": f"values = {value}", "{": value.strip("{} ")}.get(
        value[0], f"value = {value}" if word != "length" else f"values = [{value}, {value}]"
    )
    there.charter(
        f'table = "t"\n[delivery]\nfiles = "inbox/t-{{day}}.csv"\n[load]\ntolerate = "all"\nafter_fail = "keep"\n'
        f'[columns.n]\nkind = "integer"\n[columns.c]\nkind = "text(9)"\n{word} = {{ {long}, otherwise = "{otherwise}" }}\n', "t",
    )  # fmt: skip
    rows = [f"{at}," + ("" if text is None else f'"{text}"') for at, text in enumerate(TEXTS_OF_SORTS)]
    there.write("inbox/t-2026-06-01.csv", "\n".join(["n,c", *rows]) + "\n")
    broken = [at for at, text in enumerate(TEXTS_OF_SORTS) if text is not None and not oracle(text)]

    load = there.load(table="t")

    finding = next(each for each in load["findings"] if each["rule"] == name)
    if otherwise == "reject":
        assert sorted(each["line"] - 2 for each in there.rejects()) == broken
        assert {each["reason"] for each in there.rejects()} == {word}
    else:
        assert (finding["breaks"], finding["verdict"]) == (len(broken), "fail"), finding
        assert next(
            each for each in there.run("judge", "t", "--json").json["tables"][0]["findings"] if each["rule"] == name
        )["breaks"] == len(broken)


def test_blanks_are_counted_by_sort_and_different_values_as_they_are_declared(there: Space) -> None:
    there.charter(
        'table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[load]\nafter_fail = "keep"\n[columns.n]\nkind = "integer"\n'
        'distinct = { at_least = 9, at_most = "50%", otherwise = "warn" }\n'
        '[columns.c]\nkind = "text(9)"\nblank = { at_most = "20%" }\n', "t",
    )  # fmt: skip
    cells = ["x", "y", "", '""', '" "', '"  "', '"\t"', "z"]
    there.write(
        "inbox/t-2026-06-01.csv", "\n".join(["n,c", *(f"{at % 5},{cell}" for at, cell in enumerate(cells))]) + "\n"
    )

    found = {each["rule"]: each for each in there.load(table="t")["findings"]}

    blank = found["c is blank in at most 20%"]
    assert (blank["verdict"], blank["breaks"]) == ("fail", 5)
    assert blank["message"].endswith(": 1 null, 1 empty, 2 only spaces, 1 other white space")
    assert {name: each["verdict"] for name, each in found.items() if "different" in name} == {
        "n has at least 9 different values": "warn", "n: at most 50% of its values are different": "warn",
    }  # fmt: skip


def test_a_rule_that_is_narrowed_looks_at_its_rows_alone_and_may_end_differently_for_others(there: Space) -> None:
    there.charter(
        'table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[load]\ntolerate = "all"\nafter_fail = "keep"\n'
        '[columns.n]\nkind = "integer"\n[columns.fare]\nkind = "integer"\n[columns.c]\nkind = "text(9)"\n'
        '[[rules]]\nname = "fare is plausible"\neach = "fare < 50"\nwhere = "c = \'foot\' -- on foot"\ntolerate = "40%"\n'
        '[[rules]]\nname = "fare is plausible"\neach = "fare < 90"\nwhere = "c = \'car\' or c is null"\notherwise = "warn"\n'
        '[[rules]]\nname = "fare is plausible"\neach = "fare < 99 or\\nfare is null"\nwhere = "c = \'bus\'"\notherwise = "reject"\n'
        '[[rules]]\nname = "nobody"\neach = "fare < 1"\nwhere = "c = \'none\'"\n', "t",
    )  # fmt: skip
    some = random.Random(5)
    rows = [(at, some.choice([None, *range(20, 120)]), some.choice(["foot", "car", "bus", None])) for at in range(300)]
    there.write("inbox/t-2026-06-01.csv", "n,fare,c\n" + "".join(f"{n},{f or ''},{c or ''}\n" for n, f, c in rows))

    def outside(most: int, *classes: str | None) -> list[int]:
        return [n for n, fare, c in rows if c in classes and fare is not None and fare >= most]

    load = there.load(table="t")
    judged = there.run("judge", "t", "--json").json["tables"][0]["findings"]

    foot = sum(c == "foot" for _, _, c in rows)
    expected = {
        "fare is plausible where c = 'foot' -- on foot": ("fail", len(outside(50, "foot")), foot),
        "fare is plausible where c = 'car' or c is null":
            ("warn", len(outside(90, "car", None)), sum(c in {"car", None} for _, _, c in rows)),
        "nobody": ("pass", 0, 0),
    }  # fmt: skip
    assert len(outside(50, "foot")) > 0.4 * foot
    for findings in (load["findings"], judged):
        found = {each["rule"]: (each["verdict"], each["breaks"], each["rows"]) for each in findings}
        assert {name: found[name] for name in expected} == expected
    assert sorted(each["line"] - 2 for each in there.rejects()) == outside(99, "bus")


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ('whole = "count(*) > 0"\nwhere = "n > 1"', "'where' narrows the rows of an 'each'"),
        ('each = "n > 0"\nwhere = "m > 1"', "no column 'm'"),
        ('each = "n > 0"\nwhere = "1 = 1"', "it uses no column"),
        (
            'each = "n > 0"\nwhere = "n > 1"\n[[rules]]\nname = "r"\neach = "n > 2"\nwhere = "n  > 1"',
            "is declared twice",
        ),
    ],
)
def test_a_rule_that_is_narrowed_without_sense_is_refused(space: Space, keys: str, told: str) -> None:
    space.charter(f'table = "t"\n[columns.n]\nkind = "integer"\n[[rules]]\nname = "r"\n{keys}\n', "t")

    run = space.run("lint")

    assert (run.code, told in run.text) == (2, True), run.text


def test_the_only_values_of_a_column_come_from_a_list_beside_the_charter(there: Space) -> None:
    there.charter(
        'table = "t"\n[delivery]\nfiles = "inbox/t-{day}.csv"\n[load]\ntolerate = "all"\n'
        '[columns.n]\nkind = "integer"\namong = { file = "lists/n.txt", otherwise = "warn" }\n'
        '[columns.c]\nkind = "text(9)"\namong = { file = "lists/ports.csv", column = "code" }\n'
        '[columns.load_no]\nfrom = "@load.no"\n', "t",
    )  # fmt: skip
    there.write("charters/lists/n.txt", "1\r\n-2\r\n007\r\n")
    there.write("charters/lists/ports.csv", 'name,code\nSkerry,SKE\n"Holm, inner","H,""1"\nÅ,\u00c5\n')
    cells = ["SKE", '"H,""1"', "\u00c5", "A\u030a", "ske", "Skerry", ""]
    there.write("inbox/t-2026-06-01.csv", "n,c\n" + "".join(f"{at},{cell}\n" for at, cell in enumerate(cells, 1)))

    load = there.load(table="t")

    assert [each["line"] for each in there.rejects()] == [5, 6, 7]
    warned = {each["rule"]: (each["verdict"], each["breaks"]) for each in load["findings"]}
    assert warned["n is one of the values in lists/n.txt"] == ("warn", 2)  # 2 and 3
    there.write("charters/lists/ports.csv", "code\nSKE\n")
    judged = {each["rule"]: each for each in there.run("judge", "t", "--json").json["tables"][0]["findings"]}
    assert judged["c is one of the values in lists/ports.csv"]["breaks"] == 2
    assert "columns.c.among.values" in there.run("run", "t", "--day", "2026-06-01").text


@pytest.mark.parametrize(
    ("among", "text", "told"),
    [
        ('{ file = "l.txt" }', None, "the list 'l.txt' is not there"),
        ('{ file = "../l.txt" }', "1", "is not kept with the charters"),
        ('{ file = "l.txt" }', "", "holds no values"),
        ('{ file = "l.txt" }', "1\n\n2\n", "line 2 of the list 'l.txt' is blank"),
        ('{ file = "l.txt" }', "1\n2 \n", "white space at its ends"),
        ('{ file = "l.txt" }', "1\ntwo\n", "'two' does not fit integer, in the list 'l.txt'"),
        ('{ file = "l.txt" }', "\xff", "is not UTF-8"),
        ('{ file = "l.txt", column = "b" }', "a\n1\n", "has no column called 'b'"),
        ('{ file = "l.txt", column = "a" }', "a,b\n1\n", "record 2 of the list 'l.txt' has 1 fields"),
        ('{ file = "l.txt", column = "a" }', 'a\n"1\n', "is not a CSV file"),
        ('{ file = "l.txt", values = [1] }', "1", "take one of them out"),
        ('{ values = [1], column = "a" }', "1", "names a column of a list"),
        ('{ file = "l.txt" }', "".join(f"{each}\n" for each in range(10_001)), "10,001 values, and at most 10,000"),
    ],
)
def test_a_list_that_is_none_is_told(space: Space, among: str, text: str | None, told: str) -> None:
    space.charter(f'table = "t"\n[columns.n]\nkind = "integer"\namong = {among}\n', "t")
    if text is not None:
        (space.root / "charters" / "l.txt").write_bytes(text.encode("latin-1"))

    run = space.run("lint")

    assert (run.code, "charters/t.toml:4: " in run.text, told in run.text) == (2, True, True), run.text


@pytest.mark.parametrize("blank", ['{ at_most = "2%" }', '{ value = "never", otherwise = "warn" }', '"allowed"'])
def test_a_column_that_some_rows_may_leave_blank_is_no_key_to_merge_by(space: Space, blank: str) -> None:
    space.charter(
        f'table = "t"\n[delivery]\nfiles = "t-{{day}}.csv"\n[load]\nhow = "merge"\n[columns.n]\nkind = "integer"\nblank = {blank}\n'
        '[[keys]]\ncolumns = ["n"]\n', "t",
    )  # fmt: skip

    run = space.run("lint")

    assert (run.code, "rows are merged by 'n', which may be blank" in run.text) == (2, True), run.text


def test_tables_judged_side_by_side_are_those_of_one_moment(there: Space, database: Database, sort: str) -> None:
    there.tickets(GOOD)
    for name in ("tickets", "refunds"):
        charter = TICKETS.replace('"tickets"', f'"{name}"')
        there.charter(charter, name)
        there.load(table=name)
        there.charter(charter + '[[rules]]\nname = "r"\nwhole = "count(*) > 3"\n', name)
    lead, *others = (connect("there", database.url, there.root) for _ in range(3))

    with lead.one_view(others, ["refunds", "tickets"]) as together:
        assert together == (sort in {"duckdb", "postgresql", "mariadb", "delta"})
        if together and sort != "duckdb":  # whose file no other process can open meanwhile
            database.ask("INSERT INTO tickets (ticket_no) VALUES ('T009')")
            assert [each.count("tickets") for each in others] == [3, 3]
    for each in (lead, *others):
        each.close()

    one, side_by_side = (there.run("judge", "--json", *more).json["tables"] for more in ([], ["--jobs", "2"]))
    told = [[(each["table"], each["verdict"], [(f["rule"], f["verdict"], f["breaks"]) for f in each["findings"]])
             for each in judged] for judged in (one, side_by_side)]  # fmt: skip
    assert told[0] == told[1]
    assert [each["verdict"] for each in one] == [
        "fail",
        "pass" if sort in {"postgresql", "mariadb", "delta"} else "fail",
    ]


def test_a_load_that_no_index_finds_is_said_to_cost_a_whole_reading(
    there: Space, database: Database, sort: str
) -> None:
    there.tickets(GOOD)
    there.load()

    told = "no index begins with load_no, so all rows of tickets were read to find those of load 1"
    wanted = sort in {"postgresql", "mariadb"}
    assert (told in there.run("judge", "tickets", "--load", "1").text) == wanted
    if wanted:
        database.ask("CREATE INDEX by_load ON tickets (load_no, sold_on)")
        assert "no index" not in there.run("judge", "tickets", "--load", "1").text
