"""Two million bookings into a Delta table: ours against deltalake alone, and against DuckDB's reader and deltalake.

    python benchmarks/lake.py [ROWS] [PAIRS]

The first pair writes the same Arrow rows, in memory already: a place's transaction, against `write_deltalake`. The
second are whole processes that begin with the file: `nomotheta load`, everything checked, with a key held against the
file and the table, against DuckDB's reader, whose rows `write_deltalake` writes, and nothing is checked.
"""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary
from read import CHARTER, DUCKDB, write

_OURS = """
import time
from pathlib import Path
from nomotheta.conditions import Kind, decimal
from nomotheta.place.delta.place import DeltaPlace
import pyarrow as pa
rows = pa.ipc.open_file(pa.memory_map("rows.arrow")).read_all()
kinds = {{}}
for field in rows.schema:
    of = field.type
    kinds[field.name] = (decimal(of.precision, of.scale) if pa.types.is_decimal(of) else Kind(
        {{"int64": "integer", "string": "text", "bool": "boolean", "date32[day]": "date", "timestamp[us]": "timestamp"}}[str(of)]))
place = DeltaPlace("lake", Path("alone"))
place.create("t", kinds)
started = time.perf_counter()
with place.transaction("t"):
    place.append("t", rows.column_names, iter(rows.to_batches(max_chunksize=30_000)), rows.schema)
print(time.perf_counter() - started)
"""
_THEIRS = """
import time
import pyarrow as pa
from deltalake import write_deltalake
rows = pa.ipc.open_file(pa.memory_map("rows.arrow")).read_all()
started = time.perf_counter()
write_deltalake("theirs", pa.RecordBatchReader.from_batches(rows.schema, rows.to_batches(max_chunksize=30_000)))
print(time.perf_counter() - started)
"""


def seconds(program: str, folder: Path) -> float:
    """What a program says that it took."""
    ran = subprocess.run([sys.executable, "-c", program], cwd=folder, check=True, capture_output=True, text=True)
    return float(ran.stdout)


def main(rows: int, pairs: int) -> None:
    """Run the pairs and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        clean, bad = folder / "clean.csv", folder / "bad.csv"
        write(clean, bad, rows)
        (folder / "charters").mkdir()
        (folder / "nomotheta.toml").write_text('name = "bench"\n[places.w]\nurl = "delta:///lake"\n')
        charter = CHARTER.replace('"bookings"', '"ours"').replace("[load]", '[delivery]\nfiles = "bad.csv"\n[load]')
        (folder / "charters" / "ours.toml").write_text(charter + '[[keys]]\ncolumns = ["id"]\n')
        print(f"{rows:,} rows, {clean.stat().st_size / 2**20:.0f} MB; {machine()}")
        reader = DUCKDB.format(file=str(clean))
        dump = (
            reader
            + "import pyarrow as pa\nrows = con.sql('select * replace (adults::bigint as adults, children::bigint as children) from t').to_arrow_table()\n"
        )
        dump += "with pa.ipc.new_file('rows.arrow', rows.schema) as out:\n    out.write_table(rows)\n"
        subprocess.run([sys.executable, "-c", dump], cwd=folder, check=True)
        both = (
            reader
            + "from deltalake import write_deltalake\nwrite_deltalake('theirs', con.sql('from t').to_arrow_reader(30_000))\n"
        )
        alone: list[tuple[float, float]] = []
        ours, theirs, memory = [], [], []
        for pair in range(pairs + 1):
            for name in ("alone", "theirs", "lake", ".nomotheta"):
                shutil.rmtree(folder / name, ignore_errors=True)
            found = seconds(_OURS.format(), folder), seconds(_THEIRS, folder)
            shutil.rmtree(folder / "theirs")
            taken, peak = measured([sys.executable, "-m", "nomotheta", "load", "ours", "--create"], folder)
            other, _ = measured([sys.executable, "-c", both], folder)
            if pair:  # the first pair warms the caches
                alone.append(found)
                ours.append(taken)
                theirs.append(other)
                memory.append(peak)
                print(
                    f"  pair {pair}: rows {found[0]:.2f} and {found[1]:.2f} s; file {taken:.2f} and {other:.2f} s, {peak:.0f} MB"
                )
        ratio = statistics.median(a / b for a, b in alone)
        print(f"writing the same rows: ratio {ratio:.2f} to deltalake alone")
        print(summary("from the file", ours, theirs, memory))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2_000_000, int(sys.argv[2]) if len(sys.argv) > 2 else 5)
