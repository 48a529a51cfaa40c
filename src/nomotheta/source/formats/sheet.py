"""Excel and OpenDocument sheets: one sheet of a workbook, or a range of its cells."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.errors import DeliveryError, did_you_mean
from nomotheta.kinds import show
from nomotheta.source.base import Lines, RowBatch
from nomotheta.source.row_blocks import ROWS, RowBlock, RowFile


@dataclass(slots=True)
class SheetFile(RowFile):
    """A sheet. Its lines are its rows, counted as the sheet numbers them; the first of the range are its header."""

    _cells: list[list[Any]] | None = None
    _first_row: int = 1
    _width: int = 0

    def read_header(self) -> list[str] | None:
        """The names in the last row of the header; None where the layout says there is none.

        Raises:
            DeliveryError: the file is no workbook, or has no such sheet.
        """
        rows = self._rows()
        at = _filled(rows, 0)
        for _ in range(self.layout.header - 1):
            at = _filled(rows, at + 1)
        if not self.layout.header:
            self._width = max((len(_trimmed(row)) for row in rows[:1000]), default=0)
            return None
        if at >= len(rows):
            raise DeliveryError("the sheet holds no header and no rows", where=self.name)
        names = [_text(cell) or "" for cell in _trimmed(rows[at])]
        self.header, self._width = names, len(names)
        return self.header

    def blocks(self) -> Iterator[RowBlock]:
        """The rows below the header, some tens of thousands at a time.

        Raises:
            DeliveryError: the file is no workbook, or has no such sheet.
        """
        rows = self._rows()
        self.lines = Lines(read=len(rows))
        at = 0
        for _ in range(self.layout.header):
            start, at = at, _filled(rows, at)
            self.lines.empty += at - start
            self.lines.header += at < len(rows)
            at += 1
        end = max(len(rows) - self.layout.footer, min(at, len(rows)))
        self.lines.footer = len(rows) - end
        self.heading, self.footer = _joined(rows[: max(at - 1, 0)]), _joined(rows[end:])
        size = self.path.stat().st_size
        for start in range(at, end, ROWS):
            part = rows[start : min(start + ROWS, end)]
            yield RowBlock(part, self._first_row + start, size * len(part) // len(rows))

    def read(self, block: RowBlock, width: int, *, fill: bool = False, cut: bool = False) -> RowBatch:
        """The cells of a block by column; empty rows are counted, and cells to the right of the header are odd."""
        width = width or self._width
        rows = [_trimmed(row) for row in block.columns]
        full = np.array([at for at, row in enumerate(rows) if row], np.int64)
        kept = [[*rows[at][:width], *[""] * (width - len(rows[at]))] for at in full]
        columns = [self._column([row[at] for row in kept]) for at in range(width)]
        names = self.header or [f"column {at + 1}" for at in range(width)]
        return RowBatch(
            columns, np.arange(len(full)), [], len(full), len(rows), len(rows) - len(full), names=names,
            rows=full + block.line, whole=columns,
        )  # fmt: skip

    def _column(self, cells: list[Any]) -> Any:
        nulls = {None, *self.layout.null_words}
        texts = [cell if isinstance(cell, str) and cell not in nulls else None for cell in cells]
        values = [None if isinstance(cell, str) or cell is None else _canonical(cell) for cell in cells]
        return pa.StructArray.from_arrays(
            [pa.array(texts, pa.string()), pa.array(values, pa.string())], ["text", "value"]
        )

    def _rows(self) -> list[list[Any]]:
        """The cells of the range, row by row."""
        if self._cells is not None:
            return self._cells
        import python_calamine

        try:
            book = python_calamine.load_workbook(str(self.path))
            name = self._sheet(book.sheet_names)
            sheet = book.get_sheet_by_name(name)
            cells = sheet.to_python(skip_empty_area=False)
        except (OSError, python_calamine.CalamineError, ValueError) as error:
            raise self._not_readable(error) from None
        self._cells = self._ranged(cells)
        while self._cells and not _trimmed(self._cells[-1]):  # formatted cells without content are no rows
            self._cells.pop()
        return self._cells

    def _sheet(self, names: list[str]) -> str:
        wanted = self.layout.sheet
        if isinstance(wanted, int):
            if not 1 <= wanted <= len(names):
                told = f"the workbook has {len(names)} sheets, and no sheet {wanted}"
                raise DeliveryError(told, where=self.name, mend=f"its sheets: {', '.join(names)}")
            return names[wanted - 1]
        if wanted not in names:
            mend = did_you_mean(wanted, names, "its sheets: " + ", ".join(names))
            raise DeliveryError(f"the workbook has no sheet '{wanted}'", where=self.name, mend=mend)
        return wanted

    def _ranged(self, cells: list[list[Any]]) -> list[list[Any]]:
        """The cells of the declared range."""
        match = re.fullmatch(r"([A-Z]+)(\d+):([A-Z]+)(\d*)", self.layout.range.upper())
        if not match:
            return cells
        left, top, right, bottom = match.groups()
        self._first_row = int(top)
        rows = cells[int(top) - 1 : int(bottom) if bottom else None]
        return [row[_number(left) - 1 : _number(right)] for row in rows]


def _joined(rows: list[list[Any]]) -> str:
    """Rows as lines, their cells apart by tabs."""
    return "\n".join("\t".join(_text(cell) or "" for cell in _trimmed(row)) for row in rows)


def _number(letters: str) -> int:
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number


def _trimmed(row: list[Any]) -> list[Any]:
    """A row without the empty cells at its end."""
    end = len(row)
    while end and (row[end - 1] is None or row[end - 1] == ""):
        end -= 1
    return row[:end]


def _filled(rows: list[list[Any]], at: int) -> int:
    """The first row from `at` on that is not empty."""
    while at < len(rows) and not _trimmed(rows[at]):
        at += 1
    return at


def _canonical(cell: Any) -> str | None:
    """A cell that is no text. All its numbers are doubles: what has no fraction is a whole number."""
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < 2**53:
        return str(int(cell))
    if isinstance(cell, float):
        from decimal import Decimal

        return format(Decimal(repr(cell)), "f")
    return _text(cell)


def _text(cell: Any) -> str | None:
    if isinstance(cell, float):
        return _canonical(cell)
    return show(cell)
