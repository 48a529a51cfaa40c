"""What the rules of a table may look at beside it: the other places and tables of the workspace."""

from __future__ import annotations

from contextlib import AbstractContextManager

from nomotheta.charter import Compiled
from nomotheta.place.base import Place
from nomotheta.workspace.context import Context


class Around:
    """The surroundings of a table in a workspace."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def place(self, name: str) -> AbstractContextManager[Place]:
        """Another place."""
        return self._context.places.open(name)

    def charter(self, table: str, place: str) -> Compiled | None:
        """The charter of a table, where it has one that is right and meant for that place."""
        found = self._context.charters.known().get(table)
        return found if found is not None and found.place == place else None
