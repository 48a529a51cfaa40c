"""Conditions and hashes over Arrow batches, by the embedded engine: the same SQL that judges a table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.charter import Check
from nomotheta.conditions import own, quoted
from nomotheta.errors import PlaceError
from nomotheta.keys import Hashes, Ints
from nomotheta.keys.hashing import BATCH, ROW, Hasher
from nomotheta.load.glance import Bools, broken_at_a_glance
from nomotheta.place.render import Now, Renderer
from nomotheta.rules.listing import unlisted


def part_name(at: int) -> str:
    """What the value of a key's part is called that is worked out."""
    return own(f"part {at}")


class Engine(Hasher):
    """Judges batches by some checks, as of a moment."""

    def __init__(self, checks: Sequence[Check], now: Now, lists: Mapping[str, Any] | None = None) -> None:
        super().__init__()
        self.checks, self.now, self.lists = checks, now, lists or {}  # the values that references allow, by their names
        self._sql: dict[str, str] = {}

    def cells(self, table: Any, key: Check) -> Any:
        """The values of a key in the rows of an Arrow table, a column for each of its parts."""
        if not key.parts:
            return table.select(list(key.columns))
        named = [f"{self._renderer.render(node)} AS {quoted(part_name(at))}" for at, (_, node) in enumerate(key.parts)]
        numbered = table.select(list(key.columns)).append_column(ROW, pa.array(np.arange(table.num_rows)))
        sql = f"SELECT {', '.join(named)} FROM {quoted(BATCH)} ORDER BY {quoted(ROW)}"
        return self._fetch(sql, numbered)

    def keyed(self, table: Any, key: Check, seed: int) -> tuple[Hashes, Ints]:
        """Hashes of the keys in the rows of an Arrow table, and the rows they belong to."""
        return self.hashed(self.cells(table, key), key, seed)

    def hashed(self, cells: Any, key: Check, seed: int) -> tuple[Hashes, Ints]:
        """The same of the values of a key."""
        return self.hashes(cells, cells.column_names, seed, whole_row=key.whole_row or key.nulls)

    @property
    def _renderer(self) -> Renderer:
        return Renderer(self.now)

    def broken(self, table: Any) -> dict[int, Ints]:
        """By the number of each check that some rows of an Arrow table break: those rows."""
        if not table.num_rows:
            return {}
        seen = [self._seen(check, table) for check in self.checks]
        found = self._judged(table, [at for at, broken in enumerate(seen) if broken is None])
        return found | {
            at: np.flatnonzero(broken) for at, broken in enumerate(seen) if broken is not None and broken.any()
        }

    def looked(self, table: Any, parts: Sequence[str], *, plain: bool) -> tuple[dict[int, Ints], list[Any]]:
        """The same, and what some aggregates in SQL come to: by one statement, where nothing more is broken.

        Their values come without Arrow, if they are `plain`: numbers, texts, days and moments without a zone.
        """
        seen = [self._seen(check, table) for check in self.checks]
        found = {at: np.flatnonzero(broken) for at, broken in enumerate(seen) if broken is not None and broken.any()}
        asked = [at for at, broken in enumerate(seen) if broken is None]
        counts = [f"count(CASE WHEN NOT {self._rendered(self.checks[at])} THEN 1 END)" for at in asked]
        if not counts and not parts:
            return found, []
        import duckdb

        listed = ", ".join(f"{sql} AS {quoted(own(str(at)))}" for at, sql in enumerate([*counts, *parts]))
        try:
            sql = f"SELECT {listed} FROM {quoted(BATCH)}"
            values = self.row(sql, table) if plain else [each[0].as_py() for each in self._fetch(sql, table).columns]
        except duckdb.Error as error:
            raise PlaceError(f"the checks cannot be judged together: {error}") from None
        found |= self._judged(table, [at for at, count in zip(asked, values, strict=False) if count])
        return found, values[len(counts) :]

    def _seen(self, check: Check, table: Any) -> Bools | None:
        """For each row whether it breaks a check, where that is told without the condition; else None."""
        if check.name not in self.lists:
            return None if check.excuses else broken_at_a_glance(check, table)
        broken = np.zeros(table.num_rows, np.bool_)
        broken[unlisted(table, self.lists[check.name], self)] = True
        return broken

    def _judged(self, table: Any, chosen: Sequence[int]) -> dict[int, Ints]:
        """The rows that break the chosen checks, by the checks' numbers."""
        if not chosen:
            return {}
        import duckdb

        conditions = [self._rendered(self.checks[at]) for at in chosen]
        try:
            found = self._broken(table, conditions)
        except duckdb.Error as error:
            for at, condition in zip(chosen, conditions, strict=True):
                self._alone(table, self.checks[at], condition)
            raise PlaceError(f"the checks cannot be judged together: {error}") from None
        return {chosen[at]: rows for at, rows in found.items()}

    def _rendered(self, check: Check) -> str:
        assert check.node is not None  # noqa: S101 - only checks with a condition come here
        sql = self._sql.get(check.name)
        if sql is None:
            sql = self._renderer.render(check.node)
            if check.name:
                self._sql[check.name] = sql
        return sql

    def _alone(self, table: Any, check: Check, condition: str) -> None:
        import duckdb

        try:
            self._broken(table, [condition])
        except duckdb.Error as error:
            reason = str(error).split("\n")[0]
            raise PlaceError(f"the rule '{check.name}' cannot be judged: {reason}") from None

    def _broken(self, table: Any, conditions: Sequence[str]) -> dict[int, Ints]:
        numbered = table.append_column(ROW, pa.array(np.arange(table.num_rows)))
        listed = ", ".join(f"NOT {condition} AS {quoted(own(str(at)))}" for at, condition in enumerate(conditions))
        some = " OR ".join(f"NOT {condition}" for condition in conditions)
        sql = f"SELECT {quoted(ROW)}, {listed} FROM {quoted(BATCH)} WHERE {some}"
        found = self._fetch(sql, numbered)
        rows = found.column(0).to_numpy()
        hit = {at: found.column(at + 1).fill_null(False).to_numpy().astype(bool) for at in range(len(conditions))}  # noqa: FBT003
        return {at: rows[mask] for at, mask in hit.items() if mask.any()}
