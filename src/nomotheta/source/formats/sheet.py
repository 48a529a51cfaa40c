"""Excel and OpenDocument sheets: one sheet of a workbook, or a range of its cells."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.errors import DeliveryError, did_you_mean
from nomotheta.kinds.show import show
from nomotheta.source.base import Lines, Odd, RowBatch
from nomotheta.source.row_blocks import ROWS, RowBlock, RowFile
from nomotheta.source.workbook import Workbook, column_number, looked_into

_DOUBTFUL = datetime.date(1900, 2, 28)


@dataclass(slots=True)
class SheetFile(RowFile):
    """A sheet. Its lines are its rows, counted as the sheet numbers them; the first of the range are its header."""

    _cells: list[list[Any]] | None = None
    _first_row: int = 1
    _first_column: int = 1
    _width: int = 0
    _book: Workbook = field(default_factory=Workbook)

    def read_header(self) -> list[str] | None:
        """The names in the last row of the header; None where the layout says there is none.

        Raises:
            DeliveryError: the file is not a workbook, or has no such sheet.
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
            DeliveryError: the file is not a workbook, or has no such sheet.
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
        """The cells of a block by column.

        Empty rows are counted; cells to the right of the header are odd, and those that hold an error or a formula
        without a value.
        """
        width = width or self._width
        rows = [_trimmed(row) for row in block.columns]
        unread = self._unread(block.line, len(rows))
        full = np.array([at for at, row in enumerate(rows) if row or at in unread], np.int64)
        kept = [[*rows[at], *[""] * (width - len(rows[at]))] for at in full]
        told = [self._odd(record, rows[at], unread.get(at), width, cut=cut) for record, at in enumerate(full.tolist())]
        odd = [each for each in told if each is not None]
        names = self.header or [f"column {at + 1}" for at in range(width)]
        words = [self.layout.of(self.forms.get(at)).null_words for at in range(width)]
        whole = [self._column([row[at] for row in kept], words[at]) for at in range(width)]
        keep = np.ones(len(full), np.bool_)
        keep[[each.record for each in odd]] = False
        columns = [column.filter(pa.array(keep)) for column in whole] if odd else whole
        long = [record for record, at in enumerate(full.tolist()) if len(rows[at]) > width and keep[record]]
        batch = RowBatch(
            columns, np.flatnonzero(keep), odd, len(full), len(rows), len(rows) - len(full), names=names,
            rows=full + block.line, whole=whole,
            days_from="1904" if self._book.from_1904 else "1900",
        )  # fmt: skip
        batch.alter("cut", np.array(long, np.int64))
        for at in self.kinds or range(width):
            nulled = [
                record for record, row in enumerate(kept)
                if keep[record] and isinstance(row[at], str) and row[at] and row[at] in words[at]
            ]  # fmt: skip
            batch.alter("nulled", np.array(nulled, np.int64))
        return batch

    def _unread(self, first_line: int, count: int) -> dict[int, tuple[int, str]]:
        """By row of a block, the first of the wanted columns whose cell is not empty but has no value, and why."""
        found: dict[int, tuple[int, str]] = {}
        for (row, column), told in self._book.unread.items():
            at, place = row + 1 - first_line, column + 1 - self._first_column
            if 0 <= at < count and place >= 0 and (not self.kinds or place in self.kinds):
                found.setdefault(at, (place, told))
        return found

    def _odd(self, record: int, row: list[Any], unread: tuple[int, str] | None, width: int, *, cut: bool) -> Odd | None:
        """What is wrong with a row, if anything."""
        if unread is not None:
            place, told = unread
            name = self.header[place] if self.header and place < len(self.header) else f"column {place + 1}"
            return Odd(record, "cell_error", f"holds {told} in '{name}'")
        if len(row) <= width or cut:
            return None
        return Odd(record, "too_many_fields", f"has {len(row)} cells where the header has {width}")

    def _column(self, cells: list[Any], null_words: Sequence[str]) -> Any:
        nulls = {None, *null_words}
        texts = [cell if isinstance(cell, str) and cell not in nulls else None for cell in cells]
        values = [None if isinstance(cell, str) or cell is None else self._canonical(cell) for cell in cells]
        return pa.StructArray.from_arrays(
            [pa.array(texts, pa.string()), pa.array(values, pa.string())], ["text", "value"]
        )

    def _canonical(self, cell: Any) -> str | None:
        """A cell that is not text. Of two numbers of days the library makes one day: which it was, nobody can tell."""
        day = cell.date() if isinstance(cell, datetime.datetime) else cell
        if day == _DOUBTFUL and not self._book.from_1904:
            return "day 59 or 60 of 1900"
        return _canonical(cell)

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
            self._book = looked_into(self.path, name)
        except DeliveryError:
            raise
        except Exception as error:  # of the libraries that read workbooks, each has its own
            if isinstance(error, MemoryError):
                raise
            raise self._not_readable(error) from None
        last = max((row for row, _ in self._book.unread), default=-1) + 1
        cells += [[] for _ in range(last - len(cells))]
        rows = self._ranged(cells)
        while rows and not _trimmed(rows[-1]) and self._first_row + len(rows) - 1 > last:
            rows.pop()  # formatted cells without content are not rows
        self._cells = rows
        return rows

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
        self._first_row, self._first_column = int(top), column_number(left)
        rows = cells[int(top) - 1 : int(bottom) if bottom else None]
        return [row[column_number(left) - 1 : column_number(right)] for row in rows]


def _joined(rows: list[list[Any]]) -> str:
    """Rows as lines, their cells apart by tabs."""
    return "\n".join("\t".join(_text(cell) or "" for cell in _trimmed(row)) for row in rows)


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
    """A cell that is not text. All its numbers are doubles: what has no fraction is a whole number."""
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
