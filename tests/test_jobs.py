"""Tables of a run side by side: the same comes of it as one after another, and nothing that waits is begun too soon."""

from __future__ import annotations

import contextlib
import os
import random
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import SETTINGS, Space
from nomotheta.workspace.crew import Crew
from servers import Database, server

PLACES = ["duckdb", "postgresql", "mariadb", "sqlite", "delta"]
SEEDS = int(os.environ.get("NOMOTHETA_SEQUENCES", "1"))
PROGRAM = [sys.executable, "-m", "nomotheta"]
CHARTER = """
table = "{name}"
{after}
[delivery]
files = "inbox/{name}-{{day}}.csv"
[load]
tolerate = "all"
[columns.k]
kind = "text(8)"
blank = "never"
[columns.v]
kind = "integer"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["k"]
[[rules]]
name = "{name} is small"
each = "v < 90"
otherwise = "{otherwise}"
"""


def alike(told: Any) -> Any:
    """What a run says, less moments and the numbers of loads, which are given as they begin."""
    if isinstance(told, dict):
        return {name: alike(each) for name, each in told.items()
                if not re.search("seconds|started|load_no|^loads?$|command|mend$", name)}  # fmt: skip
    if isinstance(told, list):
        return [alike(each) for each in told]
    return re.sub(r"load \d+", "load N", told) if isinstance(told, str) else told


def written(space: Space, made: random.Random, names: list[str], url: str) -> None:
    space.write("nomotheta.toml", re.sub(r'url = "[^"]*"', f'url = "{url}"', SETTINGS, count=1)
                + '[archive]\nfolder = "away/{day}"\nquarantine = "bad/{day}"\n')  # fmt: skip
    for at, name in enumerate(names):
        before = made.sample(names[:at], made.randrange(min(at, 2) + 1))
        after = f"after = {before}" if before else ""
        refers = (
            f'[[references]]\ncolumns = ["v"]\nlisted_in = "{before[0]}(v)"\notherwise = "warn"\n' if before else ""
        )
        otherwise = made.choice(["warn", "fail"])
        space.charter(CHARTER.format(name=name, after=after, otherwise=otherwise) + refers, name)
        for night in ("2026-06-01", "2026-06-02"):
            if made.random() < 0.9:
                rows = "".join(f"{night[-1]}{row},{made.randrange(95)}\n" for row in range(made.randrange(1, 30)))
                space.write(f"inbox/{name}-{night}.csv", f"k,v\n{rows}" + made.choice(["", "x,y\n", "1,2,3\n", '"\n']))


def rows_of(database: Database, name: str) -> Any:
    try:
        return sorted(database.ask(f"select k, v from {name}"))
    except Exception as error:  # no delivery of it has made the table
        return type(error).__name__


@pytest.mark.parametrize("sort", PLACES)
def test_side_by_side_comes_to_the_same_as_one_after_another(tmp_path: Path, sort: str) -> None:
    with server(sort) as there:
        for seed in range(SEEDS):
            names, found = [f"t{at}" for at in range(7)], []
            for jobs in ("1", "3"):
                database = Database(sort, there)
                try:
                    space = Space(tmp_path / f"{sort}-{seed}-{jobs}")
                    written(space, random.Random(seed), names, database.url)
                    said = [space.run("run", "--day", night, "--create", "--jobs", jobs, "--json")
                            for night in ("2026-06-01", "2026-06-02", "2026-06-01")]  # fmt: skip
                    rows = {name: rows_of(database, name) for name in names}
                    files = sorted(path.relative_to(space.root).as_posix() for path in space.root.rglob("*.csv"))
                    assert space.run("ledger", "--verify").code == 0
                    loads = [entry["load_no"] for entry in space.run("ledger", "--json", "--last", "999").json["entries"]
                             if entry["what"] == "load" and entry["state"] == "loaded"]  # fmt: skip
                    assert len(loads) == len({*loads})
                    found.append(([(each.code, alike(each.json)) for each in said], rows, files))
                finally:
                    database.drop()
            assert found[0] == found[1], seed


def test_a_crew_begins_nothing_before_what_it_waits_for_and_keeps_apart_what_is_to_be(tmp_path: Path) -> None:
    for seed in range(30):
        made = random.Random(seed)
        tasks = [f"t{at}" for at in range(12)]
        after = {name: set(made.sample(tasks[:at], made.randrange(min(at, 3) + 1))) for at, name in enumerate(tasks)}
        apart = {name: made.choice("ab") for name in tasks if made.random() < 0.5}
        at_work, done, most, lock = set[str](), set[str](), [0], threading.Lock()

        def work(_tools: int, name: str, state: Any = (after, apart, at_work, done, most, lock)) -> str:
            after, apart, at_work, done, most, lock = state
            with lock:
                assert after[name] <= done
                assert name not in apart or apart[name] not in {apart.get(other) for other in at_work}
                at_work.add(name)
                most[0] = max(most[0], len(at_work))
            time.sleep(random.random() / 500)
            with lock:
                at_work.discard(name)
                done.add(name)
            return name.upper()

        @contextlib.contextmanager
        def equip() -> Iterator[int]:
            yield 1

        crew = Crew(3, equip, work, lambda _tools: None)
        found = dict(crew.carry_out(tasks, after, apart))
        crew.end()
        assert found == {name: name.upper() for name in tasks}
        assert most[0] <= 3


def test_what_fails_without_being_foreseen_ends_the_run_and_what_is_under_way_is_rolled_back(
    space: Space, monkeypatch: pytest.MonkeyPatch
) -> None:  # fmt: skip
    from nomotheta.workspace import walking

    written(space, random.Random(1), ["a", "b", "c", "d"], "duckdb:///warehouse.duckdb")
    real = walking.load_delivery

    def fails(context: Any, compiled: Any, *more: Any) -> Any:
        if compiled.charter.table == "b":
            raise RuntimeError("not foreseen")
        return real(context, compiled, *more)

    monkeypatch.setattr(walking, "load_delivery", fails)
    ended = space.run("run", "--day", "2026-06-01", "--create", "--jobs", "2")
    assert (ended.code, "unexpected error: RuntimeError: not foreseen" in ended.text) == (3, True)
    assert not [each.name for each in threading.enumerate() if each.name.startswith("table ")]
    monkeypatch.undo()
    again = space.run("run", "--day", "2026-06-01", "--create", "--jobs", "2")
    assert "under way" not in again.text


@pytest.mark.parametrize("sort", ["duckdb", "postgresql"])
def test_an_interrupt_rolls_back_what_is_under_way_in_each_thread(tmp_path: Path, sort: str) -> None:
    with server(sort) as there:
        database = Database(sort, there)
        space = Space(tmp_path / sort)
        written(space, random.Random(2), [], database.url)
        for name in ("a", "b", "c", "d"):
            space.charter(CHARTER.format(name=name, after="", otherwise="warn"), name)
            rows = "".join(f"{row},{row % 80}\n" for row in range(300_000))
            space.write(f"inbox/{name}-2026-06-01.csv", f"k,v\n{rows}")
        usual = signal.signal(
            signal.SIGINT, signal.default_int_handler
        )  # as for a program that is not in the background
        running = subprocess.Popen(
            [*PROGRAM, "run", "--day", "2026-06-01", "--create", "--jobs", "2"], cwd=space.root,
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        )  # fmt: skip
        signal.signal(signal.SIGINT, usual)
        begun = space.root / ".nomotheta/ledger.sqlite"
        while not begun.exists():
            time.sleep(0.05)
        time.sleep(1.0)
        running.send_signal(signal.SIGINT)
        _, err = running.communicate(timeout=120)
        assert b"Traceback" not in err, err
        if running.returncode == 130:
            assert b"stopped; what was not committed was rolled back" in err
        assert space.run("run", "--day", "2026-06-01", "--create", "--jobs", "2").code == 0
        for name in ("a", "b", "c", "d"):
            assert database.ask(f"select count(*), count(distinct k) from {name}") == [(300_000, 300_000)]
        assert space.run("reconcile").code == 0
        database.drop()


def test_a_trial_run_takes_one_table_after_another(space: Space) -> None:
    ended = space.run("run", "--rehearse", "--jobs", "2")
    assert (ended.code, "one table after another" in ended.text) == (2, True)
