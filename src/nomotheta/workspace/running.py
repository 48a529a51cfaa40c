"""A night: every table loaded, judged and reconciled, in the order of their references."""

from __future__ import annotations

import datetime
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult, RunResult, TableResult
from nomotheta.rules import gravest

if TYPE_CHECKING:
    from nomotheta.workspace.checking import Checking
    from nomotheta.workspace.loading import Loading
    from nomotheta.workspace.workspace import Workspace


class Running:
    """One run of a workspace, for a day."""

    def __init__(
        self, workspace: Workspace, loading: Loading, checking: Checking, day: datetime.date, place: str | None,
        listener: Listener, *, create: bool,
    ) -> None:  # fmt: skip
        self.workspace, self.loading, self.checking = workspace, loading, checking
        self.day, self.place, self.listener, self.create = day, place, listener, create
        self.run_id = 0
        self.results: dict[str, TableResult] = {}

    def run(self, chosen: Sequence[Compiled], told: Callable[[TableResult], None]) -> RunResult:
        """Carry it out; `told` hears of each table when it is done."""
        started, clock = _now(), time.perf_counter()
        ledger = self.workspace.ledger
        self.run_id = ledger.begin_run(self.day, started)
        with self.workspace.places.keeping():
            for compiled in chosen:
                self.results[compiled.charter.table] = result = self._table(compiled)
                told(result)
        verdict = gravest(each.verdict for each in self.results.values())
        seconds = round(time.perf_counter() - clock, 3)
        name, results = self.workspace.settings.name, tuple(self.results.values())
        run = RunResult(self.run_id, name, self.day, started, seconds, verdict, results)
        ledger.end_run(run)
        return run

    def _table(self, compiled: Compiled) -> TableResult:
        charter, place = compiled.charter, self.place or compiled.place
        about: dict[str, Any] = {"about": charter.about, "owners": tuple(charter.owners)}
        waits = [name for name in sorted(compiled.after()) if name in self.results and not _has(self.results[name])]
        if waits and not self._is_refused(compiled, place):
            held = LoadResult(
                charter.table, place, self.day, "held back", "fail", message=f"skipped: {' and '.join(waits)} failed",
                mend=f"fix {waits[0]} first, then: nomotheta run --day {self.day} {charter.table}",
                table_rows=self.loading.rows_there(charter.table, place),
            )  # fmt: skip
            self.workspace.ledger.add_load(held, _now(), self.run_id)
            return TableResult(charter.table, "fail", held, **about)
        try:
            result = self.workspace.load(
                charter.table, self.day, place=self.place, create=self.create, again=True, run_id=self.run_id,
                listener=self.listener,
            )  # fmt: skip
        except DeclarationError as error:  # a secret is not set, a driver is missing: the other tables have theirs
            why = (error.what, error.where, error.mend)
            failed = LoadResult(charter.table, place, self.day, "failed", "error", None, *why)
            self.workspace.ledger.add_load(failed, _now(), self.run_id)
            return TableResult(charter.table, "error", failed, **about)
        if result.state == "unchanged":
            result = self._judged_again(compiled, result)
        verdict, reconciliation, message = result.verdict, None, ""
        if result.state == "loaded" or (result.state == "unchanged" and not self._is_equal(result)):
            try:
                reconciliation = self.checking.reconcile(
                    compiled, result.load_no, self.place, self.run_id, self.listener
                )
                verdict = gravest([verdict, reconciliation.verdict])
            except NomothetaError as error:
                message = f"it could not be reconciled: {error.what}"
                verdict = gravest([verdict, "fail" if isinstance(error, DeliveryError) else "error"])
        return TableResult(charter.table, verdict, result, reconciliation=reconciliation, message=message, **about)

    def _judged_again(self, compiled: Compiled, result: LoadResult) -> LoadResult:
        """A table that has not changed is as well as it was: what failed then is open until it passes."""
        before = self.workspace.ledger.verdict(result.load_no or 0)
        if before in {None, "pass"}:
            return result
        judged = self.checking.judge(compiled, result.place, result.day)
        told = f"{result.message}; load {result.load_no} ended in '{before}', so the table was judged again"
        return replace(
            result, verdict=judged.verdict, findings=judged.findings, message=judged.message or told, mend=judged.mend
        )

    def _is_equal(self, result: LoadResult) -> bool:
        """Whether the load was equal to its files, and the table has as many rows as its newest load left there."""
        if self.workspace.ledger.rows_left(result.table, result.place) != result.table_rows:
            return False  # somebody has added rows since, or taken some out
        return self.workspace.ledger.reconciled(result.table, result.place, result.load_no or 0) == "pass"

    def _is_refused(self, compiled: Compiled, place: str) -> bool:
        """Whether a table's own delivery would be refused, which is the better thing to say of one that waits."""
        try:
            delivered = self.loading.arrive(compiled, self.day)
            with self.workspace.places.open(place) as opened:
                self.loading.came_before(opened, compiled.charter.table, delivered, self.day)
        except DeliveryError:
            return True
        except PlaceError:
            return False
        return False


def _has(result: TableResult) -> bool:
    """Whether a table has what its day brought, so that others may refer to it."""
    return result.load.state in {"loaded", "unchanged"}


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)
