"""What the core tells while it works. The interface decides how it looks; by default nobody listens."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Literal

from nomotheta.frozen import frozen


@frozen
class Progress:
    """Work that goes on: `done` of `total` in `unit`, and so many `rows`; the total is None where nobody knows it.

    `table` is the one that it is done for, if it is one.
    """

    label: str
    done: int
    total: int | None
    unit: Literal["bytes", "rows", "tables", "tasks"]
    ended: bool = False
    rows: int = 0
    table: str = ""


@frozen
class Doing:
    """What is being done for a table of a run; nothing any more where it is done, with the verdict of its part."""

    table: str
    what: str
    verdict: str = ""


Listener = Callable[[Progress | Doing], None]


def nobody(_event: Progress | Doing) -> None:
    """Listen to nothing."""


@frozen
class Step:
    """A step that was done: where (a place, a file), what (a statement, a reading), and how long it took."""

    where: str
    what: str
    seconds: float | None


Watcher = Callable[[Step], None]
_watchers: list[Watcher] = []


def watch(watcher: Watcher | None) -> None:
    """Have every step of this process told, or none any more."""
    _watchers[:] = [watcher] if watcher else []


@contextmanager
def step(where: str, what: object) -> Iterator[None]:
    """Around a step of work, told once it is done or has failed, if anybody watches; an empty text is not a step."""
    if not _watchers or what == "":
        yield
        return
    began = time.perf_counter()
    try:
        yield
    finally:
        for watcher in _watchers:
            watcher(Step(where, str(what), time.perf_counter() - began))


def told(where: str, what: str) -> None:
    """Tell whoever watches of something that took no time of its own."""
    for watcher in _watchers:
        watcher(Step(where, what, None))
