"""A night of twelve tables, killed at random moments and run again: is all as if it had never been killed?

    python benchmarks/kills.py [KILLS] [URL …]

Half of the nights are carried out two tables at a time. After each kill the night is run again, until it ends by itself,
and then the rows of all tables, the archive with its manifests, the inbox, and the ledger's entries are held against
those of a night that was left alone. It counts what differs; none may.
"""

from __future__ import annotations

import collections
import hashlib
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from common import machine

TABLES, ROWS, DAY = 12, 4_000, "2026-01-01"
CHARTER = """
table = "nomotheta_kill_{number:02}"
[delivery]
files = "inbox/table-{number:02}-{{day}}.csv"
[load]
tolerate = "all"
[columns.id]
kind = "integer"
blank = "never"
[columns.note]
kind = "text(40)"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["id"]
"""


def main(kills: int, urls: list[str]) -> None:
    """Kill, run again, and count."""
    print(machine())
    bad = 0
    for url in urls:
        work = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
        try:
            made = work / "made"
            write(made, url)
            alone = work / "alone"
            cleared(url)
            shutil.copytree(made, alone)
            began = time.perf_counter()
            run(alone, 1).wait()
            seconds = time.perf_counter() - began
            right = state(alone, url)
            chance, cut = random.Random(7), 0
            for at in range(kills // len(urls)):
                root = work / "killed"
                shutil.rmtree(root, ignore_errors=True)
                shutil.copytree(made, root)
                cleared(url)
                found = killed(root, 1 + at % 2, seconds, chance)
                cut += found
                now = state(root, url)
                if now != right:
                    bad += 1
                    print(f"  night {at} differs:", [name for name in right if right[name] != now[name]], flush=True)
            print(f"{url.partition(':')[0]}: {kills // len(urls)} nights, {cut} kills, {bad} differ", flush=True)
        finally:
            cleared(url)
            shutil.rmtree(work, ignore_errors=True)
    sys.exit(bool(bad))


def write(root: Path, url: str) -> None:
    """A workspace with files; each has rows that are set aside."""
    (root / "charters").mkdir(parents=True)
    (root / "inbox").mkdir()
    (root / "nomotheta.toml").write_text(
        f'name = "kills"\n[places.w]\nurl = "{url}"\n[archive]\nfolder = "archive/{{day}}"\n'
    )
    for number in range(TABLES):
        (root / f"charters/table-{number:02}.toml").write_text(CHARTER.format(number=number))
        rows = "".join(f"{at if at % 500 else 'x'},note {at * number}\n" for at in range(ROWS))
        (root / f"inbox/table-{number:02}-{DAY}.csv").write_text(f"id,note\n{rows}")


def run(root: Path, jobs: int) -> subprocess.Popen[bytes]:
    """The night, under way."""
    words = ["run", "--day", DAY, "--create", "--jobs", str(jobs), "--quiet"]
    null = subprocess.DEVNULL
    return subprocess.Popen([sys.executable, "-m", "nomotheta", *words], cwd=root, stdout=null, stderr=null)


def killed(root: Path, jobs: int, seconds: float, chance: random.Random) -> int:
    """Kill the night once or twice at a random moment, and run it to its end; how often it was cut off."""
    cut = 0
    for _ in range(chance.choice([1, 1, 2])):
        night = run(root, jobs)
        try:
            night.wait(0.3 + chance.random() * seconds)
        except subprocess.TimeoutExpired:
            night.kill()
            cut += 1
            night.wait()
    for _ in range(3):  # a server may need a moment to know that the killed one is gone
        if run(root, jobs).wait() == 0:
            break
        time.sleep(0.5)
    return cut


def state(root: Path, url: str) -> dict[str, Any]:
    """What there is after a night."""
    files = {
        path.relative_to(root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for folder in ("archive", "inbox") for path in (root / folder).rglob("*")
        if path.is_file() and path.name != "manifest-sha256.txt"
    }  # fmt: skip
    manifest = root / f"archive/{DAY}/manifest-sha256.txt"
    listed = sorted(manifest.read_text().splitlines()) if manifest.exists() else []
    told = subprocess.run(
        [sys.executable, "-m", "nomotheta", "ledger", "--json", "--last", "9999"],
        cwd=root,
        capture_output=True,
        check=True,
    )
    entries = json.loads(told.stdout)["entries"]
    loads = collections.Counter(
        each["table"] for each in entries if each["what"] == "load" and each["state"] == "loaded"
    )
    open_ = [each["state"] for each in entries if each["state"] == "started"]
    verified = subprocess.run([sys.executable, "-m", "nomotheta", "ledger", "--verify", "-q"], cwd=root, check=False)
    return {"tables": rows(root, url), "files": files, "manifest": listed, "loads": loads, "open": open_,
            "ledger": verified.returncode}  # fmt: skip


def names() -> list[str]:
    return [f"nomotheta_kill_{number:02}" for number in range(TABLES)]


def rows(root: Path, url: str) -> dict[str, Any]:
    """How many rows each table holds, and what is in them."""
    sql = "SELECT count(*), count(DISTINCT id), sum(id) FROM {}"
    if url.startswith("postgresql"):
        import psycopg

        with psycopg.connect(url) as connection:
            return {name: connection.execute(sql.format(name)).fetchone() for name in names()}
    import duckdb

    with duckdb.connect(str(root / "w.duckdb"), read_only=True) as connection:
        return {name: connection.execute(sql.format(name)).fetchone() for name in names()}


def cleared(url: str) -> None:
    """Tables of a server that an earlier night left."""
    if url.startswith("postgresql"):
        import psycopg

        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(f"DROP TABLE IF EXISTS nomotheta_marks, nomotheta_files, {', '.join(names())}")


if __name__ == "__main__":
    given = sys.argv[1:]
    main(
        int(given[0]) if given else 100,
        given[1:] or ["duckdb:///w.duckdb", "postgresql://postgres@127.0.0.1:5432/test"],
    )
