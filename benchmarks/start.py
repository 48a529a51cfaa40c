"""`nomotheta --help` against `python -c "import typer"`: how soon the program answers.

python benchmarks/start.py [PAIRS]
"""

from __future__ import annotations

import sys
from pathlib import Path

from common import machine, measured, summary


def main(pairs: int) -> None:
    """Run the pairs and print the medians."""
    ours, theirs, memory = [], [], []
    program = str(Path(sys.executable).parent / "nomotheta")
    for pair in range(pairs + 1):
        seconds, peak = measured([program, "--help"], Path.cwd())
        other, _ = measured([sys.executable, "-c", "import typer"], Path.cwd())
        if pair:
            ours.append(seconds)
            theirs.append(other)
            memory.append(peak)
    print(machine())
    print(summary("nomotheta --help", ours, theirs, memory))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 11)
