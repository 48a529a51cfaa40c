"""What the rules of a table may look at beside it: the other places and tables of the workspace."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext

from nomotheta.charter import Compiled
from nomotheta.errors import NomothetaError
from nomotheta.place.base import Place
from nomotheta.rules.question import Earlier
from nomotheta.workspace.context import Context, moment


class Around:
    """The surroundings of a table in a place that is open; `tells` says whether what is stale is told of."""

    def __init__(self, context: Context, here: Place, *, tells: bool = True) -> None:
        self._context, self._here, self._tells = context, here, tells
        self._stale: dict[tuple[str, str], str] = {}

    def place(self, name: str) -> AbstractContextManager[Place]:
        """A place of the workspace; the one that is open already is the same."""
        return nullcontext(self._here) if name == self._here.name else self._context.places.open(name)

    def charter(self, table: str, place: str) -> Compiled | None:
        """The charter of a table, where it has one that is right and meant for that place."""
        found = self._context.charters.known().get(table)
        return found if found is not None and found.place == place else None

    def past(self, table: str, rule: str, before: int | None, most: int) -> Sequence[Earlier]:
        """What a rule measured of earlier loads."""
        found = self._context.ledger.measured(table, self._here.name, rule, before, most)
        return [Earlier(load_no, day, text) for load_no, day, text in found]

    def stale(self, table: str, place: str) -> str:
        """What is said of a standing list whose file has changed since it was loaded; empty where none has."""
        if (table, place) not in self._stale:
            self._stale[table, place] = self._told(table, place)
        return self._stale[table, place]

    def _told(self, table: str, name: str) -> str:
        compiled = self.charter(table, name)
        if compiled is None or not self._tells:
            return ""
        file = newer_file(self._context, compiled, lambda: self.place(name))
        return f"the list {table} is stale, {file} is newer: nomotheta load {table}" if file else ""


def is_stale(context: Context, compiled: Compiled, place: str) -> bool:
    """Whether a standing list has a file that was not loaded yet."""
    return bool(newer_file(context, compiled, lambda: context.places.open(place)))


def newer_file(context: Context, compiled: Compiled, opened: Callable[[], AbstractContextManager[Place]]) -> str:
    """The file of a standing list that was not loaded yet; empty where there is none, or the list comes every day."""
    delivery, day = compiled.charter.delivery, context.today()
    if delivery is None or delivery.daily:
        return ""  # what comes anew each day is loaded in its turn
    from nomotheta.workspace.arriving import NothingArrivedError, arrive  # only now: it reads files
    from nomotheta.workspace.deliveries import choose

    try:
        arrived = arrive(context, compiled, day)
        with opened() as place:
            chosen = choose(context, place, compiled, arrived, day, context.now(moment(), day), again=True)
    except (NomothetaError, NothingArrivedError):  # which the list's own load tells of
        return ""
    return chosen.files[0].name if chosen.since is None and chosen.files else ""
