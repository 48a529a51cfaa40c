"""Work done side by side by a few threads, each with tools of its own, where nothing waits for anything else."""

from __future__ import annotations

import ctypes
import queue
import sys
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence, Set
from contextlib import AbstractContextManager
from typing import Generic, Protocol, TypeVar

_SWITCH = 0.005  # seconds until a thread that works must let another in: with many of them, to change costs more
_PAUSE = 0.2  # seconds until those are asked again who do what others wait for
Tools = TypeVar("Tools")
Result = TypeVar("Result")


class Others(Protocol[Result]):
    """Other crews at the same tasks."""

    def take(self, task: str) -> bool:
        """Take a task in hand; whether it is not for others."""

    def done(self, task: str, result: Result) -> None:
        """Tell them what came of a task."""

    def came_of(self, tasks: Set[str]) -> tuple[Mapping[str, Result], Set[str]]:
        """What came of tasks that were for others, and those that may be taken in hand now."""


class Crew(Generic[Tools, Result]):
    """Some threads that take up what they are given.

    Args:
        size: how many.
        equip: gives each its tools, for as long as it works; called in the thread itself.
        work: carries one task out, with the tools of whoever does it.
        interrupt: ends what tools are waiting for; called in another thread.
    """

    def __init__(
        self, size: int, equip: Callable[[], AbstractContextManager[Tools]], work: Callable[[Tools, str], Result],
        interrupt: Callable[[Tools], None],
    ) -> None:  # fmt: skip
        self._equip, self._work, self._interrupt = equip, work, interrupt
        self._tools: list[Tools] = []
        self._given = queue.SimpleQueue[str | None]()
        self._done = queue.SimpleQueue[tuple[str, Result | None, BaseException | None]]()
        self._switch = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH)
        self._threads = [threading.Thread(target=self._member, name=f"table {at}") for at in range(size)]
        for thread in self._threads:
            thread.start()

    def _member(self) -> None:
        name = ""
        try:
            with self._equip() as tools:
                self._tools.append(tools)
                while (task := self._given.get()) is not None:
                    name = task
                    self._done.put((name, self._work(tools, name), None))
        except BaseException as error:  # whoever waits for the result raises it
            self._done.put((name, None, error))

    def carry_out(
        self, tasks: Sequence[str], after: Mapping[str, Set[str]], apart: Mapping[str, str],
        others: Others[Result] | None = None,
    ) -> Iterator[tuple[str, Result]]:  # fmt: skip
        """Have tasks carried out, and give what came of each when it is done.

        Args:
            tasks: in the order in which they are taken up, if nothing else is said.
            after: those among the tasks that must be done before one; there is no circle.
            apart: tasks with the same word are done one after another.
            others: who may do some of them, so that they are waited for.
        """
        waiting, at_work, done, elsewhere = list(tasks), set[str](), set[str](), set[str]()
        while waiting or at_work or elsewhere:
            busy = {apart[task] for task in at_work if task in apart}
            for task in list(waiting):
                if len(at_work) == len(self._threads):
                    break
                if after.get(task, frozenset()) <= done and apart.get(task) not in busy:
                    waiting.remove(task)
                    if others is not None and not others.take(task):
                        elsewhere.add(task)
                        continue
                    at_work.add(task)
                    busy |= {apart[task]} if task in apart else set()
                    self._given.put(task)
            for name, result in self._next(at_work, wait=not elsewhere):
                done.add(name)
                if others is not None:
                    others.done(name, result)
                yield name, result
            if others is not None and elsewhere:
                found, free = others.came_of(elsewhere)
                elsewhere -= {*found, *free}
                waiting += sorted(free, key=list(tasks).index)
                done |= {*found}
                yield from found.items()

    def _next(self, at_work: set[str], *, wait: bool) -> Iterator[tuple[str, Result]]:
        """The next task that is done, and what came of it; without waiting for long, if so, perhaps none."""
        try:
            name, result, error = self._done.get(timeout=None if wait else _PAUSE)
        except queue.Empty:
            return
        if error is not None:
            raise error
        at_work.discard(name)
        yield name, result  # type: ignore[misc]

    def end(self, *, at_once: bool = False) -> None:
        """Let all go home when they are done; at once, what they are doing is interrupted and undone."""
        for _ in self._threads:
            self._given.put(None)
        if at_once:
            for thread in self._threads:  # it is raised there as soon as what it waits for has ended
                number, raised = ctypes.c_ulong(thread.ident or 0), ctypes.py_object(KeyboardInterrupt)
                ctypes.pythonapi.PyThreadState_SetAsyncExc(number, raised)
            for tools in list(self._tools):
                self._interrupt(tools)
        for thread in self._threads:
            thread.join()
        sys.setswitchinterval(self._switch)
