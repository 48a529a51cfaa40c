"""Loads carried out by an engine: the same rows, rejects, balance, findings and fingerprints as on one machine."""

from __future__ import annotations

import contextlib
import gzip
import pickle
import random
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import psutil
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from deltalake import DeltaTable

from conftest import DAY, SETTINGS, Space
from nomotheta.cluster.parts import Result, Shared, Task
from nomotheta.cluster.worker import carried_out
from nomotheta.workspace import engines

CHARTER = """
table = "t"
[delivery]
files = "inbox/t-{day}-*.csv*"
[load]
tolerate = "all"
after_fail = "keep"
HOW
[columns.k]
kind = "text(4)"
blank = "never"
[columns.v]
kind = "integer"
between = [0, 90]
[columns.w]
kind = "decimal(6,2)"
[columns.d]
kind = "date"
[columns.load_no]
from = "@load.no"
[columns.line]
from = "@file.line"
KEYS
[[rules]]
name = "small"
each = "v < 50"
otherwise = "warn"
[[rules]]
name = "sums"
whole = "sum(w) > 10 and count(*) > 3 and max(v) < 95"
otherwise = "warn"
"""
KEYS = [
    "", '[[keys]]\ncolumns = ["k"]', '[[keys]]\ncolumns = ["k"]\nkeep = "last"', '[[keys]]\ncolumns = ["k"]\nkeep = "none"',
    '[[keys]]\ncolumns = ["k"]\nkeep = "last"\nby = "v"', '[[keys]]\ncolumns = ["k"]\n[[keys]]\ncolumns = ["v", "d"]',
]  # fmt: skip
HOWS = ["", 'how = "overwrite"', 'how = "merge"']


class Inline:
    """An engine in this process: what travels is pickled, tasks come back in any order, some are done twice."""

    def __init__(self, chance: random.Random) -> None:
        self.chance, self.tasks, self.stretches = chance, 0, 0

    def carry_out(self, shared: Shared, tasks: Sequence[Task], told: Any) -> Iterator[Result]:
        mixed = list(tasks)
        self.chance.shuffle(mixed)
        self.tasks += len(tasks)
        self.stretches += sum(task.stretch is not None for task in tasks)
        for at, task in enumerate(mixed):
            for _ in range(self.chance.choice([1, 1, 2])):  # a worker that was taken for dead has written files too
                found = carried_out(*pickle.loads(pickle.dumps((shared, task))))
            told(at + 1)
            yield pickle.loads(pickle.dumps(found))

    def repeated(self, shared: Shared, paths: Sequence[str]) -> Iterator[Any]:
        store = shared.target.store()
        rows = pa.concat_tables([pq.read_table(store.files.open_input_file(path)) for path in paths])
        own = rows.append_column("own", pa.array([int(task >= 0) for task in rows["task"].to_pylist()]))
        groups = own.group_by(["key", "hash"]).aggregate([("own", "max"), ("task", "count")])
        kept = [row for row in groups.to_pylist() if row["own_max"] and row["task_count"] > 1]
        if kept:
            wanted = pa.table({name: pa.array([row[name] for row in kept], pa.int64()) for name in ("key", "hash")})
            yield rows.join(wanted, ["key", "hash"], join_type="left semi")


def spaces(space: Space) -> tuple[Space, Space]:
    """Two workspaces with the same inbox: one whose lake has an engine, and one whose has none."""
    found = []
    for name in ("alone", "spread"):
        own = Space(space.root / name)
        lake = '"delta:///lake"' + (
            '\nengine = "cluster"\n[engines.cluster]\nurl = "sc://nowhere:15002"' if name == "spread" else ""
        )
        own.write("nomotheta.toml", SETTINGS.replace('"duckdb:///warehouse.duckdb"', lake))
        found.append(own)
    return found[0], found[1]


def written(chance: random.Random, rows: int, *, odd: bool) -> str:
    lines = []
    for _ in range(rows):
        cells = [chance.choice("ABCDEFGH") + str(chance.randrange(rows)), str(chance.randrange(99)),
                 f"{chance.randrange(9000) / 100:.2f}", f"2026-0{chance.randrange(1, 9)}-11"]  # fmt: skip
        if odd and chance.random() < 0.2:
            cells[chance.randrange(4)] = chance.choice(["", "x", '"a\nb"', "1000000", "toolong"])
        if odd and chance.random() < 0.05:
            cells = cells[:3]
        lines.append(",".join(cells))
    return "k,v,w,d\n" + "".join(f"{line}\n" for line in lines)


def came_of(space: Space) -> Any:
    """All that a load leaves, but for times and names of files."""
    ended = space.run("load", "t", "--day", DAY, "--create", "--json")
    assert "loads" in ended.json, ended.text
    (load,) = ended.json["loads"]
    gone = {"started", "seconds", "rejects", "load_no", "command", "notes", "entry"}
    told = {name: value for name, value in load.items() if name not in gone}
    told["notes"] = sorted(note for note in load["notes"] if "Delta" not in note)
    rejects = space.run("rejects", "--all", "--json").json.get("shown") if load["balance"] else []
    rows = space.run("reconcile", "t", "--json").json
    kept = space.run("ledger", "--load", str(load["load_no"]), "--json").json["load"] if load["load_no"] else {}
    return told, rejects, {name: rows.get(name) for name in ("verdict", "rows")}, kept.get("imprint")


def flat(value: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """All that a document says, one by one."""
    if isinstance(value, dict):
        for name, each in value.items():
            yield from flat(each, f"{path}.{name}")
    elif isinstance(value, list | tuple):
        for at, each in enumerate(value):
            yield from flat(each, f"{path}[{at}]")
    else:
        yield path, value


def table(space: Space) -> Any:
    rows = DeltaTable(space.root / "lake/t").to_pyarrow_table()
    return sorted((tuple(row.values()) for row in rows.to_pylist()), key=repr)


@pytest.mark.parametrize("seed", range(12))
def test_an_engine_leaves_what_one_machine_leaves(space: Space, monkeypatch: pytest.MonkeyPatch, seed: int) -> None:
    chance = random.Random(seed)
    engine = Inline(chance)
    monkeypatch.setattr("nomotheta.workspace.engines.Engines._engine", lambda *_: engine)
    monkeypatch.setattr("nomotheta.workspace.engines.Engines.asked", lambda _self, _name, opened: opened)
    monkeypatch.setattr("nomotheta.cluster.spread._AT_ONCE", chance.choice([300, 700, 1 << 20]))
    monkeypatch.setattr("nomotheta.cluster.spread._FEW_KEYS", chance.choice([0, 10**6]))
    alone, spread = spaces(space)
    keys, how = KEYS[seed % len(KEYS)], HOWS[seed // 2 % len(HOWS)]
    if "merge" in how and keys.count("[[keys]]") != 1:  # which is by one key
        how = ""
    charter = CHARTER.replace("KEYS", keys).replace("HOW", how)
    for each in (alone, spread):
        each.charter(charter, "t")
    for _ in range(3):
        packed = chance.random() < 0.3
        files = {f"inbox/t-{DAY}-{at}.csv{'.gz' * packed}": written(chance, chance.choice([0, 3, 40]), odd=chance.random() < 0.7)
                 for at in range(chance.choice([1, 2, 7]))}  # fmt: skip
        for each in (alone, spread):
            for old in each.root.glob("inbox/*"):
                old.unlink()
            for name, text in files.items():
                each.write(name, gzip.compress(text.encode(), mtime=0) if packed else text)
        one, other = came_of(alone), came_of(spread)
        for mine, its in zip(flat(other), flat(one), strict=True):
            if "merge" in how and ".samples" in mine[0]:
                continue  # a merge is judged in the table, whose rows lie in no order, and some are shown
            assert mine == its
        if (alone.root / "lake/t").exists():
            assert table(spread) == table(alone)

    assert engine.tasks
    left = [
        path for path in (spread.root / "lake/t/_nomotheta").iterdir() if path.name.startswith(("staging", "writing"))
    ]
    assert not left
    assert engines.HERE == "none"


@pytest.mark.parametrize("seed", range(8))
def test_a_large_file_in_stretches_comes_to_what_it_comes_to_in_one_piece(
    space: Space, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    chance = random.Random(seed)
    engine = Inline(chance)
    monkeypatch.setattr("nomotheta.workspace.engines.Engines._engine", lambda *_: engine)
    monkeypatch.setattr("nomotheta.workspace.engines.Engines.asked", lambda _self, _name, opened: opened)
    monkeypatch.setattr("nomotheta.cluster.spread._AT_ONCE", chance.choice([300, 2_000]))
    alone, spread = spaces(space)
    ends = ["\n", "\r\n", "\n", "\r\n"][seed % 4]
    lines = ["# made by hand", "k,v,w,d"]
    kinds = ["", "# a remark", "A,1", "k,v,w,d", "é,x,1.5,2026-02-30", *(['B"1,2,3,2026-01-11'] if seed >= 4 else [])]
    for at in range(200):
        odd = chance.random()
        if odd < 0.03:
            lines.append(chance.choice(kinds))
        cell = f'"Z{at % 60}"' if odd > 0.5 else f"Z{at % 170}"
        lines.append(f"{cell},{at % 97},{at % 50}.25,2026-03-{1 + at % 28:02d}")
    if seed >= 4:  # a record over several lines: somewhere, a line end is no end of a record
        lines.insert(100, '"a\nb",1,1,2026-01-11' if seed % 2 else '"Z\n",1,1,2026-01-11')
    text = ends.join(lines) + chance.choice(["", ends])
    charter = (
        CHARTER.replace("KEYS", KEYS[1 + seed % 5])
        .replace("HOW", "")
        .replace("[load]", "[delivery.layout]\ncomment = '#'\nrepeated_header = 'skip'\n[load]")
    )
    for each in (alone, spread):
        each.charter(charter, "t")
        each.write(f"inbox/t-{DAY}-0.csv", text)

    one, other = came_of(alone), came_of(spread)

    for mine, its in zip(flat(other), flat(one), strict=True):
        assert mine == its
    assert one[0]["state"] == "loaded", one[0]["message"]
    assert table(spread) == table(alone)
    assert engine.stretches or seed >= 4


# ---- with a real engine


def real(space: Space, url: str) -> tuple[Space, Space]:
    alone, spread = spaces(space)
    settings = (spread.root / "nomotheta.toml").read_text().replace("sc://nowhere:15002", url)
    spread.write("nomotheta.toml", settings)
    return alone, spread


def workers(server: Any) -> list[Any]:
    found = []
    for each in server.children(recursive=True):
        with contextlib.suppress(psutil.Error):
            if "pyspark" in " ".join(each.cmdline()) and each.parent().name().startswith("python"):
                found.append(each)
    return found


@contextlib.contextmanager
def killing(server: Any, chance: random.Random) -> Iterator[None]:
    """Some worker is killed, as soon as there is one."""
    ended = threading.Event()

    def kill() -> None:
        while not ended.wait(0.2):
            found = workers(server)
            if found:
                with contextlib.suppress(psutil.Error):
                    chance.choice(found).kill()
                return

    killer = threading.Thread(target=kill)
    killer.start()
    try:
        yield
    finally:
        ended.set()
        killer.join()


@pytest.mark.parametrize("seed", range(3))
def test_spark_leaves_what_one_machine_leaves_though_workers_are_killed(
    space: Space, monkeypatch: pytest.MonkeyPatch, spark: tuple[str, Any], seed: int
) -> None:
    url, server = spark
    chance = random.Random(100 + seed)
    alone, spread = real(space, url)
    monkeypatch.setattr("nomotheta.cluster.spread._AT_ONCE", [3_000, 6_000, 1 << 20][seed])
    monkeypatch.setattr("nomotheta.cluster.spread._FEW_KEYS", [0, 10**6, 0][seed])
    for each in (alone, spread):
        each.charter(CHARTER.replace("KEYS", KEYS[1 + seed]).replace("HOW", ""), "t")
    for night in range(2):
        files = {f"inbox/t-{DAY}-{at}.csv": written(chance, 300, odd=True) for at in range(7)}
        for each in (alone, spread):
            for name, text in files.items():
                each.write(name, text)
        one = came_of(alone)
        with killing(server, chance) if night else contextlib.nullcontext():
            other = came_of(spread)
        for mine, its in zip(flat(other), flat(one), strict=True):
            assert mine == its
        assert table(spread) == table(alone)
    lake = spread.root / "lake/t"
    named = set[str]()
    for version in range(DeltaTable(lake).version() + 1):
        named |= {Path(uri).name for uri in DeltaTable(lake, version=version).file_uris()}
    assert {each.name for each in lake.glob("part-*")} == named


def test_a_load_by_the_engine_is_there_once_wherever_the_driver_was_killed(
    space: Space, spark: tuple[str, Any]
) -> None:
    _, spread = real(space, spark[0])
    spread.charter(CHARTER.replace("KEYS", KEYS[1]).replace("HOW", ""), "t")
    for at in range(4):
        spread.write(f"inbox/t-{DAY}-{at}.csv", written(random.Random(at), 4_000, odd=True))
    command = [sys.executable, "-m", "nomotheta", "load", "t", "--day", DAY, "--create"]
    chance = random.Random(3)
    for _ in range(4):
        running = subprocess.Popen(command, cwd=spread.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(chance.uniform(1, 6))
        running.kill()
        running.wait()
        counts = {0} if not (spread.root / "lake/t/_delta_log").exists() else {len(table(spread))}
        assert counts <= {0, len(table(spread)) if counts != {0} else 0}
    spread.run("load", "t", "--day", DAY, "--create")

    rows = [row[4] for row in table(spread)]
    assert rows and len(set(rows)) == 1, "all rows are of one load"
    lake = spread.root / "lake/t"
    assert {each.name for each in lake.glob("part-*")} == {Path(uri).name for uri in DeltaTable(lake).file_uris()}
    assert not [each for each in (lake / "_nomotheta").iterdir() if each.name.startswith(("staging", "writing"))]


def test_an_engine_that_cannot_be_reached_or_is_of_another_version_is_told_in_words(
    space: Space, spark: tuple[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    alone, spread = real(space, spark[0])
    for each in (alone, spread):
        each.charter(CHARTER.replace("KEYS", "").replace("HOW", ""), "t")
        each.write(f"inbox/t-{DAY}-0.csv", "k,v,w,d\nA,1,1,2026-01-11\n")
    monkeypatch.setattr("nomotheta.__version__", "999.0")

    other = spread.run("load", "t", "--day", DAY, "--create")
    spread.write(
        "nomotheta.toml", (spread.root / "nomotheta.toml").read_text() + '[engines.gone]\nurl = "sc://127.0.0.1:9"\n'
    )
    gone = spread.run("load", "t", "--day", DAY, "--create", "--engine", "gone")
    unknown = alone.run("load", "t", "--day", DAY, "--create", "--engine", "none-such")
    monkeypatch.undo()

    assert other.code == 3 and "its workers have nomotheta" in other.text, other.text
    assert "on every worker" in other.text
    assert gone.code == 3 and "engine gone: the engine cannot be reached: Connection refused" in gone.text, gone.text
    assert unknown.code == 2 and "no engine 'none-such' is declared" in unknown.text
    assert spread.run("load", "t", "--day", DAY, "--engine", "none").code == 0
    assert "Traceback" not in other.text + unknown.text
