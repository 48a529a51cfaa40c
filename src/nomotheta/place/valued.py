"""A place in which a table that was landed as text is seen as the values that its texts stand for.

One SELECT types each text (`kinds/written.py`) into a temporary table of the database's own session. Whatever is asked
of the place then is asked of that one, and answered by the database. No row leaves it.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping
from contextlib import ExitStack
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nomotheta.conditions import Kind, own, quoted
from nomotheta.place.base import Guarantees, Place, PlaceColumn
from nomotheta.place.render import identifiers
from nomotheta.place.steps import Steps

if TYPE_CHECKING:
    from nomotheta.kinds.written import Written

_NUMBERS = itertools.count(1)


class Valued:
    """A place whose table `table` holds values: those of `written` by the names of its columns, and others as they are.

    Beside the values stand the texts that are none, by names that only our own statements use (`misfit`).
    """

    def __init__(self, place: Place, table: str, written: Mapping[str, Written]) -> None:
        self.place, self.table, self.written = place, table, written
        self._there = place.columns(table) or []
        self._held, self._name = ExitStack(), own(f"values {next(_NUMBERS)}")

    def __getattr__(self, name: str) -> Any:
        return getattr(self.place, name)

    def open(self) -> bool:
        """Have the texts read; False where the database reads some of them in a way of its own.

        Raises:
            PlaceError: it can hold no temporary table.
        """
        self._held.enter_context(self.place.held(self._name, self.select()))
        doubtful = [name for name, written in self.written.items() if written.known is not None]
        known = not doubtful or self.place.count(self._name, f"{quoted(own('unknown'))} = 1") == 0
        if not known:
            self.let_go()
        return known

    def let_go(self) -> None:
        """The values are not needed any more."""
        self._held.close()

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
        return quoted(self._name) if table == self.table else self.place.named(table)

    def rowset(self, table: str, where: str | None = None) -> str:
        """The FROM and WHERE of a table's rows."""
        if table != self.table:
            return self.place.rowset(table, where)
        return f"FROM {self.named(table)}" + (f" WHERE {where}" if where else "")

    def count(self, table: str, where: str | None = None) -> int:
        """How many rows meet a condition of the values, or are there in all."""
        return self.place.count(self._name if table == self.table else table, where)

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Whether it is plain at little cost that no value comes twice."""
        return self.place.never_repeats(column, rowset)

    def select(self, among: Iterable[str] | None = None) -> str:
        """The SELECT that reads the table's texts: all of them, or what is called by some names in it."""
        wanted = set(among) if among is not None else None
        steps, told, doubts = Steps(self.place), [], []
        for column in self._there:
            if wanted is not None and not wanted & {column.name, own(f"misfit {column.name}")}:
                continue
            written, name = self.written.get(column.name), quoted(column.name)
            if written is None:
                told.append(steps.take(column.name))
                continue
            value, read = steps.read(written)
            told += [
                f"{value} AS {name}",
                f"CASE WHEN NOT {read} THEN {quoted(written.text)} END AS {misfit(column.name)}",
            ]
            if written.known is not None:
                doubts.append(f"NOT {steps.said(written.known)}")
        if doubts:
            told.append(f"CASE WHEN {' OR '.join(doubts)} THEN 1 ELSE 0 END AS {quoted(own('unknown'))}")
        return steps.select(told, self.place.rowset(self.table))

    def told(self, sql: str) -> str:
        """A statement about the values, for the database's own client: with the SELECT that reads them."""
        names = identifiers(sql)
        if self._name not in names:
            return sql
        return f"WITH {quoted(self._name)} AS ({self.select(names)})\n{sql}"


def misfit(name: str) -> str:
    """The column of the texts that are no values of a column, in SQL; null where one is."""
    return quoted(own(f"misfit {name}"))
