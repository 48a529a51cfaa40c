"""A load on its way: its number, its entry in the ledger, and what came of it."""

from __future__ import annotations

import contextlib
import datetime
import getpass
import sys
import time
from dataclasses import dataclass, field, replace
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import DeliveryError, NomothetaError, PlaceError, visible
from nomotheta.ledger import Ledger, LoadResult
from nomotheta.load.order import Outcome
from nomotheta.load.rejects import read_rejects, recover
from nomotheta.place.base import Place
from nomotheta.rules.finding import Verdict, gravest, worst
from nomotheta.workspace.arriving import Delivered
from nomotheta.workspace.aside import FIRST, masked, shown_of
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.deliveries import left_out_told

_COMMAND = 400  # characters of a command that are kept


@dataclass(slots=True)
class Attempt:
    """A load on its way; its number and its entry in the ledger are set once it has begun.

    What is to be loaded of what has `arrived` is what counts as `delivered`.
    """

    context: Context
    compiled: Compiled
    place: str
    day: datetime.date
    run_id: int | None = None
    started: datetime.datetime = field(default_factory=moment)
    clock: float = field(default_factory=time.perf_counter)
    mends: int | None = None
    load_no: int | None = None
    entry: int | None = None
    despite: int | None = None
    changed: tuple[str, ...] = ()
    arrived: Delivered | None = None
    delivered: Delivered | None = None

    @property
    def table(self) -> str:
        """What is loaded."""
        return self.compiled.charter.table

    def numbered(self, ledger: Ledger, place: Place, exact: int | None = None) -> int:
        """Its number, a new one each time it is asked for one; it is in the ledger from now on."""
        least = place.next_load_no()
        if self.entry is None:
            self.entry, self.load_no = ledger.begin_load(
                self.table, self.place, self.day, self.started, self.run_id, least, exact
            )
        else:
            self.load_no = ledger.renumber_load(self.entry, least)
        return self.load_no

    def result(self, state: str, verdict: Verdict, **more: object) -> LoadResult:
        """A result with what the attempt alone knows."""
        seconds = round(time.perf_counter() - self.clock, 3)
        found = LoadResult(self.table, self.place, self.day, state, verdict)  # type: ignore[arg-type]
        return self.told(replace(found, **more), seconds)  # type: ignore[arg-type]

    def told(self, result: LoadResult, seconds: float) -> LoadResult:
        """What has become of the files of the delivery, beside what came of those that were loaded."""
        version, _ = self.context.charters.declared(self.compiled)
        result = replace(
            result, seconds=seconds, mends=self.mends, despite=self.despite, changed=self.changed, by=whoever(),
            charter=version, command=" ".join(map(visible, sys.argv[1:]))[:_COMMAND],
        )  # fmt: skip
        delivered = self.delivered or self.arrived
        if delivered is not None:
            result = _with_files(result, delivered)
        return replace(result, verdict=gravest([result.verdict, "warn" if result.warnings else "pass"]))


def _with_files(result: LoadResult, delivered: Delivered) -> LoadResult:
    """A result with what became of the files of its delivery."""
    left = [left_out_told(delivered.left_out)] if result.state not in {"unchanged", "refused", "failed"} else []
    if delivered.replaced and result.state == "loaded":
        left.append(f"took the place of load {' and '.join(map(str, delivered.replaced))}")
    notes = [each for each in (*result.notes, *delivered.notes, *left) if each]
    return replace(
        result, verdict=gravest([result.verdict, "fail" if delivered.bad else "pass"]),
        warnings=tuple(dict.fromkeys([*result.warnings, *delivered.warnings])), left_out=delivered.left_out,
        bad=delivered.bad, replaced=delivered.replaced, notes=tuple(dict.fromkeys(notes)),
    )  # fmt: skip


def whoever() -> str:
    """The name of who runs this process, as the system knows it; empty where it knows none."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""


def came_of(attempt: Attempt, load_no: int, outcome: Outcome, file: Path) -> LoadResult:
    """What came of a load that was carried out."""
    verdict = worst(outcome.findings)
    if outcome.state == "undone":
        verdict = gravest([verdict, "fail"])
    rejects = read_rejects(file, FIRST)
    balance = outcome.balance
    private = attempt.compiled.charter.private()
    return attempt.result(
        outcome.state, verdict, load_no=load_no, message=outcome.message, balance=balance, findings=outcome.findings,
        reasons=outcome.reasons, rejects=tuple(masked(shown_of(reject), private) for reject in rejects),
        notes=outcome.notes, warnings=outcome.warnings, in_the_way=outcome.in_the_way,
        imprint=outcome.imprint, stated=outcome.stated,
        table_rows=balance.after if outcome.state == "loaded" else balance.before,
    )  # fmt: skip


def failed(context: Context, attempt: Attempt, error: NomothetaError) -> LoadResult:
    """What became of a load whose delivery was refused, or whose place failed."""
    refused = isinstance(error, DeliveryError)
    return attempt.result(
        "refused" if refused else "failed", "fail" if refused else "error", load_no=attempt.load_no,
        message=error.what, where=error.where, mend=error.mend,
        table_rows=rows_there(context, attempt.table, attempt.place),
    )  # fmt: skip


def rows_there(context: Context, table: str, place: str) -> int | None:
    """How many rows a table holds, where that can be found out."""
    try:
        with context.places.open(place) as opened:
            return opened.count(table)
    except NomothetaError:
        return None


def entered(context: Context, attempt: Attempt, result: LoadResult) -> LoadResult:
    """The result, kept in the ledger with the charter that it was carried out by."""
    context.ledger.keep_charter(*context.charters.declared(attempt.compiled), attempt.compiled.text)
    if attempt.entry is None:
        context.ledger.add_load(result, attempt.started, attempt.run_id)
    elif result.state != "failed":
        context.ledger.end_load(attempt.entry, result)
    else:
        result = _after_failure(context, attempt, attempt.entry, result)
    return result


def _after_failure(context: Context, attempt: Attempt, entry: int, result: LoadResult) -> LoadResult:
    """What became of a load whose place failed: it may have been while it was committed.

    Where the place cannot be asked now, the entry is left to be settled when it can.
    """
    state = settled(context, attempt.place, entry)
    kept = context.ledger.load(attempt.load_no or 0) if state == "loaded" else None
    if kept is not None:
        told = f"it was committed, though the answer to the commit was lost: {result.message}"
        return replace(kept, notes=(*kept.notes, told))
    if state != "started":
        context.ledger.end_load(entry, result)
    return result


# ---- loads that were cut off


def settled(context: Context, place_name: str, entry: int) -> str:
    """The state of an entry whose work has failed, after its place was asked what became of it, if that answers."""
    context.ledger.let_go(entry)
    with contextlib.suppress(NomothetaError), context.places.open(place_name) as place:
        settle(context, place)
    return context.ledger.state(entry)


def settle(context: Context, place: Place) -> None:
    """Loads that were cut off are settled from their marks in the place."""
    for entry, load_no, table, what in context.ledger.unsettled(place.name):
        try:
            with place.transaction(table):  # which begins when the place, too, is done with what was cut off
                stands = _is_marked(context, place, table, load_no)
        except PlaceError:
            continue
        if what == "undo":
            context.ledger.settle_undo(entry, load_no, stands=stands)
            continue
        recover(context.rejects_file(load_no), stands=stands)
        context.ledger.settle(entry, stands=stands)


def _is_marked(context: Context, place: Place, table: str, load_no: int) -> bool:
    """Whether a load's mark is in its place."""
    own = context.identity
    return any(mark.load_no == load_no and mark.workspace == own for mark in place.marks(table))
