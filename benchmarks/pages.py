"""The pages of a workspace: written from nothing, and after one more run.

    python benchmarks/pages.py [TABLES] [RULES] [RUNS]

The nights are made up and put into a ledger as a run would; then `nomotheta report` writes the pages, and once more
after one further run those that it changes. By default 50 tables, 40 rules and 60 runs; 500 tables and 5,000 rules of
one table (`1 5000 20`) are worth a look, too.
"""

from __future__ import annotations

import datetime
import random
import shutil
import sys
import tempfile
import time
from pathlib import Path

from common import machine, measured

from nomotheta.ledger import Ledger, LoadResult, RunResult, TableResult
from nomotheta.load.balance import Balance, FileCount
from nomotheta.rules.finding import Finding, Samples, gravest

FIRST = datetime.date(2026, 1, 1)
AFTER = "import sys; from pathlib import Path; from nomotheta.workspace import Workspace; " \
    "w = Workspace.open(Path(sys.argv[1])); w.write_site(w.ledger.run())"  # fmt: skip


def main(tables: int, rules: int, runs: int) -> None:
    """Make the nights, write the pages and print how long it took."""
    folder, made = Path(tempfile.mkdtemp(prefix="nomotheta-bench-")), random.Random(7)
    try:
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text('name = "bench"\n[places.w]\nurl = "duckdb:///w.duckdb"\n')
        ledger = Ledger(folder / ".nomotheta" / "ledger.sqlite")
        start = time.perf_counter()
        for at in range(runs):
            night(ledger, at, tables, rules, made)
        print(f"{tables} tables, {rules} rules, {runs} runs; {machine()}")
        print(f"  made in {time.perf_counter() - start:.1f} s")
        whole = [sys.executable, "-m", "nomotheta", "report", "--workspace", str(folder)]
        seconds, peak = measured(whole, folder)
        print(f"  from nothing  {seconds:.2f} s, {peak:.0f} MB")
        for at in range(3):
            night(ledger, runs + at, tables, rules, made)
            seconds, peak = measured([sys.executable, "-c", AFTER, str(folder)], folder)
            print(f"  one more run  {seconds:.2f} s, {peak:.0f} MB")
        ledger.close()
        pages = sorted((folder / "reports").rglob("*.html"), key=lambda path: -path.stat().st_size)
        print(f"  index {(folder / 'reports' / 'index.html').stat().st_size / 1000:.0f} KB; {len(pages):,} pages, "
              f"{sum(path.stat().st_size for path in pages) / 1e6:.1f} MB; the largest, {pages[0].name}, "
              f"{pages[0].stat().st_size / 1000:.0f} KB")  # fmt: skip
        if "--keep" in sys.argv:
            shutil.copytree(folder / "reports", "pages", dirs_exist_ok=True)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def night(ledger: Ledger, at: int, tables: int, rules: int, made: random.Random) -> None:
    """One run, in which about one rule in fifty is broken."""
    day, results = FIRST + datetime.timedelta(days=at), []
    for number in range(tables):
        name, rows = f"table_{number:03}", 10_000 + made.randrange(2_000)
        findings = tuple(_finding(f"rule {rule:04} of the sailings", rows, made) for rule in range(rules))
        verdict = gravest(each.verdict for each in findings)
        file = FileCount("inbox/made.csv", "", 90 * rows, rows + 1, 1, 0, 0, 0, rows, rows, 0, 0)
        balance = Balance("append", (file,), rows + 1, rows, rows, before=rows * at, after=rows * (at + 1))
        load = LoadResult(
            name, "w", day, "loaded", verdict, 1 + at * tables + number, balance=balance, findings=findings, seconds=1.5
        )
        results.append(TableResult(name, verdict, load, owners=("desk",)))
    started = datetime.datetime.combine(day, datetime.time(2), datetime.UTC)
    run_id = ledger.begin_run(day, started)
    verdict = gravest(each.verdict for each in results)
    ledger.end_run(RunResult(run_id, "bench", day, started, 60.0, verdict, tuple(results)))


def _finding(rule: str, rows: int, made: random.Random) -> Finding:
    breaks = made.randrange(1, 90) if made.random() < 0.02 else 0
    samples = Samples(("code", "fare"), (("K02041", "1.50"),)) if breaks else Samples((), ())
    return Finding(
        rule, "row", "fail" if breaks else "pass", ("fare",), breaks, rows, message=f"{breaks} rows" if breaks else "",
        samples=samples, sql="SELECT count(*) FROM made WHERE fare < 0",
    )  # fmt: skip


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:] if word.isdecimal()]
    main(*(numbers + [50, 40, 60][len(numbers) :]))
