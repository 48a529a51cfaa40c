"""A place in which a table that was landed as text is seen as the values that its texts stand for.

The table is read through a SELECT that types each text (`kinds/written.py`), so that whatever is asked of the place is
asked of values, and answered by the database. No row leaves it for that.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.kinds.written import Written
from nomotheta.place.base import Guarantees, Place, PlaceColumn
from nomotheta.place.render import NOWHERE


class Valued:
    """A place whose table `table` holds values: those of `written` by the names of its columns, and others as they are.

    Beside the values stand, by names that only our own statements use, whether a text is no value (`misfit`), and the
    text (`cell`).
    """

    def __init__(self, place: Place, table: str, written: Mapping[str, Written]) -> None:
        self.place, self.table, self.written = place, table, written
        self._there = place.columns(table) or []

    def __getattr__(self, name: str) -> Any:
        return getattr(self.place, name)

    # ---- what the table is

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table; of this one, with the kinds of the values."""
        if table != self.table:
            return self.place.columns(table)
        return [
            PlaceColumn(each.name, each.type_name, self._kind(each.name), nullable=True)
            if each.name in self.written
            else each
            for each in self._there
        ]

    def _kind(self, name: str) -> Kind:
        kind = self.written[name].kind
        return replace(kind, size=None) if kind.name == "text" else kind

    def guarantees(self, table: str) -> Guarantees:
        """What the database sees to; it knows nothing of values."""
        return Guarantees() if table == self.table else self.place.guarantees(table)

    def strange(self, column: PlaceColumn) -> str | None:
        """What was read by us is no value or one of its kind."""
        return None if column.name in self.written else self.place.strange(column)

    def expect(self, table: str, kinds: Mapping[str, Kind]) -> None:
        """The kinds of this table are known."""
        if table != self.table:
            self.place.expect(table, kinds)

    # ---- its rows

    def named(self, table: str) -> str:
        """A table's name in a SELECT that is made here; this one's is that of its values."""
        return quoted(table.rpartition(".")[2]) if table == self.table else self.place.named(table)

    def rowset(self, table: str, where: str | None = None) -> str:
        """The FROM and WHERE of a table's rows."""
        if table != self.table:
            return self.place.rowset(table, where)
        return f"FROM ({self.select()}) AS {self.named(table)}" + (f" WHERE {where}" if where else "")

    def count(self, table: str, where: str | None = None) -> int:
        """How many rows meet a condition of the values, or are there in all."""
        if table != self.table or where is None:
            return self.place.count(table, where)
        return int(self.place.answer(f"SELECT count(*) {self.rowset(table, where)}").rows[0][0])

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Values that are read from texts lie in no order that a pass over them could rely on."""
        return False if self.named(self.table) in rowset else self.place.never_repeats(column, rowset)

    def select(self) -> str:
        """The SELECT that types the table's texts."""
        parts = []
        for column in self._there:
            written = self.written.get(column.name)
            if written is None:
                parts.append(quoted(column.name))
                continue
            parts.append(f"{self._said(written.value)} AS {quoted(column.name)}")
            parts.append(f"{self.misfit(column.name)} AS {quoted(own(f'misfit {column.name}'))}")
            parts.append(f"{self._said(written.cell)} AS {quoted(own(f'cell {column.name}'))}")
        return f"SELECT {', '.join(parts)} {self.place.rowset(self.table)}"

    def _said(self, node: Node) -> str:
        return self.place.render(node, NOWHERE)

    def misfit(self, name: str) -> str:
        """The condition, over the texts, that one of a column is no value; also where that cannot be said here."""
        written = self.written[name]
        empty, value = self._said(written.empty), self._said(written.value)
        wrong = f"({value} IS NULL AND NOT {empty})"
        return wrong if written.known is None else f"({wrong} OR NOT {self._said(written.known)})"

    def all_known(self) -> bool:
        """Whether the database reads all texts of the table as the program does."""
        doubts = [f"NOT {self._said(each.known)}" for each in self.written.values() if each.known is not None]
        return not doubts or self.place.count(self.table, " OR ".join(doubts)) == 0
