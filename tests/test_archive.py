"""Files put away once they are loaded: whole, listed, never overwritten, and found again by those who ask later."""

from __future__ import annotations

import datetime
import hashlib
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import DAY, SETTINGS, TICKETS, Space
from nomotheta.workspace import Workspace, archiving

HEAD = "ticket_no;fare;sold_on\n"
ARCHIVE = '[archive]\nfolder = "archive/{day}"\nquarantine = "quarantine/{day}"\n'
RULED = TICKETS.replace("[[keys]]", '[[rules]]\nname = "not dear"\neach = "fare <= 50"\n[[keys]]')


@pytest.fixture
def kept(space: Space) -> Space:
    """A workspace whose files are put away."""
    space.write("nomotheta.toml", SETTINGS + ARCHIVE)
    space.charter(RULED)
    return space


def night(space: Space, day: str, *words: str) -> int:
    return space.run("run", "--day", day, "--create", *words).code


def files(root: Path, folder: str) -> dict[str, str]:
    """The files below a folder, but for manifests, with the SHA-256 of each."""
    return {
        path.relative_to(root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted((root / folder).rglob("*"))
        if path.is_file() and path.name not in {archiving.MANIFEST, archiving.WHY}
    }


def listed(root: Path) -> dict[str, str]:
    """What the manifests of the archive state."""
    found = {}
    for manifest in root.glob(f"archive/*/{archiving.MANIFEST}"):
        for line in manifest.read_text().splitlines():
            digest, _, name = line.partition("  ")
            found[(manifest.parent / name).relative_to(root).as_posix()] = digest
    return found


def test_what_is_loaded_is_archived_and_all_later_questions_find_it(kept: Space) -> None:
    kept.tickets(HEAD + "T001;1,00;01.06.2026\nT002;x;01.06.2026\n")

    assert night(kept, DAY) == 0
    assert files(kept.root, "inbox") == {}
    assert list(listed(kept.root)) == [f"archive/{DAY}/tickets-{DAY}.csv"]
    assert listed(kept.root) == files(kept.root, "archive")
    assert night(kept, DAY) == 0
    again = kept.run("run", "--day", DAY, "--json").json["tables"][0]
    assert (again["load"]["state"], again["load"]["message"]) == ("unchanged", "unchanged since load 1; nothing to do")
    assert kept.run("reconcile", "tickets").code == 0
    with_change = kept.sql("UPDATE tickets SET fare = 9 RETURNING ticket_no")
    told = kept.run("reconcile", "tickets").text
    assert (len(with_change), f"inbox/tickets-{DAY}.csv" in told, "line 2" in told or ":2" in told) == (1, True, True)
    assert kept.run("arrivals", "--day", DAY, "--json").json["arrivals"][0]["state"] == "loaded"
    later = kept.load()
    assert later["message"] == "no such file has arrived" or "content" in later["message"]


def test_a_day_of_which_a_part_is_missing_is_not_taken_for_whole(kept: Space) -> None:
    parts = RULED.replace("tickets-{day}.csv*", "tickets-{day}-*.csv").replace("[load]", "parts = 2\n[load]", 1)
    kept.charter(parts.replace("[load]", '[load]\nsame_day = "add"', 1))
    kept.write(f"inbox/tickets-{DAY}-a.csv", HEAD + "T001;1,00;01.06.2026\n")

    ended = [night(kept, DAY), night(kept, DAY), kept.run("arrivals", "--day", DAY).code]
    state = kept.run("arrivals", "--day", DAY, "--json").json["arrivals"][0]
    assert (files(kept.root, "inbox"), ended) == ({}, [1, 1, 1])
    assert (state["state"], state["message"]) == ("missing", "1 of 2 files is in the table")
    kept.write(f"inbox/tickets-{DAY}-b.csv", HEAD + "T002;1,00;01.06.2026\n")
    assert [night(kept, DAY), night(kept, DAY), kept.run("arrivals", "--day", DAY).code] == [0, 0, 0]


def test_what_cannot_be_loaded_goes_into_quarantine_with_the_reason_and_comes_back_by_name(kept: Space) -> None:
    kept.tickets(HEAD + "T001;60,00;01.06.2026\n")
    kept.tickets("nothing;of;this\n1;2;3\n", "2026-06-02")

    assert (night(kept, DAY), night(kept, "2026-06-02")) == (1, 1)

    where = [f"quarantine/{DAY}/tickets-{DAY}.csv", "quarantine/2026-06-02/tickets-2026-06-02.csv"]
    assert (files(kept.root, "inbox"), sorted(files(kept.root, "quarantine"))) == ({}, sorted(where))
    assert "rule failed: 'not dear'" in (kept.root / f"quarantine/{DAY}/why.txt").read_text()
    again = kept.run("run", "--day", DAY).text
    assert f"it was put away; to load it: nomotheta load tickets --day {DAY} --file {where[0]}" in again
    kept.charter(TICKETS)
    assert kept.run("load", "tickets", "--day", DAY, "--file", where[0]).code == 0
    assert list(files(kept.root, "archive")) == [f"archive/{DAY}/tickets-{DAY}.csv"]


def test_a_file_that_somebody_names_elsewhere_stays_there(kept: Space, tmp_path: Path) -> None:
    for at, where in enumerate((tmp_path / "mine.csv", kept.root / "mine/tickets.csv")):
        where.parent.mkdir(exist_ok=True)
        where.write_text(HEAD + f"T00{at};6,00;01.06.2026\n")
        assert kept.run("load", "tickets", "--day", f"2026-06-0{at + 1}", "--create", "--file", str(where)).code == 0
        assert where.is_file() and files(kept.root, "archive") == {}


def test_what_is_awaited_stays_where_it_is_and_so_does_a_list(kept: Space) -> None:
    kept.charter(RULED.replace("[load]", 'steady = "1 h"\n[load]', 1))
    kept.charter(TICKETS.replace('"tickets"', '"zones"').replace("tickets-{day}.csv*", "zones.csv"), "zones")
    kept.tickets(HEAD + "T001;6,00;01.06.2026\n")
    kept.write("inbox/zones.csv", HEAD + "T001;6,00;01.06.2026\n")

    assert night(kept, DAY) == 1
    assert set(files(kept.root, "inbox")) == {f"inbox/tickets-{DAY}.csv", "inbox/zones.csv"}


def test_no_file_takes_the_place_of_another(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "inbox").mkdir()
    for at, links in enumerate((True, True, False, False)):
        if not links:  # a file system that has none
            monkeypatch.setattr(os, "link", lambda *_: (_ for _ in ()).throw(PermissionError()))
        source = tmp_path / "inbox/a.csv.gz"
        source.write_text(f"content {at // 2 * 2 + at % 2}")
        archiving.move(source, tmp_path / "archive")
        assert not source.exists()
    there = {path.name: path.read_text() for path in (tmp_path / "archive").iterdir() if path.suffix == ".gz"}
    assert there == {
        "a.csv.gz": "content 0",
        "a-2.csv.gz": "content 1",
        "a-3.csv.gz": "content 2",
        "a-4.csv.gz": "content 3",
    }
    source.write_text("content 2")  # as after a crash between the two names
    assert archiving.move(source, tmp_path / "archive").name == "a-3.csv.gz"
    subprocess.run(["sha256sum", "--check", "--status", archiving.MANIFEST], check=True, cwd=tmp_path / "archive")


def test_what_a_sender_puts_in_its_stead_meanwhile_is_not_taken_for_what_was_loaded(kept: Space) -> None:
    kept.write("nomotheta.toml", SETTINGS)
    kept.tickets(HEAD + "T001;1,00;01.06.2026\n")
    assert kept.load()["verdict"] == "pass"
    kept.write("nomotheta.toml", SETTINGS + ARCHIVE)
    kept.tickets(HEAD + "T002;2,00;01.06.2026\n")  # just after the load
    workspace = Workspace.open(kept.root)
    compiled, result = workspace.compiled(["tickets"])[0], workspace.ledger.load(1)
    assert result is not None
    told = archiving.put_away(workspace.context, compiled, result)

    assert told == f"inbox/tickets-{DAY}.csv has changed since it was loaded, and was left where it is"
    assert (kept.root / f"inbox/tickets-{DAY}.csv").read_text().endswith("T002;2,00;01.06.2026\n")
    assert files(kept.root, "archive") == {}


def test_a_move_that_was_cut_off_is_done_the_next_time_and_nothing_is_lost(tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    source, archive = tmp_path / "inbox/a.csv", tmp_path / "archive"
    source.write_text("first")

    def replaced(taken: Path) -> bool:
        assert taken.read_text() == "first"
        source.write_text("second")  # a sender does not wait
        return False

    assert archiving.move(source, archive, replaced) is None
    assert {path.name: path.read_text() for path in (tmp_path / "inbox").iterdir()} == {
        "a.csv": "second", "a-2.csv": "first",
    }  # fmt: skip
    source.rename(archive / ".a.csv.999999999.moving")
    archiving.finish(archive)
    assert (archive / "a.csv").read_text() == "second"
    assert sorted(path.name for path in archive.iterdir()) == ["a.csv", archiving.MANIFEST]


def test_what_belongs_to_a_file_goes_with_it(kept: Space) -> None:
    kept.charter(RULED.replace("[load]", 'ready = "{file}.done"\nchecksums = "{file}.md5"\n[load]', 1))
    text = HEAD + "T001;6,00;01.06.2026\n"
    kept.tickets(text)
    kept.write(f"inbox/tickets-{DAY}.csv.done", "")
    kept.write(f"inbox/tickets-{DAY}.csv.md5", hashlib.md5(text.encode()).hexdigest())

    assert night(kept, DAY) == 0
    assert files(kept.root, "inbox") == {}
    assert listed(kept.root) == files(kept.root, "archive") and len(listed(kept.root)) == 3


def test_what_is_kept_long_enough_is_taken_away_and_nothing_else(kept: Space) -> None:
    kept.write("nomotheta.toml", SETTINGS + ARCHIVE + "keep = 30\n")
    today = datetime.datetime.now(datetime.UTC).date()
    old, new = str(today - datetime.timedelta(days=31)), str(today - datetime.timedelta(days=29))
    for at, day in enumerate((old, new)):
        kept.tickets(HEAD + f"T00{at};6,00;01.06.2026\n", day)
        night(kept, day)
    kept.write(f"archive/{old}/note.txt", "by hand")
    assert night(kept, new) == 0

    assert set(files(kept.root, "archive")) == {f"archive/{old}/note.txt", f"archive/{new}/tickets-{new}.csv"}
    assert kept.sql("SELECT count(*) FROM tickets") == [(2,)]


@pytest.mark.parametrize("folder", ["archive", "archive/{day:%Y}", "archive/*/{day}"])
def test_a_folder_that_is_not_of_a_day_is_refused(space: Space, folder: str) -> None:
    space.write("nomotheta.toml", SETTINGS + ARCHIVE.replace("archive/{day}", folder))

    assert f"'{folder}' is not a folder for each day" in space.run("lint").text


KILLS = 6


def test_a_night_that_was_killed_is_taken_up_and_ends_as_if_it_had_not_been(space: Space, tmp_path: Path) -> None:
    """At whatever moment: the same rows, the same archive, one load of each table."""
    made = random.Random(9)
    for kill in range(KILLS):
        root = tmp_path / f"night-{kill}"
        root.mkdir()
        one = Space(root)
        one.write("nomotheta.toml", SETTINGS + ARCHIVE)
        for table in range(4):
            one.charter(
                TICKETS.replace('"tickets"', f'"t{table}"').replace("inbox/tickets", f"inbox/t{table}"), f"t{table}"
            )
            rows = "".join(f"T{at:03};{at % 50},00;01.06.2026\n" for at in range(200 + table))
            one.write(f"inbox/t{table}-{DAY}.csv", HEAD + rows)
        sent = files(root, "inbox")
        words = [sys.executable, "-m", "nomotheta", "run", "--day", DAY, "--create"]
        with subprocess.Popen(words, cwd=root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as run:
            time.sleep(0.6 + made.random() * 1.6)
            run.send_signal(signal.SIGKILL)
        ended = one.run("run", "--day", DAY, "--create")

        assert ended.code == 0, ended.text
        assert [one.sql(f"SELECT count(*) FROM t{table}")[0][0] for table in range(4)] == [200, 201, 202, 203]
        assert files(root, "inbox") == {}
        assert {Path(name).name: digest for name, digest in files(root, "archive").items()} == {
            Path(name).name: digest for name, digest in sent.items()
        }
        assert listed(root) == files(root, "archive")
        loads = [each["load_no"] for each in one.run("ledger", "--json").json["entries"]
                 if each["what"] == "load" and each["state"] == "loaded"]  # fmt: skip
        assert len(loads) == len(set(loads)) == 4
