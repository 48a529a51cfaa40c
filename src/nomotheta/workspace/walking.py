"""One table's part of a run: its delivery loaded, judged, reconciled and put away; or one comparison."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any

from nomotheta.charter import Compiled
from nomotheta.errors import (
    DeclarationError,
    DeliveryError,
    ElsewhereError,
    GoneError,
    NomothetaError,
    PlaceError,
    counted,
)
from nomotheta.events import Doing, Listener
from nomotheta.ledger import LoadResult, TableResult
from nomotheta.rules.finding import Verdict, gravest
from nomotheta.workspace.archiving import put_away
from nomotheta.workspace.arriving import NothingArrivedError, arrive
from nomotheta.workspace.attempts import Attempt, entered, failed, rows_there
from nomotheta.workspace.beside import BesidePages
from nomotheta.workspace.comparing import compare_sides, declared_comparison
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.deliveries import choose
from nomotheta.workspace.loading import Wanted, load_delivery
from nomotheta.workspace.reconciling import reconcile_table
from nomotheta.workspace.reopening import load_open_again

HAS = frozenset({"loaded", "unchanged", "nothing arrived"})  # states of a table that has what its day brought


class Walking:
    """Walks the path for tables of a run, one after another, with a context of its own."""

    def __init__(
        self, context: Context, run_id: int, day: datetime.date, place: str | None, wanted: Wanted, listener: Listener
    ) -> None:  # fmt: skip
        self.context, self.run_id, self.day, self.place = context, run_id, day, place
        self.wanted, self.listener = wanted, listener
        self.beside = BesidePages(context, run_id, day)

    def _doing(self, table: str, what: str) -> None:
        self.listener(Doing(table, what))

    def table(self, compiled: Compiled, waits: Sequence[str]) -> TableResult:
        """Carry one out; where any it `waits` for has not what its day brought, it is held back."""
        charter, place = compiled.charter, self.place or compiled.place
        about: dict[str, Any] = {"about": charter.about, "owners": tuple(charter.owners)}
        refusal = self._refusal(compiled, place) if waits else None
        if waits and refusal is None:
            held = LoadResult(
                charter.table, place, self.day, "held back", "fail", message=f"skipped: {' and '.join(waits)} failed",
                mend=f"fix {waits[0]} first, then: nomotheta run --day {self.day} {charter.table}",
                table_rows=rows_there(self.context, charter.table, place),
            )  # fmt: skip
            self.context.ledger.add_load(held, moment(), self.run_id)
            return TableResult(charter.table, "fail", held, **about)
        self._doing(charter.table, "loading")
        try:
            result = refusal or load_delivery(
                self.context, compiled, self.day, self.place, self.run_id, self.wanted, self.listener
            )  # fmt: skip
        except DeclarationError as error:  # a secret is not set, a driver is missing: the other tables have theirs
            return self.failed(charter.table, place, error, **about)
        self._doing(charter.table, "keeping what broke rules")
        self.beside.breaks(compiled, place, result)
        verdict, reconciliation, message = result.verdict, None, ""
        if result.state in HAS:
            try:
                again = self._open_again(compiled, place)
                verdict = gravest([verdict, *(each.verdict for each in again)])
                message = "; ".join(map(_told_again, again))
            except GoneError as error:
                verdict, message = "error", f"rows that may come in now were not looked for: {error.what}"
        if compiled.source is None and (
            result.state == "loaded" or (result.state == "unchanged" and not self._is_equal(result))
        ):
            self._doing(charter.table, "reconciling")
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
        self._doing(charter.table, "putting files away")
        told = put_away(self.context, compiled.as_loaded, result)
        message = "; ".join(filter(None, (message, told)))
        return TableResult(charter.table, verdict, result, reconciliation=reconciliation, message=message, **about)

    def compared(self, name: str) -> TableResult:
        """Carry a comparison out."""
        self._doing(name, "comparing")
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

    def failed(
        self, table: str, place: str, error: DeclarationError, *, enter: bool = True, **about: Any
    ) -> TableResult:
        """A table of which a declaration is wrong; not entered in the ledger where another machine does that."""
        failed = LoadResult(table, place, self.day, "failed", "error", None, error.what, error.where, error.mend)
        if enter:
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
        except (PlaceError, ElsewhereError, NothingArrivedError):
            return None
        return None


def _told_again(result: LoadResult) -> str:
    """What came of repeats whose originals were taken out."""
    if result.state != "loaded":
        return f"rows of load {result.mends} were not loaded: {result.message}"
    rows = result.balance.loaded if result.balance else 0
    were = "was" if rows == 1 else "were"
    return f"{counted(rows, 'row')} that load {result.mends} had set aside {were} loaded by load {result.load_no}"
