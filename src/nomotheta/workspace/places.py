"""The places of a workspace, opened when they are needed and kept open for a run."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.charter import Settings
from nomotheta.charter.settings import Place as DeclaredPlace
from nomotheta.errors import DeclarationError, PlaceError, did_you_mean
from nomotheta.place.base import Place
from nomotheta.place.connect import connect, rehearsal
from nomotheta.workspace.context import SETTINGS

if TYPE_CHECKING:
    from nomotheta.place.answer import PlaceAnswer
    from nomotheta.workspace.engines import Engines


LEDGER = "the ledger"  # as its database is called among the places


class Places:
    """The places that a workspace declares."""

    def __init__(self, root: Path, settings: Settings) -> None:
        self.root, self.settings = root, settings
        self._kept: dict[str, Place] | None = None
        self._trial: dict[str, tuple[Place, bool]] | None = None
        self._tables: frozenset[str] = frozenset()
        self._asked: Callable[[str, Place], Place] | None = None

    @contextmanager
    def asked_by(self, engines: Engines) -> Iterator[None]:
        """Places that are opened meanwhile are only asked, and an engine may do that for them."""
        self._asked = engines.asked
        try:
            yield
        finally:
            self._asked = None

    @contextmanager
    def open(self, name: str, *, create: bool = False) -> Iterator[Place]:
        """A place, open for as long as the block lasts, or as its places are kept.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        place = self._kept_place(name) or self._connected(name, create=create)
        kept = self._kept is not None
        try:
            if self._kept is not None:
                self._kept[name] = place
            yield place
        except BaseException:
            kept = False  # it may be in the middle of something
            raise
        finally:
            if not kept:
                if self._kept is not None:
                    self._kept.pop(name, None)
                place.close()

    @contextmanager
    def another(self, name: str) -> Iterator[Place]:
        """One more connection to a place, which nothing else uses.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        place = self._connected(name)
        try:
            yield place
        finally:
            place.close()

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """Places that are opened meanwhile stay open until the end, and are used again."""
        kept = self._kept = dict[str, Place]()
        try:
            yield
        finally:
            self._kept = None
            for place in kept.values():
                place.close()

    def let_go(self, names: Iterable[str]) -> None:
        """Close some of the places that are kept open: others may be waiting for them."""
        for name in names:
            place = self._kept.pop(name, None) if self._kept is not None else None
            if place is not None:
                place.close()

    def interrupt(self) -> None:
        """End what the places that are kept open are asked in another thread."""
        for place in list((self._kept or {}).values()):
            with suppress(PlaceError):
                place.interrupt()

    def _kept_place(self, name: str) -> Place | None:
        """One that is open, if it still answers."""
        place = self._kept.get(name) if self._kept is not None else None
        if place is None:
            return None
        try:
            place.fetch("SELECT 1 AS one")
        except PlaceError:
            place.close()
            return None
        return place

    def tried(self) -> list[PlaceAnswer]:
        """Every declared place, tried; and the database of the ledger, where it is kept in one."""
        from nomotheta.place.answer import tried  # only now: one command asks

        urls = [(name, place.url) for name, place in self.settings.places.items()]
        if self.settings.ledger is not None:
            urls.append((LEDGER, self.settings.ledger.url))
        options = {name: place.options for name, place in self.settings.places.items()}
        return [tried(name, url, self.root, options.get(name)) for name, url in urls]

    def _connected(self, name: str, *, create: bool = False) -> Place:
        declared = self._declared(name)
        place = connect(name, declared.url, self.root, create=create, options=declared.options)
        return self._asked(name, place) if self._asked is not None else place

    def _declared(self, name: str) -> DeclaredPlace:
        """A place as it is declared."""
        declared = self.settings.places.get(name)
        if declared is None:
            mend = did_you_mean(name, self.settings.places, "places: " + ", ".join(self.settings.places))
            raise DeclarationError(f"no place '{name}' is declared", where=SETTINGS, mend=mend)
        return declared

    @contextmanager
    def rehearsal(self, name: str, *tables: str) -> Iterator[tuple[Place, bool]]:
        """A place for a load that is not to stay, and whether it is one in memory.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        if self._trial is not None and name in self._trial:
            yield self._trial[name]
            return
        declared = self._declared(name)
        place, in_memory = rehearsal(name, declared.url, self.root, self._tables | {*tables}, declared.options)
        if self._trial is not None and in_memory:
            self._trial[name] = place, in_memory
            yield place, in_memory
            return
        try:
            yield place, in_memory
        finally:
            place.close()

    @contextmanager
    def rehearsing(self, tables: Sequence[str]) -> Iterator[None]:
        """Databases in memory, in which loads are rehearsed meanwhile, hold these tables and are kept until the end."""
        trial = self._trial = dict[str, tuple[Place, bool]]()
        self._tables = frozenset(tables)
        try:
            yield
        finally:
            self._trial, self._tables = None, frozenset()
            for place, _ in trial.values():
                place.close()

    def in_memory(self, name: str) -> bool:
        """Whether what is rehearsed in a place is seen by the next rehearsal there."""
        return self._trial is not None and name in self._trial
