"""Two million bookings into a database: `nomotheta load`, everything checked, against the database's own bulk command.

    python benchmarks/places.py PLACE [ROWS] [PAIRS]

PLACE is `duckdb`, `sqlite`, or the URL of a PostgreSQL or MariaDB database in which tables `ours` and `theirs` may be
made anew. Ours reads a file with one bad row per thousand, with a key held against the file and the table; theirs reads
the clean file, and checks nothing but types. Neither table has an index, and the server's settings are the same for
both. Theirs is `create table … as select * from read_csv(…)`, `\\copy`, LOAD DATA LOCAL INFILE, or for SQLite the
seconds that `executemany` and its commit take for rows that are parsed already.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.parse import urlsplit

from common import machine, measured, summary
from read import CHARTER, DUCKDB, write

_REST = 2  # seconds
NAMES = "id, code, first, last, email, origin, dest, sails_on, booked_at, adults, children, metres, fare, paid, note"
COLUMNS = """id bigint, code varchar(6), first varchar(40), last varchar(40), email varchar(60), origin varchar(3),
 dest varchar(3), sails_on date, booked_at timestamp, adults bigint, children bigint, metres numeric(6,2),
 fare numeric(8,2), paid boolean, note varchar(60)"""
LOAD_DATA = """LOAD DATA LOCAL INFILE '{file}' INTO TABLE theirs CHARACTER SET utf8mb4 FIELDS TERMINATED BY ','
 OPTIONALLY ENCLOSED BY '"' ESCAPED BY '' LINES TERMINATED BY '\\n' IGNORE 1 LINES ({names})
 SET paid = @paid = 'true'"""
EXECUTEMANY = '''
import csv, itertools, sqlite3, time
connection = sqlite3.connect("theirs.sqlite", isolation_level=None)
connection.execute("""create table theirs ({columns})""")
connection.execute("begin")
taken = 0
with open({file!r}, newline="") as lines:
    rows = csv.reader(lines)
    next(rows)
    while chunk := [(int(r[0]), *r[1:9], int(r[9]), int(r[10]), float(r[11]), float(r[12]), r[13] == "true", r[14])
                    for r in itertools.islice(rows, 50_000)]:
        started = time.perf_counter()
        connection.executemany("insert into theirs values ({marks})", chunk)
        taken += time.perf_counter() - started
started = time.perf_counter()
connection.execute("commit")
print(taken + time.perf_counter() - started)
'''


class Bench:
    """The files, and how a place is emptied and filled by its own means."""

    def __init__(self, place: str, folder: Path) -> None:
        self.place, self.folder = place, folder
        self.clean, self.bad = folder / "clean.csv", folder / "bad.csv"
        self.embedded = place in {"duckdb", "sqlite"}
        self.url = f"{place}:///ours.{place}" if self.embedded else place

    def ask(self, sql: str) -> list[str]:
        """The command that has a server carry out a statement."""
        if self.place.startswith("postgres"):
            return ["psql", "-q", self.place, "-c", sql]
        at = urlsplit(self.place)
        who = ["-h", at.hostname or "127.0.0.1", "-P", str(at.port or 3306), "-u", at.username or "root"]
        return ["mariadb", "--local-infile=1", *who, at.path.lstrip("/"), "-e", sql]

    def anew(self) -> None:
        """Nothing is there but two empty tables on a server."""
        shutil.rmtree(self.folder / ".nomotheta", ignore_errors=True)
        if self.embedded:
            for found in (*self.folder.glob("ours.*"), *self.folder.glob("theirs.*")):
                found.unlink()
            return
        columns = COLUMNS if self.place.startswith("postgres") else COLUMNS.replace(" timestamp", " datetime")
        made = [f"create table {table} ({columns})" for table in ("ours", "theirs")]
        last = "checkpoint" if self.place.startswith("postgres") else "select 1"
        for sql in ("drop table if exists ours, theirs, nomotheta_marks, nomotheta_files", *made, last):
            subprocess.run(self.ask(sql), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def rest(self) -> None:
        """A server writes what it has kept in memory for a while after it has answered."""
        if not self.embedded:
            time.sleep(_REST)

    def theirs(self) -> float:
        """The seconds of the place's own bulk command."""
        if self.place == "sqlite":
            marks = ", ".join("?" * len(NAMES.split(",")))
            program = EXECUTEMANY.format(columns=COLUMNS, file=str(self.clean), marks=marks)
            ran = subprocess.run([sys.executable, "-c", program], cwd=self.folder, check=True, capture_output=True)
            return float(ran.stdout)
        if self.place == "duckdb":
            program = DUCKDB.format(file=str(self.clean)).replace("connect()", "connect('theirs.duckdb')")
            return measured([sys.executable, "-c", program + "con.close()\n"], self.folder)[0]
        if self.place.startswith("postgres"):
            return measured(self.ask(f"\\copy theirs from '{self.clean}' csv header"), self.folder)[0]
        sql = LOAD_DATA.format(file=self.clean, names=NAMES.replace(" paid", " @paid"))
        return measured(self.ask(sql), self.folder)[0]


def main(place: str, rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    bench = Bench(place, folder)
    try:
        write(bench.clean, bench.bad, rows)
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n[places.w]\nurl = "{bench.url}"\n')
        charter = CHARTER.replace('"bookings"', '"ours"').replace("[load]", '[delivery]\nfiles = "bad.csv"\n[load]')
        (folder / "charters" / "ours.toml").write_text(charter + '[[keys]]\ncolumns = ["id"]\n')
        print(f"{rows:,} rows, {bench.clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        run = [sys.executable, "-m", "nomotheta", "load", "ours", *(["--create"] if bench.embedded else [])]
        ours, theirs, memory = [], [], []
        for pair in range(pairs + 1):
            bench.anew()
            if pair % 2:  # neither always finds the machine as the other has left it
                bench.rest()
                other = bench.theirs()
            bench.rest()
            seconds, peak = measured(run, folder)
            if not pair % 2:
                bench.rest()
                other = bench.theirs()
            if pair:  # the first pair warms the caches
                ours.append(seconds)
                theirs.append(other)
                memory.append(peak)
                print(f"  pair {pair}: ours {seconds:.2f} s, {peak:.0f} MB; theirs {other:.2f} s", flush=True)
        print(summary(f"load into {place.partition(':')[0]}", ours, theirs, memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    chosen = [int(each) for each in sys.argv[2:]]
    main(sys.argv[1], chosen[0] if chosen else 2_000_000, chosen[1] if len(chosen) > 1 else 5)
