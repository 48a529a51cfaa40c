"""A load carried out by an engine, whose driver is killed at random moments: there once, and no file that is nobody's.

    python benchmarks/cluster_kills.py [KILLS]

Each time a driver is started and killed (SIGKILL) at a random moment. Sometimes it had come so far that its load is there;
then the next content is loaded. At the end one load more goes through. After every kill the table must hold all rows of the loads
whose marks it has, and no others; at the end its folder must hold the files that some version names, and no others.
"""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_CHARTER = """table = "t"
[delivery]
files = "inbox/t-{day}-*.csv"
[columns.k]
kind = "text(12)"
[columns.v]
kind = "integer"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["k"]
"""
_ROWS, _FILES = 4_000, 6


def main(kills: int) -> None:  # noqa: PLR0915 - one story
    """Kill, look, and go on."""
    from deltalake import DeltaTable

    from nomotheta.cluster.local import start

    folder, chance = Path(tempfile.mkdtemp(prefix="nomotheta-bench-")), random.Random(1)
    url = start("bench", "local[2]")
    settings = f'name = "bench"\n[places.w]\nurl = "delta:///lake"\nengine = "e"\n[engines.e]\nurl = "{url}"\n'
    (folder / "inbox").mkdir()
    (folder / "charters").mkdir()
    (folder / "nomotheta.toml").write_text(settings)
    (folder / "charters/t.toml").write_text(_CHARTER)
    lake, nights, wrong, there = folder / "lake/t", 0, 0, 0

    def command() -> list[str]:
        day = f"2026-{1 + nights // 28:02d}-{1 + nights % 28:02d}"
        for at in range(_FILES):
            path = folder / f"inbox/t-{day}-{at}.csv"
            if not path.exists():
                path.write_text("k,v\n" + "".join(f"{nights}-{at}-{row},{row}\n" for row in range(_ROWS)))
        return [sys.executable, "-m", "nomotheta", "load", "t", "--day", day, "--create"]

    def loads() -> tuple[int, int]:
        """How many rows there are, and of how many loads the newest version has marks."""
        if not (lake / "_delta_log").exists():
            return 0, 0
        table = DeltaTable(lake)
        number = table.transaction_version("nomotheta")
        marks = 0 if number is None else len(json.loads((lake / f"_nomotheta/{number}.json").read_text())["marks"])
        return table.to_pyarrow_table().num_rows, marks

    try:
        subprocess.run(command(), cwd=folder, check=True, stdout=subprocess.DEVNULL)
        started = time.monotonic()
        nights += 1
        subprocess.run(command(), cwd=folder, check=True, stdout=subprocess.DEVNULL)
        usual = time.monotonic() - started
        nights += 1
        for at in range(kills):
            running = subprocess.Popen(command(), cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(usual * chance.uniform(0.2, 1.1))
            running.kill()
            running.wait()
            rows, marks = loads()
            if rows != marks * _ROWS * _FILES or not nights <= marks <= nights + 1:
                wrong += 1
                print(f"  after kill {at + 1}: {rows:,} rows, {marks} loads")
            if marks > nights:
                nights += 1
                there += 1
        time.sleep(5)  # what workers still have in hand
        subprocess.run(command(), cwd=folder, check=True, stdout=subprocess.DEVNULL)
        table = DeltaTable(lake)
        named = {
            Path(uri).name for at in range(table.version() + 1) for uri in DeltaTable(lake, version=at).file_uris()
        }
        left = {path.name for path in lake.glob("part-*")} - named
        noted = [path.name for path in (lake / "_nomotheta").iterdir() if path.name[:4] in {"writ", "stag", "ende"}]
        rows, marks = loads()
        print(f"{kills} kills, {there} of them after the commit; {wrong} times wrong; {rows:,} rows of {marks} loads; "
              f"{len(left)} files and {len(noted)} notes of nobody")  # fmt: skip
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 50)
