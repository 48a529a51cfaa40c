"""What the benchmarks share: made-up files at size, and whole processes measured side by side."""

from __future__ import annotations

import os
import platform
import statistics
import subprocess
import sys
from pathlib import Path

import numpy as np

NIGHT = "2026-06-01"


def tickets(path: Path, rows: int, seed: int = 7, encoding: str = "utf-8") -> None:
    """A file of the demo's layout with `rows` sound tickets of the first night."""
    chance = np.random.default_rng(seed)
    classes = np.array(["foot", "cycle", "car", "freight"])
    names = np.array(["Alda á Bakka", "Bergur Brandsdal", "Eyðna Eyvindá", "Jóvald í Nesi", "Møna Ýristein"])
    notes = np.array(["", "", "", "window seat", "travels with a dog", '"left cabin ""B"""', '"two bags; one pram"'])
    with path.open("w", encoding=encoding, newline="") as file:
        file.write("ticket_no;Sailing code;passenger;travellers;class;fare;port_fee;sold_on;note\r\n")
        for start in range(0, rows, 100_000):
            count = min(100_000, rows - start)
            sailing, who, klass = (
                chance.integers(0, 60, count),
                chance.integers(0, 5, count),
                chance.integers(0, 4, count),
            )
            fare, fee = chance.integers(2000, 60_000, count), chance.integers(500, 1600, count)
            day, note, people = (
                chance.integers(1, 29, count),
                chance.integers(0, 7, count),
                chance.integers(1, 7, count),
            )
            file.writelines(
                f"T{start + i + 1:08d};K01{sailing[i]:03d};{names[who[i]]};{people[i]};{classes[klass[i]]};"
                f"{fare[i] // 100},{fare[i] % 100:02d};{fee[i] // 100},{fee[i] % 100:02d};{day[i]:02d}.05.2026;"
                f"{notes[note[i]]}\r\n"
                for i in range(count)
            )


# a process of its own starts the command: what the benchmark itself holds would count as the command's peak
_STARTER = """
import os, sys, time
started = time.perf_counter()
child = os.posix_spawn("/usr/bin/env", ["env", *sys.argv[1:]], os.environ,
                       file_actions=[(os.POSIX_SPAWN_OPEN, 1, "/dev/null", os.O_WRONLY, 0)])
_, status, usage = os.wait4(child, 0)
print(status, time.perf_counter() - started, usage.ru_maxrss)
"""


def measured(command: list[str], cwd: Path) -> tuple[float, float]:
    """Wall seconds and peak resident MB of a whole process."""
    kept = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}  # as installed
    starter = subprocess.run(
        [sys.executable, "-S", "-c", _STARTER, *command], cwd=cwd, env=kept, capture_output=True, text=True, check=False
    )
    status, seconds, peak = starter.stdout.split()[-3:]
    if int(status):
        raise SystemExit(f"{' '.join(command)} ended with {status}: {starter.stderr}")
    return float(seconds), float(peak) / (2**20 if sys.platform == "darwin" else 1024)


def in_turn(programs: dict[str, str], pairs: int, cwd: Path) -> dict[str, list[tuple[float, float]]]:
    """Python programs run in turn, so many times each: seconds and peak MB. A round before that warms the machine."""
    found: dict[str, list[tuple[float, float]]] = {each: [] for each in programs}
    for pair in range(pairs + 1):
        for each, program in programs.items():
            taken = measured([sys.executable, "-c", program], cwd)
            if pair:
                found[each].append(taken)
    return found


def summary(name: str, ours: list[float], theirs: list[float], memory: list[float]) -> str:
    """A line of the medians and of the ratio pair by pair."""
    ratio = statistics.median(a / b for a, b in zip(ours, theirs, strict=True))
    return (
        f"{name}: ours {statistics.median(ours):.2f} s, theirs {statistics.median(theirs):.2f} s, "
        f"ratio {ratio:.2f} (median of {len(ours)} pairs), our peak {max(memory):.0f} MB"
    )


def machine() -> str:
    """The machine in words."""
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**30
    return f"{os.cpu_count()} cores, {memory:.0f} GiB, Python {platform.python_version()}, {platform.system()}"
