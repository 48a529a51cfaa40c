"""The blocks of files, worked side by side and handed on in their order; small files of one header are read as one."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

from nomotheta.frozen import frozen
from nomotheta.load.work import Plan, Worked, work, work_joined
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.joined import SMALL, Joining

WORKERS, AHEAD = 2, 4
_HEAVY, _SMALLER = 1 << 20, 4 << 20  # bytes that a block may always hold besides its rows; of a block that holds more

Open = Callable[[ArrivedFile], tuple[Plan, SourceFile]]


@frozen
class Piece:
    """A block of a file, by the file's number; nothing `worked` ends the file.

    Of files that were read as one, `at` is the first, and `worked.parts` tells them apart; none of them is ended.
    """

    at: int
    plan: Plan
    source: SourceFile
    worked: Worked | None


def worked_blocks(source: SourceFile, plan: Plan) -> Iterator[Worked]:
    """The blocks of a file, worked side by side, in order; only a few are in memory at a time."""
    with ThreadPoolExecutor(WORKERS) as pool:
        queue = _Queue(pool)
        for block in source.blocks():
            yield from _worked(queue.add(_one(0, plan, source, block)))
        yield from _worked(queue.rest())


def _worked(pieces: Iterator[Piece]) -> Iterator[Worked]:
    return (piece.worked for piece in pieces if piece.worked is not None)


def worked_files(files: Sequence[ArrivedFile], opened: Open, *, join: bool) -> Iterator[Piece]:
    """The blocks of some files, worked side by side, in order; small ones are read as one, if they may `join`.

    Raises:
        DeliveryError: a file cannot be read, or is not what the charter expects.
    """
    with ThreadPoolExecutor(WORKERS) as pool:
        queue = _Queue(pool)
        at = 0
        while at < len(files):
            plan, source = opened(files[at])
            joining = Joining.of(source) if join and plan.complete and at + 1 < len(files) else None
            if joining is not None:
                for file in itertools.islice(files, at, None):
                    if joining.full or file.survey.bytes_of_content >= SMALL or not joining.take(file):
                        break
                if len(joining.files) > 1:
                    yield from queue.add(_together(at, plan, joining, opened))
                    at += len(joining.files)
                    continue
            for block in source.blocks():
                yield from queue.add(_one(at, plan, source, block))
            yield from queue.add(_end(at, plan, source))
            at += 1
        yield from queue.rest()


Task = Callable[[], Sequence[Piece]]


def _one(at: int, plan: Plan, source: SourceFile, block: object) -> Task:
    return lambda: [Piece(at, plan, source, work(source, block, plan))]


def _end(at: int, plan: Plan, source: SourceFile) -> Task:
    return lambda: [Piece(at, plan, source, None)]


def _together(at: int, plan: Plan, joining: Joining, opened: Open) -> Task:
    def task() -> Sequence[Piece]:
        worked = work_joined(joining, plan)
        if worked is not None:
            return [Piece(at, plan, joining.source, worked)]
        found = []
        for number, file in enumerate(joining.files, at):  # something about them is out of the ordinary
            own, source = opened(file)
            found += [Piece(number, own, source, work(source, block, own)) for block in source.blocks()]
            found.append(Piece(number, own, source, None))
        return found

    return task


class _Queue:
    """Tasks on their way, and what came of them in their order."""

    def __init__(self, pool: ThreadPoolExecutor) -> None:
        self._pool, self._waiting, self._ahead = pool, deque[Future[Sequence[Piece]]](), AHEAD

    def add(self, task: Task) -> Iterator[Piece]:
        """Begin one; hand on what is done of those before, where enough are under way."""
        self._waiting.append(self._pool.submit(task))
        while len(self._waiting) >= self._ahead:
            yield from self._next()

    def rest(self) -> Iterator[Piece]:
        """All that are still under way."""
        while self._waiting:
            yield from self._next()

    def _next(self) -> Sequence[Piece]:
        pieces = self._waiting.popleft().result()
        heavy = False
        for piece in pieces:
            if piece.worked is not None and piece.worked.weight > max(piece.worked.size, _HEAVY):
                heavy = True
                piece.source.in_parts_of(_SMALLER)
        self._ahead = WORKERS + 1 if heavy else AHEAD
        return pieces
