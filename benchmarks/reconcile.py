"""Two million bookings held against the table that they were loaded into, all columns.

    python benchmarks/reconcile.py PLACE [ROWS] [PAIRS]

PLACE is `duckdb`, or the URL of a PostgreSQL database in which tables `ours` and `theirs` may be made anew. Ours is
`nomotheta reconcile`, of a file that was loaded and is equal; theirs is the place's own bulk command reading the same
file into a typed table: `\\copy`, or `create table … as select * from read_csv(…)` in memory.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary
from places import Bench
from read import CHARTER, DUCKDB, write


def main(place: str, rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    bench = Bench(place, folder)
    try:
        write(bench.clean, bench.bad, rows)
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n[places.w]\nurl = "{bench.url}"\n')
        charter = CHARTER.replace('"bookings"', '"ours"').replace("[load]", '[delivery]\nfiles = "clean.csv"\n[load]')
        (folder / "charters" / "ours.toml").write_text(charter + '[[keys]]\ncolumns = ["id"]\n')
        print(f"{rows:,} rows, {bench.clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        bench.anew()
        program = [sys.executable, "-m", "nomotheta"]
        load = [*program, "load", "ours", *(["--create"] if bench.embedded else [])]
        subprocess.run(load, cwd=folder, check=True, stdout=subprocess.DEVNULL)

        def theirs() -> float:
            if bench.embedded:
                return measured([sys.executable, "-c", DUCKDB.format(file=str(bench.clean))], folder)[0]
            subprocess.run(bench.ask("truncate theirs"), check=True, stdout=subprocess.DEVNULL)
            return bench.theirs()

        ours, others, memory = [], [], []
        for pair in range(pairs + 1):
            other = theirs() if pair % 2 else 0.0
            bench.rest()
            seconds, peak = measured([*program, "reconcile", "ours"], folder)
            bench.rest()
            other = other or theirs()
            if pair:  # the first pair warms the caches
                ours.append(seconds)
                others.append(other)
                memory.append(peak)
                print(f"  pair {pair}: ours {seconds:.2f} s, {peak:.0f} MB; theirs {other:.2f} s", flush=True)
        print(summary(f"reconcile with {place.partition(':')[0]}", ours, others, memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    chosen = [int(each) for each in sys.argv[2:]]
    main(sys.argv[1], chosen[0] if chosen else 2_000_000, chosen[1] if len(chosen) > 1 else 5)
