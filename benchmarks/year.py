"""A year of nights: how large the ledger grows, and how quickly `ledger` and a run with nothing to do answer then.

    python benchmarks/year.py [TABLES] [RULES] [NIGHTS] [PAIRS]

The first night is loaded from made-up files, by the program; the others are put into the ledger as their runs would
be. Beside it stands a workspace that knows its first night alone. By default 12 tables, 20 rules and 365 nights.
"""

from __future__ import annotations

import datetime
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

from common import machine, measured

from nomotheta.ledger import Ledger, RunResult
from nomotheta.rules.finding import Finding, Samples, gravest

CHARTER = """
table = "table_{number:03}"
[delivery]
files = "inbox/table_{number:03}-{{day}}.csv"
[columns.code]
kind = "text(6)"
blank = "never"
[columns.fare]
kind = "decimal(8,2)"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["code"]
"""
FIRST = datetime.date(2026, 1, 1)
PROGRAM = [sys.executable, "-m", "nomotheta"]


def main(tables: int, rules: int, nights: int, pairs: int) -> None:
    """Make both workspaces, fill one, and print sizes and medians."""
    work = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        fresh, old = work / "fresh", work / "old"
        (fresh / "charters").mkdir(parents=True)
        (fresh / "inbox").mkdir()
        (fresh / "nomotheta.toml").write_text('name = "bench"\n[places.w]\nurl = "duckdb:///w.duckdb"\n')
        rule = '[[rules]]\nname = "rule {at:04} of the sailings"\neach = "fare >= -{at}"\n'
        for number in range(tables):
            text = CHARTER.format(number=number) + "".join(rule.format(at=at) for at in range(rules))
            (fresh / "charters" / f"table_{number:03}.toml").write_text(text)
            rows = "".join(f"K{at:05},{at % 90}.50\n" for at in range(1_000))
            (fresh / "inbox" / f"table_{number:03}-{FIRST}.csv").write_text(f"code,fare\n{rows}")
        run = [*PROGRAM, "run", "--day", str(FIRST), "--quiet"]
        subprocess.run([*run, "--create"], cwd=fresh, check=True)
        shutil.copytree(fresh, old)
        ledger, made = Ledger(old / ".nomotheta" / "ledger.sqlite"), random.Random(7)
        first_night = ledger.run()
        assert first_night is not None
        for at in range(1, nights):
            again(ledger, first_night, at, made)
        ledger.close()
        size = sum(path.stat().st_size for path in (old / ".nomotheta").glob("ledger.sqlite*"))
        print(f"{tables} tables, {rules} rules, {nights} nights; {machine()}")
        print(f"  ledger {size / 1e6:.1f} MB")
        for what, command in (("ledger", [*PROGRAM, "ledger"]), ("run with nothing to do", run)):
            seconds: dict[Path, list[float]] = {fresh: [], old: []}
            for pair in range(pairs + 1):
                for root in (fresh, old) if pair % 2 else (old, fresh):
                    taken, _ = measured(command, root)
                    if pair:  # the first warms the caches
                        seconds[root].append(taken)
            first, later = (statistics.median(seconds[root]) for root in (fresh, old))
            print(f"  {what}: {later:.2f} s after a year, {first:.2f} s after a night, ratio {later / first:.2f} "
                  f"(medians of {pairs} pairs)", flush=True)  # fmt: skip
    finally:
        shutil.rmtree(work, ignore_errors=True)


def again(ledger: Ledger, first: RunResult, at: int, made: random.Random) -> None:
    """The first night once more, as that of a later day; about one rule in fifty is broken."""
    day, started = first.day + datetime.timedelta(days=at), first.started + datetime.timedelta(days=at)
    run_id, results = ledger.begin_run(day, started), []
    for number, each in enumerate(first.tables):
        findings = tuple(_broken(finding, made) for finding in each.load.findings)
        verdict = gravest(finding.verdict for finding in findings)
        load = replace(
            each.load, day=day, load_no=1 + at * len(first.tables) + number, verdict=verdict, findings=findings
        )  # fmt: skip
        ledger.add_load(load, started, run_id)
        if each.reconciliation is not None:
            ledger.add_reconciliation(each.reconciliation, started, run_id)
        results.append(replace(each, load=load, verdict=verdict))
    verdict = gravest(each.verdict for each in results)
    ledger.end_run(replace(first, run_id=run_id, day=day, started=started, verdict=verdict, tables=tuple(results)))


def _broken(finding: Finding, made: random.Random) -> Finding:
    """A finding as it is, or with rows that break its rule."""
    if made.random() > 0.02:
        return finding
    breaks = made.randrange(1, 90)
    samples = Samples(("code", "fare"), (("K02041", "1.50"),) * min(breaks, 10))
    return replace(finding, verdict="fail", breaks=breaks, message=f"{breaks} rows", samples=samples)


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:] if word.isdecimal()]
    main(*(numbers + [12, 20, 365, 5][len(numbers) :]))
