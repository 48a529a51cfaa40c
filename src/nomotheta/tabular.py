"""Results as tables: for Arrow, for pandas where it is installed, and for a notebook's page."""

from __future__ import annotations

import html
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

_SHOWN = 50  # rows on a notebook's page


class Tabular:
    """A result that is, or holds, a list of rows. `COLUMNS` names their columns, each `text`, `integer` or `real`."""

    __slots__ = ()
    COLUMNS: ClassVar[Mapping[str, str]] = {}

    def as_rows(self) -> Sequence[Mapping[str, Any]]:
        """The rows, each by the names of the columns."""
        raise NotImplementedError

    def caption(self) -> str:
        """What it is, in a line."""
        return type(self).__name__

    def to_arrow(self) -> Any:
        """The rows as a `pyarrow.Table`: texts as `string`, counts as `int64`, numbers as `float64`; null is null."""
        import pyarrow as pa

        types = {"text": pa.string(), "integer": pa.int64(), "real": pa.float64()}
        schema = pa.schema([(name, types[kind]) for name, kind in self.COLUMNS.items()])
        return pa.Table.from_pylist([{name: row.get(name) for name in self.COLUMNS} for row in self.as_rows()], schema)

    def to_pandas(self) -> Any:
        """The rows as a `pandas.DataFrame`; counts with nulls among them are of pandas' own `Int64`.

        Raises:
            ModuleNotFoundError: pandas is not installed, which Nomotheta does not need for anything else.
        """
        import pandas as pd

        kinds = {"text": "string", "integer": "Int64", "real": "Float64"}
        rows = self.as_rows()
        return pd.DataFrame(
            {
                name: pd.Series([row.get(name) for row in rows], dtype=kinds[kind])
                for name, kind in self.COLUMNS.items()
            }
        )  # fmt: skip

    def _repr_html_(self) -> str:
        """The first rows as HTML, as notebooks show it; whatever is in them is escaped."""
        rows = self.as_rows()
        head = "".join(f"<th>{html.escape(name)}</th>" for name in self.COLUMNS)
        body = "".join(f"<tr>{''.join(self._cell(name, row) for name in self.COLUMNS)}</tr>" for row in rows[:_SHOWN])
        more = f"<p>… and {len(rows) - _SHOWN:,} more rows</p>" if len(rows) > _SHOWN else ""
        return (
            f"<table><caption>{html.escape(self.caption())}</caption><thead><tr>{head}</tr></thead>"
            f"<tbody>{body}</tbody></table>{more}"
        )

    def _cell(self, name: str, row: Mapping[str, Any]) -> str:
        value = row.get(name)
        if value is None:
            return "<td></td>"
        if isinstance(value, int):
            return f'<td style="text-align: right">{value:,}</td>'
        return f"<td>{html.escape(str(value))}</td>"
