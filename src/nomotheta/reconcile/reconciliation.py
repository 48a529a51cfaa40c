"""What came of holding a source against a target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field, replace
from typing import Any, ClassVar, Literal

from nomotheta.frozen import frozen
from nomotheta.source.stated import StatementTold
from nomotheta.tabular import Tabular

Sort = Literal["changed", "missing", "unexpected", "repeated"]


@frozen
class ColumnTotals:
    """One column on both sides, values as text. `measure` says what `source` and `target` are.

    `sum`, `length` (characters in all), `bytes` and `true` (how many) are one value each; `range` is lowest and
    highest. Where it was asked for, how many different values there are, and the column's fingerprint.
    """

    column: str
    measure: Literal["sum", "range", "length", "bytes", "true"]
    source_count: int
    target_count: int
    source: tuple[str | None, ...]
    target: tuple[str | None, ...]
    equal: bool
    source_distinct: int | None = None
    target_distinct: int | None = None
    source_fingerprint: str | None = None
    target_fingerprint: str | None = None


@frozen
class Cell:
    """A column in which two rows of one key differ."""

    column: str
    source: str | None
    target: str | None


@frozen
class RowDifference:
    """A row that is not the same on both sides, known by its key, or whole where there is no key.

    It is `changed` in its cells, `missing` in the target, `unexpected` there, or `repeated`: the target has it more
    often than the source. `file` and `line` are where the source has it, where that is a file.
    """

    sort: Sort
    key: tuple[tuple[str, str | None], ...]
    cells: tuple[Cell, ...] = ()
    file: str = ""
    line: int | None = None


@frozen
class Reconciliation(Tabular):
    """A source against a target.

    `table` and `place` are the target's; `source` and `target` are what the two are called. Where the source is files
    that were loaded, `source_rows` is what should be there: records − rejected − copies − conflicts, and those of them
    that were `mended` and came later. `sorts` counts the rows that differ by their sort, of those that were looked at;
    `differing_rows` is how many there are in all, None where not all were looked at. `uncompared` are columns that only
    one side has, as it should be; `lacking` those that one side lacks, with its name, and `unread` the rows of files
    that cannot be read: both make the two unequal. `excused` counts, by column and by what was declared, the values
    that are not the same and may be so. `stated` is what the sender said of the files, which held at loading.
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
    source_rows: int
    target_rows: int
    totals: tuple[ColumnTotals, ...]
    scheme: str
    source_fingerprint: str
    target_fingerprint: str
    source: str = "files"
    target: str = "table"
    key: tuple[str, ...] = ()
    differing: tuple[str, ...] = ()
    sorts: Mapping[str, int] = field(default_factory=dict)
    differences: tuple[RowDifference, ...] = ()
    differing_rows: int | None = None
    cause: str = ""
    uncompared: tuple[str, ...] = ()
    lacking: tuple[tuple[str, str], ...] = ()
    unread: int = 0
    stated: tuple[StatementTold, ...] = ()
    excused: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    format: str = field(default="nomotheta/reconciliation/2")
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "sort": "text", "key": "text", "column": "text", "source": "text", "target": "text", "file": "text",
        "line": "integer",
    }  # fmt: skip

    @property
    def of_files(self) -> bool:
        """Whether loaded files are the source."""
        return bool(self.loads)

    def first(self, count: int) -> Reconciliation:
        """The same with no more than so many of the rows that differ."""
        return replace(self, differences=self.differences[:count])

    def caption(self) -> str:
        """The table, what was compared, and the verdict."""
        return f"{self.table}, {self.over}: {self.verdict}"

    def as_rows(self) -> list[dict[str, Any]]:
        """The differences, a row for each cell that differs, or for a row that one side lacks."""
        found = []
        for each in self.differences:
            key = ", ".join(f"{name} = {'null' if value is None else value}" for name, value in each.key)
            row = {"sort": each.sort, "key": key, "file": each.file or None, "line": each.line}
            cells = [{"column": cell.column, "source": cell.source, "target": cell.target} for cell in each.cells]
            found += [{**row, **cell} for cell in cells or [{}]]
        return found
