"""What goes on, while it does: on stderr, and only at a terminal."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from nomotheta.ahead import import_ahead
from nomotheta.events import Doing, Listener, Progress, nobody

if TYPE_CHECKING:
    from rich.progress import Progress as Bars
    from rich.progress import TaskID

_FAILS = frozenset({"fail", "error"})


@contextmanager
def bars(*, json: bool, quiet: bool, screen: str) -> Iterator[Listener]:
    """A listener that draws a line for each table of a run, with a bar for each piece of long work.

    While that goes on, what will be needed to show its result is imported: the module of its `screen`.
    """
    if json or quiet or not sys.stderr.isatty():
        yield _ready("nomotheta.report.documents" if json else screen, nobody)
        return
    from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
    from rich.progress import Progress as Bars

    from nomotheta.cli.paint import err

    columns = (
        TextColumn("{task.description}", markup=False),
        BarColumn(complete_style="cyan", finished_style="cyan", pulse_style="cyan"),
        TextColumn("{task.fields[amount]}"),
        TextColumn("{task.fields[rate]}", style="cyan"), TimeElapsedColumn(),
    )  # fmt: skip
    with Bars(*columns, console=err(), transient=True) as drawn:
        yield _ready(screen, _Lines(drawn).hear)


class _Lines:
    """The lines that are drawn, by what each is of: a table, or a piece of work that is of none."""

    def __init__(self, drawn: Bars) -> None:
        self.drawn = drawn
        self.tasks: dict[str, TaskID] = {}
        self.failed = 0

    def hear(self, event: Progress | Doing) -> None:
        """Draw what is heard."""
        if isinstance(event, Doing):
            self._doing(event)
        elif event.unit == "tables":
            told = f"{event.done} of {event.total} tables done" + (f", {self.failed} failed" if self.failed else "")
            self._draw(event.label, told, event, "", "")
        elif event.table in self.tasks:
            if event.ended:  # what comes now has no measure
                self.drawn.update(self.tasks[event.table], total=None, amount="", rate="")
                return
            self._draw(event.table, None, event, _amount(event), self._rate(event.table, event))
        else:
            self._draw(event.label, event.label, event, _amount(event), self._rate(event.label, event))
            if event.ended:
                self.drawn.remove_task(self.tasks.pop(event.label))

    def _doing(self, event: Doing) -> None:
        if event.what:
            told = f"  {event.table}: {event.what}"
            if event.table not in self.tasks:
                self.tasks[event.table] = self.drawn.add_task(told, total=None, amount="", rate="")
            self.drawn.update(self.tasks[event.table], description=told, total=None, amount="", rate="")
            return
        self.failed += event.verdict in _FAILS
        if event.table in self.tasks:
            self.drawn.remove_task(self.tasks.pop(event.table))

    def _draw(self, key: str, told: str | None, event: Progress, amount: str, rate: str) -> None:
        if key not in self.tasks:
            self.tasks[key] = self.drawn.add_task(told or key, total=event.total, amount=amount, rate=rate)
        more = {} if told is None else {"description": told}
        self.drawn.update(self.tasks[key], completed=event.done, total=event.total, amount=amount, rate=rate, **more)  # type: ignore[arg-type]

    def _rate(self, key: str, event: Progress) -> str:
        if key not in self.tasks or not event.rows:
            return ""
        elapsed = self.drawn.tasks[self.drawn.task_ids.index(self.tasks[key])].elapsed
        return f"{event.rows / elapsed:,.0f} rows/s" if elapsed else ""


def _amount(event: Progress) -> str:
    """How much of how much."""
    if event.unit != "bytes":
        unit = " tasks" if event.unit == "tasks" else ""
        return f"{event.done:,}" + (f" of {event.total:,}" if event.total is not None else "") + unit
    done = f"{event.done / 1e6:,.1f}"
    return f"{done} MB" if event.total is None else f"{done} of {event.total / 1e6:,.1f} MB"


def _ready(module: str, listener: Listener) -> Listener:
    """A listener that has a module imported as soon as it hears that work goes on."""
    begun = False

    def listen(event: Progress | Doing) -> None:
        nonlocal begun
        if not begun:
            begun = True
            import_ahead(module)
        listener(event)

    return listen
