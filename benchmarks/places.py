"""Two million bookings into a database: `nomotheta load`, everything checked, against the database's own bulk command.

    python benchmarks/places.py PLACE [ROWS] [PAIRS]

PLACE is `duckdb`, or the URL of a PostgreSQL database in which tables `ours` and `theirs` may be made anew. Ours reads
a file with one bad row per thousand, with a key held against the file and the table; theirs reads the clean file, and
checks nothing but types. Neither table has an index, and the server's settings are the same for both.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary
from read import CHARTER, DUCKDB, write

COLUMNS = """id bigint, code varchar(6), first varchar(40), last varchar(40), email varchar(60), origin varchar(3),
 dest varchar(3), sails_on date, booked_at timestamp, adults bigint, children bigint, metres numeric(6,2),
 fare numeric(8,2), paid boolean, note varchar(60)"""


def main(place: str, rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    url = "duckdb:///ours.duckdb" if place == "duckdb" else place
    try:
        clean, bad = folder / "clean.csv", folder / "bad.csv"
        write(clean, bad, rows)
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n[places.w]\nurl = "{url}"\n')
        charter = CHARTER.replace('"bookings"', '"ours"').replace("[load]", '[delivery]\nfiles = "bad.csv"\n[load]')
        (folder / "charters" / "ours.toml").write_text(charter + '[[keys]]\ncolumns = ["id"]\n')
        print(f"{rows:,} rows, {clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        run = [sys.executable, "-m", "nomotheta", "load", "ours", *(["--create"] if place == "duckdb" else [])]
        if place == "duckdb":
            program = DUCKDB.format(file=str(clean)).replace("connect()", "connect('theirs.duckdb')") + "con.close()\n"
            bulk = [sys.executable, "-c", program]
        else:
            bulk = ["psql", "-q", place, "-c", f"\\copy theirs from '{clean}' csv header"]
        ours, theirs, memory = [], [], []
        for pair in range(pairs + 1):
            shutil.rmtree(folder / ".nomotheta", ignore_errors=True)
            if place == "duckdb":
                for name in ("ours.duckdb", "theirs.duckdb"):
                    (folder / name).unlink(missing_ok=True)
            else:
                anew = [f"create table {table} ({COLUMNS})" for table in ("ours", "theirs")]
                for sql in ("drop table if exists ours, theirs, nomotheta_loads", *anew, "checkpoint"):
                    subprocess.run(["psql", "-q", place, "-c", sql], check=True, stderr=subprocess.DEVNULL)
            seconds, peak = measured(run, folder)
            other, _ = measured(bulk, folder)
            if pair:  # the first pair warms the caches
                ours.append(seconds)
                theirs.append(other)
                memory.append(peak)
                print(f"  pair {pair}: ours {seconds:.2f} s, {peak:.0f} MB; theirs {other:.2f} s")
        print(summary(f"load into {place.partition(':')[0]}", ours, theirs, memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    chosen = [int(each) for each in sys.argv[2:]]
    main(sys.argv[1], chosen[0] if chosen else 2_000_000, chosen[1] if len(chosen) > 1 else 5)
