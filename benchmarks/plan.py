"""What a driver holds for a load by an engine, on made-up listings: no file is read, and no engine is asked.

    python benchmarks/plan.py [FILES] [MEGABYTES]

A delivery of so many files of so many megabytes each is planned as a load would plan it; each task is answered by a made-up
result, with account, fingerprints and totals of fifteen columns, and all of them are added up. It tells how many tasks there are, how
many bytes of them travel, how long the driver takes, and how much memory it holds.
"""

from __future__ import annotations

import pickle
import resource
import sys
import tempfile
import time
from pathlib import Path

from read import CHARTER

from nomotheta.charter import read_charter
from nomotheta.cluster.parts import Result, Task
from nomotheta.cluster.spread import _AT_ONCE, _shared_out
from nomotheta.load.account import Account
from nomotheta.load.balance import FileCount
from nomotheta.load.imprint import Made, imprinted
from nomotheta.load.tally import Tally
from nomotheta.place.delta.written import Written
from nomotheta.source.base import Stretch
from nomotheta.source.delivery import ArrivedFile
from nomotheta.unpack import Survey

_ROW = 120  # bytes


def peak() -> float:
    """The most memory so far, in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / (2**20 if sys.platform == "darwin" else 1024)


def answered(task: Task, size: int, kinds: dict[str, object]) -> Result:
    """What a task may come to."""
    rows = size // _ROW // max(len(task.files), 1)
    counts = [
        FileCount(file.name, file.survey.content, size, rows, 1, 0, 0, 0, rows, rows, 0, 0) for file in task.files
    ]  # fmt: skip
    account = Account((), counts, [], [(file.name, "k,v\n", "", Tally(rows)) for file in task.files], in_all=rows)
    account.seen = [(file.name, account._seen) for file in task.files]
    stats = '{"numRecords": 1, "minValues": {' + '"column": "value", ' * 15 + '}, "maxValues": {}, "nullCount": {}}'
    written = [Written(f"part-{task.number:06d}-00000.parquet", size // 4, rows, stats)]
    return Result(task.number, account=account, written=written, imprint=Made.of(kinds))  # type: ignore[arg-type]


def main(files: int, megabytes: float) -> None:
    """Plan, answer, add up."""
    size = int(megabytes * 1e6)
    with tempfile.NamedTemporaryFile("w", suffix=".toml") as file:
        file.write(CHARTER)
        file.flush()
        read, _ = read_charter(Path(file.name), "bookings.toml")
    assert read is not None
    kinds = imprinted(read.charter)
    base, started = peak(), time.perf_counter()
    listed = [
        ArrivedFile(Path(f"/inbox/night/part-{at:06d}.csv"), f"inbox/night/part-{at:06d}.csv",
                    Survey(size, size, f"{at:064x}", (size, at), b"k,v"))
        for at in range(files)
    ]  # fmt: skip
    groups = _shared_out(listed)
    several = max(round(size / _AT_ONCE), 1) if size >= 1.5 * _AT_ONCE else 1
    tasks = [
        Task(at, group, stretch=Stretch(0, size, 1, part == 0, part == several - 1) if several > 1 else None)
        for at, (group, part) in enumerate((group, part) for group in groups for part in range(several))
    ]  # fmt: skip
    planned = time.perf_counter()
    out = back = 0
    whole, made = Account(listed), Made.of(kinds)
    for task in tasks:
        out += len(pickle.dumps(task))
        told = pickle.dumps(answered(task, size // several, kinds))
        back += len(told)
        result: Result = pickle.loads(told)
        whole.join(result.account, goes_on=task.stretch is not None and not task.stretch.first)
        if result.imprint is not None:
            made.join(result.imprint)
    ended = time.perf_counter()
    print(f"{files:,} files of {megabytes:g} MB, {files * size / 1e12:.2f} TB: {len(tasks):,} tasks")
    print(f"  planned in {planned - started:.1f} s; added up in {ended - planned:.1f} s")
    print(f"  to the workers {out / 1e6:.0f} MB ({out / len(tasks):,.0f} bytes a task), back {back / 1e6:.0f} MB "
          f"({back / len(tasks):,.0f} bytes a task)")  # fmt: skip
    print(f"  in the driver {peak() - base:.0f} MB more than it began with ({base:.0f} MB)")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 100_000, float(sys.argv[2]) if len(sys.argv) > 2 else 100)
