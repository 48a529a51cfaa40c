"""A night: every table loaded, judged and reconciled, in the order of their references."""

from __future__ import annotations

import datetime
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError, counted
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult, RunResult, TableResult
from nomotheta.rules.finding import Verdict, gravest
from nomotheta.workspace.archiving import discard_old, put_away
from nomotheta.workspace.around import is_stale
from nomotheta.workspace.arriving import NothingArrivedError, arrive
from nomotheta.workspace.attempts import Attempt, entered, failed, rows_there
from nomotheta.workspace.beside import BesidePages
from nomotheta.workspace.comparing import compare_sides, comparison_names, declared_comparison
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.deliveries import choose
from nomotheta.workspace.loading import Wanted, load_delivery
from nomotheta.workspace.reconciling import reconcile_table
from nomotheta.workspace.reopening import load_open_again

_HAS = frozenset({"loaded", "unchanged", "nothing arrived"})  # states of a table that has what its day brought


class Running:
    """One run of a workspace, for a day."""

    def __init__(
        self, context: Context, day: datetime.date, place: str | None, listener: Listener, *, create: bool,
        until: datetime.date | None = None,
    ) -> None:  # fmt: skip
        self.context, self.day, self.place, self.listener = context, day, place, listener
        self.wanted = Wanted(create, again=True, until=until)
        self.run_id = 0
        self.results: dict[str, TableResult] = {}

    def run(
        self, chosen: Sequence[Compiled], broken: Mapping[str, DeclarationError], told: Callable[[TableResult], None]
    ) -> RunResult:  # fmt: skip
        """Carry it out; `told` hears of each table when it is done. Tables whose charters are wrong are said to be."""
        started, clock = moment(), time.perf_counter()
        ledger = self.context.ledger
        self.run_id = ledger.begin_run(self.day, started)
        self.beside = BesidePages(self.context, self.run_id, self.day)
        for table, error in broken.items():
            self.results[table] = result = self._failed(table, self.place or "", error)
            told(result)
        with self.context.places.keeping():
            for compiled in self._with_stale_lists(chosen):
                self.results[compiled.charter.table] = result = self._table(compiled)
                told(result)
            for name in self._comparisons(chosen):
                self.results[name] = result = self._compared(name)
                told(result)
        discard_old(self.context, self.context.today())
        verdict = gravest(each.verdict for each in self.results.values())
        seconds = round(time.perf_counter() - clock, 3)
        name, results = self.context.settings.name, tuple(self.results.values())
        run = RunResult(self.run_id, name, self.day, started, seconds, verdict, results)
        ledger.end_run(run)
        return run

    def _with_stale_lists(self, chosen: Sequence[Compiled]) -> Iterator[Compiled]:
        """The tables, each after the standing lists that it refers to and whose files have changed since their load."""
        asked = {compiled.charter.table for compiled in chosen} | set(self.results)
        for compiled in chosen:
            place = self.place or compiled.place
            for name in sorted(compiled.after() - asked):
                listing = self.context.charters.known().get(name)
                if listing is not None and is_stale(self.context, listing, place):
                    asked.add(name)
                    yield listing
            yield compiled

    def _table(self, compiled: Compiled) -> TableResult:
        charter, place = compiled.charter, self.place or compiled.place
        about: dict[str, Any] = {"about": charter.about, "owners": tuple(charter.owners)}
        waits = [name for name in sorted(compiled.after()) if name in self.results and not _has(self.results[name])]
        refusal = self._refusal(compiled, place) if waits else None
        if waits and refusal is None:
            held = LoadResult(
                charter.table, place, self.day, "held back", "fail", message=f"skipped: {' and '.join(waits)} failed",
                mend=f"fix {waits[0]} first, then: nomotheta run --day {self.day} {charter.table}",
                table_rows=rows_there(self.context, charter.table, place),
            )  # fmt: skip
            self.context.ledger.add_load(held, moment(), self.run_id)
            return TableResult(charter.table, "fail", held, **about)
        try:
            result = refusal or load_delivery(
                self.context, compiled, self.day, self.place, self.run_id, self.wanted, self.listener
            )  # fmt: skip
        except DeclarationError as error:  # a secret is not set, a driver is missing: the other tables have theirs
            return self._failed(charter.table, place, error, **about)
        self.beside.breaks(compiled, place, result)
        verdict, reconciliation, message = result.verdict, None, ""
        if result.state in _HAS:
            again = self._open_again(compiled, place)
            verdict = gravest([verdict, *(each.verdict for each in again)])
            message = "; ".join(map(_told_again, again))
        if compiled.source is None and (
            result.state == "loaded" or (result.state == "unchanged" and not self._is_equal(result))
        ):
            try:
                reconciliation = reconcile_table(
                    self.context,
                    compiled,
                    result.load_no,
                    self.place,
                    self.run_id,
                    self.listener,
                    recorded=True,
                    beside=self.beside,
                )
                verdict = gravest([verdict, reconciliation.verdict])
            except NomothetaError as error:
                told = f"it could not be reconciled: {error.what}"
                message = f"{message}; {told}" if message else told
                verdict = gravest([verdict, "fail" if isinstance(error, DeliveryError) else "error"])
        told = put_away(self.context, compiled.as_loaded, result)
        message = "; ".join(filter(None, (message, told)))
        return TableResult(charter.table, verdict, result, reconciliation=reconciliation, message=message, **about)

    def _comparisons(self, chosen: Sequence[Compiled]) -> Iterator[str]:
        """The comparisons that are kept in the workspace: all, or those in which one of the chosen tables is a side."""
        tables = {compiled.charter.table for compiled in chosen}
        every = tables >= set(self.context.charters.known())
        for name in comparison_names(self.context):
            try:
                said = declared_comparison(self.context, name)
            except DeclarationError:  # which is told of when it is carried out
                yield name
                continue
            if every or {said.source.table, said.target.table} & tables:
                yield name

    def _compared(self, name: str) -> TableResult:
        """A comparison as a part of the run."""
        about: dict[str, Any] = {}
        try:
            said = declared_comparison(self.context, name)
            about = {"about": said.about, "owners": tuple(said.owners)}
            found = compare_sides(self.context, said, name, self.day, self.run_id, self.listener, beside=self.beside)
        except NomothetaError as error:
            verdict: Verdict = "fail" if isinstance(error, DeliveryError) else "error"
            failed = LoadResult(
                name, "", self.day, "compared", verdict, message=error.what, where=error.where, mend=error.mend
            )  # fmt: skip
            return TableResult(name, verdict, failed, **about)
        told = "" if found.verdict == "pass" else f"{found.source} and {found.target} differ"
        result = LoadResult(name, found.place, self.day, "compared", found.verdict, message=told)
        return TableResult(name, found.verdict, result, reconciliation=found, **about)

    def _failed(self, table: str, place: str, error: DeclarationError, **about: Any) -> TableResult:
        """A table of which a declaration is wrong."""
        failed = LoadResult(table, place, self.day, "failed", "error", None, error.what, error.where, error.mend)
        self.context.ledger.add_load(failed, moment(), self.run_id)
        return TableResult(table, "error", failed, **about)

    def _open_again(self, compiled: Compiled, place: str) -> list[LoadResult]:
        """Rows that were set aside for the sake of rows which are gone come in."""
        try:
            return load_open_again(self.context, compiled, place, self.run_id, self.listener)
        except PlaceError:  # which the load itself has told of, or will
            return []

    def _is_equal(self, result: LoadResult) -> bool:
        """Whether the load was equal to its files, and the table has as many rows as its newest load left there."""
        if self.context.ledger.rows_left(result.table, result.place) != result.table_rows:
            return False  # somebody has added rows since, or taken some out
        if self.context.ledger.removed_since(result.table, result.place, result.load_no or 0):
            return False
        return self.context.ledger.reconciled(result.table, result.place, result.load_no or 0) == "pass"

    def _refusal(self, compiled: Compiled, place: str) -> LoadResult | None:
        """What is said where a table's own delivery is refused, which is better to know than what it waits for."""
        if compiled.source is not None:
            return None
        attempt = Attempt(self.context, compiled, place, self.day, self.run_id)
        try:
            attempt.arrived = arrive(self.context, compiled, self.day)
            with self.context.places.open(place) as opened:
                now = self.context.now(moment(), self.day)
                choose(
                    self.context, opened, compiled, attempt.arrived, self.day, now, again=True, until=self.wanted.until
                )
        except DeliveryError as error:
            return entered(self.context, attempt, failed(self.context, attempt, error))
        except (PlaceError, NothingArrivedError):
            return None
        return None


def _told_again(result: LoadResult) -> str:
    """What came of repeats whose originals were taken out."""
    if result.state != "loaded":
        return f"rows of load {result.mends} were not loaded: {result.message}"
    rows = result.balance.loaded if result.balance else 0
    were = "was" if rows == 1 else "were"
    return f"{counted(rows, 'row')} that load {result.mends} had set aside {were} loaded by load {result.load_no}"


def _has(result: TableResult) -> bool:
    """Whether a table has what its day brought, so that others may refer to it."""
    return result.load.state in _HAS
