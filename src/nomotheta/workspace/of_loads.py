"""What a workspace loads, rehearses, undoes and sets aside."""

from __future__ import annotations

import datetime
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import DeclarationError
from nomotheta.events import Listener, nobody
from nomotheta.workspace.context import CHARTERS, MEMORY, moment

if TYPE_CHECKING:
    from nomotheta.charter import Compiled
    from nomotheta.ledger import LoadResult, RunResult, TableResult, Undone
    from nomotheta.source.arrivals import Arrivals
    from nomotheta.workspace.aside import SetAside


from nomotheta.workspace.opened import Opened


class Loads(Opened):
    """What a workspace loads, rehearses, undoes and sets aside."""

    # ---- what has arrived

    def arrivals(
        self, tables: Sequence[str] = (), days: Sequence[datetime.date] = (), *, place: str | None = None
    ) -> Arrivals:  # fmt: skip
        """What has arrived of what is expected, for some days (today, if none is named); nothing is loaded.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        from nomotheta.workspace.arrivals import arrivals_of

        chosen = self._all_right(tables)
        return arrivals_of(self.context, chosen, sorted(days) or [self.today()], place, whole=not tables)

    def schedule(self, form: str, at: datetime.time | None = None) -> str:
        """When to run this workspace, as systemd or cron are told; at a time, or a little after the files are due.

        Raises:
            DeclarationError: a charter is wrong, or nothing says when.
        """
        from nomotheta.workspace.scheduling import schedule, starts_of

        starts = starts_of([each.charter for each in self.compiled()], at)
        return schedule(form, self.settings.name, self.root, self.settings.time_zone, starts)

    # ---- load

    def load(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False, again: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), run_id: int | None = None,
        listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """Load a table's delivery for a day, and judge what was loaded before it is committed.

        What goes wrong with the delivery or the place is told by the result, not raised. With `again`, a delivery
        that was loaded for this very day already is not a failure, but left alone; with `even_if_loaded` it is loaded
        once more, and the result says so. `files` are loaded in place of those that the charter names.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.loading import Wanted, load_delivery

        compiled, wanted = self.compiled([table])[0], Wanted(create, again, even_if_loaded, tuple(files))
        result = load_delivery(self.context, compiled, day, place, run_id, wanted, listener)
        charter = compiled.charter
        if self.settings.archive is not None and run_id is None:
            from nomotheta.workspace.archiving import put_away

            put_away(self.context, compiled.as_loaded, result)
        from nomotheta.ledger import RunResult

        alone = RunResult.of_one(result, self.settings.name, moment(), charter.about, tuple(charter.owners))
        self.ledger.note_failures(alone)
        return result

    def load_through(
        self, table: str, day: datetime.date, *, rehearse: bool = False, place: str | None = None, create: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), listener: Listener = nobody,
    ) -> list[LoadResult]:  # fmt: skip
        """The same, and what was landed is moved on into the table of its values: the results of both.

        With `rehearse` nothing of it stays; what would be landed only then is not moved.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        carry_out = self.rehearse if rehearse else self.load
        results = [carry_out(table, day, place=place, create=create, even_if_loaded=even_if_loaded, files=files,
                             listener=listener)]  # fmt: skip
        into = self.compiled([table])[0].charter.load.into
        if into is not None and results[0].state in {"loaded", "unchanged"}:
            results.append(self.load(into.typed, day, place=place, create=create, listener=listener))
        return results

    def undo(self, *loads: int, run_id: int | None = None) -> list[Undone]:
        """Take loads, or all of a run, out of their tables again, and put back what they replaced: all or none.

        Raises:
            DeclarationError: there is no such load, or its rows cannot be told apart.
        """
        from nomotheta.workspace.undoing import loads_of_run, undo_loads

        chosen = [*loads, *(loads_of_run(self.context, run_id) if run_id is not None else [])]
        return undo_loads(self.context, chosen)

    def rehearse(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """The whole load and its rules, and nothing stays; the ledger is not touched.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.loading import Wanted, rehearse_delivery

        compiled, wanted = self.compiled([table])[0], Wanted(create, even_if_loaded=even_if_loaded, files=tuple(files))
        return rehearse_delivery(self.context, compiled, day, place, wanted, listener)

    def load_mended(
        self, table: str, file: Path, *, place: str | None = None, listener: Listener = nobody
    ) -> LoadResult:
        """Load rows that an earlier load set aside and that were mended since, as `write_rejects` wrote them.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.reloading import load_mended

        return load_mended(self.context, self.compiled([table])[0], file, place, listener)

    def load_open_again(self, table: str, *, place: str | None = None, listener: Listener = nobody) -> list[LoadResult]:
        """Load rows that were set aside for the sake of rows which have been taken out or replaced since.

        Raises:
            DeclarationError: the charter or the call is wrong.
            PlaceError: the place cannot be reached.
        """
        from nomotheta.workspace.reopening import load_open_again

        compiled = self.compiled([table])[0]
        return load_open_again(self.context, compiled, place or compiled.place, None, listener)

    # ---- the whole path

    def run(
        self, day: datetime.date | None = None, tables: Sequence[str] = (), *, place: str | None = None,
        create: bool = False, until: datetime.date | None = None, jobs: int = 1, listener: Listener = nobody,
        told: Callable[[TableResult], None] = lambda _: None,
    ) -> RunResult:  # fmt: skip
        """The whole path for all or some tables, in the order of their references.

        A table that fails, or whose charter is wrong, holds back only those that refer to it. Where the days up to
        `until` are run after this one, it may come later than they did. So many tables as `jobs` says are carried out
        at a time, where none comes after another. Where another machine that shares the ledger carries out the same
        run, this one takes part in it, and the result is that of both.

        Raises:
            DeclarationError: all charters or the call is wrong; nothing was done.
            PlaceError: another run is under way.
        """
        chosen, broken = self._delivered(tables)
        from nomotheta.workspace.running import Running

        running = Running(self.context, day or self.today(), place, listener, create=create, until=until, jobs=jobs)
        if self.ledger.shared:
            from nomotheta.workspace.sharing import sharing

            own = sharing(self.context, running.day, place, running.wanted, chosen, broken)
            with own.under_way():
                result = running.run(chosen, broken, told, own)
            if not own.leads:
                self.led_elsewhere[result.run_id] = own.here
            return result
        from nomotheta.workspace.alone import alone

        with alone(self.root / MEMORY, self.context.zone):
            return running.run(chosen, broken, told)

    def watch(
        self, tables: Sequence[str] = (), *, place: str | None = None, create: bool = False, jobs: int = 1,
        listener: Listener = nobody, ended: threading.Event, told: Callable[[RunResult], None],
    ) -> None:  # fmt: skip
        """Follow the folders of deliveries, and run what has arrived as a whole, until `ended` is set.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        from nomotheta.workspace.watching import Watching

        chosen = self._all_right(tables)

        def run(day: datetime.date, names: Sequence[str]) -> RunResult:
            return self.run(day, names, place=place, create=create, jobs=jobs, listener=listener)

        Watching(self.context, chosen, place, run, create=create).follow(ended, told)

    def failing(self, day: datetime.date) -> list[str]:
        """The tables that did not pass in the newest run for a day.

        Raises:
            DeclarationError: there was no run for it.
        """
        found = self.ledger.history.of_day(day)
        if not found:
            raise DeclarationError(f"there was no run for {day}", mend=f"nomotheta run --day {day}")
        right, broken = self.charters.apart()
        known = {each.charter.table for each in right} | {*broken}
        return [name for name, part in found.items() if part.verdict not in {"pass", "warn"} and name in known]

    def rehearse_run(
        self, day: datetime.date | None = None, tables: Sequence[str] = (), *, place: str | None = None,
        create: bool = False, listener: Listener = nobody,
    ) -> RunResult:  # fmt: skip
        """The whole path but for reconciling, in order, and nothing of it stays; the ledger is not touched.

        Raises:
            DeclarationError: all charters or the call is wrong.
        """
        chosen, broken = self._delivered(tables)
        from nomotheta.workspace.rehearsing import rehearse_run

        return rehearse_run(self.context, chosen, broken, day or self.today(), place, listener, create=create)

    def _all_right(self, tables: Sequence[str]) -> list[Compiled]:
        """The charters that declare a delivery.

        Raises:
            DeclarationError: one of them is wrong.
        """
        chosen, broken = self._delivered(tables)
        if broken:
            raise next(iter(broken.values()))
        return chosen

    def _delivered(self, tables: Sequence[str]) -> tuple[list[Compiled], dict[str, DeclarationError]]:
        """The charters that declare a delivery, and what is wrong with others."""
        right, broken = self.charters.apart(tables)
        chosen = [each for each in right if each.charter.delivery is not None or each.source is not None]
        if not chosen and not broken:
            raise DeclarationError("no charter declares a [delivery], so there is nothing to run", where=CHARTERS)
        return chosen, broken

    # ---- rejects

    def rejects_file(self, load_no: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.context.rejects_file(load_no)

    def set_aside(self, which: int | str | None = None, limit: int | None = None) -> SetAside:
        """What a load, or the newest of a table or of all, set aside, and what became of those rows since.

        Raises:
            DeclarationError: no such load is in the ledger.
        """
        from nomotheta.workspace.aside import set_aside

        return set_aside(self.context, which, limit)

    def write_rejects(self, found: SetAside, file: Path) -> int:
        """Write the rows that are still open as CSV for mending, whole or not at all; how many they are.

        Raises:
            DeclarationError: the file cannot be written, or the table has no charter any more.
        """
        from nomotheta.load.mended import columns_of
        from nomotheta.workspace.mending import write_mendable

        compiled = self.compiled([found.load.table])[0]
        number = found.load.load_no or 0
        done = self.ledger.mended(number).keys() | self.ledger.closed(number).keys()
        return write_mendable(found, self.context.rejects_kept(number), done, columns_of(compiled.charter), file)

    def close_rejects(self, load_no: int, reason: str, lines: Sequence[int] = ()) -> int:
        """Close rows that a load set aside and that will not come, those of some lines or all; how many they are.

        Raises:
            DeclarationError: no such row is open, or no reason is given.
        """
        from nomotheta.workspace.attempts import whoever
        from nomotheta.workspace.mending import close_rows

        if not reason.strip():
            raise DeclarationError("say why the rows will not come", mend='nomotheta rejects LOAD --close "REASON"')
        return close_rows(self.context, load_no, set(lines), reason, whoever())
