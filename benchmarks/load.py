"""A million tickets: `nomotheta load` (everything checked) against DuckDB's own CSV reader (nothing checked).

Both are whole processes that leave the same typed table in a database file.

    python benchmarks/load.py [ROWS] [PAIRS]
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from common import NIGHT, machine, measured, summary, tickets

READER = """
import duckdb
con = duckdb.connect("theirs.duckdb")
con.execute('''
create table tickets as select * from read_csv("inbox/tickets-{night}.csv", header = true, delim = ';', quote = '"',
  escape = '"', decimal_separator = ',', dateformat = '%d.%m.%Y', nullstr = ['', 'n/a'], columns = {{
  'ticket_no': 'VARCHAR', 'sailing': 'VARCHAR', 'passenger': 'VARCHAR', 'travellers': 'BIGINT', 'class': 'VARCHAR',
  'fare': 'DECIMAL(8,2)', 'port_fee': 'DECIMAL(6,2)', 'sold_on': 'DATE', 'note': 'VARCHAR'}})
''').fetchall()
con.close()
"""


def main(rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    run = [sys.executable, "-m", "nomotheta"]
    try:
        subprocess.run([*run, "demo", "."], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        settings = folder / "nomotheta.toml"
        settings.write_text(settings.read_text().replace('encoding = "cp1252"\n', ""))
        charter = folder / "charters" / "tickets.toml"
        charter.write_text(charter.read_text().replace("between 500 and 20000", "between 500 and 200000000"))
        tickets(folder / "inbox" / f"tickets-{NIGHT}.csv", rows)
        size = (folder / "inbox" / f"tickets-{NIGHT}.csv").stat().st_size
        print(f"{rows:,} rows, {size / 2**20:.0f} MB; {machine()}")
        ours, theirs, memory = [], [], []
        for pair in range(pairs + 1):
            for name in ("warehouse.duckdb", "theirs.duckdb"):
                (folder / name).unlink(missing_ok=True)
            shutil.rmtree(folder / ".nomotheta", ignore_errors=True)
            for table in ("ports", "sailings"):
                subprocess.run(
                    [*run, "load", table, "--day", NIGHT, "--create"], cwd=folder, check=True, stdout=subprocess.DEVNULL
                )
            seconds, peak = measured([*run, "load", "tickets", "--day", NIGHT, "--create"], folder)
            other, _ = measured([sys.executable, "-c", READER.format(night=NIGHT)], folder)
            if pair:  # the first pair warms the caches
                ours.append(seconds)
                theirs.append(other)
                memory.append(peak)
                print(f"  pair {pair}: ours {seconds:.2f} s, {peak:.0f} MB; theirs {other:.2f} s")
        print(summary("load into a DuckDB file", ours, theirs, memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000, int(sys.argv[2]) if len(sys.argv) > 2 else 5)
