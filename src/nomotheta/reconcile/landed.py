"""A table of landed texts as a side: its rows as the values that the texts stand for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
import pyarrow as pa

from nomotheta.charter import Compiled
from nomotheta.conditions import Kind, quoted
from nomotheta.kinds.read import arrow_type, explain
from nomotheta.kinds.typed import Reason
from nomotheta.layout import Layout
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.rules.anew import Reading, as_kind
from nomotheta.rules.finding import HIDDEN

_FIRST = 5  # rows that cannot be read, of which is told


class LandedRows:
    """The rows of such a table, read as its files would have been; those that cannot be are `unread`, the first `told`.

    Args:
        place: where it is.
        compiled: its charter.
        shape: its columns.
        rows: the FROM and WHERE of the rows.
        zone: the time zone of timestamps that name none.
    """

    extra: tuple[str, ...] = ()

    def __init__(
        self, place: Place, compiled: Compiled, shape: list[PlaceColumn], rows: str, zone: str
    ) -> None:  # fmt: skip
        self.place, self.compiled, self.rows, self.zone = place, compiled, rows, zone
        charter = compiled.charter
        there = {column.name for column in shape}
        self._kinds = {name: kind for name, kind in charter.kinds().items() if name in there}
        self._texts = {*charter.file_columns()} & there
        self.unread, self.told = 0, list[str]()
        self.files: list[str] = []

    def columns(self) -> dict[str, Kind]:
        """The columns with the kinds that they stand for."""
        return dict(self._kinds)

    def _layouts(self) -> Mapping[str, Layout]:
        layout = self.compiled.layout.of_texts
        forms = self.compiled.charter.cell_forms(layout)
        return {name: layout.of(forms.get(name)) for name in self._texts}

    def batches(self, schema: pa.Schema, *, origin: bool = False) -> Iterator[pa.RecordBatch]:  # noqa: ARG002
        """The rows that can be read, with the columns of a schema."""
        self.unread, self.told = 0, []
        layouts, names = self._layouts(), schema.names
        listed = ", ".join(
            f"{self.place.as_text(name) if name in self._texts else quoted(name)} AS {quoted(name)}" for name in names
        )
        for batch in self.place.stream(f"SELECT {listed} {self.rows}"):
            bad = np.zeros(batch.num_rows, np.bool_)
            arrays = []
            for name, values in zip(names, batch.columns, strict=True):
                kind = self._kinds[name]
                if name not in self._texts:
                    arrays.append(as_kind(values, kind))
                    continue
                reading = Reading(layouts[name], self.zone, landed=True)
                cells = reading.cells(values.cast(pa.string()), kind)
                typed = reading.typed(cells, kind)
                for misfit in typed.misfits:
                    self._tell(name, kind, cells, misfit.rows, misfit.reason, bad, layouts[name])
                    bad[misfit.rows] = True
                arrays.append(typed.values.cast(arrow_type(kind)))
            self.unread += int(bad.sum())
            whole = pa.record_batch(arrays, schema=schema)
            yield whole.filter(pa.array(~bad)) if bad.any() else whole

    def _tell(
        self, name: str, kind: Kind, cells: pa.Array, rows: np.ndarray, reason: Reason, bad: np.ndarray, layout: Layout
    ) -> None:  # fmt: skip
        for row in rows[~bad[rows]][: max(0, _FIRST - len(self.told))]:
            value = cells[int(row)].as_py()
            shown = HIDDEN if name in self.compiled.charter.private() else value
            self.told.append(f"{name} '{shown}' {explain(kind, reason, value, layout)}")
