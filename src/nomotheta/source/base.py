"""What every format gives: blocks of whole records, and a block's records as columns."""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.native import DaysFrom
from nomotheta.layout import CellForm, Layout

if TYPE_CHECKING:
    from nomotheta.charter import Charter

Ints = NDArray[np.int64]


@frozen
class Odd:
    """A record that has no place in the columns: its number in the block (from 0), why, and a message."""

    record: int
    reason: str
    message: str


@dataclass(slots=True)
class Lines:
    """The lines of a file, counted twice: as they are read, and by what they turned out to be.

    A line of a sheet or of a table file is one of its rows.
    """

    read: int = 0
    header: int = 0
    comment: int = 0
    empty: int = 0
    footer: int = 0
    records: int = 0


@dataclass(slots=True)
class Batch:
    """The rows of a block.

    `columns` hold n rows each: a `pa.StringArray` of the text as it is in the file; an array of another type where
    the format has types of its own; or a struct of `text` and `value` where cells of both sorts occur, `value` being
    canonical text. `records` is the record of each row, counted in the block from 0; `count` all records of the block,
    of which `headings` are the header again; `lines`, `empty`, `comments` and `headers` its lines in all and those of
    no record. `days_from` says from when on the file counts days, where a number may be one. `altered` are records that
    were not taken as they came, by what was done to them, and how often to each.
    """

    columns: Sequence[Any]
    records: Ints
    odd: list[Odd]
    count: int
    lines: int
    empty: int = 0
    comments: int = 0
    headers: int = 0
    headings: int = 0
    days_from: DaysFrom = ""
    altered: dict[str, tuple[Ints, Ints]] = field(default_factory=dict)

    def alter(self, what: str, records: Ints, counts: Ints | None = None) -> None:
        """Keep that something was done to some records, once to each, or so often."""
        if len(records):
            more = (records, np.ones(len(records), np.int64) if counts is None else counts)
            before = self.altered.get(what)
            both = [np.concatenate(pair) for pair in zip(before, more, strict=True)] if before else [*more]
            order = np.argsort(both[0], kind="stable")
            self.altered[what] = (both[0][order], both[1][order])

    @property
    def a_line_each(self) -> bool:
        """Whether every line of the block is a record of its own."""
        return self.count == self.lines

    def line_numbers(self, records: Ints) -> Ints:
        """The line in the file, from 1, on which each record begins."""
        raise NotImplementedError

    def offsets(self, records: Ints) -> Ints:
        """The byte at which each record begins, from 0, in the file's content as UTF-8; 0 where it has no such."""
        raise NotImplementedError

    def original(self, record: int) -> str:
        """The text of a record as it came."""
        raise NotImplementedError

    def values(self, column: int) -> Any:
        """A column as it is typed best: an array such as `columns` holds, or one that was read as its kind at once."""
        return self.columns[column]

    def taken(self, column: int, rows: Ints) -> Any:
        """Some rows of a column, as an array."""
        return self.columns[column].take(pa.array(rows))

    def taken_together(self, columns: Sequence[int], rows: Ints) -> Sequence[Any]:
        """Some rows of several columns."""
        return [self.taken(column, rows) for column in columns]

    def originals(self, records: Ints) -> list[str]:
        """The texts of some records."""
        return [self.original(record) for record in records.tolist()]

    def fields(self, originals: Any, _reasons: Any) -> Any:
        """What can be told of the fields of n records that have no place in the columns: n lists of texts.

        The texts of the records, and why they have none, are arrays of texts.
        """
        return pa.array([[]] * len(originals), pa.list_(pa.string()))

    def with_quotes(self) -> bool:
        """Whether some value may have stood in quotes."""
        return False


class Part(Protocol):
    """A block: `size` of the bytes of its file, its first `line`, and its records in the way of its format."""

    @property
    def line(self) -> int:
        """The number of its first line, from 1."""

    @property
    def size(self) -> int:
        """How many of the file's bytes it is."""


class SourceFile(Protocol):
    """One file of a delivery, in whatever format.

    `header`, and the values of the `first` record where they are text, are known once `read_header` was called; the
    texts of the `footer` and of the `heading` above the names once `blocks` has ended. `kinds` is what columns are to
    be, by their number from 0, as far as that was told: a format may read them as such at once; `forms` how the cells
    of some are written, where that is not as the layout says. Where a `stretch` is set, its records alone are told.
    """

    layout: Layout
    header: list[str] | None
    first: list[str] | None
    footer: str
    heading: str
    lines: Lines
    kinds: Mapping[int, Kind]
    forms: Mapping[int, CellForm]
    stretch: Stretch | None

    @property
    def name(self) -> str:
        """Its path as messages show it."""

    def read_header(self) -> list[str] | None:
        """The names of its columns, or None where it has none.

        Raises:
            DeliveryError: the file cannot be read, or is not in this format.
        """

    def blocks(self) -> Iterator[Any]:
        """Its records in order, as blocks that can be read side by side.

        Raises:
            DeliveryError: the file cannot be read.
        """

    def in_parts_of(self, size: int) -> None:
        """From now on, no block is to have more than so many bytes, where the format can choose."""

    def check_whole(self) -> None:
        """What only the whole file can tell, once all its blocks were read.

        Raises:
            DeliveryError: something that is declared is in none of its records.
        """

    def read(self, block: Any, width: int, *, fill: bool = False, cut: bool = False) -> Batch:
        """A block's records as `width` columns, those with fewer fields filled and with more cut, where asked."""


@frozen
class Stretch:
    """Whole records of a file: its bytes from `start` to `stop`, and the number of the line with which they begin.

    The `first` holds the header, and the `last` the footer.
    """

    start: int
    stop: int
    line: int
    first: bool
    last: bool


@dataclass(slots=True)
class ReadFile:
    """What every reader of a file has: see `SourceFile`."""

    path: Path
    name: str
    layout: Layout
    charter: Charter | None = None
    header: list[str] | None = None
    first: list[str] | None = None
    footer: str = ""
    heading: str = ""
    lines: Lines = field(default_factory=Lines)
    kinds: Mapping[int, Kind] = field(default_factory=dict)
    forms: Mapping[int, CellForm] = field(default_factory=dict)
    largest: int = sys.maxsize
    stretch: Stretch | None = None

    def in_parts_of(self, size: int) -> None:
        """From now on, no block is to have more than so many bytes, where the format can choose."""
        self.largest = size

    def at_once(self) -> int:
        """How many bytes are read at a time, at most."""
        return self.largest

    def check_whole(self) -> None:
        """Nothing: what a format tells of its columns, it tells before the first record."""


@dataclass(slots=True)
class LineBatch(Batch):
    """A batch whose records are lines: where each begins, and its bytes."""

    first_line: int = 1
    first_byte: int = 0
    data: bytes = b""
    within: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    starts: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    ends: Ints = field(default_factory=lambda: np.zeros(0, np.int64))

    def line_numbers(self, records: Ints) -> Ints:
        """The line in the file, from 1, of each record."""
        return self.within[records] + self.first_line

    def offsets(self, records: Ints) -> Ints:
        """The byte at which each record begins."""
        return self.starts[records] + self.first_byte

    def original(self, record: int) -> str:
        """The line of a record."""
        return self.data[self.starts[record] : self.ends[record]].decode("utf-8", "replace")


@dataclass(slots=True)
class RowBatch(Batch):
    """A batch of a format whose records are rows of typed values: which row of the file each is."""

    names: list[str] = field(default_factory=list)
    rows: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    whole: list[Any] = field(default_factory=list)
    elsewhere: bool = False  # whether `rows` are lines of other files, from which the records came

    @property
    def a_line_each(self) -> bool:
        """Whether every row of the block is a record of its own, numbered from its first."""
        return self.count == self.lines and not self.elsewhere

    def line_numbers(self, records: Ints) -> Ints:
        """The row of the file, from 1, of each record."""
        return self.rows[records]

    def offsets(self, records: Ints) -> Ints:
        """Nothing: rows of such files have no byte at which they begin."""
        return np.zeros(len(records), np.int64)

    def original(self, record: int) -> str:
        """The values of a row, as JSON."""
        import json

        from nomotheta.kinds.native import as_texts

        def plain(column: Any) -> Any:
            cell = column.slice(record, 1)
            if pa.types.is_boolean(cell.type) or pa.types.is_integer(cell.type):
                return cell[0].as_py()
            if pa.types.is_floating(cell.type) and math.isfinite(cell[0].as_py() or 0):
                return cell[0].as_py()
            return as_texts(cell)[0].as_py()

        return json.dumps({name: plain(c) for name, c in zip(self.names, self.whole, strict=True)}, ensure_ascii=False)
