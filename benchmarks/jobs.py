"""Twelve tables that do not wait for each other: two at a time beside one after another, in pairs.

    python benchmarks/jobs.py [ROWS] [PAIRS] [URL …]

By default 100,000 rows a table and five pairs, in DuckDB and in the PostgreSQL server of the tests.
"""

from __future__ import annotations

import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from common import machine

TABLES = 12
DAY = "2026-01-01"
CHARTER = """
table = "nomotheta_bench_{number:02}"
[delivery]
files = "inbox/table-{number:02}-{{day}}.csv"
[columns.id]
kind = "integer"
blank = "never"
[columns.booked]
kind = "timestamp"
[columns.port]
kind = "text(3)"
among = ["OBN", "SKR", "LER", "KRK"]
[columns.fare]
kind = "decimal(9,2)"
[columns.note]
kind = "text(40)"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["id"]
"""


def main(rows: int, pairs: int, urls: list[str]) -> None:
    """Make the files once, and print the medians of each place."""
    print(machine())
    work = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        (work / "charters").mkdir()
        (work / "inbox").mkdir()
        made = random.Random(7)
        for number in range(TABLES):
            (work / f"charters/table-{number:02}.toml").write_text(CHARTER.format(number=number))
            with (work / f"inbox/table-{number:02}-{DAY}.csv").open("w") as file:
                file.write("id,booked,port,fare,note\n")
                file.writelines(
                    f"{at},2026-01-{made.randint(1, 28):02} 07:15:00,{made.choice(['OBN', 'SKR', 'LER', 'KRK'])},"
                    f"{made.randint(100, 99999) / 100:.2f},note {made.random()}\n" for at in range(rows)
                )  # fmt: skip
        for url in urls:
            (work / "nomotheta.toml").write_text(f'name = "bench"\n[places.w]\nurl = "{url}"\n')
            taken = [(run(work, url, 1), run(work, url, 2)) for _ in range(pairs)]
            one, two = (statistics.median(each) for each in zip(*taken, strict=True))
            shares = sorted(two / one for one, two in taken)
            print(f"{url.partition(':')[0]}: one after another {one:.1f} s, two at a time {two:.1f} s, "
                  f"{statistics.median(shares):.2f} ({shares[0]:.2f} to {shares[-1]:.2f})")  # fmt: skip
    finally:
        shutil.rmtree(work)


def run(work: Path, url: str, jobs: int) -> float:
    """The seconds of a night into empty tables."""
    shutil.rmtree(work / ".nomotheta", ignore_errors=True)
    for path in work.glob("*.duckdb*"):
        path.unlink()
    if url.startswith("postgresql"):
        import psycopg

        with psycopg.connect(url, autocommit=True) as connection:
            names = [f"nomotheta_bench_{number:02}" for number in range(TABLES)]
            connection.execute(f"DROP TABLE IF EXISTS nomotheta_marks, nomotheta_files, {', '.join(names)}")
    began = time.perf_counter()
    words = ["run", "--day", DAY, "--create", "--jobs", str(jobs), "--quiet"]
    subprocess.run([sys.executable, "-m", "nomotheta", *words], cwd=work, check=True)
    return time.perf_counter() - began


if __name__ == "__main__":
    given = sys.argv[1:]
    main(
        int(given[0]) if given else 100_000,
        int(given[1]) if len(given) > 1 else 5,
        given[2:] or ["duckdb:///w.duckdb", "postgresql://postgres@127.0.0.1:5432/test"],
    )
