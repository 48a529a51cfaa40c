"""What came of holding the files against the table."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Any, ClassVar, Literal

from nomotheta.frozen import frozen
from nomotheta.tabular import Tabular


@frozen
class ColumnTotals:
    """One column on both sides, values as text. `measure` says what `files` and `table` are.

    `sum`, `length` (characters in all) and `true` (how many) are one value each; `range` is lowest and highest.
    """

    column: str
    measure: Literal["sum", "range", "length", "true"]
    files_count: int
    table_count: int
    files: tuple[str | None, ...]
    table: tuple[str | None, ...]
    equal: bool


@frozen
class Cell:
    """A column in which two rows of one key differ."""

    column: str
    files: str | None
    table: str | None


@frozen
class RowDifference:
    """A row that is not the same on both sides, known by its key, or whole where there is no key."""

    where: Literal["differs", "only in files", "only in table"]
    key: tuple[tuple[str, str | None], ...]
    cells: tuple[Cell, ...] = ()


@frozen
class Reconciliation(Tabular):
    """Files against a table.

    `files_rows` is what should be there: records − rejected − copies − conflicts, and those of them that were `mended`
    and came later. `uncompared` are columns that no file holds, or that the charter does not declare.
    """

    table: str
    place: str
    over: str
    loads: tuple[int, ...]
    files: tuple[str, ...]
    verdict: Literal["pass", "fail"]
    records: int
    rejected: int
    copies: int
    conflicts: int
    mended: int
    files_rows: int
    table_rows: int
    totals: tuple[ColumnTotals, ...]
    scheme: str
    files_fingerprint: str
    table_fingerprint: str
    differing: tuple[str, ...] = ()
    differences: tuple[RowDifference, ...] = ()
    differing_rows: int | None = None
    uncompared: tuple[str, ...] = ()
    format: str = field(default="nomotheta/reconciliation/1")
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "key": "text", "where": "text", "column": "text", "files": "text", "table": "text"
    }  # fmt: skip

    def caption(self) -> str:
        """The table, what was compared, and the verdict."""
        return f"{self.table}, {self.over}: {self.verdict}"

    def as_rows(self) -> list[dict[str, Any]]:
        """The differences, a row for each cell that differs, or for a row that one side lacks."""
        found = []
        for each in self.differences:
            key = ", ".join(f"{name} = {'null' if value is None else value}" for name, value in each.key)
            cells = [{"column": cell.column, "files": cell.files, "table": cell.table} for cell in each.cells]
            found += [{"key": key, "where": each.where, **cell} for cell in cells or [{}]]
        return found
