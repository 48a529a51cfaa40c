"""Two million bookings in two tables held against each other, equal, with one changed cell, and with ten thousand.

    python benchmarks/sides.py POSTGRESQL [MARIADB] [ROWS] [PAIRS]

POSTGRESQL and MARIADB are the URLs of databases in which the tables `ours` and `theirs` may be made anew. Ours is
`nomotheta reconcile ours --with …`; theirs is `\\copy` of the same rows, or MariaDB's own md5 of each of its rows. Last
comes a whole night of that table: `nomotheta run` of a load with twenty rules on rows, two on the whole, a key and a
reference, its reconciliation and its page, against `\\copy` alone.
"""

from __future__ import annotations

import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary
from places import NAMES, Bench
from read import CHARTER, write

PROGRAM = [sys.executable, "-m", "nomotheta"]
MD5 = f"select max(md5(concat_ws('|', {NAMES}))) from ours"
RULES = "".join(
    f'[[rules]]\nname = "rule {n}"\neach = "adults + children * {n % 7 + 1} < {1000 + n} or fare > {n}"\n'
    for n in range(20)
) + "".join(
    f'[[rules]]\nname = "whole {n}"\nwhole = "{what}"\n' for n, what in enumerate(("count(*) > 1000", "sum(fare) > 0"))
)
REFERENCE = '[[references]]\ncolumns = ["origin"]\nlisted_in = "ports(code)"\n'


def main(postgres: str, mariadb: str, rows: int, pairs: int) -> None:
    """Fill the tables, run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    here, there = Bench(postgres, folder), Bench(mariadb, folder) if mariadb else None
    try:
        write(here.clean, here.bad, rows)
        (folder / "charters").mkdir()
        urls = {"w": postgres, "d": "duckdb:///ours.duckdb", **({"m": mariadb} if mariadb else {})}
        places = "".join(f'[places.{name}]\nurl = "{url}"\n' for name, url in urls.items())
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n{places}')
        charter = CHARTER.replace("[load]", '[delivery]\nfiles = "clean.csv"\n[load]') + '[[keys]]\ncolumns = ["id"]\n'
        for table in ("ours", "theirs"):
            (folder / "charters" / f"{table}.toml").write_text(charter.replace('"bookings"', f'"{table}"'))
        print(f"{rows:,} rows, {here.clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        here.anew()
        loads = [("ours",), ("theirs",), ("ours", "--create", "--place", "d")]
        if there is not None:
            there.anew()
            loads.append(("ours", "--place", "m"))
        for load in loads:
            subprocess.run([*PROGRAM, "load", *load], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        subprocess.run(here.ask("create table copied (like ours)"), check=True, stderr=subprocess.DEVNULL)

        def copied() -> float:
            subprocess.run(here.ask("truncate copied"), check=True)
            return measured(here.ask(f"\\copy copied from '{here.clean}' csv header"), folder)[0]

        others = {"theirs": copied, "d:ours": copied}
        if there is not None:
            others["m:ours"] = lambda: measured(there.ask(MD5), folder)[0]
        change = "update ours set fare = fare + 1 where id {}"
        cases = {
            "equal": "",
            "one cell": change.format("= 500"),
            "10,000 cells": change.format(f"% {rows // 10_000} = 1"),
        }
        for case, sql in cases.items():
            if sql:
                subprocess.run(here.ask(sql), check=True)
            subprocess.run(here.ask("vacuum analyze ours"), check=True)
            for other, theirs in others.items():
                _paired(
                    f"{case}, with {other}",
                    [*PROGRAM, "reconcile", "ours", "--with", other],
                    theirs,
                    folder,
                    here,
                    pairs,
                )
        _night(folder, charter, here, copied, pairs)
        subprocess.run(here.ask("drop table copied"), check=True)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _night(folder: Path, charter: str, here: Bench, copied: object, pairs: int) -> None:
    """The whole path of the table."""
    ports = 'table = "ports"\n[delivery]\nfiles = "ports.csv"\n[load]\nhow = "overwrite"\n[columns.code]\nkind = "text(3)"\n'
    (folder / "ports.csv").write_text("code\nAND\nBRK\nDRU\nELD\nFLA\n")
    (folder / "charters" / "ports.toml").write_text(ports)
    (folder / "charters" / "theirs.toml").unlink()
    (folder / "charters" / "ours.toml").write_text(charter.replace('"bookings"', '"ours"') + RULES + REFERENCE)

    def before() -> None:
        here.anew()
        subprocess.run(here.ask("drop table if exists ports"), check=True, stderr=subprocess.DEVNULL)

    _paired("the whole night", [*PROGRAM, "run", "--create"], copied, folder, here, pairs, before)


def _paired(
    what: str, ours: list[str], theirs: object, folder: Path, bench: Bench, pairs: int, before: object = None
) -> None:
    own, others, memory = [], [], []
    for pair in range(pairs + 1):
        other = theirs() if pair % 2 else 0.0  # type: ignore[operator]
        if before is not None:
            before()  # type: ignore[operator]
        bench.rest()
        seconds, peak = measured(["sh", "-c", f"{shlex.join(ours)} || true"], folder)  # what differs is no failure here
        bench.rest()
        other = other or theirs()  # type: ignore[operator]
        if pair:  # the first pair warms the caches
            own.append(seconds)
            others.append(other)
            memory.append(peak)
    print(summary(what, own, others, memory), flush=True)


if __name__ == "__main__":
    urls = [each for each in sys.argv[1:] if "://" in each]
    numbers = [int(each) for each in sys.argv[1:] if "://" not in each]
    main(urls[0], urls[1] if len(urls) > 1 else "", *(numbers + [2_000_000, 5][len(numbers) :]))
