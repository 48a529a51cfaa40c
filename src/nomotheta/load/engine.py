"""Conditions and hashes over Arrow batches, by the embedded engine: the same SQL that judges a table."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.charter import Check
from nomotheta.conditions import own
from nomotheta.errors import PlaceError
from nomotheta.load.glance import broken_at_a_glance
from nomotheta.load.keys import mixed
from nomotheta.place import Now, Renderer, quoted

Ints = NDArray[np.int64]
_ROW, _BATCH = own("row"), own("batch")


@dataclass(slots=True)
class Engine:
    """One in-memory engine a thread."""

    checks: Sequence[Check]
    now: Now
    _local: threading.local = field(default_factory=threading.local)

    def _connection(self) -> Any:
        if not hasattr(self._local, "connection"):
            import duckdb  # only now: many a charter is judged at a glance

            self._local.connection = duckdb.connect(":memory:", config={"threads": 1, "memory_limit": "256MB"})
            for setting in ("TimeZone = 'UTC'", "python_enable_replacements = false"):
                self._local.connection.execute(f"SET {setting}").fetchall()
        return self._local.connection

    def broken(self, table: Any) -> dict[int, Ints]:
        """By the number of each check that some rows of an Arrow table break: those rows."""
        if not table.num_rows:
            return {}
        seen = [broken_at_a_glance(check, table) for check in self.checks]
        found = self._judged(table, [at for at, broken in enumerate(seen) if broken is None])
        return found | {
            at: np.flatnonzero(broken) for at, broken in enumerate(seen) if broken is not None and broken.any()
        }

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
        return Renderer(self.now).render(check.node)

    def _alone(self, table: Any, check: Check, condition: str) -> None:
        import duckdb

        try:
            self._broken(table, [condition])
        except duckdb.Error as error:
            reason = str(error).split("\n")[0]
            raise PlaceError(f"the rule '{check.name}' cannot be judged: {reason}") from None

    def _broken(self, table: Any, conditions: Sequence[str]) -> dict[int, Ints]:
        numbered = table.append_column(_ROW, pa.array(np.arange(table.num_rows)))
        listed = ", ".join(f"NOT {condition} AS {quoted(own(str(at)))}" for at, condition in enumerate(conditions))
        some = " OR ".join(f"NOT {condition}" for condition in conditions)
        sql = f"SELECT {quoted(_ROW)}, {listed} FROM {quoted(_BATCH)} WHERE {some}"
        found = self._fetch(sql, numbered)
        rows = found.column(0).to_numpy()
        hit = {at: found.column(at + 1).fill_null(False).to_numpy().astype(bool) for at in range(len(conditions))}  # noqa: FBT003
        return {at: rows[mask] for at, mask in hit.items() if mask.any()}

    def hashes(
        self, table: Any, columns: Sequence[str], seed: int, *, whole_row: bool = False
    ) -> tuple[NDArray[np.uint64], Ints]:
        """Hashes of the rows' keys and the rows they belong to; a key with a null in it repeats nothing, a row may."""
        column = table.column(columns[0])
        if len(columns) == 1 and not whole_row and _is_whole(column.type):
            rows = np.flatnonzero(column.is_valid().to_numpy())
            return mixed(column.drop_null().cast(pa.int64()).to_numpy(), seed), rows
        whole = table.select(columns).append_column(_ROW, pa.array(np.arange(table.num_rows)))
        listed = ", ".join(quoted(name) for name in columns)
        present = " AND ".join(f"{quoted(name)} IS NOT NULL" for name in columns)
        where = "" if whole_row else f" WHERE {present}"
        sql = f"SELECT hash({listed}, {int(seed)}), {quoted(_ROW)} FROM {quoted(_BATCH)}{where}"
        found = self._fetch(sql, whole)
        return found.column(0).to_numpy(), found.column(1).to_numpy()

    def _fetch(self, sql: str, batch: Any) -> Any:
        connection = self._connection()
        connection.register(_BATCH, batch)
        try:
            return connection.sql(sql).to_arrow_table()
        finally:
            connection.unregister(_BATCH)


def _is_whole(of: Any) -> bool:
    """Whether values of an Arrow type are whole numbers of up to 64 bits, or are held as such."""
    return bool(pa.types.is_int64(of) or pa.types.is_timestamp(of) or pa.types.is_time64(of))
