"""A load carried out in its place, and its rows judged together with those that belong to them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from nomotheta.charter import Compiled
from nomotheta.conditions import Node, check
from nomotheta.errors import DeclarationError, DeliveryError, PlaceError
from nomotheta.events import Doing, Listener
from nomotheta.ledger import LoadResult
from nomotheta.load.load import load
from nomotheta.load.order import Order, Outcome, OvertakenError, Removal
from nomotheta.load.rejects import part_of
from nomotheta.load.settlement import undoes
from nomotheta.load.steps import Step, carry_out, check_steps, read_step, without_temporary
from nomotheta.place.base import Place
from nomotheta.rules.finding import Finding, gravest
from nomotheta.rules.flown import Flown
from nomotheta.rules.judge import judge
from nomotheta.workspace.around import Around
from nomotheta.workspace.arriving import Delivered
from nomotheta.workspace.attempts import Attempt, came_of
from nomotheta.workspace.context import Context
from nomotheta.workspace.scopes import scope_of_loads

_NUMBERS = 5  # that are tried for one load


def order_of(context: Context, attempt: Attempt, place: Place, delivered: Delivered, load_no: int) -> Order:
    """The order for what was chosen of a delivery."""
    marks = place.marks(attempt.table)
    once = delivered.content
    if attempt.despite is not None or any(mark.once == once for mark in marks) or not _is_once(attempt, delivered):
        once = f"{once}:{load_no}"  # it may be in the place more than once
    return Order(
        load_no, context.identity, attempt.day, attempt.started, context.settings.time_zone, delivered.files,
        delivered.content, once, context.rejects_file(load_no), stated=delivered.stated,
        marks=tuple(mark.load_no for mark in marks), removal=_removal(attempt.compiled, delivered),
        around=Around(context, place, tells=attempt.entry is not None), own_rows=_own_rows(attempt.compiled),
        steps=_steps(context, attempt, place, load_no), streams=context.engines.streams(attempt.place),
    )  # fmt: skip


def _steps(context: Context, attempt: Attempt, place: Place, load_no: int) -> tuple[Step, ...]:
    """The team's own statements, with the day and the number of the load in them.

    Raises:
        PlaceError: a file cannot be read, or a statement cannot be undone with the load.
    """
    values = {"day": place.day(attempt.day), "load_no": str(load_no)}
    try:
        declared = attempt.compiled.charter.steps
        steps = tuple(Step(each.sql, each.when, read_step(context.root, each.sql, values)) for each in declared)
        check_steps(place, steps)
    except DeclarationError as error:
        raise PlaceError(error.what, where=error.where, mend=error.mend) from None
    return steps


def _own_rows(compiled: Compiled) -> bool:
    """Whether the rows of a load can be told from others, so that rules look at them alone."""
    return compiled.charter.load.how == "overwrite" or compiled.charter.load_column() is not None


def _is_once(attempt: Attempt, delivered: Delivered) -> bool:
    return delivered.daily or attempt.compiled.charter.load.how == "append"


def _removal(compiled: Compiled, delivered: Delivered) -> Removal | None:
    """What a load takes out before its rows go in."""
    charter = compiled.charter
    if charter.load.how == "overwrite":
        by_day = ":day" in (charter.load.slice or "")
        return Removal(compiled.slice, "day" if by_day else "all", kept=charter.load.keep_previous)
    if delivered.replaced:
        return Removal(rows_of_day(compiled, delivered.replaced), "day", kept=True)
    return None


def rows_of_day(compiled: Compiled, loads: tuple[int, ...]) -> Node:
    """The condition that a row is of some loads, which are all of one day, the load's own."""
    charter = compiled.charter
    column, day = charter.load_column(), charter.day_column()
    condition = f'"{column}" in ({", ".join(map(str, loads))})' if column else f'"{day}" = :day'
    return check(condition, charter.kinds())


def tried(
    context: Context, attempt: Attempt, place: Place, compiled: Compiled, ordered: Callable[[], Order | LoadResult],
    listener: Listener,
) -> LoadResult:  # fmt: skip
    """The load, with another number where another one has come in meanwhile; or what is known without it."""
    left = _NUMBERS
    while left:
        order = ordered()
        if isinstance(order, LoadResult):
            return order
        try:
            outcome = carried_out(context, attempt, place, compiled, order, listener)
        except OvertakenError:
            left -= 1
            continue
        except DeliveryError as error:
            rest = _without_bad(attempt, error)
            if rest is None:
                raise
            attempt.arrived = rest
            continue
        return _with_last_steps(place, order, came_of(attempt, order.load_no, outcome, order.rejects))
    raise PlaceError("other loads kept changing the table meanwhile", where=attempt.table,
                     mend="load again when they are done")  # fmt: skip


def _with_last_steps(place: Place, order: Order, result: LoadResult) -> LoadResult:
    """What came of a load, once the steps after its commit are carried out; it stands, whatever comes of them."""
    last = [step for step in order.steps if step.when == "after commit"]
    if not last or result.state != "loaded" or order.rehearsed:
        return result
    try:
        with without_temporary(place, last):
            carry_out(place, last, "after commit")
    except PlaceError as error:
        told = f"loaded; but a step after the commit failed: {error.what}"
        return replace(result, verdict=gravest([result.verdict, "error"]), message=told, where=error.where,
                       mend="correct it, and carry it out by hand: the rows are in the table")  # fmt: skip
    return replace(result, notes=(*result.notes, *(step.told for step in last)))


def _without_bad(attempt: Attempt, error: DeliveryError) -> Delivered | None:
    """The delivery without the file that an error speaks of, where the charter has bad files left out."""
    delivery = attempt.compiled.charter.delivery
    if delivery is None or delivery.on_bad_file == "refuse" or attempt.arrived is None:
        return None
    return attempt.arrived.without(error)


def carried_out(
    context: Context, attempt: Attempt, place: Place, compiled: Compiled, order: Order, listener: Listener
) -> Outcome:  # fmt: skip
    """The load itself; its rows are judged together with those that it mends or that mend it."""
    now = context.now(order.at, order.day, order.load_no)
    scope = scope_of_loads(context.ledger, compiled, [order.load_no])
    around = Around(context, place, tells=attempt.entry is not None)

    def judged(
        set_aside: Mapping[str, int], one_by_one: bool, beside: str, flown: Mapping[str, Flown]
    ) -> list[Finding]:  # fmt: skip
        if attempt.compiled.charter.load.into is not None or (beside and attempt.compiled.landing is not None):
            return []  # what was landed is judged where it is moved to, or when it is in the table
        listener(Doing(attempt.table, "checking its rules"))
        part, rows, seen = compiled, None if beside else scope, flown
        aside: Mapping[str, int] | None = set_aside
        if attempt.compiled.landing is not None:  # no row was set aside for a value, so that all is judged here
            part, aside, seen = attempt.compiled, None, {}
        elif beside:
            part, seen = _of_these_rows(compiled, beside), {}
        found = judge(place, part, now, rows, rows, aside, one_by_one=one_by_one, around=around, flown=seen)
        if undoes(part.charter, found):
            from nomotheta.workspace.beside import keep_before_undone  # only now: it seldom happens

            keep_before_undone(attempt, place, part, now, rows, found)
        return found

    def ready(outcome: Outcome) -> None:
        if attempt.entry is not None:
            result = came_of(attempt, order.load_no, outcome, part_of(order.rejects))
            context.ledger.expect_load(attempt.entry, result)

    return load(place, compiled, order, now, judged, listener, ready)


def _of_these_rows(compiled: Compiled, table: str) -> Compiled:
    """A charter for rows that lie in another table, with the rules that can be judged by them alone."""
    checks = [
        check
        for check in compiled.checks
        if check.otherwise != "reject"
        and (check.on_rows or (check.sort in {"whole", "groups"} and check.over == "load"))
    ]
    return replace(compiled, charter=compiled.charter.model_copy(update={"table": table}), checks=tuple(checks))
