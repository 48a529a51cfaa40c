"""What comes twice, late, corrected or in parts: everything that was sent has arrived, and nothing arrived twice."""

from __future__ import annotations

import contextlib
import datetime
import shutil
from typing import Any

import openpyxl
import pytest

from conftest import DAY, SETTINGS, Space, without_kernel
from nomotheta.place.marks import files_known, leave_files
from nomotheta.place.render import Now
from servers import Database
from test_places import database, opened, running, sort  # noqa: F401

CHARTER = """
table = "t"
[delivery]
files = "inbox/t-{files}.csv"
{delivery}
[load]
tolerate = "all"
{load}
[columns.k]
kind = "text(4)"
[columns.v]
kind = "integer"
{columns}
{more}
"""
LOAD_NO = '[columns.load_no]\nfrom = "@load.no"'
KEY = '[[keys]]\ncolumns = ["k"]\n'
NEXT = "2026-06-02"


def charter(
    space: Space, files: str, delivery: str = "", load: str = "", columns: str = LOAD_NO, more: str = ""
) -> None:
    (space.root / "charters/tickets.toml").unlink(missing_ok=True)
    space.charter(CHARTER.format(files=files, delivery=delivery, load=load, columns=columns, more=more), "t")


def sent(space: Space, name: str, *rows: str) -> str:
    """A file of rows; its name."""
    space.write(f"inbox/t-{name}.csv", "k,v\n" + "".join(f"{row}\n" for row in rows))
    return f"inbox/t-{name}.csv"


def load(space: Space, *more: str, day: str = DAY) -> dict[str, Any]:
    return space.load(*more, table="t", day=day)


def run(space: Space, day: str = DAY) -> dict[str, Any]:
    ended = space.run("run", "--day", day, "--json")
    return ended.json["tables"][0]["load"] | {"exit": ended.code}


def rows(space: Space) -> list[tuple[str, int]]:
    return space.sql("SELECT k, v FROM t ORDER BY k, v")  # type: ignore[return-value]


# ---- marks per file


def test_of_a_folder_only_the_new_files_are_loaded(space: Space) -> None:
    charter(space, "*")
    a, b = sent(space, "a", "A,1", "B,2"), sent(space, "b", "C,3")
    first = load(space)
    c = sent(space, "c", "D,4")
    second, third = load(space), load(space)

    assert [first["state"], second["state"], third["state"]] == ["loaded", "loaded", "unchanged"]
    assert [each["file"] for each in second["balance"]["files"]] == [c]
    assert [(each["file"], each["load_no"]) for each in second["left_out"]] == [(a, 1), (b, 1)]
    assert f"2 files are already in the table (load 1) and were left out: {a}, {b}" in second["notes"]
    assert [each["load_no"] for each in third["left_out"]] == [1, 1, 2]
    assert rows(space) == [("A", 1), ("B", 2), ("C", 3), ("D", 4)]
    assert space.run("reconcile", "t").code == 0


def test_a_content_is_known_under_any_name_and_twice_in_a_delivery(space: Space) -> None:
    charter(space, "*")
    a = sent(space, "a", "A,1")
    load(space)
    b, c, d = sent(space, "b", "A,1"), sent(space, "c", "C,3"), sent(space, "d", "C,3")

    found = load(space)

    assert {(each["file"], each["load_no"], each["as_file"]) for each in found["left_out"]} == {
        (a, 1, a), (b, None, a), (d, None, c),
    }  # fmt: skip
    assert found["verdict"] == "warn"
    assert found["warnings"] == [
        f"{b} has the same content as {a} and was left out",
        f"{d} has the same content as {c} and was left out",
    ]
    assert rows(space) == [("A", 1), ("C", 3)]


@pytest.mark.parametrize("keyed", [False, True])
@pytest.mark.parametrize(("files", "name"), [("*", "a"), ("a", "a")])
@pytest.mark.parametrize("grown", [False, True])
def test_a_file_that_changed_since_it_was_loaded_is_told_by_name(
    space: Space, keyed: bool, files: str, name: str, grown: bool
) -> None:
    charter(space, files, more=KEY * keyed)
    file = sent(space, name, "A,1")
    load(space)
    sent(space, name, *["A,1"] * grown, "B,2")

    found = load(space)

    told = (
        f"{file} grew from 8 to 12 bytes since load 1 loaded it" if grown else f"{file} changed since load 1 loaded it"
    )
    if not keyed and (grown or files == "*"):
        assert (found["state"], found["where"]) == ("refused", file)
        assert told.removeprefix(f"{file} ") in found["message"]
        assert rows(space) == [("A", 1)]
        return
    assert (found["state"], found["verdict"]) == ("loaded", "pass" if keyed and grown else "warn")
    assert told in (found["notes"] if keyed and grown else found["warnings"])
    assert rows(space) == [("A", 1), ("B", 2)]


def test_a_list_that_is_merged_or_overwritten_may_change_back(space: Space) -> None:
    for how in ("merge", "overwrite"):
        charter(space, "a", load=f'how = "{how}"', more=KEY + '[columns.k2]\nkind = "text"\nfrom = "k"\n' * 0)
        text = (
            (space.root / "charters/t.toml")
            .read_text()
            .replace('kind = "text(4)"', 'kind = "text(4)"\nblank = "never"')
        )
        space.charter(text, "t")
        states = []
        for value in (1, 2, 1, 1):
            sent(space, "a", f"A,{value}", f"{how[0]},0")
            states.append(load(space)["state"])
            assert ("A", value) in rows(space)
        assert states == ["loaded", "loaded", "loaded", "unchanged"]


def test_taken_out_files_are_loaded_again_and_others_are_not(space: Space) -> None:
    charter(space, "*")
    sent(space, "a", "A,1")
    load(space)
    sent(space, "b", "B,2")
    load(space)
    space.run("undo", "1")

    found = load(space)

    assert [each["file"] for each in found["balance"]["files"]] == ["inbox/t-a.csv"]
    assert rows(space) == [("A", 1), ("B", 2)]


@pytest.mark.parametrize("many", [3, 2_000])
def test_every_place_knows_its_files(space: Space, database: Database, sort: str, many: int) -> None:  # noqa: F811
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    charter(space, "*", load='how = "overwrite"')
    awkward = sent(space, "it's ä", "A,1")
    load(space)
    with opened(space, database.url) as place:
        (mark,) = place.marks("t")
        more = [(f"f{n}", f"c{n}", n) for n in range(many)]
        with place.transaction("t"):
            leave_files(place, mark, more)
        now = Now(datetime.datetime.now(datetime.UTC), mark.day)
        names = {name for name, _, _ in more[1::2]} | {awkward}
        found = files_known(place, "t", {content for _, content, _ in more[::2]} | {"other"}, names, now)

        assert {(each.file, each.content) for each in found if each.file != awkward} == {each[:2] for each in more}
        assert {(each.load_no, each.day, each.file) for each in found if each.file == awkward} == {
            (1, mark.day, awkward)
        }
        assert files_known(place, "other", {"c1"}, {"f1"}, now) == []


# ---- a further delivery for a day


def test_a_further_delivery_for_a_day_is_refused_and_the_message_names_the_choices(space: Space) -> None:
    charter(space, "{day}")
    sent(space, DAY, "A,1", "B,2")
    load(space)
    sent(space, DAY, "A,1", "B,3")

    found = load(space)

    assert (found["state"], found["exit"]) == ("refused", 1)
    assert found["message"] == f"{DAY} was loaded already, as load 1; this is a further delivery for it"
    assert 'same_day = "replace"' in found["mend"] and 'same_day = "add"' in found["mend"] and "undo 1" in found["mend"]
    assert rows(space) == [("A", 1), ("B", 2)]


@pytest.mark.parametrize("columns", [LOAD_NO, '[columns.day]\nfrom = "@delivery.day"'])
def test_a_correction_replaces_what_its_day_brought_and_is_undone_as_one(space: Space, columns: str) -> None:
    charter(space, "{day}", load='same_day = "replace"', columns=columns, more=KEY)
    sent(space, DAY, "A,1", "B,2", "C,3")
    sent(space, NEXT, "D,4")
    load(space)
    load(space, day=NEXT)
    sent(space, DAY, "A,1", "B,5")

    found = load(space)

    assert [found["balance"][name] for name in ("before", "removed", "loaded", "after")] == [4, 3, 2, 3]
    assert found["replaced"] == [1]
    assert rows(space) == [("A", 1), ("B", 5), ("D", 4)]
    assert run(space)["state"] == "unchanged"
    assert space.run("reconcile", "t").code == 0
    if columns == LOAD_NO:
        assert space.run("undo", "1").code == 1
        assert space.run("undo", "3").code == 0
        assert rows(space) == [("A", 1), ("B", 2), ("C", 3), ("D", 4)]
        assert load(space)["state"] == "loaded"  # the correction again
        sent(space, DAY, "A,1", "B,2", "C,3")
        assert load(space)["replaced"] == [4]  # and what was right at first
        assert rows(space) == [("A", 1), ("B", 2), ("C", 3), ("D", 4)]


def test_further_files_of_a_day_are_added_and_a_changed_one_is_not(space: Space) -> None:
    charter(space, "{day}-*", load='same_day = "add"')
    sent(space, f"{DAY}-1", "A,1")
    load(space)
    sent(space, f"{DAY}-2", "B,2")
    assert [each["file"] for each in load(space)["balance"]["files"]] == [f"inbox/t-{DAY}-2.csv"]
    sent(space, f"{DAY}-2", "B,3")

    found = load(space)

    assert (found["state"], rows(space)) == ("refused", [("A", 1), ("B", 2)])
    assert "changed since load 2 loaded it" in found["message"]


def test_a_day_in_parts_is_open_until_all_are_in(space: Space) -> None:
    charter(space, "{day}-*", delivery="parts = 3", load='same_day = "add"')
    one = sent(space, f"{DAY}-1", "A,1")
    sent(space, f"{DAY}-2", "B,2")
    first = load(space)
    (space.root / one).unlink()  # it was put away
    sent(space, f"{DAY}-3", "C,3")
    second = load(space)

    assert (first["state"], first["verdict"], first["exit"]) == ("loaded", "fail", 1)
    assert first["message"] == f"2 of 3 files of {DAY} are in the table; the day is open until all are"
    assert (second["state"], second["verdict"], rows(space)) == ("loaded", "pass", [("A", 1), ("B", 2), ("C", 3)])
    sent(space, f"{DAY}-4", "D,4")
    sent(space, f"{DAY}-5", "E,5")
    assert "4 files arrived, and the charter expects 3" in load(space)["message"]
    charter(space, "{day}-*", delivery="parts = 3")
    sent(space, f"{NEXT}-1", "F,6")
    assert load(space, day=NEXT)["message"] == "1 of 3 files has arrived"


# ---- bad files, and none


def test_a_bad_file_is_left_out_fails_and_is_loaded_when_it_was_replaced(space: Space) -> None:
    charter(space, "{day}-*", delivery='on_bad_file = "leave out"', load='short_rows = "reject"')
    sent(space, f"{DAY}-1", "A,1")
    bad = sent(space, f"{DAY}-2", "B,2")
    space.write(bad, "")
    other = sent(space, f"{DAY}-3", "C,3")
    space.write(other, "k,w\nC,3\n")

    first = load(space)
    second = run(space)
    space.write(bad, "k,v\nB,2\n")
    space.write(other, "k,v\nC,3\n")
    third = run(space)

    assert (first["state"], first["verdict"], first["exit"]) == ("loaded", "fail", 1)
    assert {each["file"]: each["message"].split(":")[0] for each in first["bad"]} == {
        bad: "the file is empty", other: "the file has columns that the charter does not name",
    } or {each["file"] for each in first["bad"]} == {bad, other}  # fmt: skip
    assert (second["state"], second["verdict"]) == ("unchanged", "fail")
    assert (third["state"], third["verdict"], third["exit"]) == ("loaded", "pass", 0)
    assert rows(space) == [("A", 1), ("B", 2), ("C", 3)]


def test_of_a_delivery_with_a_bad_file_nothing_is_loaded_otherwise(space: Space) -> None:
    charter(space, "{day}-*")
    sent(space, f"{DAY}-1", "A,1")
    load(space)
    sent(space, f"{NEXT}-1", "B,1")
    space.write(f"inbox/t-{NEXT}-2.csv", "")

    assert (load(space, day=NEXT)["state"], rows(space)) == ("refused", [("A", 1)])


def test_a_file_that_may_be_missing_ends_quietly(space: Space) -> None:
    charter(space, "{day}", delivery="optional = true")

    found = load(space)

    assert (found["state"], found["verdict"], found["exit"]) == ("nothing arrived", "pass", 0)
    assert run(space)["verdict"] == "pass"


# ---- copies and conflicts


def kept(space: Space, keep: str, more: str = "") -> None:
    charter(space, "{day}", load=more, more=KEY + (f'keep = "{keep}"\n' if keep else ""))


def test_a_copy_is_no_conflict_within_a_file_and_against_the_table(space: Space, database: Database, sort: str) -> None:  # noqa: F811
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    kept(space, "")
    sent(space, DAY, "A,1", "B,2", "A,1", "B,3", "C,")
    sent(space, NEXT, "A,1", "B,9", "D,4", "D,4", "C,", "C,0")

    first, second = load(space), load(space, day=NEXT)

    counts = ("loaded", "rejected", "copies", "conflicts")
    assert [first["balance"][name] for name in counts] == [3, 0, 1, 1]
    assert [second["balance"][name] for name in counts] == [1, 0, 3, 2]
    assert (first["reasons"], second["reasons"]) == ({"copy": 1, "conflict": 1}, {"copy": 3, "conflict": 2})
    assert [(each["line"], each["reason"], each["message"]) for each in space.rejects()] == [
        (2, "copy", "row already in the table (load 1)"),
        (3, "conflict", "key already in the table (load 1), with another v"),
        (5, "copy", "a copy of line 4"),
        (6, "copy", "row already in the table (load 1)"),
        (7, "conflict", "key already in the table (load 1), with another v"),
    ]
    assert space.run("reconcile", "t").code == 0


def test_a_conflict_counts_as_rejected_unless_keep_says_which_row_is_right(space: Space) -> None:
    for keep, state, verdict in (
        ("", "undone", "fail"),
        ("first", "loaded", "warn"),
        ("last", "loaded", "warn"),
        ("none", "undone", "fail"),
    ):
        kept(space, keep, 'tolerate = "none"')
        text = (space.root / "charters/t.toml").read_text().replace('tolerate = "all"\n', "")
        space.charter(text, "t")
        sent(space, DAY, "A,1", "B,2", "A,3")

        found = load(space, "--rehearse")

        (key,) = [each for each in found["findings"] if each["sort"] == "key"] or [None]
        assert (found["state"], found["verdict"]) == ("rehearsed", verdict), keep
        assert ("would be rolled back" in found["message"]) == (state == "undone")
        if key is not None:
            aside, stays = ("3", "1") if keep == "first" else ("1", "3")
            assert (key["verdict"], key["samples"]["rows"][0][:2]) == (
                "warn",
                [f"k = A, v = {aside}", f"k = A, v = {stays}"],
            )
        else:
            assert "conflict" in found["message"]


def test_copies_are_set_aside_up_to_a_limit(space: Space) -> None:
    charter(space, "{day}", more=KEY + "copies = 1\n")
    sent(space, DAY, "A,1", "A,1", "B,2")
    sent(space, NEXT, "A,1", "B,2", "C,3")

    first, second = load(space), load(space, day=NEXT)

    assert (first["state"], second["state"]) == ("loaded", "undone")
    assert second["message"] == "2 copies set aside (key (k) never repeats); allowed: 1 row"


def test_a_delivery_of_which_every_row_repeats_warns(space: Space) -> None:
    kept(space, "")
    sent(space, DAY, "A,1", "B,2")
    sent(space, NEXT, "B,2", "A,1", "A,1")
    load(space)

    found = load(space, day=NEXT)

    assert (found["state"], found["verdict"]) == ("loaded", "warn")
    assert found["warnings"] == ["every row of the delivery repeats one that is in the table, or another of its rows"]


# ---- a charter that changed


def test_rows_are_judged_by_todays_charter_and_what_changed_is_named(space: Space) -> None:
    charter(space, "{day}")
    sent(space, DAY, "A,1", "B,20")
    load(space)
    text = (space.root / "charters/t.toml").read_text()
    space.charter(text.replace('kind = "integer"', 'kind = "integer"\nbetween = [0, 9]'), "t")

    found = run(space)
    space.charter(text.replace('kind = "integer"', 'kind = "integer"\nabout = "a number"'), "t")
    again = run(space)

    assert (found["state"], found["verdict"], found["changed"]) == ("unchanged", "fail", ["columns.v.between.values"])
    assert "columns.v.between.values" in found["message"]
    assert (again["state"], again["verdict"], again["changed"]) == ("unchanged", "pass", [])


@pytest.mark.parametrize("how", ["overwrite", "merge"])
def test_a_list_is_loaded_again_when_its_charter_changes(space: Space, how: str) -> None:
    charter(space, "a", load=f'how = "{how}"', more=KEY)
    text = (space.root / "charters/t.toml").read_text().replace('kind = "text(4)"', 'kind = "text(4)"\nblank = "never"')
    space.charter(text, "t")
    sent(space, "a", "A,1", "B,20")
    load(space)
    space.charter(text.replace('kind = "integer"', 'kind = "integer"\nbetween = [0, 9]'), "t")

    found = load(space)

    assert (found["state"], found["balance"]["rejected"], found["changed"]) == (
        "loaded",
        1,
        ["columns.v.between.values"],
    )
    assert load(space)["state"] == "unchanged"
    assert rows(space) == ([("A", 1)] if how == "overwrite" else [("A", 1), ("B", 20)])
    shutil.rmtree(space.root / ".nomotheta")  # nobody knows any more what it was loaded under
    assert load(space)["state"] == "loaded"


def test_unchanged_is_what_its_rows_are_now(space: Space) -> None:
    charter(space, "{day}", more='[[rules]]\nname = "few"\nwhole = "sum(v) < 9"\notherwise = "warn"\n')
    sent(space, DAY, "A,1")
    load(space)
    assert run(space)["verdict"] == "pass"
    space.sql("UPDATE t SET v = 10")

    assert run(space)["verdict"] == "warn"


# ---- undo without holes


def overlapping(space: Space) -> None:
    """Load 2 sets three of its four rows aside, because load 1 has their keys."""
    charter(space, "{day}", more=KEY)
    sent(space, DAY, "A,1", "B,2", "C,3")
    sent(space, NEXT, "A,1", "B,5", "C,3", "D,4")
    load(space)
    assert load(space, day=NEXT)["in_the_way"] == {"1": 3}


def test_rows_whose_way_is_free_again_come_with_the_next_run(space: Space) -> None:
    overlapping(space)
    undone = space.run("undo", "1", "--json").json["loads"]
    told = space.run("undo", "1")
    ended = space.run("run", "--day", NEXT, "--json")

    assert undone[0]["open_again"] == {"2": 3}
    assert told.code == 2
    assert ended.json["tables"][0]["message"] == "3 rows that load 2 had set aside were loaded by load 3"
    assert ended.code == 0
    assert rows(space) == [("A", 1), ("B", 5), ("C", 3), ("D", 4)]
    assert space.run("run", "--day", NEXT, "--json").json["tables"][0]["message"] == ""
    assert space.run("reconcile", "t").code == 0
    assert space.run("rejects", "2", "--json").json["open"] == 0


def test_rows_that_find_the_way_barred_again_wait_for_that_load(space: Space) -> None:
    overlapping(space)
    space.run("undo", "1")
    load(space)  # load 3 brings the same rows as load 1, while those of load 2 still wait
    first = space.run("load", "t", "--again", "--json").json["loads"]
    second = space.run("load", "t", "--again", "--json").json["loads"]
    undone = space.run("undo", "3", "--json").json["loads"]
    third = space.run("load", "t", "--again", "--json").json["loads"]

    assert [(each["balance"]["loaded"], each["balance"]["copies"], each["balance"]["conflicts"]) for each in first] == [
        (0, 2, 1)
    ]
    assert second == []
    assert undone[0]["open_again"] == {"2": 3}
    assert [each["balance"]["loaded"] for each in third] == [3]
    assert rows(space) == [("A", 1), ("B", 5), ("C", 3), ("D", 4)]


def test_a_correction_frees_the_way_as_an_undo_does(space: Space) -> None:
    charter(space, "{day}", load='same_day = "replace"', more=KEY)
    sent(space, DAY, "A,1", "B,2")
    sent(space, NEXT, "A,7", "D,4")
    load(space)
    load(space, day=NEXT)
    sent(space, DAY, "B,2")
    load(space)

    run(space, day=NEXT)

    assert rows(space) == [("A", 7), ("B", 2), ("D", 4)]


def test_several_loads_are_taken_out_as_one_or_none_is(space: Space) -> None:
    charter(space, "*")
    for name in "abcd":
        sent(space, name, f"{name},1")
        load(space)
    refused = space.run("undo", "2..4", "9")
    first = space.run("undo", "2..3")
    runs = space.run("run", "--json")
    undone = space.run("undo", "--run", "1")

    assert refused.code == 2 and "load 9 is not in the ledger" in refused.text
    assert first.code == 0 and first.out.index("load 3") < first.out.index("load 2 ")
    assert runs.json["tables"][0]["load"]["load_no"] == 5
    assert undone.code == 0
    assert rows(space) == [("a", 1), ("d", 1)]
    assert space.run("undo", "4..2").code == 2
    assert space.run("undo").code == 2


# ---- rows that will not come


def test_rejects_are_closed_with_a_reason_and_the_account_says_so(space: Space) -> None:
    charter(space, "{day}")
    sent(space, DAY, "A,1", "B,x", "C,y", "D,z")
    load(space)
    one = space.run("rejects", "1", "--close", "the sender has withdrawn it", "--line", "3")
    found = space.run("rejects", "1", "--json").json
    space.run("rejects", "1", "--csv", "out.csv")

    assert one.code == 0
    assert (found["open"], found["closed"]) == (2, {"the sender has withdrawn it": 1})
    assert [each["line"] for each in found["shown"]] == [4, 5]
    assert "B" not in (space.root / "out.csv").read_text()
    assert "1 row closed: the sender has withdrawn it" in space.run("rejects", "1").out
    assert space.run("rejects", "1", "--close", "no", "--line", "3").code == 2
    assert space.run("rejects", "1", "--close", " ").code == 2
    assert space.run("rejects", "1", "--close", "lost", "--json").json["open"] == 0


def test_mended_rows_of_a_load_that_was_replaced_are_refused(space: Space) -> None:
    charter(space, "{day}", load='same_day = "replace"')
    sent(space, DAY, "A,1", "B,x")
    load(space)
    space.run("rejects", "1", "--csv", "out.csv")
    sent(space, DAY, "A,1", "B,2")
    load(space)
    (space.root / "out.csv").write_text((space.root / "out.csv").read_text().replace(",x", ",2"))

    ended = space.run("load", "t", "out.csv", "--again")

    assert ended.code == 1
    assert "load 1 was replaced since, by load 2" in ended.text
    assert rows(space) == [("A", 1), ("B", 2)]


def test_a_load_and_its_mended_rows_reconcile_to_the_records_of_the_file(space: Space) -> None:
    charter(space, "{day}")
    sent(space, DAY, "A,1", "B,x", "C,3")
    load(space)
    space.run("rejects", "1", "--csv", "out.csv")
    (space.root / "out.csv").write_text((space.root / "out.csv").read_text().replace(",x", ",2"))
    space.run("load", "t", "--again", "out.csv")

    (found,) = space.run("reconcile", "t", "--json").json["tables"]

    assert [found[name] for name in ("records", "rejected", "mended", "source_rows", "target_rows")] == [3, 1, 1, 3, 3]
    assert "3 records − 1 rejected + 1 mended = 3 rows" in space.run("reconcile", "t").text


# ---- slices, footers, totals


def test_rows_outside_of_the_slice_are_rejects(space: Space) -> None:
    charter(space, "{day}", load='how = "overwrite"\nslice = "v = extract(day from :day)"')
    sent(space, DAY, "A,1", "B,2", "C,", "D,1")

    found = load(space)

    assert (found["balance"]["loaded"], found["reasons"]) == (2, {"outside_slice": 2})
    assert [(each["line"], each["message"]) for each in space.rejects()] == [
        (line, "is not in the slice that is replaced: v = extract(day from :day)") for line in (3, 4)
    ]
    space.run("rejects", "1", "--csv", "out.csv")
    assert space.run("load", "t", "--again", "out.csv", "--json").json["loads"][0]["balance"]["loaded"] == 0


def test_a_footer_that_looks_like_a_row_is_one(space: Space) -> None:
    charter(space, "{day}", delivery="layout = { footer = 1 }")
    sent(space, DAY, "A,1", "B,2", "3 rows")
    sent(space, NEXT, "A,1", "B,2", "C,3")

    first, second = load(space), load(space, day=NEXT)

    assert (first["state"], first["balance"]["loaded"]) == ("loaded", 2)
    assert (second["state"], second["message"]) == ("refused", "its footer looks like a row: 'C,3'")


def test_a_total_that_cannot_be_formed_names_the_line_and_the_value(space: Space) -> None:
    stated = 'layout = { footer = 1 }\nstated = { in = "footer", pattern = "sum (?P<v>[0-9]+)" }'
    charter(space, "{day}", delivery=stated)
    sent(space, DAY, "A,1", "B,2o", "C,3", "sum 24")

    assert (
        load(space)["message"]
        == "the sender states a total of v of 24, and 4 came (and 1 row without a readable v, the first in line 3: '2o')"
    )


def test_what_tells_no_repeats_is_said_before_a_file_comes(space: Space) -> None:
    charter(space, "*")
    assert "the files come by a wildcard, and there is no key" in space.run("lint").text
    charter(space, "a")
    assert "the file pattern has no {day}" in space.run("lint").text
    charter(space, "*", more=KEY)
    assert "comes again" not in space.run("lint").text
    for files, delivery, how, told in (
        ("*", "", 'same_day = "add"', "the files are not those of a day"),
        ("{day}", "", 'how = "overwrite"\nsame_day = "add"', 'same_day belongs to how = "append"'),
        ("{day}", "parts = 3", "", "the pattern matches only one file a day"),
    ):
        charter(space, files, delivery=delivery, load=how)
        assert told in space.run("lint").text
    charter(space, "{day}", load='same_day = "replace"', columns="")
    assert 'add a column with from = "@load.no"' in space.run("lint").text


# ---- for the team, and for who asks later


def test_rejects_stand_beside_the_table_in_every_place(space: Space, database: Database, sort: str) -> None:  # noqa: F811
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    charter(space, "{day}", load='rejects = { table = "t_rejects" }', more=KEY)
    text = (space.root / "charters/t.toml").read_text()
    space.charter(text.replace('kind = "integer"', 'kind = "integer"\nbetween = [0, 9]'), "t")
    sent(space, DAY, "A,1", "B,x", "A,1", "C,10", "D,2,3")
    sent(space, NEXT, "A,4", "E,5")
    asked = "SELECT load_no, line_no, column_name, reason, cell, original FROM t_rejects ORDER BY load_no, line_no"
    if sort == "delta":
        assert "rejects cannot be kept in a table of a lake" in load(space)["message"]
        return
    load(space)
    load(space, day=NEXT)

    found = [tuple(row) for row in database.ask(asked)]
    space.charter(
        text.replace('kind = "integer"', 'kind = "integer"\nprivate = true').replace(
            'tolerate = "all"', 'tolerate = "none"'
        ),
        "t",
    )
    sent(space, "2026-06-03", "F,x")
    undone = load(space, day="2026-06-03")

    assert found == [
        (1, 3, "v", "kind", "x", "B,x"), (1, 4, "k", "copy", "A", "A,1"), (1, 5, "v", "between", "10", "C,10"),
        (1, 6, "", "too_many_fields", None, "D,2,3"), (2, 2, "k", "conflict", "A", "A,4"),
    ]  # fmt: skip
    assert (undone["state"], len(database.ask(asked))) == ("undone", 5)
    if sort != "general":
        assert space.run("undo", "2").code == 0
        assert len(database.ask(asked)) == 4
        space.charter((space.root / "charters/t.toml").read_text().replace('"none"', '"all"'), "t")
        load(space, day="2026-06-03")
        assert [tuple(row) for row in database.ask(asked)][-1][2:] == ("v", "kind", None, None)


def test_one_broken_charter_stops_only_its_own_table(space: Space) -> None:
    charter(space, "{day}")
    space.charter('table = "broken"\n[delivery]\nfiles = "b.csv"\n[columns.k]\nkind = "nothing"\n', "broken")
    space.charter("table =", "torn")
    sent(space, DAY, "A,1")

    ended = space.run("run", "--day", DAY, "--create", "--json")

    found = {each["table"]: (each["verdict"], each["load"]["state"]) for each in ended.json["tables"]}
    assert found == {"broken": ("error", "failed"), "torn": ("error", "failed"), "t": ("pass", "loaded")}
    assert ended.code == 3
    assert space.run("run", "broken").code == 2
    assert space.run("run", "nowhere").code == 2


def test_a_load_and_a_judgement_have_pages_and_the_ledger_answers_an_auditor(space: Space) -> None:
    charter(space, "{day}")
    sent(space, DAY, "A,1", "B,x")
    load(space)
    old = (space.root / "charters/t.toml").read_text()
    space.charter(old.replace('kind = "integer"', 'kind = "integer"\nbetween = [0, 9]'), "t")
    space.run("judge", "t")

    pages = [space.run("report", *words) for words in (("--load", "1"), ("--judged", "t"))]
    kept = space.run("ledger", "--load", "1", "--json").json

    assert [page.out.strip()[:15] for page in pages] == ["reports/load-1-", "reports/judged-"]
    assert "Balance of load 1" in (space.root / pages[0].out.strip()).read_text()
    assert kept["charter"] == old == space.run("ledger", "--load", "1", "--charter").out
    told = kept["load"]
    assert [told["balance"][name] for name in ("how", "before", "after")] == ["append", 0, 1]
    assert told["by"] and told["charter"] and told["place"] == "warehouse" and "command" in told
    assert "append" in space.run("ledger", "--load", "1").out
    for words in (
        ("ledger", "--load", "9"),
        ("report", "--load", "9"),
        ("report", "--judged", "x"),
        ("report", "1", "--load", "1"),
    ):
        assert space.run(*words).code == 2


# ---- what was not taken as it came


@pytest.mark.parametrize("policy", ["", "reject", "skip", "load"])
def test_rows_without_a_value_are_rejects_unless_the_charter_says_otherwise(space: Space, policy: str) -> None:
    charter(space, "{day}", load=f'all_blank_rows = "{policy}"' if policy else "")
    sent(space, DAY, "A,1", ",", " ,", "B,")

    balance = (found := load(space))["balance"]

    counts = {"skip": (2, 0, 2), "load": (4, 0, 0)}.get(policy, (2, 2, 0))
    assert tuple(balance[name] for name in ("loaded", "rejected", "skipped")) == counts
    assert found["reasons"] == ({} if policy in {"skip", "load"} else {"all_blank": 2})
    altered = [] if policy in {"", "reject"} else [{"what": "blank", "count": 2, "line": 3}]
    assert balance["files"][0]["altered"] == altered
    assert space.run("reconcile", "t").code == 0


def test_every_alteration_is_counted_with_its_first_line(space: Space) -> None:
    more = 'short_rows = "fill"\nlong_rows = "cut"'
    charter(space, "{day}-*", delivery='layout = { trim = true, null_words = ["", "n/a"] }', load=more)
    one = sent(space, f"{DAY}-1", "A,1", "B", " C ,3 ", "D,4,5,6", "E", "F, n/a", 'n/a,"n/a"', '"n/a",1')
    sent(space, f"{DAY}-2", "F,6")
    three = sent(space, f"{DAY}-3", "G,7", "H")

    found = load(space)

    altered = {
        each["file"]: {one["what"]: (one["count"], one["line"]) for one in each["altered"]} for each in found["balance"]["files"]
    }  # fmt: skip
    assert altered[one] == {"filled": (2, 3), "cut": (1, 5), "trimmed": (3, 4), "nulled": (3, 7)}
    assert altered[three] == {"filled": (1, 3)}
    assert f"{one}: 3 cells trimmed, first in line 4" in space.run("ledger", "--load", "1").out.replace("\n", " ")


@pytest.mark.parametrize("kernel", [True, False])
@pytest.mark.parametrize("extra", ["refuse", "ignore"])
def test_members_that_are_cut_from_objects_are_counted(space: Space, kernel: bool, extra: str) -> None:
    charter(
        space,
        "{day}",
        delivery='layout = { format = "json-lines" }',
        load=f'long_rows = "cut"\nextra_columns = "{extra}"',
    )
    space.write(
        f"inbox/t-{DAY}.csv",
        '{"k":"A","v":1}\n\n{"k":"B","v":2,"w":3}\n{"v":3}\n{"k":"D","k":"E","v":4,"w":3}\n{"z":1,"k":"F","v":6}\n',
    )

    with contextlib.nullcontext() if kernel else without_kernel():
        found = load(space)

    assert (rows(space), found["reasons"]) == ([("A", 1), ("B", 2), ("F", 6), (None, 3)], {"member_twice": 1})
    cut = [{"what": "cut", "count": 2, "line": 3}]
    assert found["balance"]["files"][0]["altered"] == (cut if extra == "refuse" else [])


@pytest.mark.parametrize("kernel", [True, False])
@pytest.mark.parametrize("delimiter", [",", "||"])
def test_null_words_and_trimming_may_be_a_columns_own(space: Space, kernel: bool, delimiter: str) -> None:
    charter(space, "{day}", delivery=f'layout = {{ null_words = ["", "NA"], delimiter = "{delimiter}" }}')
    text = (space.root / "charters/t.toml").read_text()
    space.charter(text.replace('kind = "text(4)"', 'kind = "text(4)"\nnull_words = [""]\ntrim = true'), "t")
    space.write(f"inbox/t-{DAY}.csv", "k,v\nNA,NA\n NO ,1\n,2\nSE,\nDK, 3\n".replace(",", delimiter))

    with contextlib.nullcontext() if kernel else without_kernel():
        found = load(space)

        assert rows(space) == [("NA", None), ("NO", 1), ("SE", None), (None, 2)]
        assert found["reasons"] == {"kind": 1}  # its number is not trimmed
        assert {each["what"]: each["count"] for each in found["balance"]["files"][0]["altered"]} == {
            "trimmed": 1,
            "nulled": 1,
        }
        assert space.run("reconcile", "t").code == 0


def test_sheets_and_fixed_text_count_null_words_too(space: Space) -> None:
    charter(space, "{day}", delivery='layout = { format = "fixed", null_words = ["", "NA"] }')
    text = (space.root / "charters/t.toml").read_text()
    space.charter(
        text.replace('kind = "text(4)"', 'kind = "text(4)"\nat = [1, 3]').replace(
            'kind = "integer"', 'kind = "integer"\nat = [4, 6]'
        ),
        "t",
    )
    space.write(f"inbox/t-{DAY}.csv", "A  1  \nNA 2  \nB  NA \n")
    assert [each["count"] for each in load(space)["balance"]["files"][0]["altered"]] == [2]

    book = openpyxl.Workbook()
    for row in (("k", "v"), ("A", 1), ("NA", 2), ("B", "NA")):
        book.active.append(row)
    book.save(space.root / "inbox/s.xlsx")
    space.charter(text.replace('format = "fixed"', 'format = "sheet"').replace("t-{day}.csv", "s.xlsx"), "t")
    assert [each["count"] for each in load(space)["balance"]["files"][0]["altered"]] == [2]


def test_a_file_of_another_shape_is_one_message(space: Space) -> None:
    charter(space, "{day}")
    space.write(f"inbox/t-{DAY}.csv", "k,v\n" + "A,1,2\n" * 5_000)

    found = load(space)

    assert (found["state"], found["reasons"]) == ("refused", {})
    assert "has 3 fields where the header has 2" in found["message"]
    sent(space, DAY, "A,1,2", "B,1,2", "C,1,2", "D,1")
    assert (load(space)["state"], rows(space)) == ("loaded", [("D", 1)])


def test_rows_that_a_later_slice_took_out_are_missed(space: Space) -> None:
    window = 'how = "overwrite"\nslice = "v >= extract(day from :day) - 1"'
    charter(space, "{day}", load=window)
    sent(space, DAY, "A,1")
    sent(space, NEXT, "B,2")
    space.run("run", "--day", DAY, "--create")
    run(space, day=NEXT)

    assert space.run("run", "--day", DAY).code == 1


def test_loads_of_several_tables_are_taken_out_as_one(space: Space, database: Database, sort: str) -> None:  # noqa: F811
    if sort == "general":
        pytest.skip("it removes single rows by primary key only")
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    charter(space, "{day}")
    space.charter((space.root / "charters/t.toml").read_text().replace('table = "t"', 'table = "u"'), "u")
    sent(space, DAY, "A,1")
    space.run("run", "--day", DAY, "--create")

    refused = space.run("undo", "1..3")
    assert (refused.code, database.ask("SELECT (SELECT count(*) FROM t), (SELECT count(*) FROM u)")) == (2, [(1, 1)])
    undone = space.run("undo", "--run", "1")
    if sort == "delta":
        assert (undone.code, "the tables of a lake are changed one at a time" in undone.text) == (2, True), undone.text
        assert [space.run("undo", number).code for number in ("1", "2")] == [0, 0]
    assert sort == "delta" or undone.code == 0
    assert database.ask("SELECT (SELECT count(*) FROM t), (SELECT count(*) FROM u)") == [(0, 0)]
