"""A run that machines with one ledger share out: one leads it, and others that are asked for the same take part.

Whoever leads has begun the run in the ledger and ends it. A table is in the hands of one machine at a time; one that
takes part leaves those alone whose files it does not see as the leader saw them, and those whose place has one load
at a time. Where the leader is gone, one that takes part leads.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import json
import time
from collections.abc import Collection, Iterator, Mapping, Sequence, Set

from nomotheta import __version__
from nomotheta.charter import Compiled
from nomotheta.errors import NomothetaError, PlaceError
from nomotheta.ledger import RunResult, TableResult
from nomotheta.urls import is_fetched
from nomotheta.workspace.arrivals import files_there
from nomotheta.workspace.context import Context
from nomotheta.workspace.loading import Wanted

_PAUSE, _TRIES = 0.2, 10  # seconds between looks at a run that another machine leads; looks until one is given up
_IN_THE_PLACE = "in the place"


class Sharing:
    """A machine's part in a run.

    Args:
        context: the workspace.
        asked: what the run is asked for.
        seen: of each table, what tells the files that this machine sees from others; empty where it sees none.
    """

    def __init__(self, context: Context, asked: Mapping[str, object], seen: Mapping[str, str]) -> None:
        self._context, self._shares, self._asked, self._seen = context, context.ledger.shares, asked, seen
        self.run_id, self.leads = 0, False
        self.took_over = False  # whether this machine leads since another one is gone
        self._leading = contextlib.ExitStack()
        self.here = 0  # tables that were carried out here
        self._alike = set[str]()  # the tables whose files are here what they are for the leader
        self.apart: Set[str] = frozenset()  # those whose place has one load at a time

    @contextlib.contextmanager
    def under_way(self) -> Iterator[None]:
        """While it lasts, this machine leads a run, or takes part in one.

        Raises:
            PlaceError: another run is under way.
        """
        with self._leading:
            left = _TRIES
            while not self._takes_part():
                if not left:
                    raise _another()
                left -= 1
                time.sleep(_PAUSE)
            try:
                yield
            finally:
                with contextlib.suppress(NomothetaError):
                    self._shares.let_go(self.run_id)

    def _got_lead(self) -> bool:
        """Whether this machine leads from now on, since no other one does."""
        self.leads = self._leading.enter_context(self._context.ledger.alone())
        return self.leads

    def _takes_part(self) -> bool:
        """Whether this machine is to begin a run, or takes part in one that is under way; false where that may change.

        Raises:
            PlaceError: another run is under way.
        """
        leads, found = self._got_lead(), self._shares.under_way()
        if found is None:
            return leads
        told = json.loads(found.asked)
        if told["asked"] != self._asked:
            same_day = told["asked"]["day"] == self._asked["day"]
            raise _another(
                "with other tables, place, charters or settings" if same_day else f"for {told['asked']['day']}"
            )
        self._alike = {name for name, seen in self._seen.items() if seen and told["seen"].get(name) == seen}
        if leads:  # whoever led it is gone, and others are still at it
            self._take_over(found.run_id)
            return True
        if not self._shares.join(found.run_id):
            return False
        self.run_id = found.run_id
        return True

    def _take_over(self, run_id: int) -> None:
        self.took_over = True
        self.begun(run_id)

    def begun(self, run_id: int) -> None:
        """A run has begun, which this machine leads."""
        self.run_id = run_id
        self._shares.offer(run_id, json.dumps({"asked": self._asked, "seen": self._seen}))

    def ended(self) -> RunResult | None:
        """What came of the run, if it has ended; where its leader is gone, this machine leads from now on.

        Raises:
            PlaceError: it was cut off, and another run is under way.
        """
        found = self._context.ledger.run(self.run_id)
        if found is not None:
            return found
        left = _TRIES
        while not self.leads and not self._shares.is_led(self.run_id):
            if self._got_lead():
                found = self._context.ledger.run(self.run_id)
                if found is not None:  # it was not cut off: its leader ended it, and went
                    self.leads = False
                    return found
                self._take_over(self.run_id)
            elif not left:
                raise PlaceError(f"run {self.run_id} was cut off on the machine that led it, and another run is under "
                                 "way", where="the ledger", mend="wait until it is done, then run again")  # fmt: skip
            else:
                left -= 1
                time.sleep(_PAUSE)
        return None

    def await_end(self) -> RunResult | None:
        """What came of the run, once its leader has ended it; None where that is to be done here."""
        while (found := self.ended()) is None and not self.leads:
            time.sleep(_PAUSE)
        return found

    # ---- as a crew asks

    def take(self, task: str) -> bool:
        """Take a table in hand; whether this machine carries it out.

        Raises:
            PlaceError: nobody is left who sees its files.
        """
        if self.took_over and task in self._seen and task not in self._alike:
            raise PlaceError(f"run {self.run_id} was cut off on the machine that led it, and this one does not see the "
                             f"files of {task} as that one did", where="the ledger",
                             mend="run again where its files are")  # fmt: skip
        ours = self.leads or (task in self._alike and task not in self.apart)
        return ours and self._shares.take(self.run_id, task)

    def done(self, task: str, result: TableResult) -> None:
        """What came of a table here."""
        self.here += 1
        self._shares.done(self.run_id, task, result)

    def came_of(self, tasks: Collection[str]) -> tuple[Mapping[str, TableResult], Set[str]]:
        """What came of tables elsewhere, and those that are in nobody's hands."""
        found, free = self._shares.came_of(self.run_id, tasks, self.ended())
        return found, free if self.leads else free & self._alike - self.apart


def sharing(
    context: Context, day: datetime.date, place: str | None, wanted: Wanted, chosen: Sequence[Compiled],
    broken: Collection[str],
) -> Sharing:  # fmt: skip
    """A part in a run for a day."""
    charters = {each.charter.table: context.charters.declared(each)[0] for each in chosen}
    asked = {
        "day": str(day), "place": place, "create": wanted.create, "until": str(wanted.until or ""),
        "charters": charters, "broken": sorted(broken),
        "settings": hashlib.sha256(context.settings.model_dump_json().encode()).hexdigest(), "version": __version__,
    }  # fmt: skip
    own = {name for name, declared in context.settings.places.items() if ":///" in declared.url}  # this machine's alone
    seen = {
        each.charter.table: "" if (place or each.place) in own else _seen(context, each, day) for each in chosen
    }  # fmt: skip
    return Sharing(context, asked, seen)


def _seen(context: Context, compiled: Compiled, day: datetime.date) -> str:
    """What tells the files of a delivery, as they are seen here, from others; empty where none is seen."""
    delivery = compiled.charter.delivery
    if compiled.source is not None or delivery is None:
        return _IN_THE_PLACE
    told = [pattern for pattern in delivery.patterns if is_fetched(pattern)]  # which are the same for all
    with contextlib.suppress(NomothetaError):
        told += [f"{each.file}\0{each.size}" for each in files_there(context.root, delivery, day)]
    return hashlib.sha256("\n".join(told).encode("utf-8", "replace")).hexdigest() if told else ""


def _another(told: str = "") -> PlaceError:
    under_way = f"another run is under way on a machine that shares the ledger{told and ', '}{told}"
    return PlaceError(under_way, where="the ledger", mend="wait until it is done")
