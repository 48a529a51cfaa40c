"""Rows counted by groups: what the loads of a table brought, and what is in it now."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Mapping

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult
from nomotheta.place.base import Place
from nomotheta.place.marks import outlived
from nomotheta.reconcile import RowCounts
from nomotheta.reconcile.groups import counted_by, paired, row_counts
from nomotheta.reconcile.reconcile import sides_of_loads
from nomotheta.reconcile.side import Compared, InPlace
from nomotheta.rules.shape import existing
from nomotheta.workspace.attempts import settle
from nomotheta.workspace.context import Context
from nomotheta.workspace.reconciling import loaded_files

OF_LOADS = ("load", "day", "file")
Counts = Mapping[str | None, int]


def count_loads(
    context: Context, compiled: Compiled, by: str, place: str | None, since: datetime.date | None,
    until: datetime.date | None, listener: Listener,
) -> RowCounts:  # fmt: skip
    """Count rows by load, day, file or a column: of the loads that are in a table, and of the table.

    Raises:
        DeclarationError: the table's rows cannot be told apart so, or nothing was loaded.
        DeliveryError: a file is gone or has changed; only where rows are counted by a column.
        PlaceError: the table is not there, or the place cannot be reached.
    """
    compiled = compiled.as_loaded
    name = place or compiled.place
    with context.places.open(name) as opened:
        settle(context, opened)
        step = _Counting(context, opened, compiled, name, since, until, listener)
        source, target = step.by_loads(by) if by in OF_LOADS else step.by_column(by)
    over = "the loads" + (f" from {since}" if since else "") + (f" to {until}" if until else "")
    return row_counts(compiled.charter.table, name, over, by, ("loaded", "table"), paired(source, target))


class _Counting:
    def __init__(
        self, context: Context, place: Place, compiled: Compiled, name: str, since: datetime.date | None,
        until: datetime.date | None, listener: Listener,
    ) -> None:  # fmt: skip
        self.context, self.place, self.compiled, self.listener = context, place, compiled, listener
        self.table = compiled.charter.table
        existing(place, self.table)
        if compiled.charter.load.how == "merge" or compiled.charter.load.slice:
            told = (
                "rows of one load may have been replaced or updated by another, so that none can be counted by itself"
            )
            raise DeclarationError(told, where=self.table, mend=f"nomotheta reconcile {self.table}")
        gone = outlived(place.marks(self.table))
        standing = context.ledger.standing(self.table, name)
        self.all = [(result, at) for result, at in standing if result.balance and result.load_no not in gone]
        if not self.all:
            mend = f"load it first: nomotheta load {self.table}"
            raise DeclarationError(f"no load of {self.table} is in the ledger", where=self.table, mend=mend)
        self.chosen = [
            (result, at)
            for result, at in self.all
            if (since is None or result.day >= since) and (until is None or result.day <= until)
        ]

    def by_loads(self, by: str) -> tuple[Counts, Counts]:
        """By the account of each load, and by the columns that loads fill."""
        source: Counter[str | None] = Counter()
        for result, _ in self.chosen:
            source.update(_account(result, by))
        if by == "file":
            column = self.compiled.charter.origin().get("@file.name")
            if column is None:
                raise self._untold("file", "@file.name")
            there = self._there(column)
            out = {
                file
                for result, _ in self.all
                if result not in [one for one, _ in self.chosen]
                for file in _account(result, by)
            }
            return source, {value: rows for value, rows in there.items() if value in source or value not in out}
        column = self.compiled.charter.load_column()
        if column is None:
            raise self._untold(by, "@load.no")
        chosen = {str(result.load_no): result for result, _ in self.chosen}
        others = {str(result.load_no) for result, _ in self.all} - set(chosen)
        target: Counter[str | None] = Counter()
        for value, rows in self._there(column).items():
            if value not in others:
                known = chosen.get(value or "")
                target[value if known is None or by == "load" else known.day.isoformat()] += rows
        return source, target

    def by_column(self, by: str) -> tuple[Counts, Counts]:
        """By the values of a column: the files are read again."""
        zone = self.context.settings.time_zone
        loads = [loaded_files(self.context, self.compiled, result, at) for result, at in self.all]
        source, target = sides_of_loads(self.place, self.compiled, loads, zone, self.listener)
        return counted_by(source, by), counted_by(target, by)

    def _there(self, column: str) -> Counts:
        """How many rows of each value of a column are in the table."""
        what = Compared({column: self.compiled.charter.kinds()[column]})
        self.place.expect(self.table, self.compiled.charter.kinds())
        return counted_by(InPlace(self.place, what, self.place.rowset(self.table)), column)

    def _untold(self, by: str, filled: str) -> DeclarationError:
        return DeclarationError(
            f"the rows of one {by} cannot be told apart in this table", where=self.compiled.file,
            mend=f'add a column with from = "{filled}"',
        )  # fmt: skip


def _account(result: LoadResult, by: str) -> Counts:
    """The rows that a load brought, by load, day or file."""
    balance = result.balance
    if balance is None:
        return {}
    if by == "load":
        return {str(result.load_no): balance.loaded}
    if by == "day":
        return {result.day.isoformat(): balance.loaded}
    return {file.file: file.records - file.set_aside for file in balance.files}
