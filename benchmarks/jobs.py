"""Twelve tables that do not wait for each other: two at a time beside one after another, in turn.

    python benchmarks/jobs.py [ROWS] [PAIRS] [URL …]

By default 100,000 rows a table and five rounds, in DuckDB and in the PostgreSQL server of the tests. Beside both stand
two programs that know nothing of each other, with half of the tables each: what two cores can give at best.
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
_MARKS = """
import sys
from pathlib import Path
from nomotheta.place.connect import connect
place = connect("w", sys.argv[1], Path())
place.make_ready()
place.close()
"""
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
            halves = [half(work, at) for at in range(2)]
            taken = [(run(url, 1, work), run(url, 2, work), run(url, 1, *halves)) for _ in range(pairs)]
            one, two, apart = (statistics.median(each) for each in zip(*taken, strict=True))
            print(f"{url.partition(':')[0]}: one after another {one:.1f} s, two at a time {two:.1f} s: "
                  f"{shares([each[1] / each[0] for each in taken])}; two programs {apart:.1f} s: "
                  f"{shares([each[2] / each[0] for each in taken])}", flush=True)  # fmt: skip
    finally:
        shutil.rmtree(work)


def shares(found: list[float]) -> str:
    """The median of some shares, the least and the greatest."""
    return f"{statistics.median(found):.2f} ({min(found):.2f} to {max(found):.2f})"


def half(work: Path, at: int) -> Path:
    """A workspace with every second table."""
    root = work / f"half-{at}"
    shutil.rmtree(root, ignore_errors=True)
    (root / "charters").mkdir(parents=True)
    (root / "inbox").symlink_to(work / "inbox")
    shutil.copy(work / "nomotheta.toml", root)
    for path in sorted((work / "charters").iterdir())[at::2]:
        shutil.copy(path, root / "charters")
    return root


def run(url: str, jobs: int, *roots: Path) -> float:
    """The seconds of a night into empty tables, in all of some workspaces at once."""
    for root in roots:
        shutil.rmtree(root / ".nomotheta", ignore_errors=True)
        for path in root.glob("*.duckdb*"):
            path.unlink()
    if url.startswith("postgresql"):
        import psycopg

        with psycopg.connect(url, autocommit=True) as connection:
            names = [f"nomotheta_bench_{number:02}" for number in range(TABLES)]
            connection.execute(f"DROP TABLE IF EXISTS nomotheta_marks, nomotheta_files, {', '.join(names)}")
            if len(roots) > 1:  # which would both make them
                subprocess.run([sys.executable, "-c", _MARKS, url], check=True)
    began = time.perf_counter()
    words = ["run", "--day", DAY, "--create", "--jobs", str(jobs), "--quiet"]
    nights = [subprocess.Popen([sys.executable, "-m", "nomotheta", *words], cwd=root) for root in roots]
    codes = [night.wait() for night in nights]
    if any(codes):
        raise SystemExit("a night has failed")
    return time.perf_counter() - began


if __name__ == "__main__":
    given = sys.argv[1:]
    main(
        int(given[0]) if given else 100_000,
        int(given[1]) if len(given) > 1 else 5,
        given[2:] or ["duckdb:///w.duckdb", "postgresql://postgres@127.0.0.1:5432/test"],
    )
