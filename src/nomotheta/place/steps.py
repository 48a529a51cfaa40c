"""Rows whose texts a database reads as values (`kinds/written.py`): one SELECT that works nothing out twice."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from nomotheta.conditions import Node, own, quoted
from nomotheta.place.base import Place
from nomotheta.place.render import NOWHERE

if TYPE_CHECKING:
    from nomotheta.kinds.written import Written

_GIVEN = quoted(own("given"))


@dataclass(slots=True)
class Steps:
    """Columns of a table and the readings of its texts, each step over those before it."""

    place: Place
    _levels: list[list[str]] = field(default_factory=list)

    def take(self, column: str, name: str | None = None) -> str:
        """A column as it is, by another name; that name in SQL."""
        called = quoted(name or column)
        self._add(0, f"{quoted(column)} AS {called}" if name else called)
        return called

    def read(self, written: Written) -> tuple[str, str]:
        """A column of texts; the SQL of its value, and of whether there is one (a null that is meant is a value)."""
        for at, step in enumerate(written.steps):
            for name, node in step.items():
                self._add(at, f"{self.said(node)} AS {quoted(name)}")
        value = quoted(written.value)
        return value, f"({value} IS NOT NULL OR {self.said(written.empty)})"

    def select(self, told: list[str], rowset: str) -> str:
        """The SELECT that gives what is told of the columns of the last step."""
        apart = self.place.apart
        rows = f"SELECT {', '.join(self._levels[0])} {rowset}{apart}"
        for level in filter(None, self._levels[1:]):
            rows = f"SELECT {_GIVEN}.*, {', '.join(level)} FROM ({rows}) AS {_GIVEN}{apart}"
        return f"SELECT {', '.join(told)} FROM ({rows}) AS {_GIVEN}"

    def said(self, node: Node) -> str:
        """A tree in SQL."""
        return self.place.render(node, NOWHERE)

    def _add(self, at: int, *listed: str) -> None:
        while len(self._levels) <= at:
            self._levels.append([])
        self._levels[at] += listed
