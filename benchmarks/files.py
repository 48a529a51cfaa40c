"""What odd files cost: ten times as long, packed, and full of rows that must be read slowly.

    python benchmarks/files.py [ROWS] [PAIRS]

All of them are read as `read.py` reads: typed, checked, rejects collected; whole processes, side by side.
"""

from __future__ import annotations

import gzip
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from common import in_turn, machine, measured
from read import CHARTER, OURS, write

UNPACK = "import gzip\nwith gzip.open({file!r}) as f:\n    while f.read(1 << 20): pass"


def spoilt(clean: Path, made: Path, spoil: bytes, share: int) -> None:
    """The same lines, every so many of them with `spoil` before it."""
    with clean.open("rb") as lines, made.open("wb") as out:
        out.write(next(lines))
        for number, line in enumerate(lines):
            out.write(spoil + line if number % share == 0 else line)


def main(rows: int, pairs: int) -> None:
    """Run the programs in turn and print the medians."""
    here = str(Path(__file__).parent)
    with tempfile.TemporaryDirectory(prefix="nomotheta-bench-") as name:
        folder = Path(name)
        clean, bad, long, packed = (folder / each for each in ("clean.csv", "bad.csv", "long.csv", "clean.csv.gz"))
        write(clean, bad, rows)
        (folder / "bookings.toml").write_text(CHARTER)
        short = folder / "short.csv"
        with clean.open("rb") as lines, long.open("wb") as out, short.open("wb") as start:
            head = next(lines)
            out.write(head)
            start.write(head)
            for number, line in enumerate(lines):
                out.write(10 * line)
                start.write(line if number < rows // 8 else b"")
        with clean.open("rb") as plain, gzip.open(packed, "wb", 6) as out:
            shutil.copyfileobj(plain, out, 1 << 20)
        spoilt(short, folder / "ragged.csv", b"x,", 2)
        spoilt(short, folder / "stray.csv", b'"x"y,', 1)
        spoilt(clean, folder / "thousandth.csv", b"x,", 1000)
        programs = {
            each: OURS.format(here=here, file=str(folder / each))
            for each in (
                "clean.csv",
                "bad.csv",
                "thousandth.csv",
                "clean.csv.gz",
                "short.csv",
                "ragged.csv",
                "stray.csv",
            )
        }
        programs["unpack"] = UNPACK.format(file=str(packed))
        programs["nothing"] = f"import sys; sys.path.insert(0, {here!r}); import read, nomotheta.load"
        found = in_turn(programs, pairs, folder)
        _, peak = measured([sys.executable, "-c", OURS.format(here=here, file=str(long))], folder)

        def ratio(one: str, *others: str) -> float:
            return statistics.median(
                a / sum(each[at][0] for each in (found[other] for other in others))
                for at, (a, _) in enumerate(found[one])
            )

        def speed(one: str) -> float:
            net = [a - b for (a, _), (b, _) in zip(found[one], found["nothing"], strict=True)]
            return (folder / one).stat().st_size / 2**20 / statistics.median(net)

        before = max(peak for _, peak in found["clean.csv"])
        print(f"{rows:,} rows, {clean.stat().st_size / 2**20:.0f} MB; {machine()}; medians of {pairs}")
        print(f"  ten times as long: peak {peak:.0f} MB, {peak / before:.2f} of {before:.0f} MB")
        print(f"  one bad row per thousand: {ratio('bad.csv', 'clean.csv'):.2f} of the clean file")
        print(f"  one row of another width per thousand: {ratio('thousandth.csv', 'clean.csv'):.2f} of the clean file")
        print(
            f"  gzip: {ratio('clean.csv.gz', 'unpack', 'clean.csv'):.2f} of unpacking alone and reading the plain file"
        )
        print(f"  every second row of another width: {speed('ragged.csv'):.0f} MB/s, imports left out")
        print(f"  every row with a stray quote: {speed('stray.csv'):.0f} MB/s, imports left out")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2_000_000, int(sys.argv[2]) if len(sys.argv) > 2 else 3)
