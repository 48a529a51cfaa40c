"""Rows moved from a landing table into the table of their values, in one transaction, with the account of any load."""

from __future__ import annotations

import datetime
import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

from blake3 import blake3

from nomotheta.charter import Compiled
from nomotheta.conditions import Node, check
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, counted
from nomotheta.events import Listener
from nomotheta.frozen import frozen
from nomotheta.ledger import LeftOut, LoadResult
from nomotheta.load.compare import compare
from nomotheta.load.inside import Inside, inside_of
from nomotheta.load.landed import Taken, check_texts, content_of, open_landed, take_out
from nomotheta.load.order import Order
from nomotheta.place.base import LoadedFile, Mark, Place
from nomotheta.place.marks import files_known, outlived
from nomotheta.rules.finding import gravest, worst
from nomotheta.rules.judge import judge
from nomotheta.rules.shape import check_spelled
from nomotheta.workspace.around import Around
from nomotheta.workspace.arriving import Delivered
from nomotheta.workspace.attempts import Attempt, entered, failed, rows_there, settle
from nomotheta.workspace.carrying import order_of, tried
from nomotheta.workspace.context import MEMORY, Context
from nomotheta.workspace.deliveries import changed_since, loaded_again
from nomotheta.workspace.judging import keep_breaks
from nomotheta.workspace.scopes import family, scope_of_loads

_MOVED = "moved:"  # what the content of rows begins with that come from a landing table
_A_DAY = 86_400  # seconds
_LONGEST = 120  # letters of a content, in which loads are listed by their numbers


@frozen
class _Chosen:
    """Rows of a landing table that are to be moved: of which loads, and the condition that tells them; None for all.

    `whole` is the content of a table that was landed by some other means. `replaced` are the loads whose rows go. Where
    nothing is to be moved, `there` are the loads that moved what is there, the newest of them `since`.
    """

    loads: tuple[int, ...] = ()
    where: Node | None = None
    whole: str = ""
    replaced: tuple[int, ...] = ()
    since: int | None = None
    there: tuple[int, ...] = ()
    changed: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


class _NothingLandedError(Exception):
    """No load of the landing table is in it for the day, and none need be."""


def move(
    context: Context, compiled: Compiled, day: datetime.date, place: str | None, run_id: int | None, listener: Listener,
    *, create: bool = False, even_if_loaded: bool = False,
) -> LoadResult:  # fmt: skip
    """Move what the landing table holds for a day, and was not moved yet, into the table of its values."""
    attempt = Attempt(context, compiled, place or compiled.place, day, run_id)
    try:
        with context.places.open(attempt.place, create=create) as opened:
            settle(context, opened)
            if create and opened.columns(attempt.table) is None:
                check_spelled(opened, attempt.table)
                opened.create(attempt.table, compiled.charter.kinds())
            result = _moved(context, attempt, opened, listener, again=even_if_loaded)
    except _NothingLandedError:
        rows = rows_there(context, attempt.table, attempt.place)
        told = f"no file has arrived for {_landing(compiled)}; the charter says it is optional"
        result = attempt.result("nothing arrived", "pass", message=told, table_rows=rows)
    except DeclarationError:
        raise
    except NomothetaError as error:
        result = failed(context, attempt, error)
    return entered(context, attempt, result)


def rehearse_move(
    context: Context, compiled: Compiled, day: datetime.date, place_name: str | None, listener: Listener, *,
    create: bool = False,
) -> LoadResult:  # fmt: skip
    """The same to find out whether it would pass; nothing of it stays."""
    attempt = Attempt(context, compiled, place_name or compiled.place, day)
    try:
        with (
            context.places.rehearsal(attempt.place, attempt.table, _landing(compiled)) as (place, in_memory),
            tempfile.TemporaryDirectory(prefix="nomotheta-") as folder,
        ):
            if create and in_memory and place.columns(attempt.table) is None:
                place.create(attempt.table, compiled.charter.kinds())
            rehearsed = Path(folder) / "rejects.parquet"
            result = _moved(context, attempt, place, listener, rejects=rehearsed, rehearsed=not in_memory)
    except _NothingLandedError:
        result = attempt.result("nothing arrived", "pass")
    except DeclarationError:
        raise
    except NomothetaError as error:
        result = failed(context, attempt, error)
    return result


def _moved(
    context: Context, attempt: Attempt, place: Place, listener: Listener, *, again: bool = False,
    rejects: Path | None = None, rehearsed: bool = False,
) -> LoadResult:  # fmt: skip
    compiled = attempt.compiled
    there = compare(place, compiled)
    with ExitStack() as stack:
        folder = Path(stack.enter_context(_folder(context)))

        def ordered() -> Order | LoadResult:
            chosen = _chosen(context, attempt, place, again=again)
            if chosen.since is not None:
                return _unchanged(context, attempt, place, chosen)
            where = _rendered(context, attempt, place, chosen)
            check_texts(place, compiled)
            load_no = (
                attempt.numbered(context.ledger, place)
                if rejects is None
                else max(place.next_load_no(), context.ledger.highest_load_no() + 1)
            )
            now, zone = context.now(attempt.started, attempt.day, load_no), context.settings.time_zone
            inside = inside_of(place, compiled, there, where, now, zone, attempt.started, _expected(chosen, compiled))
            taken = take_out(place, compiled, where if inside is None else "1 = 0", folder / "landed.arrow")
            attempt.delivered = Delivered([taken.file], daily=True, replaced=chosen.replaced, notes=chosen.notes)
            attempt.changed = chosen.changed
            order = replace(_order(context, attempt, place, chosen, taken, load_no, inside), inside=inside)
            return order if rejects is None else replace(order, rejects=rejects, rehearsed=rehearsed)

        result = tried(context, attempt, place, compiled, ordered, listener)
        return result if rejects else keep_breaks(context, place, compiled, result)


def _unchanged(context: Context, attempt: Attempt, place: Place, chosen: _Chosen) -> LoadResult:
    """The result where nothing is to be moved: the rows that were are judged as they are now."""
    compiled, now = attempt.compiled, context.now(attempt.started, attempt.day, chosen.since)
    scope = scope_of_loads(context.ledger, compiled, chosen.there)
    findings = judge(place, compiled, now, scope, scope, around=Around(context, place))
    rows, told = place.count(attempt.table), f"unchanged since load {chosen.since}; nothing to move"
    verdict = worst(findings)
    if scope.label != "table" and compiled.charter.load.how != "merge":
        own = {number for load_no in chosen.there for number in family(context.ledger, load_no)}
        moved = sum(mark.rows for mark in place.marks(attempt.table) if mark.load_no in own)
        there = place.count(attempt.table, place.render(scope.where, now) if scope.where else None)
        if there != moved:  # somebody has taken some out since, or added some
            verdict = gravest([verdict, "fail"])
            told = f"{counted(moved, 'row')} came with {scope.label}, and {there:,} are in the table now"
    return attempt.result(
        "unchanged", verdict, load_no=chosen.since, message=told, findings=tuple(findings), table_rows=rows
    )


def _folder(context: Context) -> tempfile.TemporaryDirectory[str]:
    memory = context.root / MEMORY
    memory.mkdir(exist_ok=True)
    for left in memory.glob("moving-*"):  # of a process that was killed
        if time.time() - left.stat().st_mtime > _A_DAY:
            shutil.rmtree(left, ignore_errors=True)
    return tempfile.TemporaryDirectory(prefix="moving-", dir=memory)


def _landing(compiled: Compiled) -> str:
    assert compiled.source is not None  # noqa: S101 - only then is there something to move
    return compiled.source.charter.table


def _rendered(context: Context, attempt: Attempt, place: Place, chosen: _Chosen) -> str | None:
    if chosen.where is None or attempt.compiled.source is None:
        return None
    place.expect(_landing(attempt.compiled), attempt.compiled.source.as_loaded.charter.kinds())
    return place.render(chosen.where, context.now(attempt.started, attempt.day))


def _order(
    context: Context, attempt: Attempt, place: Place, chosen: _Chosen, taken: Taken, load_no: int,
    inside: Inside | None,
) -> Order:  # fmt: skip
    compiled, landing = attempt.compiled, _landing(attempt.compiled)
    assert attempt.delivered is not None  # noqa: S101 - what is moved
    contents = [f"{_MOVED}{landing}:{number}" for number in chosen.loads] or [f"{_MOVED}{landing}:{chosen.whole}"]
    content = _content(landing, chosen)
    order = order_of(context, attempt, place, attempt.delivered, load_no)
    marks = place.marks(attempt.table)
    often = compiled.charter.load.how != "append" or any(mark.once == content for mark in marks)
    where = _rendered(context, attempt, place, chosen)

    def still() -> None:
        """Whether the landing table still holds what was taken out of it.

        Raises:
            DeliveryError: it does not.
        """
        there = taken.rows if inside is not None else place.count(landing, where)
        if there != taken.rows or not {*chosen.loads} <= {mark.load_no for mark in _standing(place, landing)}:
            told = f"the table changed while its rows were moved: {counted(taken.rows, 'row')} before, {there:,} now"
            raise DeliveryError(told, where=landing, mend="load again when nobody changes it")

    return replace(
        order, content=content, once=f"{content}:{load_no}" if often else content,
        brought=[(landing, each, taken.file.survey.bytes_of_content) for each in contents], still=still,
        opened=lambda file: open_landed(file, compiled),
    )  # fmt: skip


def _expected(chosen: _Chosen, compiled: Compiled) -> Callable[[int], None]:
    """What sees to it that so many rows are those whose content is known."""

    def check_rows(total: int) -> None:
        known = int(chosen.whole.rpartition(":")[2]) if chosen.whole else total
        if total != known:
            told = f"the table changed while its rows were moved: {counted(known, 'row')} before, {total:,} now"
            raise DeliveryError(told, where=_landing(compiled), mend="load again when nobody changes it")

    return check_rows


def _content(landing: str, chosen: _Chosen) -> str:
    """What is known of the rows in the mark: the loads that landed them, or what they hold."""
    told = chosen.whole or "+".join(map(str, chosen.loads))
    content = f"{_MOVED}{landing}:{told}"
    return content if len(content) <= _LONGEST else f"{_MOVED}{blake3(content.encode()).hexdigest()}"


# ---- what is to be moved


def _standing(place: Place, table: str) -> list[Mark]:
    """The loads whose rows are in a table."""
    marks = place.marks(table)
    gone = outlived(marks)
    return [mark for mark in marks if mark.load_no not in gone]


def moved_from(place: Place, table: str, landing: str, context: Context) -> list[LoadedFile]:
    """What was moved from a landing table into another and is still there, with the loads that moved it."""
    standing = {mark.load_no for mark in _standing(place, table)}
    if not standing:
        return []
    now = context.now(datetime.datetime.now(datetime.UTC), context.today())
    found = files_known(place, table, (), {landing}, now)
    return [each for each in found if each.load_no in standing and each.content.startswith(f"{_MOVED}{landing}:")]


def landed_by(moved: LoadedFile) -> int | None:
    """The load of the landing table that brought rows which were moved; None where it was no load of ours."""
    told = moved.content.rsplit(":", 1)[-1] if moved.content.count(":") == _OF_A_LOAD else ""
    return int(told) if told.isdigit() else None


_OF_A_LOAD = 2  # colons in the content of what one load has landed


def _chosen(context: Context, attempt: Attempt, place: Place, *, again: bool) -> _Chosen:
    """The rows that are to be moved: what is in the landing table for the day, less what was moved before.

    Raises:
        DeliveryError: nothing was landed for the day, or rows were moved that the landing table does not hold any more.
        _NothingLandedError: nothing was, and nothing need have been.
    """
    compiled = attempt.compiled
    source = compiled.source
    assert source is not None  # noqa: S101 - only then is there something to move
    landing, how = source.charter.table, compiled.charter.load.how
    before = [] if again else moved_from(place, attempt.table, landing, context)
    delivery = source.charter.delivery
    if delivery is None:
        return _landed_elsewhere(context, attempt, place, before)
    day = attempt.day if delivery.daily else None
    loads = [mark.load_no for mark in _standing(place, landing) if day in {None, mark.day}]
    if not loads:
        if delivery.optional:
            raise _NothingLandedError
        raise DeliveryError(
            f"nothing was landed for {attempt.day}" if day else "nothing was landed", where=landing,
            mend=f"land it first: nomotheta load {landing} --day {attempt.day}",
        )  # fmt: skip
    before = [each for each in before if day in {None, each.day}]
    moved = {landed_by(each): each.load_no for each in before}
    stale = sorted({load_no for number, load_no in moved.items() if number not in loads})
    fresh = [number for number in loads if number not in moved]
    changed: tuple[str, ...] = ()
    if not fresh and not stale:
        since = max(moved.values())
        left = [LeftOut(landing, since, landing)]
        changed = () if how == "append" else changed_since(context, place, compiled, left)
        if not changed:
            return _Chosen(since=since, there=tuple(sorted(set(moved.values()))))
    notes = (loaded_again(changed),) if changed else ()
    if how == "append" and stale:
        if compiled.charter.load.same_day != "replace":
            raise DeliveryError(
                f"load {stale[-1]} moved rows that are no longer in {landing}", where=attempt.table,
                mend=f"undo it first: nomotheta undo {stale[-1]}",
            )  # fmt: skip
        own = sorted(set(moved.values()))
        return _Chosen(tuple(loads), _of_loads(source, loads), replaced=tuple(own))
    chosen = loads if how == "overwrite" or changed else fresh or loads
    return _Chosen(tuple(chosen), _of_loads(source, chosen), changed=changed, notes=notes)


def _of_loads(source: Compiled, loads: Sequence[int]) -> Node | None:
    """The condition that a row of the landing table is of some loads; None where all are."""
    column = source.charter.load_column()
    if column is None:
        return None  # it is overwritten by each load
    return check(f'"{column}" in ({", ".join(map(str, loads))})', source.as_loaded.charter.kinds())


def _landed_elsewhere(
    context: Context, attempt: Attempt, place: Place, before: Sequence[LoadedFile]
) -> _Chosen:  # fmt: skip
    """All of a table that was landed by some other means, unless just that was moved last."""
    compiled = attempt.compiled
    whole = content_of(place, compiled)
    content = f"{_MOVED}{_landing(compiled)}:{whole}"
    known = [each for each in before if each.content == content]
    last = before[-1:] if compiled.charter.load.how != "append" else known
    if known and last and last[-1].content == content:
        since = last[-1].load_no
        left = [LeftOut(_landing(compiled), since, _landing(compiled))]
        changed = () if compiled.charter.load.how == "append" else changed_since(context, place, compiled, left)
        if not changed:
            return _Chosen(since=since, there=(since,))
        return _Chosen(whole=whole, changed=changed, notes=(loaded_again(changed),))
    return _Chosen(whole=whole)
