"""Before and after the load: rehearsals, what the sender states, and rows that are mended and come again."""

from __future__ import annotations

import csv
import gzip
import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import DAY, TICKETS, Space

HEAD = "ticket_no;fare;sold_on\n"
FAULTY = HEAD + "T001;1,50;01.06.2026\nT002;x;01.06.2026\nT00;2,50;01.06.2026\nT004;3,50\nT001;4,50;01.06.2026\n"


def mend(space: Space, change: Callable[[dict[str, str]], Any], delimiter: str = ",") -> str:
    """What the analyst does: writes the open rows, changes or drops them, saves the file."""
    space.run("rejects", "--csv", "fixed.csv")
    with (space.root / "fixed.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    kept = [row for row in rows if change(row) is not False]
    with (space.root / "fixed.csv").open("w", newline="", encoding="utf-8-sig") as file:
        writer = csv.DictWriter(file, list(rows[0]), delimiter=delimiter)
        writer.writeheader()
        writer.writerows(kept)
    return "fixed.csv"


def again(space: Space, file: str) -> Any:
    ended = space.run("load", "tickets", "--again", file, "--json")
    assert "loads" in ended.json, ended.text
    return ended.json["loads"][0] | {"exit": ended.code}


def mended(row: dict[str, str]) -> bool:
    row |= {"fare": row["fare"].replace("x", "9,00"), "ticket_no": row["ticket_no"].replace("T00", "T003") if row["ticket_no"] == "T00" else row["ticket_no"]}  # fmt: skip
    return row["ticket_no"] != "T001"


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
def test_mended_rows_come_later_and_the_balance_of_their_load_closes(space: Space, delimiter: str) -> None:
    space.tickets(FAULTY)
    space.load()

    later = again(space, mend(space, mended, delimiter))

    assert (later["state"], later["mends"], later["day"]) == ("loaded", 1, DAY), later
    assert [later["balance"][key] for key in ("records", "loaded", "rejected")] == [
        3, 2, 1,
    ]  # T004 is as it was: too short  # fmt: skip
    assert space.sql("select ticket_no, fare::varchar, load_no from tickets order by 1") == [
        ("T001", "1.50", 1), ("T002", "9.00", 2), ("T003", "2.50", 2),
    ]  # fmt: skip
    ended = space.run("rejects", "1", "--json").json
    assert [ended[key] for key in ("rows", "came_later", "open", "with_loads")] == [4, 2, 2, [2]]
    assert "4 rows set aside: 2 came later with load 2, 2 open" in space.run("rejects", "1").text
    assert [each["line"] for each in ended["shown"]] == [5, 6]
    assert space.run("reconcile", "tickets").code == 0


def test_rows_mended_under_one_file_name_again_and_again_are_reconciled(space: Space) -> None:
    space.tickets(FAULTY)
    space.load()
    again(space, mend(space, mended))
    last = again(space, mend(space, lambda row: row.update(sold_on="01.06.2026") or row["ticket_no"] == "T004"))
    (space.root / "fixed.csv").unlink()

    found = space.run("reconcile", "tickets", "--json")

    assert last["balance"]["loaded"] == 1
    assert (found.code, found.json["tables"][0]["source_rows"]) == (0, 4)
    space.sql("update tickets set fare = 1 where ticket_no = 'T004'")
    assert space.run("reconcile", "tickets").code == 1


def test_a_row_can_come_only_once(space: Space) -> None:
    space.tickets(FAULTY)
    space.load()
    file = mend(space, mended)
    again(space, file)

    second = again(space, file)

    assert (second["state"], second["exit"]) == ("refused", 1)
    assert "record 2 of inbox/tickets-2026-06-01.csv came already, with load 2" in second["message"]
    assert second["where"].endswith("fixed.csv:2")
    assert len(space.sql("select 1 from tickets")) == 3


REFUSED: list[tuple[str, Callable[[str], str], str]] = [
    ("no links", lambda _: "ticket_no,fare,sold_on\nT009,1,2\n", "not a file of rejected rows"),
    ("a row of another file", lambda text: text.replace("inbox/", "outbox/"), "did not set record 2 of outbox/"),
    ("a record that was loaded", lambda text: text.replace("csv,3,2,", "csv,3,1,"), "did not set record 1"),
    ("a link that was lost", lambda text: text.replace("1,inbox", ",inbox", 1), "does not say which rejected row"),
    ("the same row twice", lambda text: text + text.split("\n")[1] + "\n", "is in it twice"),
    ("another load", lambda text: text.replace("1,inbox", "7,inbox"), "is not in the ledger"),
    ("nothing", lambda text: text.split("\n")[0] + "\n", "holds no rows"),
]


@pytest.mark.parametrize(("change", "told"), [row[1:] for row in REFUSED], ids=[row[0] for row in REFUSED])
def test_what_is_no_mended_row_is_refused(space: Space, change: Callable[[str], str], told: str) -> None:
    space.tickets(FAULTY)
    space.load()
    space.run("rejects", "--csv", "fixed.csv")
    text = (space.root / "fixed.csv").read_bytes().decode()
    space.write("fixed.csv", change(text))

    later = again(space, "fixed.csv")

    assert (later["state"], later["exit"]) == ("refused", 1)
    assert told in later["message"], later
    assert len(space.sql("select 1 from tickets")) == 1


def test_a_rule_over_the_load_sees_the_rows_that_came_later_with_it(space: Space) -> None:
    space.charter(TICKETS + '[[rules]]\nname = "a night"\nwhole = "count(*) <= 2"\nover = "load"\n')
    space.tickets(FAULTY)
    assert space.load()["verdict"] == "pass"

    later = again(space, mend(space, mended))

    (finding,) = [each for each in later["findings"] if each["rule"] == "a night"]
    assert (later["state"], finding["over"], finding["verdict"]) == ("undone", "load 1 + 2", "fail")
    assert space.run("rejects", "1", "--json").json["came_later"] == 0


@pytest.mark.parametrize(
    ("rows", "tolerate", "message", "code"),
    [
        ("T001;1,50;01.06.2026\n", '"all"', "would be loaded", 0),
        ("T001;1,50;01.06.2026\nT002;x;01.06.2026\n", '"none"', "would be rolled back: 1 of 2 rows rejected", 1),
        ("T009;1,50;01.06.2026\n", '"all"', "would be rolled back: 1 rule failed: 'no T009'", 1),
    ],
)
def test_a_rehearsal_says_what_would_be_and_touches_nothing(
    space: Space, rows: str, tolerate: str, message: str, code: int
) -> None:
    space.charter(TICKETS.replace('"all"', tolerate) + '[[rules]]\nname = "no T009"\neach = "ticket_no <> \'T009\'"\n')
    space.tickets(HEAD + "T000;1,50;31.05.2026\n", "2026-05-31")
    space.load(day="2026-05-31")
    space.tickets(HEAD + rows)
    before = {path: path.read_bytes() for path in space.root.rglob("*") if path.is_file() and "sqlite" not in path.name}

    load = space.load("--rehearse")

    assert (load["state"], load["exit"]) == ("rehearsed", code)
    assert message in load["message"]
    assert before == {
        path: path.read_bytes() for path in space.root.rglob("*") if path.is_file() and "sqlite" not in path.name
    }
    assert [entry["load_no"] for entry in space.run("ledger", "--json").json["entries"]] == [1]
    assert "rejects None" not in space.run("load", "tickets", "--day", DAY, "--rehearse").out


def test_a_rehearsal_of_a_table_that_is_not_there_names_those_that_are_once(space: Space) -> None:
    space.tickets(HEAD + "T000;1,50;01.06.2026\n")
    space.load()
    space.charter(TICKETS.replace('table = "tickets"', 'table = "other"'), "other")

    told = space.run("load", "other", "--day", DAY, "--rehearse").text

    assert "tables there: tickets;" in told


def test_a_rehearsal_sees_the_table_and_what_it_refers_to(space: Space) -> None:
    space.sql("create table tariffs (fare decimal(6,2) primary key)")
    space.sql("insert into tariffs values (1.50)")
    space.sql("create table tickets (ticket_no varchar primary key, fare decimal(6,2), sold_on date, load_no bigint)")
    space.sql("insert into tickets values ('T001', 1.5, null, 0)")
    space.charter(TICKETS + '[[references]]\ncolumns = ["fare"]\nlisted_in = "tariffs(fare)"\n')
    space.tickets(HEAD + "T001;1,50;01.06.2026\nT002;7,50;01.06.2026\n")

    load = space.load("--rehearse")

    assert load["balance"]["conflicts"] == 1
    assert [each["verdict"] for each in load["findings"] if each["sort"] == "reference"] == ["fail"]
    assert len(space.sql("select 1 from tickets")) == 1


BODY = HEAD + "T001;1,50;01.06.2026\nT002;2,50;01.06.2026\n"
STATED = [
    ("footer", '{ in = "footer", pattern = "^END;(?P<rows>[0-9]+);(?P<fare>[0-9,]+)$" }', "END;2;4,00\n", None),
    ("footer, another count", '{ in = "footer", pattern = "^END;(?P<rows>[0-9]+)" }', "END;3;\n", "states 3 rows, and 2 came"),
    ("footer, another total", '{ in = "footer", pattern = ";(?P<fare>[0-9,]+)$" }', "END;2;4,10\n", "a total of fare of 4.10, and 4.00 came"),
    ("footer that is cut off", '{ in = "footer", pattern = "^END;(?P<rows>[0-9]+)" }', "T003;2,50;01.06.2026\n", "does not state what the charter expects"),
    ("sidecar", '{ in = "{file}.cnt", pattern = "rows=(?P<rows>[0-9]+)" }', "rows=2", None),
    ("sidecar, another count", '{ in = "{file}.cnt", pattern = "rows=(?P<rows>[0-9]+)" }', "rows=1", "states 1 row, and 2 came"),
    ("sidecar that is missing", '{ in = "inbox/{day}.cnt", pattern = "(?P<rows>[0-9]+)" }', "rows=2", "is not there"),
]  # fmt: skip


@pytest.mark.parametrize(("stated", "text", "told"), [row[1:] for row in STATED], ids=[row[0] for row in STATED])
def test_what_the_sender_states_is_held_against_what_came(
    space: Space, stated: str, text: str, told: str | None
) -> None:
    footer = "footer" in stated
    layout = (
        '[delivery.layout]\ndelimiter = ";"\ndecimal_sign = ","\ndate_forms = ["%d.%m.%Y"]\n' + "footer = 1\n" * footer
    )
    space.charter(TICKETS.replace('layout = "office"\n', f"stated = {stated}\n{layout}"))
    space.tickets(BODY + text * footer)
    if not footer:
        space.write(f"inbox/tickets-{DAY}.csv.cnt", text)
        space.charter(TICKETS.replace('csv*"\nlayout = "office"\n', f'csv"\nstated = {stated}\n{layout}'))

    load = space.load()

    assert (load["state"], load["exit"]) == (("refused", 1) if told else ("loaded", 0)), load
    assert (told or "") in load["message"]


def listed(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


SUMS = [
    ("sha256sum", "inbox/SUMS", "inbox/SUMS", lambda p: f"{listed(p)}  {p.name}\n", None),
    ("sha256sum --tag", "inbox/SUMS", "inbox/SUMS", lambda p: f"SHA256 ({p.name}) = {listed(p)}\n", None),
    ("md5, binary, other files too", "inbox/SUMS-{day}", f"inbox/SUMS-{DAY}", lambda p: f"{'0' * 32} *other.csv\n{hashlib.md5(p.read_bytes()).hexdigest()} *{p.name}\n", None),
    ("one beside each file", "{file}.sha256", f"inbox/tickets-{DAY}.csv.sha256", listed, None),
    ("BagIt", "manifest-sha256.txt", "manifest-sha256.txt", lambda p: f"{listed(p)}  inbox/{p.name}\n", None),
    ("BagIt, incomplete", "manifest-sha256.txt", "manifest-sha256.txt", lambda p: f"{listed(p)}  inbox/{p.name}\n{listed(p)} inbox/more%0A.csv\n", "has not arrived"),
    ("damaged", "inbox/SUMS", "inbox/SUMS", lambda p: f"{'0' * 64}  {p.name}\n", "its sha256 checksum is"),
    ("not listed", "inbox/SUMS", "inbox/SUMS", lambda p: f"{listed(p)}  other.csv\n{listed(p)}  third.csv\n", "states no checksum of this file"),
    ("no checksum", "inbox/SUMS", "inbox/SUMS", lambda _: "hello\n", "this line states no checksum"),
    ("not there", "inbox/SUMS", "inbox/OTHER", lambda _: "", "is not there"),
]  # fmt: skip


@pytest.mark.parametrize(("declared", "file", "write", "told"), [row[1:] for row in SUMS], ids=[row[0] for row in SUMS])
def test_checksums_are_held_against_the_files_before_anything_is_loaded(
    space: Space, declared: str, file: str, write: Any, told: str | None
) -> None:
    space.charter(TICKETS.replace('csv*"\n', f'csv"\nchecksums = "{declared}"\n'))
    space.tickets(gzip.compress(BODY.encode()))
    space.write(file, write(space.root / f"inbox/tickets-{DAY}.csv"))

    load = space.load()

    assert (load["state"], load["exit"]) == (("refused", 1) if told else ("loaded", 0)), load
    assert (told or "") in load["message"]


def test_a_name_with_a_backslash_is_listed_as_sha256sum_writes_it(space: Space) -> None:
    space.charter(TICKETS.replace('csv*"\n', 'csv*"\nchecksums = "inbox/SUMS"\n'))
    path = space.write(f"inbox/tickets-{DAY}.csv\\b", BODY)
    space.write("inbox/SUMS", f"\\{listed(path)}  tickets-{DAY}.csv\\\\b\n")

    assert space.load()["state"] == "loaded"


def test_an_empty_text_at_the_end_of_a_mended_file_stays_one(space: Space) -> None:
    space.charter(TICKETS + '[columns.note]\nkind = "text"\n')
    space.tickets('ticket_no;fare;sold_on;note\nT001;x;01.06.2026;""\n')
    space.load()

    file = mend(space, lambda row: row.update(fare="1"))
    (space.root / file).write_text((space.root / file).read_text("utf-8-sig").rstrip() + '""')

    assert again(space, file)["state"] == "loaded"
    assert space.sql("select note from tickets") == [("",)]


def test_a_value_that_a_spreadsheet_would_take_for_a_formula_comes_back_as_it_was(space: Space) -> None:
    space.charter(TICKETS + '[columns.note]\nkind = "text"\n')
    space.tickets("ticket_no;fare;sold_on;note\nT001;x;01.06.2026;=x\n")
    space.load()

    assert again(space, mend(space, lambda row: row.update(fare="1")))["state"] == "loaded"
    assert "'=x" in (space.root / "fixed.csv").read_text("utf-8-sig")
    assert space.sql("select note from tickets") == [("=x",)]


def test_a_repeat_that_was_not_mended_does_not_take_the_place_of_the_row_that_stayed(space: Space) -> None:
    space.charter(TICKETS.replace("[load]", '[load]\nhow = "merge"'))
    space.tickets(
        "ticket_no;fare;sold_on\nT001;1,00;01.06.2026\nT001;2,00;02.06.2026\nT002;3,00;01.06.2026\nT002;4,00;01.06.2026\n"
    )
    space.load()
    space.run("rejects", "--csv", "out.csv")
    text = (space.root / "out.csv").read_text()
    (space.root / "out.csv").write_text(text.replace("T002,", "T003,"))

    ended = space.run("load", "tickets", "--again", "out.csv", "--json")

    assert space.sql("select ticket_no, fare::text from tickets order by 1") == [
        ("T001", "1.00"), ("T002", "3.00"), ("T003", "4.00"),
    ]  # fmt: skip
    assert "repeats the key of another row" in ended.out
