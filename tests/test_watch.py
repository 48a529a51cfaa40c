"""An inbox that is followed: what has come as a whole is loaded once, whatever comes when."""

from __future__ import annotations

import datetime
import json
import queue
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import IO

import pytest

from conftest import SETTINGS, TICKETS, Space
from nomotheta.ledger import RunResult
from nomotheta.workspace import Workspace
from nomotheta.workspace.watching import Watching

HEAD = "ticket_no;fare;sold_on\n"
RULED = TICKETS.replace("[[keys]]", '[[rules]]\nname = "not dear"\neach = "fare <= 50"\n[[keys]]')
ROW = "T{:03};{},00;01.06.2026\n"


class Followed:
    """A workspace that is looked at when a test says so; what was run, by day and table."""

    def __init__(self, space: Space) -> None:
        self.space, self.runs = space, list[tuple[str, tuple[str, ...]]]()
        self.workspace = Workspace.open(space.root)
        chosen, _ = self.workspace._delivered(())
        self.watching = Watching(self.workspace.context, chosen, None, self.run, create=True)

    def run(self, day: datetime.date, tables: Sequence[str]) -> RunResult:
        self.runs.append((str(day), tuple(tables)))
        return self.workspace.run(day, tables, create=True)

    def look(self) -> list[tuple[str, str, str]]:
        """Look once: of what was run, the day, the table and its state."""
        return [(str(run.day), each.table, each.load.state) for run in self.watching.once() for each in run.tables]


def test_what_was_tried_is_tried_again_only_when_it_is_another_file(space: Space) -> None:
    space.charter(RULED)
    followed = Followed(space)
    space.tickets(HEAD + ROW.format(1, 60), "2026-06-02")
    dear, again = followed.look(), followed.look()
    space.tickets(HEAD + ROW.format(1, 6), "2026-06-02")
    space.tickets(HEAD + ROW.format(2, 7), "2026-06-01")

    assert (dear, again) == ([("2026-06-02", "tickets", "undone")], [])
    assert followed.look() == [("2026-06-01", "tickets", "loaded"), ("2026-06-02", "tickets", "loaded")]
    assert followed.look() == []
    assert space.sql("SELECT count(*) FROM tickets") == [(2,)]


def test_a_table_that_was_held_back_comes_when_the_other_has_come(space: Space) -> None:
    zones = TICKETS.replace('"tickets"', '"zones"').replace("inbox/tickets", "inbox/zones")
    space.charter(RULED.replace('table = "tickets"', 'table = "tickets"\nafter = ["zones"]'))
    space.charter(zones.replace("[[keys]]", '[[rules]]\nname = "r"\neach = "fare <= 50"\n[[keys]]'), "zones")
    followed = Followed(space)
    space.tickets(HEAD + ROW.format(1, 6))
    space.write("inbox/zones-2026-06-01.csv", HEAD + ROW.format(1, 60))

    assert followed.look() == [("2026-06-01", "zones", "undone"), ("2026-06-01", "tickets", "held back")]
    assert followed.look() == []
    space.write("inbox/zones-2026-06-01.csv", HEAD + ROW.format(1, 6))
    assert followed.look() == [("2026-06-01", "zones", "loaded")]
    assert followed.look() == [("2026-06-01", "tickets", "loaded")]
    assert followed.look() == []


def test_what_is_still_being_written_is_looked_at_until_it_is_whole(space: Space) -> None:
    space.charter(RULED.replace("[load]", 'steady = "0.3 s"\n[load]', 1))
    followed = Followed(space)
    path = space.root / "inbox/tickets-2026-06-01.csv"
    space.tickets(HEAD)
    for at in range(6):
        with path.open("a") as file:
            file.write(ROW.format(at, at))
        assert followed.look() == [] and followed.watching.awaits
    time.sleep(0.4)

    assert followed.look() == [("2026-06-01", "tickets", "loaded")]
    assert not followed.watching.awaits
    assert space.sql("SELECT count(*) FROM tickets") == [(6,)]


def test_a_place_that_was_down_is_asked_again(space: Space) -> None:
    space.write("nomotheta.toml", SETTINGS.replace("warehouse.duckdb", "away/warehouse.duckdb"))
    followed = Followed(space)
    space.tickets(HEAD + ROW.format(1, 6))
    first, second = followed.look(), followed.look()
    (space.root / "away").mkdir()

    assert first == second == followed.runs == []
    assert followed.look() == [("2026-06-01", "tickets", "loaded")]


def _documents(lines: IO[str], found: queue.Queue[str]) -> None:
    """Take JSON documents apart that come one after the other."""
    document = ""
    for line in lines:
        document += line
        if line == "}\n":
            found.put(document)
            document = ""


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_files_are_loaded_as_they_come_until_somebody_ends_it(space: Space, number: signal.Signals) -> None:
    begun = "import signal; signal.signal(signal.SIGINT, signal.SIG_DFL); from nomotheta.__main__ import main; main()"
    words = [sys.executable, "-c", begun, "run", "--watch", "--create", "--json"]  # a shell may have it ignored
    (space.root / "inbox/tickets-2026-06-01.csv").write_text(HEAD + ROW.format(1, 1))
    watch = subprocess.Popen(
        words, cwd=space.root, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert watch.stdout is not None
    documents = queue.Queue[str]()
    threading.Thread(target=_documents, args=(watch.stdout, documents), daemon=True).start()
    try:
        found = [documents.get(timeout=60)]
        part = Path(space.root / "inbox/tickets-2026-06-02.csv.part")
        part.write_text(HEAD + ROW.format(2, 2))
        part.rename(part.with_suffix(""))
        found.append(documents.get(timeout=60))
        watch.send_signal(number)
        assert watch.wait(30) == 0
    finally:
        watch.kill()
        watch.wait()
    assert [json.loads(each)["day"] for each in found] == ["2026-06-01", "2026-06-02"]
    assert space.sql("SELECT count(*) FROM tickets") == [(2,)]


def test_watching_is_of_no_day(space: Space) -> None:
    ended = space.run("run", "--watch", "--day", "2026-06-01")

    assert (ended.code, "--watch runs what comes, whatever its day" in ended.text) == (2, True)
