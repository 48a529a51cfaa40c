"""Tables held against their charters, and against the files they were loaded from."""

from __future__ import annotations

import datetime
import time
from dataclasses import replace
from typing import TYPE_CHECKING

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError, PlaceError
from nomotheta.events import Listener
from nomotheta.ledger import Judgement, LoadResult
from nomotheta.load.balance import Balance
from nomotheta.load.mended import delimiter_of, mended_charter
from nomotheta.place import Now
from nomotheta.reconcile import Reconciliation
from nomotheta.reconcile.reconcile import LoadedFiles, reconcile
from nomotheta.rules import Scope, judge, worst

if TYPE_CHECKING:
    from nomotheta.workspace.loading import Loading
    from nomotheta.workspace.workspace import Workspace


class Checking:
    """Judges and reconciles the tables of a workspace."""

    def __init__(self, workspace: Workspace, loading: Loading) -> None:
        self.workspace, self.loading = workspace, loading

    def judge(self, compiled: Compiled, place_name: str, day: datetime.date | None) -> Judgement:
        """Check a table against its charter; what goes wrong with the place is told by the result."""
        started, clock = _now(), time.perf_counter()
        table = compiled.charter.table
        try:
            with self.workspace.places.open(place_name) as place:
                marks = place.marks(table)
                last = marks[-1].load_no if marks else None
                now = Now(started.astimezone(self.workspace.zone), day or self.workspace.today(), last)
                load_scope = self.loading.scope_of_load(compiled, last) if last else None
                findings = judge(place, compiled, now, Scope(), load_scope)
                result = Judgement(table, place_name, "table", worst(findings), tuple(findings))
        except PlaceError as error:
            where = f"{error.where}: " if error.where else ""
            result = Judgement(table, place_name, "table", "error", message=where + error.what, mend=error.mend)
        result = replace(result, seconds=round(time.perf_counter() - clock, 3))
        self.workspace.ledger.add_judgement(result, started)
        return result

    def reconcile(
        self, compiled: Compiled, load_no: int | None, place: str | None, run_id: int | None, listener: Listener
    ) -> Reconciliation:
        """Compare the files of a load with the table, as `Workspace.reconcile` says."""
        started = _now()
        name = place or compiled.place
        with self.workspace.places.open(name) as opened:
            self.loading.settle(opened)
            loads, scope = self._to_reconcile(compiled, name, load_no)
            now = Now(started, loads[-1].day, loads[-1].load_no)
            merged = compiled.charter.keys[0].columns if compiled.charter.load.how == "merge" else ()
            where = opened.render(scope.where, now) if scope.where and not merged else None
            zone = self.workspace.settings.time_zone
            result = reconcile(opened, compiled, loads, where, scope.label, zone, listener, merged)
        self.workspace.ledger.add_reconciliation(result, started, run_id)
        return result

    def _to_reconcile(self, compiled: Compiled, place: str, load_no: int | None) -> tuple[list[LoadedFiles], Scope]:
        table = compiled.charter.table
        standing = self.workspace.ledger.standing(table, place)
        if not standing:
            raise DeclarationError(f"no load of {table} is in the ledger, so there are no files to compare it with",
                                   where=table, mend=f"load it first: nomotheta load {table}")  # fmt: skip
        loads = [self._loaded_files(compiled, result, at) for result, at in standing if result.balance]
        number = loads[-1].load_no if load_no is None else load_no
        family = self.loading.family(number)
        own = [each for each in loads if each.load_no in family]
        if not own:
            known = ", ".join(str(result.load_no) for result, _ in standing)
            raise DeclarationError(f"load {load_no} did not load into {table}", where=table, mend=f"its loads: {known}")
        scope = self.loading.scope_of_load(compiled, own[-1].load_no)
        if compiled.charter.load.how == "merge" and scope.label == "table":
            scope = Scope(f"load {own[-1].load_no}")
        if scope.label == "table":  # the rows of one load cannot be told from the others': the files of all are held
            return loads, Scope("all loads" if len(loads) > 1 else f"load {loads[-1].load_no}")
        return own, scope

    def _loaded_files(self, compiled: Compiled, result: LoadResult, at: datetime.datetime) -> LoadedFiles:
        """The files of a load, and how they are read."""
        number, balance = result.load_no or 0, result.balance or Balance()
        mended = result.mends is not None
        kept = self.workspace.mended_file(number)
        if mended:
            path = kept if kept.exists() else self.workspace.root / balance.files[0].file
            compiled = mended_charter(compiled, delimiter_of(path))
        return LoadedFiles(
            number, result.day, at, self.workspace.root, balance, self.workspace.rejects_file(number), compiled, mended,
            kept if mended and kept.exists() else None,
        )  # fmt: skip


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)
