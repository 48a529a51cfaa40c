"""The answer to a statement that has few rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nomotheta.frozen import frozen


@frozen
class Answer:
    """A few rows: the names of their columns, and the values of each as Python has them."""

    columns: tuple[str, ...]
    rows: Sequence[tuple[Any, ...]]

    @classmethod
    def of(cls, table: Any) -> Answer:
        """That of a `pa.Table`."""
        return cls(tuple(table.column_names), list(zip(*(column.to_pylist() for column in table.columns), strict=True)))

    def first(self) -> dict[str, Any]:
        """The first row by the names of the columns."""
        return dict(zip(self.columns, self.rows[0], strict=True))
