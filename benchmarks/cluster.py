"""Two million bookings in eight files by a warm engine on this machine: ours against Spark's own reader; and in one file.

    python benchmarks/cluster.py [ROWS] [PAIRS]

Ours is `nomotheta load` into a Delta table, everything checked, with a key, by an engine of two workers that is up and
has done the same before. Theirs reads the clean files with their types and writes them as Parquet, in a session of the
same engine, and checks nothing. The third is ours again with all rows in one file.
"""

from __future__ import annotations

import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from common import machine, measured
from read import CHARTER, write

_TYPES = (
    "id bigint, code string, first string, last string, email string, origin string, dest string, sails_on date, "
    "booked_at timestamp_ntz, adults bigint, children bigint, metres decimal(6,2), fare decimal(8,2), paid boolean, note string"
)
_THEIRS = f"""
import warnings
warnings.simplefilter("ignore")
from pyspark.sql.connect.session import SparkSession
spark = SparkSession.builder.remote("URL").create()
spark.read.csv("FOLDER/clean", header=True, schema="{_TYPES}", mode="FAILFAST").write.mode("overwrite").parquet("FOLDER/theirs")
spark.stop()
"""


def split(file: Path, folder: Path, parts: int) -> None:
    """A file's rows in so many files."""
    folder.mkdir(parents=True)
    head, *rows = file.read_text().splitlines(keepends=True)
    size = len(rows) // parts + 1
    for at in range(parts):
        (folder / f"b{at}.csv").write_text(head + "".join(rows[at * size : (at + 1) * size]))


def main(rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    from nomotheta.cluster.local import start

    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        write(folder / "clean.csv", folder / "bad.csv", rows)
        print(f"{rows:,} rows, {(folder / 'clean.csv').stat().st_size / 2**20:.0f} MB; {machine()}")
        split(folder / "clean.csv", folder / "clean", 8)
        url = start("bench", "local[2]")
        for name, parts in (("eight", 8), ("one", 1)):
            split(folder / "bad.csv", folder / name / "inbox", parts)
            settings = 'name = "bench"\n[places.w]\nurl = "delta:///lake"\nengine = "e"\n[engines.e]\n'
            (folder / name / "nomotheta.toml").write_text(f'{settings}url = "{url}"\n')
            (folder / name / "charters").mkdir()
            text = (
                CHARTER.replace("[load]", '[delivery]\nfiles = "inbox/*.csv"\n[load]') + '[[keys]]\ncolumns = ["id"]\n'
            )
            (folder / name / "charters/b.toml").write_text(text)
        theirs = _THEIRS.replace("URL", url).replace("FOLDER", str(folder))
        found: dict[str, list[float]] = {"eight": [], "one": [], "theirs": []}
        for pair in range(pairs + 2):
            for name, seconds in found.items():
                if name == "theirs":
                    taken, _ = measured([sys.executable, "-c", theirs], folder)
                else:
                    for left in ("lake", ".nomotheta"):
                        shutil.rmtree(folder / name / left, ignore_errors=True)
                    command = [sys.executable, "-m", "nomotheta", "load", "bookings", "--create"]
                    taken, _ = measured(command, folder / name)
                if pair > 1:  # the first two warm the engine
                    seconds.append(taken)
            if pair > 1:
                print("  " + ", ".join(f"{name} {each[-1]:.2f} s" for name, each in found.items()), flush=True)
        for one, other in (("eight", "theirs"), ("one", "eight")):
            ratio = statistics.median(a / b for a, b in zip(found[one], found[other], strict=True))
            print(f"{one} to {other}: ratio {ratio:.2f} (median of {pairs})")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2_000_000, int(sys.argv[2]) if len(sys.argv) > 2 else 5)
