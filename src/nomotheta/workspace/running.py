"""A night: every table loaded, judged and reconciled, in the order of their references."""

from __future__ import annotations

import datetime
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError, NomothetaError
from nomotheta.events import Doing, Listener, Progress
from nomotheta.ledger import RunResult, TableResult
from nomotheta.rules.finding import gravest
from nomotheta.workspace.archiving import discard_old
from nomotheta.workspace.around import is_stale
from nomotheta.workspace.comparing import comparison_names, declared_comparison
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.crew import Crew
from nomotheta.workspace.loading import Wanted
from nomotheta.workspace.sharing import Sharing
from nomotheta.workspace.walking import HAS, Walking


class Running:
    """One run of a workspace, for a day; so many tables at a time as `jobs` says, where none waits for another."""

    def __init__(
        self, context: Context, day: datetime.date, place: str | None, listener: Listener, *, create: bool,
        until: datetime.date | None = None, jobs: int = 1,
    ) -> None:  # fmt: skip
        self.context, self.day, self.place, self.listener, self.jobs = context, day, place, listener, jobs
        self.wanted = Wanted(create, again=True, until=until)
        self.run_id = 0
        self.results: dict[str, TableResult] = {}

    def run(
        self, chosen: Sequence[Compiled], broken: Mapping[str, DeclarationError], told: Callable[[TableResult], None],
        sharing: Sharing | None = None,
    ) -> RunResult:  # fmt: skip
        """Carry it out; `told` hears of each table when it is done. Tables whose charters are wrong are said to be.

        Where it is shared out among machines, this one carries out its part.
        """
        started, clock = moment(), time.perf_counter()
        ledger = self.context.ledger
        begins = sharing is None or not sharing.run_id
        self.run_id = ledger.begin_run(self.day, started) if sharing is None or begins else sharing.run_id
        if sharing is not None and begins:
            sharing.begun(self.run_id)
        walking, told = self._walking(self.context), self._telling(told, chosen)
        for table, error in broken.items():
            self.results[table] = walking.failed(table, self.place or "", error, enter=begins)
            told(self.results[table])
        with self.context.places.keeping():
            several = sharing is not None or (self.jobs > 1 and len(chosen) > 1)
            one_or_more = self._side_by_side(walking, chosen, sharing) if several else self._one_by_one(walking, chosen)
            for result in one_or_more:
                told(result)
            if sharing is not None and (found := sharing.await_end()) is not None:
                return found
            for name in self._comparisons(chosen):
                self.results[name] = walking.compared(name)
                told(self.results[name])
        discard_old(self.context, self.context.today())
        verdict = gravest(each.verdict for each in self.results.values())
        seconds = round(time.perf_counter() - clock, 3)
        name, results = self.context.settings.name, tuple(self.results.values())
        run = RunResult(self.run_id, name, self.day, started, seconds, verdict, results)
        ledger.end_run(run)
        return run

    def _telling(
        self, told: Callable[[TableResult], None], chosen: Sequence[Compiled]
    ) -> Callable[[TableResult], None]:  # fmt: skip
        """Who hears of a table that is done, and the listener, who hears how many of them are."""
        self.listener(Progress("tables", 0, len(chosen), "tables"))

        def both(result: TableResult) -> None:
            self.listener(Doing(result.table, "", result.verdict))
            self.listener(Progress("tables", len(self.results), max(len(chosen), len(self.results)), "tables"))
            told(result)

        return both

    def _walking(self, context: Context) -> Walking:
        return Walking(context, self.run_id, self.day, self.place, self.wanted, self.listener)

    def _one_by_one(self, walking: Walking, chosen: Sequence[Compiled]) -> Iterator[TableResult]:
        for compiled in self._with_stale_lists(chosen):
            result = walking.table(compiled, self._waits(compiled))
            self.results[compiled.charter.table] = result
            yield result

    def _side_by_side(
        self, walking: Walking, chosen: Sequence[Compiled], sharing: Sharing | None
    ) -> Iterator[TableResult]:
        """Each table as soon as those before it that it refers to are done; the results are in the usual order."""
        order = {compiled.charter.table: compiled for compiled in self._with_stale_lists(chosen)}
        done, before = set(self.results), set[str]()
        after: dict[str, set[str]] = {}
        for name, compiled in order.items():
            after[name] = compiled.after() & before
            before.add(name)

        @contextmanager
        def equip() -> Iterator[Walking]:
            own = walking.context.beside()
            try:
                with own.places.keeping():
                    yield self._walking(own)
            finally:
                own.close()

        apart = self._apart([*order.values()])
        if sharing is not None:
            sharing.apart = {*apart}

        def work(own: Walking, name: str) -> TableResult:
            try:
                return own.table(order[name], self._waits(order[name]))
            finally:
                own.context.places.let_go({*apart.values()})

        def interrupt(own: Walking) -> None:
            own.context.places.interrupt()

        crew, ended = Crew(max(min(self.jobs, len(order)), 1), equip, work, interrupt), False
        try:
            for name, result in crew.carry_out([*order], after, apart, sharing):
                self.results[name] = result
                yield result
            ended = True
        finally:
            crew.end(at_once=not ended)
        self.results = {name: self.results[name] for name in (*done, *order)}

    def _apart(self, chosen: Sequence[Compiled]) -> dict[str, str]:
        """The tables whose places have one load at a time, by those places; the others are made ready for several."""
        places = {each.charter.table: self.place or each.place for each in chosen}
        several = set[str]()
        for name in dict.fromkeys(places.values()):
            try:
                with self.context.places.open(name, create=self.wanted.create) as place:
                    if place.make_ready():
                        several.add(name)
            except NomothetaError:  # each table says so
                continue
        apart = {table: place for table, place in places.items() if place not in several}
        self.context.places.let_go({*apart.values()})
        return apart

    def _waits(self, compiled: Compiled) -> list[str]:
        """Those that a table comes after and that have not what their day brought."""
        known = [(name, self.results[name]) for name in sorted(compiled.after()) if name in self.results]
        return [name for name, result in known if result.load.state not in HAS]

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
