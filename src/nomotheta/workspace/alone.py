"""One run of a workspace at a time on a machine: the operating system keeps the lock, and lets go of it in any end."""

from __future__ import annotations

import contextlib
import datetime
import os
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from nomotheta.errors import PlaceError

_LOCK = "run.lock"


@contextlib.contextmanager
def alone(memory: Path, zone: datetime.tzinfo) -> Iterator[None]:
    """Carry a run out while no other one is.

    Args:
        memory: the folder of the workspace's memory.
        zone: in which times are told.

    Raises:
        PlaceError: another run is under way.
    """
    memory.mkdir(parents=True, exist_ok=True)
    path = memory / _LOCK
    with path.open("a+", encoding="utf-8") as file:
        if not _locked(file):
            file.seek(0)
            told = file.read().strip()
            raise PlaceError(f"another run is under way{f', {told}' if told else ''}", where=str(memory.parent),
                             mend="wait until it is done")  # fmt: skip
        file.truncate(0)
        file.write(f"since {datetime.datetime.now(zone):%Y-%m-%d %H:%M}, process {os.getpid()}\n")
        file.flush()
        try:
            yield
        finally:
            file.truncate(0)


def _locked(file: IO[str]) -> bool:
    """Take the lock; whether it was free."""
    try:
        import fcntl
    except ImportError:  # Windows, where files are locked in another way
        import msvcrt

        try:
            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined]
        except OSError:
            return False
        return True
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
