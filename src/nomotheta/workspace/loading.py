"""From a delivery to a load, in the place or in memory to find out whether it would pass."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import AwaitedError, DeclarationError, DeliveryError, NomothetaError, PlaceError, counted
from nomotheta.events import Listener
from nomotheta.frozen import frozen
from nomotheta.ledger import LeftOut, LoadResult
from nomotheta.load.compare import compare
from nomotheta.load.order import Order
from nomotheta.load.stage import begun, stage_name, stage_token
from nomotheta.place.base import Place
from nomotheta.place.connect import warm
from nomotheta.place.marks import files_of_day, outlived
from nomotheta.rules.finding import gravest, worst
from nomotheta.rules.judge import judge
from nomotheta.rules.shape import check_spelled
from nomotheta.source.delivery import expected, there
from nomotheta.workspace.archiving import away, finish_day, found_away, is_put_away, quarantine, refused_files
from nomotheta.workspace.around import Around
from nomotheta.workspace.arriving import Delivered, NothingArrivedError, arrive
from nomotheta.workspace.attempts import Attempt, entered, failed, rows_there, settle
from nomotheta.workspace.carrying import order_of, tried
from nomotheta.workspace.context import Context
from nomotheta.workspace.deliveries import changed_since, check_day, choose, merged_over
from nomotheta.workspace.judging import keep_breaks
from nomotheta.workspace.scopes import scope_of_loads

WOULD_BE_LOADED = "would be loaded"
_NAMED = 6  # keys of a charter that a message names


@frozen
class Wanted:
    """How a load is asked for.

    With `create` a table that is not there is made; with `again` a delivery that was loaded for this very day is no
    failure; with `even_if_loaded` it is loaded once more; `files` are loaded whatever files the charter names;
    `until` is the last of the days that are loaded after this one, in their order.
    """

    create: bool = False
    again: bool = False
    even_if_loaded: bool = False
    files: tuple[Path, ...] = ()
    until: datetime.date | None = None


def load_delivery(
    context: Context, compiled: Compiled, day: datetime.date, place: str | None, run_id: int | None, wanted: Wanted,
    listener: Listener,
) -> LoadResult:  # fmt: skip
    """Load a table's delivery for a day, or move it from the table where it was landed."""
    if compiled.source is not None:
        from nomotheta.workspace.moving import move  # only now: few tables are landed before

        return move(
            context, compiled, day, place, run_id, listener, create=wanted.create,
            even_if_loaded=wanted.even_if_loaded,
        )  # fmt: skip
    attempt, refused = Attempt(context, compiled, place or compiled.place, day, run_id), list[str]()
    finish_day(context, day)
    try:
        result = _loaded(context, attempt, wanted, listener)
    except NothingArrivedError:
        result = _nothing(context, attempt)
    except DeclarationError:
        raise
    except AwaitedError as error:
        result = _awaited(context, attempt, wanted, error, listener)
    except NomothetaError as error:
        result = failed(context, attempt, error)
        refused = refused_files(error, compiled.charter.delivery)
    if result.state == "undone" and result.verdict == "fail" and attempt.delivered is not None:
        refused = [file.name for file in attempt.delivered.files]
    if run_id is not None and refused:
        quarantine(context, compiled.as_loaded, day, refused, result.message)
    return entered(context, attempt, result)


def _awaited(
    context: Context, attempt: Attempt, wanted: Wanted, error: AwaitedError, listener: Listener
) -> LoadResult:  # fmt: skip
    """What is said where a delivery is not there: it was put away, or it failed to come."""
    try:
        found = _archived(context, attempt, wanted, listener)
    except (DeliveryError, PlaceError) as other:
        return failed(context, attempt, other)
    return found or failed(context, attempt, found_away(context, attempt.table, attempt.day, error))


def _archived(context: Context, attempt: Attempt, wanted: Wanted, listener: Listener) -> LoadResult | None:
    """What is said of a day in a run whose files were loaded and put away; None where that is not so.

    Where an earlier day was merged after it, it is merged once more, from where it was put away.
    """
    compiled, day = attempt.compiled.as_loaded, attempt.day
    if not (wanted.again and is_put_away(context, compiled.charter.delivery)) or _has_files(context, compiled, day):
        return None
    with context.places.open(attempt.place) as place:
        marks = place.marks(attempt.table)
        gone = outlived(marks)
        standing = [mark for mark in marks if mark.load_no not in gone]
        own = [mark.load_no for mark in standing if mark.day == day]
        before = context.ledger.load(own[-1]) if own else None
        if before is None or before.balance is None:
            return None
        left = tuple(LeftOut(file.file, own[-1], file.file) for file in before.balance.files)
        paths = [away(context, day, each.file) for each in left]
        if not all(paths):
            return None
        if not (compiled.charter.load.how == "merge" and merged_over(standing, own[-1], day)):
            check_day(place, compiled, day)
            changed = changed_since(context, place, compiled, left)
            chosen = Delivered((), daily=True, left_out=left, since=own[-1], changed=changed)
            return _unchanged(context, attempt, place, chosen)
    return _loaded(context, attempt, replace(wanted, files=tuple(found[-1] for found in paths)), listener)


def _has_files(context: Context, compiled: Compiled, day: datetime.date) -> bool:
    """Whether there is any file of a day."""
    delivery = compiled.charter.delivery
    return delivery is not None and bool(there(context.root, expected(delivery, day), optional=True))


def _nothing(context: Context, attempt: Attempt) -> LoadResult:
    """What is said where no file has arrived, and none need have."""
    delivery = attempt.compiled.as_loaded.charter.delivery
    told = "no file has arrived; the charter says it is optional"
    if delivery is not None and not delivery.expected_on(attempt.day):
        told = f"no file is expected on a {attempt.day:%A}"
    rows = rows_there(context, attempt.table, attempt.place)
    return attempt.result("nothing arrived", "pass", message=told, table_rows=rows)


def _loaded(context: Context, attempt: Attempt, wanted: Wanted, listener: Listener) -> LoadResult:
    compiled = attempt.compiled.as_loaded
    if attempt.place in context.settings.places:
        warm(context.settings.places[attempt.place].url)
    attempt.arrived = arrive(context, compiled, attempt.day, wanted.files)
    with context.places.open(attempt.place, create=wanted.create) as place:
        settle(context, place)
        if wanted.create and place.columns(attempt.table) is None:
            check_spelled(place, attempt.table)
            place.create(attempt.table, compiled.charter.kinds())
        compare(place, compiled)

        def ordered() -> Order | LoadResult:
            chosen = _chosen(context, attempt, place, wanted)
            if chosen.since is not None:
                return _unchanged(context, attempt, place, chosen)
            load_no, staging = _numbered(context, attempt, place, chosen)
            return replace(order_of(context, attempt, place, chosen, load_no), staging=staging)

        result = tried(context, attempt, place, compiled, ordered, listener)
        return _complete(attempt, place, keep_breaks(context, place, attempt.compiled, result))


def _complete(attempt: Attempt, place: Place, result: LoadResult) -> LoadResult:
    """A day that comes in parts is open, and fails, until all of them are in the table."""
    delivery = attempt.compiled.charter.delivery
    if delivery is None or not delivery.parts or result.state not in {"loaded", "unchanged"}:
        return result
    there = len(files_of_day(place, attempt.table, attempt.day))
    if there == delivery.parts:
        return result
    told = f"{there} of {counted(delivery.parts, 'file')} of {attempt.day} {'is' if there == 1 else 'are'} in the table"
    open_ = f"{told}; the day is open until all are"
    return replace(result, verdict=gravest([result.verdict, "fail"]), message=result.message or open_,
                   notes=(*result.notes, *([open_] if result.message else [])))  # fmt: skip


def _chosen(context: Context, attempt: Attempt, place: Place, wanted: Wanted) -> Delivered:
    """What of the delivery is to be loaded."""
    assert attempt.arrived is not None  # noqa: S101 - the files are there
    if wanted.even_if_loaded:
        content = attempt.arrived.content
        same = [mark.load_no for mark in place.marks(attempt.table) if mark.content == content]
        attempt.despite = same[-1] if same else None
        attempt.delivered = attempt.arrived
        return attempt.arrived
    now = context.now(attempt.started, attempt.day)
    chosen = choose(
        context, place, attempt.compiled.as_loaded, attempt.arrived, attempt.day, now, again=wanted.again,
        until=wanted.until,
    )  # fmt: skip
    attempt.delivered, attempt.changed = chosen, chosen.changed
    return chosen


def _numbered(context: Context, attempt: Attempt, place: Place, chosen: Delivered) -> tuple[int, str]:
    """The load's number, and the table in which its rows are gathered, if they are.

    A load that goes on where another was cut off has that one's number and moment.
    """
    if not attempt.compiled.charter.load.staging:
        return attempt.numbered(context.ledger, place), ""
    token = stage_token(place, attempt.compiled, context.identity, chosen.content)
    number = begun(place, attempt.compiled, token) if attempt.entry is None else None
    first = context.ledger.began(number) if number else None
    if number is None or first is None:
        fresh = attempt.numbered(context.ledger, place)
        return fresh, stage_name(attempt.table, fresh, token)
    attempt.started = first
    return attempt.numbered(context.ledger, place, number), stage_name(attempt.table, number, token)


def _unchanged(context: Context, attempt: Attempt, place: Place, chosen: Delivered) -> LoadResult:
    """The result for a delivery that is in the table already: its rows are judged as they are now."""
    compiled, since = attempt.compiled, chosen.since or 0
    scope = scope_of_loads(context.ledger, compiled, {each.load_no or since for each in chosen.left_out})
    now = context.now(attempt.started, attempt.day, since)
    moved = compiled.charter.load.into is not None  # and judged where its rows are moved to
    findings = [] if moved else judge(place, compiled, now, scope, scope, around=Around(context, place))
    before = context.ledger.load(since)
    warnings = before.warnings if before else ()
    told = "; ".join(chosen.notes) or f"unchanged since load {since}; nothing to do"
    if chosen.changed:
        keys = _listed(chosen.changed)
        told = f"unchanged since load {since}, and checked by today's charter, which has changed: {keys}"
    return attempt.result(
        "unchanged", gravest([worst(findings), *["warn" for _ in warnings[:1]]]), load_no=since,  # type: ignore[list-item]
        message=told, findings=tuple(findings), warnings=warnings, left_out=chosen.left_out,
        table_rows=place.count(attempt.table),
    )  # fmt: skip


def _listed(keys: Sequence[str]) -> str:
    more = f" and {len(keys) - _NAMED:,} more keys" if len(keys) > _NAMED else ""
    return ", ".join(keys[:_NAMED]) + more


def rehearse_delivery(
    context: Context, compiled: Compiled, day: datetime.date, place_name: str | None, wanted: Wanted, listener: Listener
) -> LoadResult:  # fmt: skip
    """The whole load in memory, to find out whether a delivery would pass."""
    if compiled.source is not None:
        from nomotheta.workspace.moving import rehearse_move

        return rehearse_move(context, compiled, day, place_name, listener, create=wanted.create)
    attempt, loaded = Attempt(context, compiled, place_name or compiled.place, day), compiled.as_loaded
    try:
        attempt.arrived = arrive(context, compiled, day, wanted.files)
        with (
            context.places.rehearsal(attempt.place, attempt.table) as (place, in_memory),
            tempfile.TemporaryDirectory(prefix="nomotheta-") as folder,
        ):
            if wanted.create and place.columns(attempt.table) is None:
                if not in_memory:
                    raise PlaceError("there is no table for the trial run", where=f"{attempt.table} in {place.shown}",
                                     mend="create it first: in this place a rehearsal makes none")  # fmt: skip
                place.create(attempt.table, loaded.charter.kinds())
            compare(place, loaded)

            def ordered() -> Order | LoadResult:
                chosen = _chosen(context, attempt, place, wanted)
                if chosen.since is not None:
                    return _unchanged(context, attempt, place, chosen)
                load_no = max(place.next_load_no(), context.ledger.highest_load_no() + 1)
                order = order_of(context, attempt, place, chosen, load_no)
                steps = () if in_memory else order.steps  # which speak of tables that are not there
                return replace(order, rejects=Path(folder) / "rejects.parquet", rehearsed=not in_memory, steps=steps)

            result = tried(context, attempt, place, loaded, ordered, listener)
            if result.state in {"loaded", "undone"}:
                told = f"would be rolled back: {result.message}" if result.state == "undone" else WOULD_BE_LOADED
                rows = result.balance.before if result.balance else None
                result = replace(result, state="rehearsed", load_no=None, message=told, table_rows=rows)
    except NothingArrivedError:
        result = _nothing(context, attempt)
    except DeclarationError:
        raise
    except NomothetaError as error:
        result = failed(context, attempt, error)
    return result
