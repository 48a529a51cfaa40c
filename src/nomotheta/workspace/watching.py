"""An inbox that is followed: what has come as a whole is loaded, and what was tried is not tried again as it is."""

from __future__ import annotations

import contextlib
import datetime
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence

from nomotheta.charter import Compiled
from nomotheta.errors import ElsewhereError, PlaceError
from nomotheta.events import told as tell
from nomotheta.ledger import RunResult
from nomotheta.source.arrivals import Arrival, FileThere
from nomotheta.source.patterns import day_in
from nomotheta.source.strays import any_day, folders_of
from nomotheta.urls import is_fetched
from nomotheta.workspace.arrivals import arrivals_of
from nomotheta.workspace.context import Context

Run = Callable[[datetime.date, Sequence[str]], RunResult]
_OFTEN, _SELDOM = 2.0, 60.0  # seconds until all is looked at once more: while files are being written, and else
_INCOMPLETE = frozenset({"late", "missing", "awaited"})  # states of which the rest may come
_NEVER = datetime.datetime.min.replace(tzinfo=datetime.UTC)
_Seen = tuple[tuple[str, int, datetime.datetime], ...]


class Watching:
    """The deliveries of some tables, looked at again and again.

    Args:
        context: the workspace.
        chosen: the tables, each after those that it waits for.
        place: another than the charters'.
        run: carries out the whole path of tables for a day.
        create: whether a database that is not there may be made.
    """

    def __init__(
        self, context: Context, chosen: Sequence[Compiled], place: str | None, run: Run, *, create: bool = False
    ) -> None:  # fmt: skip
        self.context, self.place, self.run, self.create = context, place, run, create
        self.chosen = [each for each in chosen if each.charter.delivery is not None]
        self._tried: dict[tuple[str, datetime.date], _Seen] = {}
        self._looked: dict[str, _Seen] = {}
        self._held: set[tuple[str, datetime.date]] = set()
        self.awaits = False

    def once(self) -> Iterator[RunResult]:
        """Run what has arrived since it was looked at last, the earliest day first."""
        found = self._fresh()
        ready = [each for each in found if each.state == "arrived" and each.place_answers]
        for each in found:
            if each.state not in _INCOMPLETE and each.place_answers:
                self._tried[each.table, each.day] = _seen(each.files)
        for day in sorted({each.day for each in ready}):
            tables = {each.table for each in ready if each.day == day}
            try:
                result = self.run(day, [each.charter.table for each in self.chosen if each.charter.table in tables])
            except PlaceError as error:  # another run is under way
                tell("watch", error.what)
                self._forget((table, day) for table in tables)
                return
            self._remember(result)
            yield result

    def _fresh(self) -> list[Arrival]:
        """What came of deliveries that have other files than when they were looked at last, or not all of them yet."""
        now = {each.charter.table: _seen(_all_files(self.context, each)) for each in self.chosen}
        changed = [each for each in self.chosen if now[each.charter.table] != self._looked.get(each.charter.table)]
        days = [self.context.today()]
        found = arrivals_of(self.context, changed, days, self.place, whole=False, create=self.create).arrivals
        incomplete = {each.table for each in found if each.files and each.state in _INCOMPLETE}
        again = incomplete | {each.table for each in found if not each.place_answers}
        self._looked |= {table: seen for table, seen in now.items() if table not in again}
        self.awaits = bool(incomplete)
        return [each for each in found if _seen(each.files) != self._tried.get((each.table, each.day))]

    def _forget(self, parts: Iterable[tuple[str, datetime.date]]) -> None:
        """Have tables looked at, and tried, once more."""
        for table, day in parts:
            self._tried.pop((table, day), None)
            self._looked.pop(table, None)

    def _remember(self, result: RunResult) -> None:
        """What could not be decided is tried again; what was held back, once another table has what its day brought."""
        self._forget((each.table, result.day) for each in result.tables if each.verdict == "error")
        held = {(each.table, result.day) for each in result.tables if each.load.state == "held back"}
        if any(each.load.state == "loaded" for each in result.tables):
            self._forget(self._held - held)
            self._held = set()
        self._held |= held

    def follow(self, ended: threading.Event, told: Callable[[RunResult], None]) -> None:
        """Look whenever a file comes or goes, and every minute, until it is ended.

        Args:
            ended: set by who ends it.
            told: hears of each run.
        """
        stirred = threading.Event()
        with _observed(self.context, self.chosen, stirred):
            while not ended.is_set():
                stirred.clear()
                for result in self.once():
                    told(result)
                    if ended.is_set():
                        return
                self._rest(stirred, ended)

    def _rest(self, stirred: threading.Event, ended: threading.Event) -> None:
        """Wait until something stirs, or it is time to look again."""
        left = _OFTEN if self.awaits else _SELDOM
        while left > 0 and not (stirred.is_set() or ended.is_set()):
            stirred.wait(0.2)
            left -= 0.2


def _all_files(context: Context, compiled: Compiled) -> Iterator[FileThere]:
    """The files of a table that are there, of whatever day."""
    delivery, root = compiled.charter.delivery, context.root
    if delivery is not None and any(map(is_fetched, delivery.patterns)):
        try:
            for each in context.elsewhere.of_any_day(delivery.patterns):
                yield FileThere(each.name, each.size or 0, each.written or _NEVER)
        except ElsewhereError as error:  # it is asked again
            tell(error.where, error.what)
    for pattern in delivery.patterns if delivery is not None else ():
        if is_fetched(pattern):
            continue
        for name in sorted(any_day(root, pattern)):
            if day_in(pattern, name):
                with contextlib.suppress(OSError):
                    seen = (root / name).stat()
                    yield FileThere(name, seen.st_size, datetime.datetime.fromtimestamp(seen.st_mtime, datetime.UTC))


def _seen(files: Iterable[FileThere]) -> _Seen:
    """What tells files from what they were before."""
    return tuple((each.file, each.size, each.written) for each in files)


@contextlib.contextmanager
def _observed(context: Context, chosen: Sequence[Compiled], stirred: threading.Event) -> Iterator[None]:
    """Be told when something stirs in the folders of deliveries; where nobody tells, a look now and then has to do."""
    try:
        from watchdog.events import FileSystemEvent, FileSystemEventHandler
        from watchdog.observers import Observer
    except ImportError:
        yield
        return

    class Stirred(FileSystemEventHandler):
        """Any event."""

        def on_any_event(self, event: FileSystemEvent) -> None:  # noqa: ARG002
            stirred.set()

    observer = Observer()
    folders = {
        folder for each in chosen if each.charter.delivery is not None
        for pattern in each.charter.delivery.patterns for folder in folders_of(context.root, pattern)
    }  # fmt: skip
    for folder in sorted(folders):
        with contextlib.suppress(OSError):  # as where the system watches no more folders
            observer.schedule(Stirred(), str(folder))
    observer.start()
    try:
        yield
    finally:
        observer.stop()
        observer.join()
