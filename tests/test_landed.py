"""Tables landed as text: judged by their values, and moved on as a file would have been loaded that held them."""

from __future__ import annotations

import random
import re
from decimal import Decimal
from typing import Any

import duckdb
import pyarrow.parquet as pq
import pytest

from conftest import DAY, Space
from nomotheta.load.inside import Moving
from servers import Database, ask_postgres
from test_places import database, running, sort, there  # noqa: F401

COLUMNS = """
[delivery]
files = "inbox/tickets-{day}.csv"
layout = "office"
[columns.ticket_no]
kind = "text(4)"
from = "Ticket"
blank = "never"
pattern = "T[0-9]{3}"
[columns.fare]
kind = "decimal(6,2)"
between = [0, 100]
[columns.sold_on]
kind = "date"
[columns.sold_at]
kind = "timestamptz"
null_words = ["", "-"]
[columns.load_no]
from = "@load.no"
[columns.line]
from = "@file.line"
[[keys]]
columns = ["ticket_no"]
[[rules]]
name = "not for nothing"
each = "fare > 0 or sold_on < date '2026-06-03'"
otherwise = "reject"
"""
LANDED = 'table = "landed"\nstored = "text"\n{}[load]\ntolerate = "all"\nsame_day = "replace"\ninto = {{ typed = "tickets" }}\n'
TYPED = 'table = "tickets"\n{}[load]\ntolerate = "all"\n'
HEAD = "Ticket;fare;sold_on;sold_at\n"
CELLS = [
    ["T001", "T002", "T003", "T004", "T00", "n/a", "", " T005 ", "   ", '"T007"', "T00é"],
    ["1,50", "0", "n/a", "", "x", "100,01", " 7,00 ", "1.50", '"2,5"', "12345,00"],
    ["01.06.2026", "03.06.2026", "31.06.2026", "2026-06-01", "", "n/a", " 02.06.2026"],
    ["2026-06-01 10:00:00", "-", "n/a", "", "2026-03-29 01:30:00", "2026-06-01 10:00:00"],
]  # fmt: skip


@pytest.fixture(params=["UTC", "Europe/Berlin"])
def landing(space: Space, request: pytest.FixtureRequest) -> Space:
    ours(space, zone=request.param)  # in UTC, the database moves what surely fits by itself
    return space


def ours(space: Space, *, trim: bool = True, zone: str = "Europe/Berlin", how: str = "append") -> None:
    settings = (space.root / "nomotheta.toml").read_text()
    settings = settings.replace('name = "Test line"', f'name = "Test line"\ntime_zone = "{zone}"')
    space.write("nomotheta.toml", settings + "trim = true\n" * trim)
    into = f'typed = "tickets", how = "{how}"' if how == "merge" else 'typed = "tickets"'
    space.charter(LANDED.format("").replace('typed = "tickets"', into) + COLUMNS, "landed")
    (space.root / "charters/tickets.toml").unlink()


def both(space: Space, *more: str, day: str = DAY) -> list[dict[str, Any]]:
    ended = space.run("load", "landed", "--day", day, "--create", "--json", *more)
    return ended.json["loads"]


def said(aside: list[dict[str, Any]]) -> list[list[str]]:
    """What is told of rejects, but for their loads, in some order."""
    told = [
        [each["line"], each["column"], each["value"], each["reason"], re.sub(r"load \d+", r"load", each["message"])]
        for each in aside
        if each["reason"] != "all_blank"
    ]
    return sorted(told, key=str)


KNOWN = """table = "known"
[delivery]
files = "inbox/known.csv"
layout = "office"
[columns.code]
kind = "text(4)"
[columns.sold_on]
kind = "date"
"""
MORE = [  # what is declared besides, or instead of the key
    "", '[[keys]]\ncolumns = ["fare", "sold_on"]\nnulls = "not distinct"\n',
    '[[references]]\ncolumns = ["sold_on", "ticket_no"]\nlisted_in = "known(sold_on, code)"\notherwise = "reject"\n'
    '[[references]]\ncolumns = ["sold_on", "fare"]\notherwise = "reject"\n'
    'listed_in = { file = "lists/known.csv", columns = ["sold_on", "till"] }\n',
    "", '[[keys]]\ncolumns = ["substring(ticket_no, 1, 3)", "fare * 2", "sold_at"]\n',
    '[[keys]]\ncolumns = ["*"]\n', '[[keys]]\ncolumns = ["upper(ticket_no)", "sold_on"]\nnulls = "not distinct"\n',
]  # fmt: skip
KEY = '[[keys]]\ncolumns = ["ticket_no"]\n'


def with_more(there: Space, columns: str, seed: int) -> str:  # noqa: F811
    """A charter's text with what one of the cases declares besides."""
    if "references" in MORE[seed]:
        codes = [f"T{number:03}" for number in range(2, 160, 2)] + ["T001", "", "T00É"]
        days = [f"0{day}.06.2026" for day in (1, 2, 3, 4, 5, 7)]
        there.charter(KNOWN, "known")
        there.write("inbox/known.csv", "code;sold_on\n" + "".join(f"{each};{day}\n" for each in codes for day in days))
        fares = [(day, fare) for day in range(1, 9) for fare in ("0.50", "1.50", "2.50", "4.5", "5.50", "6.50", "0")]
        listed = "".join(f"2026-06-0{day},{fare}\n" for day, fare in fares)
        there.write("charters/lists/known.csv", f"sold_on,till\n{listed}")
        there.load(table="known")
    elif MORE[seed]:
        columns = columns.replace(KEY, "")
    return columns + MORE[seed]


@pytest.mark.parametrize(("trim", "zone"), [(True, "UTC"), (False, "Europe/Berlin")])
@pytest.mark.parametrize("seed", range(len(MORE)))
def test_rows_that_are_moved_are_those_that_a_direct_load_brings(
    there: Space, database: Database, seed: int, trim: bool, zone: str, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    if database.url.startswith("delta") and not trim:
        pytest.skip("it is DuckDB that reads its files")
    chance, moved_inside, put = random.Random(seed), [], Moving.put
    monkeypatch.setattr(
        Moving, "put", lambda self, columns: moved_inside.append(put(self, columns)) or moved_inside[-1]
    )
    how = "merge" if seed == 3 and "+" not in database.url else "append"
    ours(there, trim=trim, zone=zone, how=how)
    columns = with_more(there, COLUMNS, seed)
    there.charter((there.root / "charters/landed.toml").read_text().replace(COLUMNS, columns), "landed")
    direct = columns.replace("tickets-{day}", "tickets-{day}*")
    there.charter(f'table = "direct"\n[load]\nhow = "{how}"\ntolerate = "all"\n' + direct, "direct")
    for day in (DAY, "2026-06-02"):  # the second repeats some keys of the first
        lines = [";".join(chance.choice(cells) for cells in CELLS) for _ in range(60)]
        for at in range(60):
            number = 100 + at + 40 * (day != DAY)
            lines.append(f"T{number};{number % 7},50;0{1 + at % 9}.06.2026;{chance.choice(CELLS[3])}")
        there.tickets(HEAD + "\n".join(lines) + "\n", day)
        check_moved(there, database, day)
    inside = database.url.startswith(("duckdb:", "postgresql:", "mariadb:"))
    letters = "upper" in MORE[seed]  # which a server may see otherwise
    assert not inside or letters or sum(moved_inside) > (0 if '"*"' in MORE[seed] else 15)


def check_moved(there: Space, database: Database, day: str) -> None:  # noqa: F811
    landed, moved = both(there, day=day)
    expected = there.load(table="direct", day=day)
    aside = there.run("rejects", str(expected["load_no"]), "--all", "--json").json["shown"]
    aside_moved = there.run("rejects", str(moved["load_no"]), "--all", "--json").json["shown"]

    counts = ("records", "loaded", "rejected", "copies", "conflicts", "inserted", "updated", "unchanged", "after")
    blank = landed["balance"]["rejected"]  # lines of separators alone do not get as far as the landing table
    assert [moved["balance"][name] + blank * (name in {"records", "rejected"}) for name in counts] == [
        expected["balance"][name] for name in counts
    ]
    select = "SELECT ticket_no, fare, sold_on, sold_at, line FROM {} ORDER BY 1, 2, 3, 4, 5"
    assert database.ask(select.format("tickets")) == database.ask(select.format("direct"))
    assert said(aside_moved) == said(aside)
    altered, directly = (
        {each["what"]: each["count"] for each in load["balance"]["files"][0]["altered"] if each["what"] != "blank"}
        for load in (moved, expected)
    )
    assert blank or altered == directly
    assert landed["balance"]["loaded"] == moved["balance"]["records"]


def test_a_landed_table_is_judged_by_its_values_wherever_it_is(there: Space, database: Database) -> None:  # noqa: F811
    ours(there)
    there.tickets(
        HEAD + "T001;1,50;01.06.2026;\n T002 ;n/a;02.06.2026;\nT003;x;31.06.2026;-\nT004;0;03.06.2026;\nT005;101;;\n"
    )
    both(there)

    found = there.judge("landed")

    broken = {name: each["breaks"] for name, each in found.items() if isinstance(each, dict) and each["breaks"]}
    assert broken == {
        "fare is decimal(6,2)": 1, "sold_on is date": 1, "fare is between 0 and 100": 1, "not for nothing": 1,
    }  # fmt: skip
    assert database.ask("SELECT ticket_no, fare FROM landed WHERE line = 3")[0][0] == " T002 "
    assert there.judge("tickets")["verdict"] == "pass"


CHECKED = """table = "landed"
stored = "text"
[delivery]
files = "inbox/tickets-{day}.csv"
layout = "office"
[load]
after_fail = "keep"
[columns.ticket_no]
kind = "text(4)"
from = "Ticket"
blank = { at_most = "9%" }
pattern = "T[0-9]{3}"
case = "upper"
[columns.fare]
kind = "decimal(6,2)"
between = [0, 100]
distinct = { at_least = 3 }
[columns.sold_on]
kind = "date"
blank = "never"
[columns.sold_at]
kind = "timestamptz"
null_words = ["", "-"]
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["ticket_no"]
otherwise = "fail"
[[keys]]
columns = ["fare", "sold_on"]
nulls = "not distinct"
otherwise = "warn"
[[references]]
columns = ["ticket_no"]
listed_in = "landed(ticket_no)"
[[rules]]
name = "cheap in June"
each = "fare < 50 or extract(month from sold_at) = 6"
where = "upper(ticket_no) <> 'T00É' and sold_on between date '2026-06-01' and date '2026-06-02'"
[[rules]]
name = "a sum"
whole = "sum(fare) > 100 and count(distinct sold_on) >= 3"
[[rules]]
name = "each day"
whole = "count(*) > 2 and max(fare) < 9000"
by = ["sold_on"]
[[excused]]
rule = "fare is between 0 and 100"
where = "ticket_no = 'T001'"
reason = "known"
by = "a clerk"
until = 2099-01-01
"""


@pytest.mark.parametrize("trim", [True, False])
@pytest.mark.parametrize("seed", range(2))
def test_the_place_judges_texts_by_itself_as_the_engine_does(
    there: Space, database: Database, seed: int, trim: bool, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    chance = random.Random(seed)
    lines = [";".join(chance.choice(cells) for cells in (["T0055", *CELLS[0]], *CELLS[1:])) for _ in range(80)]
    there.tickets(HEAD + "\n".join(lines) + "\n")
    ours(there, trim=trim, zone="UTC")
    there.charter(CHECKED, "landed")
    assert there.load(table="landed")["state"] == "loaded"

    def found() -> list[dict[str, Any]]:
        return there.run("judge", "landed", "--json").json["tables"][0]["findings"]

    in_place = found()
    monkeypatch.setattr("nomotheta.rules.anew.written_of", lambda *_: None)
    streamed = found()

    told = ("rule", "verdict", "breaks", "rows", "excused", "message")
    assert [[each[name] for name in told] for each in in_place] == [[each[name] for name in told] for each in streamed]
    assert sum(each["breaks"] or 0 for each in in_place) > 50
    if database.url.startswith(("duckdb:", "postgresql:", "mariadb:")):  # but for letters that they know otherwise
        by_engine = {each["rule"] for each in in_place if each["embedded"]}
        assert by_engine <= {"cheap in June", "ticket_no is in upper case"}
    assert all(each["embedded"] for each in streamed)


def test_rows_with_texts_that_are_no_values_are_kept_whoever_reads_them(
    there: Space, database: Database, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    ours(there)
    there.tickets(HEAD + "T001;x;01.06.2026;\nT002;1,50;;\nT003;y;31.06.2026;\n")
    there.load(table="landed")
    for name in ("there", "here"):
        there.run("judge", "landed", "--keep-breaks", str(there.root / f"{name}.parquet"))
        monkeypatch.setattr("nomotheta.rules.anew.written_of", lambda *_: None)
    kept = [
        sorted(
            (row["rule"], row["ticket_no"], row["fare"])
            for row in pq.read_table(there.root / f"{name}.parquet").to_pylist()
        )
        for name in ("there", "here")
    ]
    assert kept[0] == kept[1]
    assert kept[0] == [
        ("fare is decimal(6,2)", "T001", None),
        ("fare is decimal(6,2)", "T003", None),
        ("sold_on is date", "T003", None),
    ]


def test_a_text_that_is_too_long_for_its_kind_is_found_whoever_reads_it(
    there: Space, database: Database, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    ours(there)
    there.charter(CHECKED.replace('"text(4)"', '"text(3)"').split("[[keys]]")[0], "landed")
    there.tickets(HEAD + "T001;1,50;01.06.2026;\n T02 ;1,50;01.06.2026;\n")
    there.load(table="landed")
    for _ in range(2):
        assert there.judge("landed")["ticket_no has at most 3 characters"]["breaks"] == 1
        monkeypatch.setattr("nomotheta.rules.anew.written_of", lambda *_: None)


def test_rows_are_moved_once_and_follow_what_was_landed(landing: Space) -> None:
    landing.tickets(HEAD + "T001;1,50;01.06.2026;\n")
    both(landing)

    assert [each["state"] for each in both(landing)] == ["refused"]
    (again,) = landing.run("load", "tickets", "--day", DAY, "--json").json["loads"]
    assert (again["state"], again["load_no"]) == ("unchanged", 2)
    assert "load 2 moved the rows of load 1 into tickets" in landing.run("undo", "1").text
    with duckdb.connect(str(landing.root / "warehouse.duckdb")) as other:
        other.execute("update tickets set fare = -1")  # what was moved is judged as it is now
    assert landing.run("load", "tickets", "--day", DAY, "--json").json["loads"][0]["verdict"] == "fail"
    with duckdb.connect(str(landing.root / "warehouse.duckdb")) as other:
        other.execute("insert into tickets select * from tickets")
    (changed,) = landing.run("load", "tickets", "--day", DAY, "--json").json["loads"]
    assert changed["message"] == "1 row came with load 2, and 2 are in the table now"
    with duckdb.connect(str(landing.root / "warehouse.duckdb")) as other:
        other.execute("delete from tickets where rowid > 0")

    landing.tickets(HEAD + "T001;1,60;01.06.2026;\nT002;1,00;01.06.2026;\n")
    landed, moved = both(landing)
    assert (landed["replaced"], moved["replaced"]) == ([1], [2])
    assert landing.sql("select ticket_no, fare from tickets order by 1") == [
        ("T001", Decimal("1.60")), ("T002", Decimal("1.00")),
    ]  # fmt: skip
    assert landing.run("undo", "3", "4").code == 0
    assert landing.sql("select fare from tickets") == [(Decimal("-1.00"),)]


def test_a_table_that_somebody_else_landed_is_moved_when_it_has_changed(landing: Space) -> None:
    landing.charter('table = "landed"\nstored = "text"\n[load]\nhow = "overwrite"\ninto = { typed = "fares" }\n'
                    '[columns.fare]\nkind = "decimal(6,2)"\nblank = "never"\n', "landed")  # fmt: skip
    landing.write("warehouse.duckdb", b"")
    (landing.root / "warehouse.duckdb").unlink()

    def ask(*statements: str) -> None:
        with duckdb.connect(str(landing.root / "warehouse.duckdb")) as other:
            for each in statements:
                other.execute(each)

    def move() -> dict[str, Any]:
        return landing.run("load", "fares", "--day", DAY, "--create", "--json").json["loads"][0]

    ask("create table landed (fare varchar, more varchar)", "insert into landed values ('1.50', 'x'), ('', 'y')")
    assert [(each["state"], each["message"]) for each in [move()]] == [
        ("undone", "1 of 2 rows rejected (50.00%); tolerated: none")
    ]
    ask("update landed set fare = '2' where fare = ''")
    assert [move()["state"] for _ in range(2)] == ["loaded", "unchanged"]
    ask("update landed set fare = '3' where fare = '2'")
    assert move()["state"] == "loaded"
    assert landing.sql("select fare from fares order by 1") == [(Decimal("1.50"),), (Decimal("3.00"),)]
    ask("alter table landed alter fare type decimal(6,2)")
    assert "'fare' is DECIMAL(6,2), and the charter says that the table holds texts" in move()["message"]


WRONG = [
    ('how = "merge"\n', "", "texts cannot be merged by their values"),
    ('how = "overwrite"\nslice = "sold_on = :day"\n', "", "the table holds the text of 'sold_on', not its value"),
    ('into = { typed = "landed" }\n', "", "a table cannot be moved into itself"),
    ('into = { typed = "t", how = "merge" }\n', "", "'ticket_no'"),
    ('into = { typed = "t" }\n', "[delivery]", "all rows of landed would be added again to 't' each time some are new"),
    ('into = { typed = "t" }\n', 'from = "@load.no"', "the rows of one load cannot be told apart in this table"),
]  # fmt: skip


@pytest.mark.parametrize(("load", "without", "told"), WRONG)
def test_what_cannot_be_said_of_texts_is_told_before_data(landing: Space, load: str, without: str, told: str) -> None:
    columns = COLUMNS.replace(f"[columns.load_no]\n{without}\n", "") if without else COLUMNS
    if without == "[delivery]":
        columns = '[columns.t]\nkind = "text"\n'
    columns = columns.replace('blank = "never"\n', "") if "merge" in load else columns
    landing.charter('table = "landed"\nstored = "text"\n[load]\n' + load + columns, "landed")

    assert told in landing.run("lint").text


def test_the_typed_table_may_have_a_charter_of_its_own(landing: Space) -> None:
    landing.charter('table = "tickets"\n[load]\nhow = "merge"\ntolerate = "all"\n[columns.number]\nkind = "text(4)"\n'
                    'from = "ticket_no"\nblank = "never"\n[columns.fare]\nkind = "decimal(6,2)"\n'
                    '[[keys]]\ncolumns = ["number"]\n', "own")  # fmt: skip
    landing.tickets(HEAD + "T001;1,50;01.06.2026;\nT002;n/a;;\n")
    landing.tickets(HEAD + "T001;1,70;02.06.2026;\n", "2026-06-02")
    both(landing)
    _, moved = both(landing, day="2026-06-02")

    assert [moved["balance"][name] for name in ("how", "updated", "after")] == ["merge", 1, 2]
    assert landing.sql("select * from tickets order by 1") == [("T001", Decimal("1.70")), ("T002", None)]


def test_a_night_lands_and_moves_and_a_rehearsal_of_it_tells_the_same(landing: Space) -> None:
    landing.tickets(HEAD + "T001;1,50;01.06.2026;\nT002;x;;\n")

    rehearsed = landing.run("run", "--day", DAY, "--create", "--rehearse", "--json").json["tables"]
    ran = landing.run("run", "--day", DAY, "--create", "--json").json["tables"]

    assert [each["table"] for each in ran] == ["landed", "tickets"]
    counts = [[each["load"]["balance"][name] for name in ("loaded", "rejected")] for each in (*rehearsed, *ran)]
    assert counts == [[2, 0], [1, 1], [2, 0], [1, 1]]
    assert ran[0]["reconciliation"]["verdict"] == "pass"


def test_rows_that_a_move_set_aside_come_again_mended(landing: Space) -> None:
    landing.tickets(HEAD + "T001;1,50;01.06.2026;\nT002;x;02.06.2026;\n;;\n")
    landed, moved = both(landing)
    assert landing.run("lint", "--places").code == 0
    for load, wrong, right in ((moved, ",x,", ',"2,50",'), (landed, ',"","",', ',T003,"3",')):
        landing.run("rejects", str(load["load_no"]), "--csv", "r.csv")
        text = (landing.root / "r.csv").read_text()
        landing.write("r.csv", text.replace(wrong, right).replace(",,,\n", ',T003,"3",,\n'))
        (again,) = landing.run("load", load["table"], "--again", "r.csv", "--json").json["loads"]
        assert (again["balance"]["loaded"], again["balance"]["rejected"]) == (1, 0), again
    (rest,) = landing.run("load", "tickets", "--day", DAY, "--json").json["loads"]

    assert rest["balance"]["loaded"] == 1
    assert landing.sql("select ticket_no, fare from tickets order by 1") == [
        ("T001", Decimal("1.50")), ("T002", Decimal("2.50")), ("T003", Decimal("3.00")),
    ]  # fmt: skip


def test_where_no_temporary_table_may_be_made_the_rows_are_streamed(
    sort: str, there: Space, database: Database  # noqa: F811
) -> None:  # fmt: skip
    if sort != "postgresql":
        pytest.skip("it has no such setting")
    ours(there, zone="UTC")
    there.charter(CHECKED, "landed")
    there.tickets(HEAD + "T001;x;01.06.2026;\n")
    there.load(table="landed")
    name, writing = database.url.rpartition("/")[2], f"{database.url}?options=-cdefault_transaction_read_only%3Doff"
    for read_only in ("on", "off"):
        ask_postgres(writing, f"ALTER DATABASE {name} SET default_transaction_read_only = {read_only}")
        found = there.run("judge", "landed", "--json").json["tables"][0]["findings"]
        told = {each["rule"]: each for each in found}["fare is decimal(6,2)"]
        assert (told["breaks"], told["embedded"]) == (1, read_only == "on")


def test_several_landed_tables_are_judged_as_of_one_moment(there: Space, database: Database) -> None:  # noqa: F811
    ours(there, zone="UTC")
    for name in ("landed", "other"):
        there.charter(CHECKED.replace('table = "landed"', f'table = "{name}"').replace("landed(", f"{name}("), name)
    there.tickets(HEAD + "T001;x;01.06.2026;\n")
    for name in ("landed", "other"):
        there.load(table=name)

    tables = there.run("judge", "landed", "other", "--jobs", "2", "--json").json["tables"]
    assert [sum(each["breaks"] or 0 for each in table["findings"]) for table in tables] == [4, 4]


@pytest.mark.parametrize("width", [3, 300])
def test_a_landing_table_of_any_width_is_judged_and_moved(there: Space, width: int) -> None:  # noqa: F811
    ours(there, zone="UTC")
    columns = "".join(f'[columns.c{at}]\nkind = "text"\ntrim = true\n' for at in range(width))
    delivery = '[delivery]\nfiles = "inbox/tickets-{day}.csv"\nlayout = "office"\n'
    there.charter(LANDED.format("") + delivery + columns + '[columns.load_no]\nfrom = "@load.no"\n', "landed")
    there.tickets("\n".join(";".join(f"{row}{at}" for at in range(width)) for row in ("c", "x", " y")) + "\n")
    landed, moved = both(there)

    assert (landed["state"], moved["state"], moved["balance"]["loaded"]) == ("loaded", "loaded", 2)
    assert there.judge("landed")["verdict"] == "pass"


def test_a_nul_in_a_landed_text_is_set_aside_as_from_a_file(sort: str, there: Space, database: Database) -> None:  # noqa: F811
    if sort not in {"duckdb", "mariadb"}:
        pytest.skip("no such text can be in it, or it judges nothing by itself")
    ours(there, zone="UTC")
    there.charter(LANDED.format("") + COLUMNS.replace('pattern = "T[0-9]{3}"', ""), "landed")
    there.tickets(HEAD + "T001;1,50;01.06.2026;\nT002;1,50;01.06.2026;\n")
    both(there)
    nul = "chr(0)" if sort == "duckdb" else "char(0)"
    database.ask(f"UPDATE landed SET ticket_no = concat('T0', {nul}) WHERE ticket_no = 'T001'")
    assert there.run("undo", "2").code == 0
    (moved,) = there.run("load", "tickets", "--day", DAY, "--json").json["loads"]

    assert (moved["balance"]["loaded"], moved["balance"]["rejected"]) == (1, 1)
