"""Two million rows of fifteen columns into typed Arrow, everything checked, against two readers that check nothing.

    python benchmarks/read.py [ROWS] [PAIRS]

Ours reads a file with one bad row per thousand: typed, held to blanks, a pattern, ranges and a list of words, rejects
collected. DuckDB's reader makes the same typed table in memory from the clean file; pandas reads the clean file with
its defaults. Each is a whole process.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
from pathlib import Path

import numpy as np
from common import in_turn, machine

OURS = """
import sys
from nomotheta.start import prepare
prepare()
sys.path.insert(0, {here!r})
from read import ours
ours({file!r})
"""
DUCKDB = """
import duckdb
con = duckdb.connect()
con.execute('''create table t as select * from read_csv({file!r}, header = true, columns = {{
 'id': 'BIGINT', 'code': 'VARCHAR', 'first': 'VARCHAR', 'last': 'VARCHAR', 'email': 'VARCHAR', 'origin': 'VARCHAR',
 'dest': 'VARCHAR', 'sails_on': 'DATE', 'booked_at': 'TIMESTAMP', 'adults': 'INTEGER', 'children': 'INTEGER',
 'metres': 'DECIMAL(6,2)', 'fare': 'DECIMAL(8,2)', 'paid': 'BOOLEAN', 'note': 'VARCHAR'}})''').fetchall()
"""
PANDAS = "import pandas; pandas.read_csv({file!r})"
CHARTER = """
table = "bookings"
[load]
tolerate = "all"
[columns.id]
kind = "integer"
blank = "never"
[columns.code]
kind = "text(6)"
pattern = "K[0-9]{5}"
[columns.first]
kind = "text(40)"
[columns.last]
kind = "text(40)"
blank = "never"
[columns.email]
kind = "text(60)"
[columns.origin]
kind = "text(3)"
among = ["AND", "BRK", "DRU", "ELD", "FLA"]
[columns.dest]
kind = "text(3)"
among = ["AND", "BRK", "DRU", "ELD", "FLA"]
[columns.sails_on]
kind = "date"
[columns.booked_at]
kind = "timestamp"
[columns.adults]
kind = "integer"
between = [0, 60]
[columns.children]
kind = "integer"
[columns.metres]
kind = "decimal(6,2)"
[columns.fare]
kind = "decimal(8,2)"
between = [0, 5000]
[columns.paid]
kind = "boolean"
[columns.note]
kind = "text(60)"
"""


def ours(file: str) -> None:
    """Read a file as a load does, without a place."""
    import datetime

    from nomotheta.charter import lint, read_charter
    from nomotheta.charter.settings import Place, Settings
    from nomotheta.load.blocks import worked_blocks
    from nomotheta.load.engine import Engine
    from nomotheta.load.work import Plan
    from nomotheta.place.render import Now
    from nomotheta.source.formats import open_file
    from nomotheta.source.shape import match_columns

    charter = Path(file).with_name("bookings.toml")
    read, problems = read_charter(charter, charter.name)
    compiled, more = lint([read], Settings(name="bench", places={"w": Place(url="duckdb:///x")}))
    assert not problems and not more
    chosen = compiled["bookings"]
    source = open_file(Path(file), file, chosen.layout)
    shape = match_columns(source, chosen.charter)
    moment = datetime.datetime.now(datetime.UTC)
    checks = [check for check in chosen.checks if check.on_rows and check.sort != "text_length"]
    plan = Plan(
        chosen, file, shape.positions, shape.width, {}, [], Engine(checks, Now(moment, moment.date())), "UTC", 0
    )
    rows = rejects = 0
    kept = []
    for worked in worked_blocks(source, plan):
        kept.append(worked.good)
        rejects += worked.set_aside.faults.num_rows
        rows += worked.good.num_rows
        if len(kept) > 4:
            kept = kept[-4:]  # as a place would, which takes them and lets go
    print(rows, rejects)


def write(clean: Path, bad: Path, rows: int) -> None:
    """The same bookings twice, the second time with one bad row per thousand."""
    chance = np.random.default_rng(11)
    ports = np.array(["AND", "BRK", "DRU", "ELD", "FLA"])
    names = np.array(["Alda", "Bergur", "Eydna", "Jovald", "Mona", "Ljota"])
    notes = np.array(["", "", "window seat", '"two bags, one pram"', '"left cabin ""B"""', "late check-in"])
    head = "id,code,first,last,email,origin,dest,sails_on,booked_at,adults,children,metres,fare,paid,note\n"
    faults = ("K1", "x", "31.31.2026", "abc")
    with clean.open("w") as good, bad.open("w") as mixed:
        good.write(head)
        mixed.write(head)
        for start in range(0, rows, 50_000):
            count = min(50_000, rows - start)
            a = chance.integers(0, 1_000_000, (count, 10))
            for i in range(count):
                r = a[i]
                n = start + i
                cells = [
                    str(n), f"K{r[0] % 100000:05d}", names[r[1] % 6], f"{names[r[2] % 6]}sen", f"b{n}@line.example",
                    ports[r[3] % 5], ports[r[4] % 5], f"2026-{r[5] % 12 + 1:02d}-{r[5] % 28 + 1:02d}",
                    f"2026-01-{r[6] % 28 + 1:02d} {r[6] % 24:02d}:{r[6] % 60:02d}:{r[7] % 60:02d}", str(r[7] % 9),
                    str(r[8] % 5), f"{r[8] % 2000 / 100:.2f}", f"{r[9] % 90000 / 100:.2f}",
                    "true" if r[9] % 3 else "false", notes[r[9] % 6],
                ]  # fmt: skip
                good.write(",".join(cells) + "\n")
                if n % 1000 == 500:
                    cells[(1, 9, 7, 12)[n // 1000 % 4]] = faults[n // 1000 % 4]
                mixed.write(",".join(cells) + "\n")


def main(rows: int, pairs: int) -> None:
    """Run the programs in turn and print the medians."""
    with tempfile.TemporaryDirectory(prefix="nomotheta-bench-") as name:
        folder = Path(name)
        clean, bad = folder / "clean.csv", folder / "bad.csv"
        write(clean, bad, rows)
        (folder / "bookings.toml").write_text(CHARTER)
        here = str(Path(__file__).parent)
        programs = {
            "ours, 0.1% bad": OURS.format(here=here, file=str(bad)),
            "ours, clean": OURS.format(here=here, file=str(clean)),
            "DuckDB": DUCKDB.format(file=str(clean)),
            "pandas": PANDAS.format(file=str(clean)),
        }
        print(f"{rows:,} rows, {clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        found = in_turn(programs, pairs, folder)
        first = [seconds for seconds, _ in found["ours, 0.1% bad"]]
        for each, taken in found.items():
            ratio = statistics.median(a / b for a, (b, _) in zip(first, taken, strict=True))
            seconds = statistics.median(each_taken for each_taken, _ in taken)
            print(f"  {each}: {seconds:.2f} s, peak {max(peak for _, peak in taken):.0f} MB; ours / this {ratio:.2f}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2_000_000, int(sys.argv[2]) if len(sys.argv) > 2 else 5)
