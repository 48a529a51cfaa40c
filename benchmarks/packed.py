"""Seven gzip files of 300,000 bookings as one delivery, against one plain file of the same rows.

    python benchmarks/packed.py PLACE [ROWS] [PAIRS]

PLACE is the URL of a place; `duckdb:///ours.duckdb` or `sqlite:///ours.sqlite` are made anew for each load.
"""

from __future__ import annotations

import gzip
import itertools
import shutil
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary
from read import CHARTER, write

FILES = 7


def main(url: str, rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        plain = folder / "plain.csv"
        write(folder / "clean.csv", plain, rows * FILES)
        with plain.open("rb") as lines:
            head = lines.readline()
            for number in range(FILES):
                with gzip.open(folder / f"part-{number}.csv.gz", "wb", compresslevel=6) as part:
                    part.write(head)
                    part.writelines(itertools.islice(lines, rows))
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n[places.w]\nurl = "{url}"\n')
        for table, files in (("packed", "part-*.csv.gz"), ("whole", "plain.csv")):
            charter = CHARTER.replace('"bookings"', f'"{table}"')
            charter = charter.replace("[load]", f'[delivery]\nfiles = "{files}"\n[load]')
            (folder / "charters" / f"{table}.toml").write_text(charter + '[[keys]]\ncolumns = ["id"]\n')
        print(f"{FILES} x {rows:,} rows, {plain.stat().st_size / 2**20:.0f} MB; {machine()}")
        found: dict[str, list[float]] = {"packed": [], "whole": []}
        memory = []
        for pair in range(pairs + 1):
            for table, taken in found.items():
                shutil.rmtree(folder / ".nomotheta", ignore_errors=True)
                for made in folder.glob("ours.*"):
                    made.unlink()
                command = [sys.executable, "-m", "nomotheta", "load", table, "--create"]
                seconds, peak = measured(command, folder)
                if pair:  # the first pair warms the caches
                    taken.append(seconds)
                    memory.append(peak)
            if pair:
                print(f"  pair {pair}: seven {found['packed'][-1]:.2f} s; one {found['whole'][-1]:.2f} s", flush=True)
        print(summary("seven gzip files (ours) and one plain file (theirs)", found["packed"], found["whole"], memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    chosen = [int(each) for each in sys.argv[2:]]
    main(sys.argv[1], chosen[0] if chosen else 300_000, chosen[1] if len(chosen) > 1 else 5)
