"""A ledger from which old entries are removed: all that is left goes on as if nothing was, and its chain stays whole."""

from __future__ import annotations

import datetime
import json
import random
import re
import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import TICKETS, Space

HOWS = {
    "append": TICKETS.replace("[[keys]]", '[[rules]]\nname = "not dear"\neach = "fare <= 80"\n[[keys]]'),
    "overwrite": TICKETS.replace("[load]", '[load]\nhow = "overwrite"\nkeep_previous = true'),
    "slice": TICKETS.replace("[load]", '[load]\nhow = "overwrite"\nslice = "sold_on = :day"'),
    "merge": TICKETS.replace("[load]", '[load]\nhow = "merge"'),
}
FIRST = datetime.date(2026, 6, 1)


def day(at: int) -> str:
    return str(FIRST + datetime.timedelta(days=at))


def backdated(space: Space, nights: int) -> None:
    """Let each run have begun on its day, as it would have."""
    for at in range(nights):
        for table in ("runs", "entries", "nights"):
            space.sql_ledger(f"update {table} set started = '{day(at)}T23:00:00+00:00' where run_id = {at + 1}")
    space.sql_ledger("delete from chain")
    space.sql_ledger("delete from about where key = 'none'")


def resealed(space: Space) -> None:
    from nomotheta.ledger.chain import seal_all
    from nomotheta.ledger.sqlite import SqliteLedger

    ledger = SqliteLedger(space.root / ".nomotheta/ledger.sqlite")
    with ledger.together():
        seal_all(ledger.rows)
    ledger.close()


def alike(told: Any) -> Any:
    if isinstance(told, dict):
        return {
            name: alike(each) for name, each in told.items() if not re.search("seconds|started|began|_id$|^at$", name)
        }
    return [alike(each) for each in told] if isinstance(told, list) else told


@pytest.mark.parametrize("how", HOWS)
def test_what_comes_later_is_the_same_with_old_entries_and_without(space: Space, how: str, tmp_path: Path) -> None:
    for seed in range(2):
        made, nights = random.Random(seed), 7
        kept, pruned = Space(tmp_path / f"kept-{seed}"), Space(tmp_path / f"pruned-{seed}")
        shutil.copytree(space.root, kept.root, ignore=lambda _, names: [name for name in names if "-" in name])
        kept.charter(HOWS[how])
        for at in range(nights):
            told = (FIRST + datetime.timedelta(days=at)).strftime("%d.%m.%Y")
            keys = made.sample(range(9), 4) if how == "merge" else range(at * 4, at * 4 + 4)
            rows = "".join(f"T{key:03};{made.randrange(90)},00;{told}\n" for key in keys)
            kept.tickets(f"ticket_no;fare;sold_on\n{rows}" + made.choice(["", "X;1,00;" + told + "\n"]), day(at))
            kept.run("run", "--day", day(at), "--create")
        kept.run("judge")
        backdated(kept, nights)
        resealed(kept)
        shutil.copytree(kept.root, pruned.root)
        before = day(made.randrange(3, nights))
        rehearsed = pruned.run("ledger", "--prune", before, "--rehearse", "--json").json
        assert pruned.run("ledger", "--verify").out == kept.run("ledger", "--verify").out
        ended = pruned.run("ledger", "--prune", before, "--json")
        assert ended.code == 0, ended.text
        assert {name: ended.json[name] for name in ("runs", "entries", "loads", "kept")} == {
            name: rehearsed[name] for name in ("runs", "entries", "loads", "kept")
        }
        assert ended.json["runs"] == (datetime.date.fromisoformat(before) - FIRST).days
        assert pruned.run("ledger", "--verify").code == 0
        numbers = [str(entry["load_no"]) for entry in kept.run("ledger", "--json", "--last", "99").json["entries"]
                   if entry["state"] == "loaded" and entry["load_no"]]  # fmt: skip
        standing = numbers[0]
        for words in (
            ["reconcile", "tickets"], ["judge", "tickets"], ["run", "--day", day(nights - 1)], ["rejects", standing, "--all"],
            ["run", "--day", day(1)], ["undo", standing], ["run", "--day", day(nights - 1)], ["docket"], ["ledger", "--trends"],
        ):  # fmt: skip
            one, other = (each.run(*words, "--json") for each in (kept, pruned))
            assert (one.code, alike(one.out and one.json)) == (other.code, alike(other.out and other.json)), (
                how,
                words,
            )
        assert pruned.run("ledger", "--verify").code == 0


def test_what_was_removed_by_other_means_is_still_found(space: Space) -> None:
    for at in range(4):
        space.tickets(f"ticket_no;fare;sold_on\nT00{at};1,00;01.06.2026\nX;1,00;01.06.2026\n", day(at))
        assert space.run("run", "--day", day(at), "--create").code == 0
        space.run("judge")
    backdated(space, 4)
    resealed(space)
    pruned = space.run("ledger", "--prune", day(2), "--json").json
    assert (pruned["runs"], pruned["loads"], pruned["kept"]) == (2, [], 2)
    for at, (statement, told) in enumerate((
        ("delete from runs where run_id = 3", "run 3 was removed"),
        ('update prunings set removed = \'{"run": [[1, 3]], "entry": []}\'', "pruning 1 was altered"),
        ("delete from prunings", "pruning 1 was removed"),
        ("insert into prunings values (2, '', '', '', '{\"run\": [[3, 3]]}')", "pruning 2 was added by other means"),
    )):  # fmt: skip
        other = Space(space.root / f"other-{at}")
        shutil.copytree(
            space.root, other.root, ignore=lambda _, names: [name for name in names if name.startswith("other")]
        )
        other.sql_ledger(statement)
        ended = other.run("ledger", "--verify")
        assert (ended.code, told in ended.text) == (1, True), ended.text
        refused = other.run("ledger", "--prune", day(3))
        assert (refused.code, "nothing was removed" in refused.text) == (3, True), refused.text
    assert space.run("ledger", "--verify").code == 0


def test_loads_of_places_that_do_not_answer_stay_and_numbers_are_not_given_again(space: Space) -> None:
    for at in range(3):
        space.tickets(f"ticket_no;fare;sold_on\nT00{at};1,00;01.06.2026\n", day(at))
        assert space.run("run", "--day", day(at), "--create").code == 0
    assert space.run("undo", "3").code == 0
    backdated(space, 3)
    resealed(space)
    away = space.root / "away.duckdb"
    (space.root / "warehouse.duckdb").rename(away)
    told = space.run("ledger", "--prune", "today")
    assert "all loads into warehouse kept: no answer from there" in told.text
    away.rename(space.root / "warehouse.duckdb")
    found = space.run("ledger", "--prune", "today", "--json").json
    assert (found["loads"], found["kept"]) == ([], 2)  # load 3 is the highest, and its number stays known
    space.tickets("ticket_no;fare;sold_on\nT009;1,00;01.06.2026\n", day(5))
    assert space.load(day=day(5))["load_no"] == 4
    for words, told_of in ((["--prune", "2999-01-01"], "yet to come"), (["--rehearse"], "without --prune")):
        ended = space.run("ledger", *words)
        assert (ended.code, told_of in ended.text) == (2, True)


def test_what_changed_since_the_night_before_is_named_and_nothing_is_said_to_pass_that_was_not_judged(
    space: Space,
) -> None:
    space.charter(HOWS["append"].replace('each = "fare <= 80"', 'each = "fare <= 80"\notherwise = "warn"'))
    head, nights = "ticket_no;fare;sold_on\n", {
        0: "T001;99,00;01.06.2026\n", 1: "T002;99,00;01.06.2026\nT003;98,00;01.06.2026\n", 3: "T005;5,00;01.06.2026\n",
    }  # fmt: skip
    for at in range(4):
        if at in nights:
            space.tickets(head + nights[at], day(at))
        space.run("run", "--day", day(at), "--create")
    found = [space.run("ledger", "--changes", "--day", day(at), "--json").json["changes"][0] for at in range(4)]
    assert found[0]["before"] is None
    texts = [space.run("ledger", "--changes", "--day", day(at)).text for at in range(4)]
    assert "is new: no night before knew it" in texts[0]
    assert "not dear: broken by 2 rows, 1 before" in texts[1]
    assert "no longer broken" not in texts[2]  # no file had arrived
    assert "the table is unchanged; before: loaded" in texts[2]
    assert "before: " in texts[3]
    assert "2026-06-04" in space.run("ledger", "--changes").text
    space.run("run", "--day", day(3))  # once more, which loads nothing, and is no night more
    assert space.run("ledger", "--changes", "--day", day(3), "--json").json["changes"][0]["now"]["loaded"] == 1
    trends = space.run("ledger", "--trends")
    assert trends.code == 0
    assert [part["loaded"] for part in json.loads(space.run("ledger", "--trends", "--json").out)["tables"]["tickets"]] == [
        1, 2, None, 1,
    ]  # fmt: skip


@pytest.mark.parametrize("pruned", [False, True])
def test_what_is_not_as_usual_fails_with_old_entries_and_without(space: Space, pruned: bool) -> None:
    usual = '[[rules]]\nname = "as many as usual"\nusual = { of = "count(*)", least = 5 }\n[[keys]]'
    space.charter(HOWS["overwrite"].replace("[[keys]]", usual))
    for at in range(9):
        rows = "".join(f"T{key:03};{at},00;01.06.2026\n" for key in range(40 + at % 2))
        space.tickets(f"ticket_no;fare;sold_on\n{rows}", day(at))
        space.run("run", "--day", day(at), "--create")
    backdated(space, 9)
    resealed(space)
    if pruned:
        assert space.run("ledger", "--prune", day(9), "--json").json["runs"] == 8
    space.tickets("ticket_no;fare;sold_on\nT001;1,00;01.06.2026\n", day(9))
    found = space.load(day=day(9))
    assert found["verdict"] == "fail", found["message"]
    assert "as many as usual" in found["message"]
