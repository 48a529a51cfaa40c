"""Progress bars: on stderr, and only at a terminal."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from nomotheta.ahead import import_ahead
from nomotheta.events import Listener, Progress, nobody

if TYPE_CHECKING:
    from rich.progress import TaskID


@contextmanager
def bars(*, json: bool, quiet: bool, screen: str) -> Iterator[Listener]:
    """A listener that draws a bar for each piece of long work.

    While that goes on, what will be needed to show its result is imported: the module of its `screen`.
    """
    if json or quiet or not sys.stderr.isatty():
        yield _ready("nomotheta.report.documents" if json else screen, nobody)
        return
    from rich.progress import BarColumn, DownloadColumn, TextColumn, TimeRemainingColumn, TransferSpeedColumn
    from rich.progress import Progress as Bars

    from nomotheta.cli.paint import err

    columns = (
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn(),
        TextColumn("{task.fields[rate]}", style="cyan"), TimeRemainingColumn(),
    )  # fmt: skip
    with Bars(*columns, console=err(), transient=True) as drawn:
        tasks: dict[str, TaskID] = {}

        def listen(event: Progress) -> None:
            if event.label not in tasks:
                tasks[event.label] = drawn.add_task(event.label, total=event.total, rate="")
            elapsed = drawn.tasks[drawn.task_ids.index(tasks[event.label])].elapsed
            rate = f"{event.rows / elapsed:,.0f} rows/s" if event.rows and elapsed else ""
            drawn.update(tasks[event.label], completed=event.done, total=event.total, rate=rate)
            if event.ended:
                drawn.remove_task(tasks.pop(event.label))

        yield _ready(screen, listen)


def _ready(module: str, listener: Listener) -> Listener:
    """A listener that has a module imported as soon as it hears that work goes on."""
    begun = False

    def listen(event: Progress) -> None:
        nonlocal begun
        if not begun:
            begun = True
            import_ahead(module)
        listener(event)

    return listen
