"""The keys that are in the table before a load, as far as they stay there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import Kind, quoted
from nomotheta.frozen import frozen
from nomotheta.keys import IN_TABLE, Hashes, Ints, SeenKeys
from nomotheta.load.engine import Engine
from nomotheta.load.order import Order
from nomotheta.load.work import Worked
from nomotheta.place.base import Place
from nomotheta.place.render import Now
from nomotheta.rules.anew import as_kind

_LARGE, _SMALL = 100_000, 32 << 20  # rows of a table, bytes of a delivery: its keys are asked for one by one


@frozen
class InTable:
    """Asks a place for the keys of a table, hashed with a seed."""

    place: Place
    compiled: Compiled
    order: Order
    now: Now
    engine: Engine
    seed: int

    @property
    def table(self) -> str:
        """The table's name."""
        return self.compiled.charter.table

    @property
    def kinds(self) -> Mapping[str, Kind]:
        """What the charter's columns are meant to be."""
        return self.compiled.charter.kinds()

    @property
    def staying(self) -> str | None:
        """The condition that a row of the table stays in it; None where all do."""
        gone = self.order.removal.where if self.order.removal else None
        return f"NOT coalesce({self.place.render(gone, self.now)}, FALSE)" if gone else None

    def keys(
        self, keys: Sequence[Check], rows: int, blocks: Callable[[], Iterator[tuple[int, Worked]]]
    ) -> list[SeenKeys]:  # fmt: skip
        """The keys of a table of so many rows: of a small delivery its own are asked for, else all are read.

        Args:
            keys: those that set repeated rows aside.
            rows: how many the table has.
            blocks: reads the delivery through, where it has to be read before.
        """
        size = sum(file.survey.bytes_of_content for file in self.order.files)
        if rows < _LARGE or size > _SMALL or not all(map(self._probes, keys)):
            return [self._all(key, len(keys)) for key in keys]
        own: list[list[Any]] = [[] for _ in keys]
        for _, worked in blocks():
            for tables, key in zip(own, keys, strict=True):
                tables.append(worked.good.select(list(key.columns)))
        return [self._among(key, pa.concat_tables(tables), len(keys)) for key, tables in zip(keys, own, strict=True)]

    def _probes(self, key: Check) -> bool:
        """Whether the place can be asked for some values of a key."""
        return not key.parts and self.place.probes(key.columns, self.kinds)

    def _all(self, key: Check, count: int) -> SeenKeys:
        """All keys that are in the table."""
        seen = SeenKeys(count)
        self.place.expect(self.table, self.kinds)
        listed = ", ".join(quoted(name) for name in key.columns)
        for batch in self.place.stream(f"SELECT {listed} {self.place.rowset(self.table, self.staying)}"):
            self._add(seen, batch, key)
        return seen

    def _among(self, key: Check, cells: Any, count: int) -> SeenKeys:
        """Those of some keys that are in the table."""
        seen = SeenKeys(count)
        self.place.expect(self.table, self.kinds)
        if not key.whole_row:  # with a null it is not a key
            cells = cells.drop_null()
        if cells.num_rows:
            for batch in self.place.present(self.table, cells, self.staying, nulls=key.whole_row):
                self._add(seen, batch, key)
        return seen

    def _add(self, seen: SeenKeys, batch: Any, key: Check) -> None:
        hashes, _ = hashed_rows(self.engine, batch, key, self.kinds, self.seed)
        seen.add(hashes, np.full(len(hashes), IN_TABLE))


def hashed_rows(
    engine: Engine, batch: Any, key: Check, kinds: Mapping[str, Kind], seed: int
) -> tuple[Hashes, Ints]:  # fmt: skip
    """The hashes of the keys of rows that a place has given, with the rows that have one; columns by position."""
    columns = [as_kind(batch.column(at), kinds[name]) for at, name in enumerate(key.columns)]
    return engine.keyed(pa.table(columns, list(key.columns)), key, seed)
