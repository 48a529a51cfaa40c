"""What is expected and what has arrived; a load asks the same, and an account in plain Python agrees."""

from __future__ import annotations

import datetime
import os
import random
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import DAY, SETTINGS, TICKETS, Space
from nomotheta.charter.model import WEEKDAYS
from nomotheta.source.patterns import day_in, number_in

HEAD, ROW = "ticket_no;fare;sold_on\n", "T{:03};{},00;01.06.2026\n"
FILES = 'files = "inbox/tickets-{day}.csv*"'
EACH = 'files = "inbox/tickets-{day}-{number}.csv"'


def declared(space: Space, more: str, files: str = FILES, load: str = "") -> None:
    """The charter of the tickets with more said of its delivery."""
    space.charter(TICKETS.replace(FILES, f"{files}\n{more}").replace("[load]", f"[load]\n{load}"))


def asked(space: Space, *words: str, day: str = DAY) -> dict[str, Any]:
    """What came of a day; earlier ones that nobody loaded are told beside it."""
    document = space.run("arrivals", "tickets", "--day", day, "--json", *words).json
    assert document["format"] == "nomotheta/arrivals/1"
    (found,) = [each for each in document["arrivals"] if each["day"] == day]
    return {**found, "verdict": document["verdict"]}


def rows(start: int = 0, count: int = 3) -> str:
    return HEAD + "".join(ROW.format(at, at) for at in range(start, start + count))


def soon(minutes: int) -> tuple[str, str]:
    """The day and the time in so many minutes, in UTC."""
    at = datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=minutes)
    return str(at.date()), f"{at:%H:%M}"


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('size = ["1 kB", ""]', "it has 65 bytes, less than the 1,000 that are plausible"),
        ('size = ["", 50]', "it has 65 bytes, more than the 50 that are plausible"),
        ('steady = "1 h"', "it was written to just now; it is complete when it has not changed for 1 hour"),
        ('ready = "{file}.done"', f"its marker inbox/tickets-{DAY}.csv.done has not arrived"),
        ("parts = 2", "1 of 2 files has arrived"),
        ('checksums = "{file}.sha256"', "the file is not there, and the charter says that it comes with the delivery"),
    ],
)
def test_a_load_refuses_what_arrivals_refuses_and_leaves_the_table_alone(space: Space, more: str, told: str) -> None:
    declared(space, "")
    space.tickets(rows(90), "2026-05-31")
    assert space.load(day="2026-05-31")["verdict"] == "pass"
    declared(space, more)
    space.tickets(rows(count=2))

    found, loaded = asked(space), space.load()

    assert found["state"] in {"refused", "missing"} and found["verdict"] == "fail"
    assert (found["message"], found["mend"]) == (loaded["message"], loaded["mend"])
    assert told in found["message"]
    assert space.sql("SELECT count(*) FROM tickets") == [(3,)]


def test_a_file_counts_once_it_is_steady_and_its_marker_is_there(space: Space) -> None:
    declared(space, 'steady = "1 h"\nready = "{file}.done"')
    space.tickets(rows())
    space.write(f"inbox/tickets-{DAY}.csv.done", "")
    first = asked(space)
    declared(space, 'steady = "0.2 s"\nready = "{file}.done"')
    time.sleep(0.3)

    assert (first["state"], asked(space)["state"]) == ("missing", "arrived")
    assert space.load()["verdict"] == "pass"
    assert (asked(space)["state"], asked(space)["load_no"]) == ("loaded", 1)
    assert space.run("arrivals", "--json", "--day", DAY).json["strays"] == []  # the marker is none


def test_what_is_due_later_is_awaited_and_what_was_due_is_late(space: Space) -> None:
    for minutes, state in ((2, "awaited"), (-2, "late")):
        day, at = soon(minutes)
        declared(space, f'due = "{at}"')
        found = space.run("arrivals", "--day", day, "--json")

        assert found.json["arrivals"][0]["state"] == state
        assert found.code == (state == "late")
    declared(space, 'due = "next day 23:59"')
    assert asked(space, day=soon(0)[0])["state"] == "awaited"


def test_late_ones_come_first_and_earlier_days_that_nobody_loaded_are_not_forgotten(space: Space) -> None:
    declared(space, "")
    for at, day in enumerate(("2026-06-01", "2026-06-02", "2026-06-04")):
        space.tickets(rows(at * 10), day)
    space.load()

    shown = space.run("arrivals", "--day", "2026-06-05").text
    found = space.run("arrivals", "--day", "2026-06-05", "--json").json["arrivals"]

    assert [(each["day"], each["state"]) for each in found] == [
        ("2026-06-05", "missing"), ("2026-06-02", "arrived"), ("2026-06-04", "arrived"),
    ]  # fmt: skip
    assert shown.startswith("1 missing, 2 arrived")
    whole = space.run("arrivals", "--from", "2026-06-01", "--to", "2026-06-02", "--json").json["arrivals"]
    assert [(each["day"], each["state"]) for each in whole] == [("2026-06-02", "arrived"), ("2026-06-01", "loaded")]


@pytest.mark.parametrize(
    ("name", "told", "table"),
    [
        (f"tickets-{DAY}.csv.part", f"a transfer to tickets-{DAY}.csv that is not done, or was given up", "tickets"),
        (f".tickets-{DAY}.csv.tmp", f"a transfer to tickets-{DAY}.csv that is not done, or was given up", "tickets"),
        (f"Tickets-{DAY}.csv", "capital and small letters are not those of inbox/tickets-{day}.csv", "tickets"),
        (f"ticket-{DAY}.csv", f"nearly inbox/tickets-{DAY}.csv", "tickets"),
        ("tickets-2026-02-31.csv", f"nearly inbox/tickets-{DAY}.csv", "tickets"),
        ("invoice.pdf", "belongs to no charter", ""),
    ],
)
def test_a_file_that_belongs_to_no_charter_is_named_with_what_it_nearly_is(
    space: Space, name: str, told: str, table: str
) -> None:
    declared(space, "", 'files = "inbox/tickets-{day}.csv"')
    space.write(f"inbox/{name}", "x")
    space.tickets(rows(), "2027-01-01")  # is of another day, and no stray

    document = space.run("arrivals", "--day", DAY, "--json").json

    assert document["strays"] == [{"file": f"inbox/{name}", "size": 1, "told": told, "table": table}]
    assert told.split("{", maxsplit=1)[0] in space.run("arrivals", "--day", DAY).text


def test_running_numbers_go_on_from_the_day_before(space: Space) -> None:
    declared(space, 'numbered = "throughout"', 'files = "inbox/t{number}-{day}.csv"')
    for at, (number, day) in enumerate(
        ((41, "2026-06-01"), (42, "2026-06-02"), (44, "2026-06-04"), (43, "2026-06-05"))
    ):
        space.write(f"inbox/t{number}-{day}.csv", rows(10 * at))
    first, second = space.load(), space.load(day="2026-06-02")
    gap, state = space.load(day="2026-06-04"), asked(space, day="2026-06-04")

    assert [first["verdict"], second["verdict"], gap["verdict"]] == ["pass", "pass", "fail"]
    assert gap["message"] == "number 43 is missing; 42 came last (inbox/t42-2026-06-02.csv, 2026-06-02)"
    assert (state["state"], state["message"]) == ("missing", gap["message"])
    assert space.load(day="2026-06-05")["verdict"] == "pass"
    assert "it has the number 44, and 43" not in space.load(day="2026-06-04")["message"]  # it is compared with 42


def test_names_are_read_back_into_days_and_numbers() -> None:
    made = random.Random(3)
    forms = ("{day}", "{day:%d%m%Y}", "{day:%y%j}", "{day:%Y/%m/%d}", "{day:%d.%m.%y}")
    for _ in range(500):
        day = datetime.date(2000, 1, 1) + datetime.timedelta(days=made.randrange(20_000))
        pattern, number = f"in[b]ox/*x-{made.choice(forms)}-{{number}}.c?v", made.randrange(10_000)
        form = pattern[pattern.index("{day") : pattern.index("}") + 1]
        told = day.strftime(form[5:-1]) if ":" in form else day.isoformat()
        name = f"inbox/{made.choice(['', 'a', 'a-b'])}x-{told}-{number:03}.csv"

        assert (day_in(pattern, name), number_in([pattern], name)) == (day, number), (pattern, name)
        assert not day_in(pattern, name + "x") and not day_in(pattern, "x/" + name)


@pytest.mark.parametrize(
    ("pattern", "name", "day"),
    [
        ("x-{day:%G-W%V}.csv", "x-2026-W23.csv", True), ("x-{day:%G-W%V}.csv", "x-2026-23.csv", False),
        ("x-{day:%G%V%u}.csv", "x-2026231.csv", datetime.date(2026, 6, 1)), ("x-{day:%Y%m}.csv", "x-202606.csv", True),
        ("{day:%Y}/{day:%m}/{day:%d}.csv", "2026/06/01.csv", datetime.date(2026, 6, 1)),
        ("{day:%Y}/x{day}.csv", "2026/x2026-06-01.csv", datetime.date(2026, 6, 1)), ("list.csv", "list.csv", True),
        ("{day:%Y}/x{day}.csv", "2025/x2026-06-01.csv", False), ("{day:%d}.csv", "01.csv", True),
    ],
)  # fmt: skip
def test_a_week_or_a_month_in_a_name_is_no_day(pattern: str, name: str, day: datetime.date | bool) -> None:
    assert day_in(pattern, name) == day


def test_random_inboxes_are_as_an_account_in_plain_python_has_them(space: Space) -> None:
    """Whether a delivery may be loaded is asked twice: of what `arrivals` says, and of the load itself."""
    made = random.Random(18)
    states = dict.fromkeys(("late", "missing", "refused", "awaited", "arrived", "loaded", "none came"), 0)
    first = datetime.date(2026, 6, 1)
    for at in range(70):
        day = first + datetime.timedelta(days=at)
        parts, optional = made.choice([None, None, 1, 2, 3]), made.random() < 0.3
        least, most = made.choice([(None, None), (60, None), (None, 90), (60, 90)])
        due, ready, each = made.choice(["", "past", "future"]), made.random() < 0.4, made.random() < 0.5
        off = made.random() < 0.15
        said = [f"parts = {parts}"] * bool(parts) + ["optional = true"] * optional
        said += [f"size = [{least or chr(34) * 2}, {most or chr(34) * 2}]"] * bool(least or most)
        said += ['numbered = "each day"'] * each + ['ready = "{file}.ok"'] * ready
        said += [f'due = "{"next day " * (due == "future")}23:59"'] * bool(due)
        said += [f"weekdays = {[name for name in WEEKDAYS if name != WEEKDAYS[day.weekday()]]}".replace("'", '"')] * off
        declared(space, "\n".join(said), EACH if each else 'files = "inbox/tickets-{day}-*.csv"')
        there = {}
        for number in (
            made.sample(range(1, 5), made.choice([0, 1, 1, 2, 3]))
            if made.random() < 0.6
            else range(1, made.randrange(4))
        ):
            text, marked = rows((at * 40 + number * 4) % 990, made.choice([1, 2, 3])), not ready or made.random() < 0.8
            there[number] = (len(text), marked)
            space.write(f"inbox/tickets-{day}-{number}.csv", text)
            if ready and marked:
                space.write(f"inbox/tickets-{day}-{number}.csv.ok", "")

        not_yet = (
            (not there and not optional and not off)
            or not all(marked for _, marked in there.values())
            or (there and parts and len(there) < parts)
            or (there and each and sorted(there) != list(range(1, len(there) + 1)))
        )
        wrong = any((least and size < least) or (most and size > most) for size, _ in there.values())
        wrong |= bool(parts and len(there) > parts)
        waiting = (
            "awaited" if off or (due == "future" and day >= TODAY) or day > TODAY else "late" if due else "missing"
        )
        document = space.run("arrivals", "tickets", "--day", str(day), "--json").json
        assert "arrivals" in document, (document, said)
        found = document["arrivals"]
        found = [each_ for each_ in found if each_["day"] == str(day)]
        if off and not there:
            assert (found, space.load(day=str(day))["message"]) == ([], f"no file is expected on a {day:%A}")
            continue
        state = found[0]["state"]
        loaded = space.load(day=str(day))
        if not there and optional:
            assert (state, loaded["state"]) == ("none came", "nothing arrived")
        elif not_yet or wrong:
            assert state in ({waiting} if not wrong else {waiting, "refused"} if not_yet else {"refused"}), (
                day,
                said,
                there,
            )
            assert (loaded["verdict"], loaded["message"]) == ("fail", found[0]["message"])
        else:
            assert (state, loaded["verdict"]) == ("arrived", "pass"), (day, said, there, found, loaded)
            assert asked(space, day=str(day))["state"] == "loaded"
            state = "loaded"
        states[state] += 1
    assert min(states[each] for each in ("missing", "refused", "loaded", "none came", "late")) >= 3, states


TODAY = datetime.datetime.now(datetime.UTC).date()


@pytest.mark.parametrize(
    ("more", "files", "told"),
    [
        ('due = "25:00"', FILES, "due"),
        ('steady = "5"', FILES, 'a span of time is written as "30 s", "5 min" or "1 h"'),
        ('size = ["2 MB", "1 kB"]', FILES, "no file has such a size: the least is greater than the greatest"),
        ('size = ["2 bits", ""]', FILES, "'2 bits' is not a size"),
        ('numbered = "each day"', FILES, "numbered speaks of {number} in the pattern of the files"),
        ("", EACH, "the pattern has a {number}"),
        ('due = "06:00"', 'files = "inbox/list.csv"', "due speaks of days"),
        ('weekdays = ["mondays"]', FILES, "weekdays"),
    ],
)
def test_what_a_delivery_may_not_declare_is_said(space: Space, more: str, files: str, told: str) -> None:
    declared(space, more, files)
    ended = space.run("lint")

    assert ended.code == 2
    assert told in ended.text


def test_a_place_that_does_not_answer_does_not_keep_arrivals_from_being_told(space: Space) -> None:
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", "postgresql://x@127.0.0.1:9/x"))
    declared(space, "")
    space.tickets(rows())

    ended = space.run("arrivals", "--day", DAY)

    assert "cannot be reached: Connection refused" in ended.text
    assert ended.code == 0


def test_a_folder_that_may_not_be_read_is_told(space: Space, monkeypatch: pytest.MonkeyPatch) -> None:
    read, scan = Path.iterdir, os.scandir

    def refusing(real: Any) -> Any:
        def refused(path: Any) -> Any:
            if "inbox" in str(path):
                raise PermissionError(13, "Permission denied", str(path))
            return real(path)

        return refused

    declared(space, "")
    monkeypatch.setattr(Path, "iterdir", refusing(read))
    monkeypatch.setattr(os, "scandir", refusing(scan))
    ended = space.run("arrivals", "--day", DAY)

    assert (
        ended.code == 1
        and "let the folder inbox be read: Permission denied" in ended.text
        and "unexpected" not in ended.text
    )
