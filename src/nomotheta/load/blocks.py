"""The blocks of files, worked side by side and handed on in their order."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

from nomotheta.load.work import Plan, Worked, work
from nomotheta.source import SourceFile

WORKERS, AHEAD = 2, 5


def worked_blocks(source: SourceFile, plan: Plan) -> Iterator[Worked]:
    """The blocks of a file, worked side by side, in order; only a few are in memory at a time."""
    return (worked for _, worked in worked_files([(plan, source)]) if worked is not None)


def worked_files(plans: Sequence[tuple[Plan, SourceFile]]) -> Iterator[tuple[int, Worked | None]]:
    """The blocks of some files, worked side by side, in order, each with the number of its file; None ends a file."""
    waiting: deque[tuple[int, Future[Worked] | None]] = deque()
    with ThreadPoolExecutor(WORKERS) as pool:
        for at, (plan, source) in enumerate(plans):
            for block in source.blocks():
                waiting.append((at, pool.submit(work, source, block, plan)))
                if len(waiting) >= AHEAD:
                    yield _ended(waiting)
            waiting.append((at, None))
        while waiting:
            yield _ended(waiting)


def _ended(waiting: deque[tuple[int, Future[Worked] | None]]) -> tuple[int, Worked | None]:
    at, future = waiting.popleft()
    return at, future.result() if future else None
