"""What should have arrived and what has, day by day: asked as a load would ask it, and nothing is loaded."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import replace
from pathlib import Path

from nomotheta.charter import Compiled, Delivery
from nomotheta.errors import AwaitedError, DeliveryError, ElsewhereError, PlaceError
from nomotheta.place.base import Place
from nomotheta.place.marks import outlived
from nomotheta.source.arrivals import ORDER, Arrival, Arrivals, FileThere, State, Stray
from nomotheta.source.delivery import expected, there
from nomotheta.source.patterns import day_in
from nomotheta.source.strays import any_day, strays
from nomotheta.urls import is_fetched
from nomotheta.workspace.arriving import Delivered, NothingArrivedError, arrive
from nomotheta.workspace.context import CHARTERS, COMPARISONS, MEMORY, REPORTS, Context, moment
from nomotheta.workspace.deliveries import check_day, choose, merged_over

_OWN = frozenset({CHARTERS, COMPARISONS, MEMORY, REPORTS})


def arrivals_of(
    context: Context, chosen: Sequence[Compiled], days: Sequence[datetime.date], place: str | None, *, whole: bool,
    create: bool = False,
) -> Arrivals:  # fmt: skip
    """What has arrived of some tables' deliveries for some days.

    Args:
        context: the workspace.
        chosen: the tables.
        days: those that are asked for, in order.
        place: another than the charters'.
        whole: whether these are all tables, so that other files belong to none.
        create: whether a database that is not there may be made.
    """
    at = moment().astimezone(context.zone)
    found: list[Arrival] = []
    with context.places.keeping():
        for compiled in chosen:
            if compiled.charter.delivery is not None:
                found += _Asking(context, compiled, place or compiled.place, at, create=create).of(days)
    found.sort(key=lambda each: (ORDER.index(each.state), each.day, each.table))
    patterns = {each.charter.table: each.charter.delivery for each in chosen if each.charter.delivery is not None}
    left: Sequence[Stray] = ()
    if whole:
        named = [pattern for each in patterns.values() for pattern in each.patterns]
        beside = context.elsewhere.beside(named) if any(map(is_fetched, named)) else {}
        left = strays(context.root, patterns, days[-1], _OWN, beside)
    failing = any(each.verdict == "fail" for each in found)
    return Arrivals("fail" if failing else "warn" if left else "pass", at, tuple(found), tuple(left))


class _Asking:
    """One table's deliveries."""

    def __init__(
        self, context: Context, compiled: Compiled, place: str, at: datetime.datetime, *, create: bool
    ) -> None:  # fmt: skip
        delivery = compiled.charter.delivery
        assert delivery is not None  # noqa: S101 - only such tables are asked for
        self.context, self.compiled, self.delivery, self.at = context, compiled.as_loaded, delivery, at
        self.place_name, self.create, self.silent = place, create, ""
        self.stale: set[datetime.date] = set()  # days of which rows may have the values of an earlier one

    def of(self, days: Sequence[datetime.date]) -> Iterator[Arrival]:
        """What came of it for these days, and for earlier ones of which there are files that no load has brought."""
        with self._asked() as place:
            loaded = self._loaded(place)
            if not self.delivery.daily:
                yield self._arrival(place, days[-1], max(loaded.values(), default=None))
                return
            there = self._days_there() if place is not None else set()
            earlier = {day for day in there if day not in loaded} | self.stale
            for day in sorted({*days} | {day for day in earlier if day < days[0]}):
                found = self._arrival(place, day, loaded.get(day))
                if self.delivery.expected_on(day) or found.files or found.state == "loaded":
                    yield found

    @contextmanager
    def _asked(self) -> Iterator[Place | None]:
        """The place, or None where it cannot be asked: whether files have come does not depend on it."""
        with ExitStack() as stack:
            place = None
            try:
                place = stack.enter_context(self.context.places.open(self.place_name, create=self.create))
            except PlaceError as error:
                self.silent = _not_known(error)
            yield place

    def _loaded(self, place: Place | None) -> dict[datetime.date, int]:
        """The days of which rows are in the table, each with the newest load."""
        if place is None:
            return {}
        marks = place.marks(self.compiled.charter.table)
        gone = outlived(marks)
        standing = [mark for mark in marks if mark.load_no not in gone]
        found = {mark.day: mark.load_no for mark in standing}
        if self.compiled.charter.load.how == "merge" and self.delivery.daily:
            self.stale = {day for day, load_no in found.items() if merged_over(standing, load_no, day)}
        return found

    def _arrival(self, place: Place | None, day: datetime.date, before: int | None) -> Arrival:
        """What came of it for a day, of which a load may be in the table."""
        charter, due = self.compiled.charter, self.delivery.due_at(day, self.context.zone)
        unfetched = self._unfetched(day)
        files = tuple(files_there(self.context.root, self.delivery, day))
        found = Arrival(
            charter.table, day, "arrived", due, files, self.delivery.parts, owners=tuple(charter.owners),
            place_answers=place is not None,
        )  # fmt: skip
        if isinstance(unfetched, ElsewhereError):
            return replace(found, state="refused", message=unfetched.what, where=unfetched.where, mend=unfetched.mend)
        try:
            if unfetched is not None:
                raise unfetched
            if before is not None and place is not None and not files:  # what was loaded may have been put away since
                return self._in_table(place, found, before)
            return self._arrived(place, found, arrive(self.context, self.compiled, day, fetched=True))
        except NothingArrivedError:
            return replace(found, state="none came")
        except AwaitedError as error:
            state, told = self._waiting(day, due), error
            return replace(found, state=state, message=told.what, where=told.where, mend=told.mend)
        except DeliveryError as error:
            return replace(found, state="refused", message=error.what, where=error.where, mend=error.mend)

    def _unfetched(self, day: datetime.date) -> AwaitedError | ElsewhereError | None:
        """What keeps the files of a day from being fetched; None where they are, or lie here."""
        if any(map(is_fetched, self.delivery.patterns)):
            try:
                self.context.elsewhere.bring(self.delivery, day, self.at.timestamp())
            except (AwaitedError, ElsewhereError) as error:
                return error
        return None

    def _days_there(self) -> set[datetime.date]:
        """The days of which there are files."""
        names = [
            (pattern, name) for pattern in self.delivery.patterns for name in any_day(self.context.root, pattern)
        ]  # fmt: skip
        for pattern in filter(is_fetched, self.delivery.patterns):
            with suppress(ElsewhereError):
                names += [(pattern, each.name) for each in self.context.elsewhere.of_any_day([pattern])]
        days = {day_in(pattern, name) for pattern, name in names}
        return {day for day in days if isinstance(day, datetime.date)}

    def _in_table(self, place: Place, found: Arrival, load_no: int) -> Arrival:
        """Of what a load brought, whether it is all of its day, and is as it was.

        Raises:
            AwaitedError: a part is missing.
        """
        if found.day in self.stale:
            told = f"an earlier day was merged after load {load_no}, so this day must be merged again"
            mend = f"nomotheta run --from {found.day} {found.table}"
            raise AwaitedError(told, where=f"{found.table}, {found.day}", mend=mend)
        if self.delivery.daily:
            check_day(place, self.compiled, found.day)
        return replace(found, state="loaded", load_no=load_no)

    def _arrived(self, place: Place | None, found: Arrival, delivered: Delivered) -> Arrival:
        """Of what is there as a whole, whether it could be loaded, or is.

        Raises:
            DeliveryError: it could not be loaded.
        """
        if place is None:
            return replace(found, message=self.silent)
        try:
            now = self.context.now(self.at, found.day)
            chosen = choose(self.context, place, self.compiled, delivered, found.day, now, again=True)
        except PlaceError as error:
            return replace(found, message=_not_known(error), place_answers=False)
        for bad in chosen.bad[:1]:
            return replace(found, state="refused", message=bad.message, where=bad.file, mend=bad.mend)
        if chosen.since is not None and not chosen.changed:
            if found.day in self._loaded(place):  # else a newer day has replaced all
                check_day(place, self.compiled, found.day)
            return replace(found, state="loaded", load_no=chosen.since)
        return replace(found, message="; ".join((*chosen.warnings, *chosen.notes)))

    def _waiting(self, day: datetime.date, due: datetime.datetime | None) -> State:
        """What is not there: late once it was due; without a due time, when its day has begun."""
        if not self.delivery.expected_on(day):
            return "awaited"
        if due is not None:
            return "late" if self.at >= due else "awaited"
        return "missing" if day <= self.at.date() else "awaited"


def _not_known(error: PlaceError) -> str:
    return f"whether it was loaded is not known: {error.what}"


def files_there(root: Path, delivery: Delivery, day: datetime.date) -> Iterator[FileThere]:
    """The files of a day as they are now, whole or not."""
    try:
        found = there(root, expected(delivery, day), optional=True)
    except DeliveryError:
        return
    for path, name in found.items():
        try:
            seen = path.stat()
        except OSError:
            continue
        yield FileThere(name, seen.st_size, datetime.datetime.fromtimestamp(seen.st_mtime, datetime.UTC))
