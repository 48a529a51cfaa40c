"""How soon the program answers: `--help` against `import typer`, small commands against `--help`, `judge` against imports.

`lint`, `ledger` and `rejects` may take 1.6 times as long as `--help` and 0.15 s, on a machine where
`python -c "import duckdb, pyarrow"` takes 0.25 s, and as much longer as that takes elsewhere; `judge` of a table of a
dozen rows 1.8 times as long as that import.

python benchmarks/start.py [PAIRS]
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary

PROGRAM = str(Path(sys.executable).parent / "nomotheta")
IMPORT = [sys.executable, "-c", "import duckdb, pyarrow"]
REFERENCE = 0.25  # seconds that the import takes where the bars were set


def main(pairs: int) -> None:
    """Run the pairs and print the medians."""
    print(machine())
    compared("nomotheta --help", [PROGRAM, "--help"], [sys.executable, "-c", "import typer"], Path.cwd(), pairs)
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([PROGRAM, "demo", folder], check=True, stdout=subprocess.DEVNULL)
        at = Path(folder)
        speed = statistics.median(measured(IMPORT, at)[0] for _ in range(pairs)) / REFERENCE
        for words in (["lint"], ["ledger"], ["rejects", "5"]):
            ours, theirs = compared(f"nomotheta {' '.join(words)}", [PROGRAM, *words], [PROGRAM, "--help"], at, pairs)
            print(f"    bar at this speed {1.6 * theirs + 0.15 * speed:.2f} s, measured {ours:.2f} s")
        compared("nomotheta judge ports", [PROGRAM, "judge", "ports"], IMPORT, at, pairs)


def compared(name: str, command: list[str], other: list[str], folder: Path, pairs: int) -> tuple[float, float]:
    """The medians of two commands that are run in turn."""
    ours, theirs, memory = [], [], []
    for pair in range(pairs + 1):
        seconds, peak = measured(command, folder)
        against, _ = measured(other, folder)
        if pair:
            ours.append(seconds)
            theirs.append(against)
            memory.append(peak)
    print(summary(name, ours, theirs, memory))
    return statistics.median(ours), statistics.median(theirs)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 11)
