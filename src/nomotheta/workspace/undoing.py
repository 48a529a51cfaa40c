"""Loads taken out of their tables again, one or several as one."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace

from nomotheta.errors import DeclarationError, DeliveryError, GoneError, NomothetaError
from nomotheta.ledger import LoadResult, Undone
from nomotheta.ledger.record import WAS
from nomotheta.load.undo import TakenOut, TakeOut, undo
from nomotheta.place.base import Place
from nomotheta.rules.finding import Verdict
from nomotheta.workspace.attempts import settle, settled
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.moving import landed_by, moved_from
from nomotheta.workspace.reopening import open_again


def undo_loads(context: Context, numbers: Sequence[int]) -> list[Undone]:
    """Take loads out of their tables, the newest first, all of them or none.

    Raises:
        DeclarationError: there is no such load, its rows cannot be told, or they are of several places.
    """
    started, clock = moment(), time.perf_counter()
    loads = [_standing(context, number) for number in sorted(set(numbers), reverse=True)]
    _check_mending(context, loads)
    places = sorted({load.place for load in loads})
    if len(places) > 1:
        raise DeclarationError(f"loads of several places ({', '.join(places)}) cannot be undone together",
                               mend="undo those of each place by themselves")  # fmt: skip
    takes = [
        TakeOut(
            load.load_no or 0, context.charters.compiled([load.table])[0], load.balance.how,
            context.now(started, load.day, load.load_no), restores=bool(load.replaced),
        )
        for load in loads
        if load.balance is not None
    ]  # fmt: skip
    entries: list[int] = []
    results = [Undone(load.load_no or 0, load.table, load.place, "error", "was cut off") for load in loads]
    try:
        with context.places.open(places[0]) as place:
            settle(context, place)
            _check_moved(context, place, loads)
            entries = [context.ledger.begin_undo(load, started) for load in loads]
            found = undo(place, takes, context.identity)
            results = [_done(result, taken) for result, taken in zip(results, found, strict=True)]
    except DeclarationError as error:
        results = [replace(result, message=error.what) for result in results]
        raise
    except NomothetaError as error:
        verdict: Verdict = "fail" if isinstance(error, DeliveryError) else "error"
        results = [
            replace(result, verdict=verdict, message=error.what, where=error.where, mend=error.mend)
            for result in results
        ]
    finally:
        seconds = round(time.perf_counter() - clock, 3)
        results = [replace(result, seconds=seconds) for result in results]
        for entry, result in zip(entries, results, strict=False):
            if result.verdict != "error" or settled(context, result.place, entry) == "cut off":
                context.ledger.end_undo(entry, result)
    return _opened_again(context, results)


def _done(result: Undone, taken: TakenOut) -> Undone:
    return replace(
        result, verdict="pass", message="", before=taken.before, removed=taken.removed, restored=taken.restored,
        after=taken.after,
    )  # fmt: skip


def _standing(context: Context, load_no: int) -> LoadResult:
    """A load whose rows are in its table.

    Raises:
        DeclarationError: it is not known, or has none there.
    """
    load = context.ledger.load(load_no)
    if load is None or load.balance is None or load.state != "loaded":
        told = (
            "is not in the ledger"
            if load is None
            else f"has no rows in its table: it was {WAS.get(load.state, load.state)}"
        )
        raise DeclarationError(f"load {load_no} {told}", mend="see: nomotheta ledger")
    return load


def _check_mending(context: Context, loads: Sequence[LoadResult]) -> None:
    """Rows that were mended go before the load that they are of."""
    chosen = {load.load_no for load in loads}
    for load in loads:
        later = [number for number in context.ledger.mending(load.load_no or 0) if number not in chosen]
        if later:
            raise DeclarationError(
                f"load {later[-1]} brought mended rows of load {load.load_no}", where=load.table,
                mend=f"undo that one first: nomotheta undo {later[-1]}",
            )  # fmt: skip


def _check_moved(context: Context, place: Place, loads: Sequence[LoadResult]) -> None:
    """Rows that were moved on go before those of the landing table from which they came."""
    chosen = {load.load_no for load in loads}
    for typed in context.charters.known().values():
        landing = typed.source.charter.table if typed.source else None
        if landing is None or landing not in {load.table for load in loads} or typed.place != place.name:
            continue
        for moved in moved_from(place, typed.charter.table, landing, context):
            if landed_by(moved) in chosen and moved.load_no not in chosen:
                raise DeclarationError(
                    f"load {moved.load_no} moved the rows of load {landed_by(moved)} into {typed.charter.table}",
                    where=landing, mend=f"undo both: nomotheta undo {landed_by(moved)} {moved.load_no}",
                )  # fmt: skip


def _opened_again(context: Context, results: list[Undone]) -> list[Undone]:
    """What was set aside for the sake of rows that are out now, said with the first load of each table."""
    told: set[str] = set()
    found = []
    for result in results:
        if result.verdict == "pass" and result.table not in told:
            told.add(result.table)
            try:
                with context.places.open(result.place) as place:
                    rows = open_again(context, place, result.table)
                result = replace(result, open_again={load_no: len(each) for load_no, each in rows.items()})  # noqa: PLW2901
            except GoneError as error:
                why = f"undone; rows that may come in now were not looked for: {error.what}"
                result = replace(result, message=why, where=error.where, mend=error.mend)  # noqa: PLW2901
        found.append(result)
    return found


def loads_of_run(context: Context, run_id: int) -> list[int]:
    """The loads of a run whose rows are in their tables.

    Raises:
        DeclarationError: there is none.
    """
    found = context.ledger.loads_of_run(run_id)
    if not found:
        raise DeclarationError(f"run {run_id} has no load whose rows are in a table", mend="see: nomotheta ledger")
    return found
