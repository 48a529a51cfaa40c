"""A block of records as columns of text: Arrow's reader where it can, our own fields where it cannot."""

from __future__ import annotations

import contextlib
import csv
import itertools
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, overload

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.errors import counted
from nomotheta.kernel import ODD, TEXT, Read, ReadColumn, Words, count_byte, read_block
from nomotheta.kinds.cells import trimmed as without_edges
from nomotheta.kinds.plain import spec_of
from nomotheta.layout import CellForm, Layout
from nomotheta.source.base import Batch, Ints, Odd
from nomotheta.source.block import Block
from nomotheta.source.marks import LINE_FEED, RETURN
from nomotheta.source.records import Scanned, Spans, Value, find_all, read_record, record_spans

AsTexts = Callable[[bytes, int, int, Sequence[int]], Mapping[int, Any]]  # data, bytes of it, lines at most, columns


class Columns(Sequence[Any]):
    """The columns of a block that the kernel read: all of them as texts, once one is asked for that was not.

    The block is the first `size` bytes of `data`, which goes on with the start of the next.
    """

    def __init__(self, data: bytes, size: int, read: Read, as_texts: AsTexts) -> None:
        self._data, self._size, self.read, self._as_texts = data, size, read, as_texts
        self._texts = dict(read.texts)
        self._some: tuple[bytes, Mapping[int, Any]] = (b"", {})

    def __len__(self) -> int:
        return len(self.read.texts) + len(self.read.values)

    @overload
    def __getitem__(self, at: int) -> Any: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Any]: ...
    def __getitem__(self, at: int | slice) -> Any:
        if isinstance(at, slice):
            return [self[each] for each in range(*at.indices(len(self)))]
        if not 0 <= at < len(self):
            raise IndexError(at)
        if at not in self._texts:
            read = self.read
            self._texts |= self._as_texts(self._data, self._size, read.count, list(read.values))
        return self._texts[at]

    def values(self, at: int) -> Any:
        """A column as it was read."""
        if at in self.read.texts:
            return self.read.texts[at]
        return ReadColumn(self.read.values[at], lambda: self[at], lambda rows: self.taken(at, rows))

    def taken(self, at: int, rows: Ints) -> Any:
        """Some rows of a column, as texts: their records are read once more, all of it if two columns are asked for."""
        if at in self._texts:
            return self._texts[at].take(pa.array(rows))
        asked, (known, columns) = rows.tobytes(), self._some
        if asked != known or at not in columns:
            columns = self._again(rows, list(self.read.values) if asked == known else [at])
            self._some = (asked, columns)
        return columns[at]

    def taken_together(self, columns: Sequence[int], rows: Ints) -> Sequence[Any]:
        """Some rows of several columns, as texts."""
        wanted = [at for at in columns if at not in self._texts or len(rows) * len(columns) < len(self.read.records)]
        again = self._again(rows, wanted) if wanted else {}
        return [again[at] if at in again else self._texts[at].take(pa.array(rows)) for at in columns]

    def _again(self, rows: Ints, columns: Sequence[int]) -> Mapping[int, Any]:
        """Columns as texts, their records read once more."""
        records = self.read.records[rows]
        edges = zip(self.read.starts[records].tolist(), self.read.stops[records].tolist(), strict=True)
        data = b"".join([self._data[start:stop] + b"\n" for start, stop in edges])
        return self._as_texts(data, len(data), data.count(b"\n"), columns)


@dataclass(slots=True)
class TextBatch(Batch):
    """The rows of a block of delimited text, all of them `pa.StringArray`s; `others` have columns of another form."""

    block: Block = field(kw_only=True)
    layout: Layout = field(kw_only=True)
    others: dict[int, TextBatch] = field(default_factory=dict)
    _spans: Spans | None = None
    _read: Read | None = None

    def spans(self) -> Spans:
        """Where the block's records are; found when it is first asked for."""
        if self._spans is None:
            scanned = self.block.scanned
            quote = ord(self.layout.quote) if self.layout.quote else None
            self._spans = scanned.spans if scanned else record_spans(self.block.data, quote)
        return self._spans

    def line_numbers(self, records: Ints) -> Ints:
        """The line in the file, from 1, on which each record begins."""
        if self.a_line_each or not len(records):
            return records + self.block.line
        if self._read is None or not np.all(records[1:] >= records[:-1]):
            return self.spans().lines[records] + self.block.line
        starts = self._read.starts[records].astype(np.int64)
        return self._feeds_before(starts) + self.block.line

    def _feeds_before(self, starts: Ints) -> Ints:
        """How many line ends come before each of some places, in their order; a block may be nothing but line ends."""
        if len(starts) > _FEW:
            return np.searchsorted(find_all(self.block.data, LINE_FEED), starts)
        edges = [0, *starts.tolist()]
        between = [count_byte(self.block.chunk[low:high], LINE_FEED) for low, high in itertools.pairwise(edges)]
        return np.cumsum(np.array(between, np.int64))

    @property
    def a_line_each(self) -> bool:
        """Whether every line of the block is a record of its own."""
        return self.block.scanned is None and self.count == self.lines

    def offsets(self, records: Ints) -> Ints:
        """The byte of the file's UTF-8 text at which each record begins, from 0."""
        return self._edges(records)[0] + self.block.offset

    def _edges(self, records: Ints) -> tuple[Ints, Ints]:
        """Where records begin and end in the block."""
        if self._read is not None:
            return self._read.starts[records].astype(np.int64), self._read.stops[records].astype(np.int64)
        return self.spans().starts[records], self.spans().ends[records]

    def fields(self, originals: Any, reasons: Any) -> Any:
        """The fields of records of another width; where quotes are astray, what stands between delimiters."""
        layout = self.layout
        special = pa.array(np.zeros(len(originals), np.bool_))
        for sign in filter(None, (layout.quote, layout.escape)):
            special = pc.or_(special, pc.match_substring(originals, sign))
        special = pc.and_(special, pc.not_equal(reasons, "stray_quote")).to_numpy(zero_copy_only=False)
        plain = pc.split_pattern(originals.filter(pa.array(~special)), layout.delimiter)
        if not special.any():
            return plain
        read = [self._fields(text) for text in originals.filter(pa.array(special)).to_pylist()]
        both = pa.concat_arrays([plain, pa.array(read, pa.list_(pa.string()))])
        order = np.argsort(np.concatenate([np.flatnonzero(~special), np.flatnonzero(special)]))
        return both.take(pa.array(order))

    def _fields(self, original: str) -> Sequence[str]:
        layout = self.layout
        if self.block.scanned is None and not layout.escape and len(layout.delimiter) == 1:  # its quotes are in place
            with contextlib.suppress(csv.Error):
                return next(csv.reader((original,), delimiter=layout.delimiter, quotechar=layout.quote))
        found, _ = read_record(original.encode(), 0, layout, final=True)
        if isinstance(found, str):
            return original.split(layout.delimiter)
        return [value.decode("utf-8", "replace") for value, _ in found]

    def values(self, column: int) -> Any:
        """A column as the kernel read it; its texts, where it did not."""
        if column in self.others:
            return self.others[column].values(column)
        return self.columns.values(column) if isinstance(self.columns, Columns) else self.columns[column]

    def taken(self, column: int, rows: Ints) -> Any:
        """Some rows of a column, as texts."""
        if column in self.others:
            return self.others[column].taken(column, rows)
        if isinstance(self.columns, Columns):
            return self.columns.taken(column, rows)
        return self.columns[column].take(pa.array(rows))

    def taken_together(self, columns: Sequence[int], rows: Ints) -> Sequence[Any]:
        """Some rows of several columns, as texts: few rows of many columns are best read once more."""
        if self.others:
            return [self.taken(column, rows) for column in columns]
        if isinstance(self.columns, Columns):
            return self.columns.taken_together(columns, rows)
        return [self.columns[column].take(pa.array(rows)) for column in columns]

    def with_quotes(self) -> bool:
        """Whether a quote is in the block at all."""
        return bool(self.layout.quote) and self.block.chunk.find(self.layout.quote.encode(), 0, self.block.size) >= 0

    def original(self, record: int) -> str:
        """The text of a record as it came."""
        return self.originals(np.array([record]))[0]

    def originals(self, records: Ints) -> list[str]:
        """The texts of some records."""
        edges = zip(*(each.tolist() for each in self._edges(records)), strict=True)
        return [self.block.chunk[start:end].decode("utf-8", "replace") for start, end in edges]


def read_texts(
    block: Block, layout: Layout, width: int, kinds: Mapping[int, Kind], forms: Mapping[int, CellForm] | None = None, *,
    fill: bool = False, cut: bool = False,
) -> TextBatch:  # fmt: skip
    """The columns of a block.

    Args:
        block: whole records.
        layout: how they are written.
        width: how many fields a record has.
        kinds: what some of them are to be: where all is plain, they are read as such at once.
        forms: of columns that are written otherwise: they are read by themselves.
        fill: give records with too few fields nulls for the rest, in place of refusing them.
        cut: drop what a record has too many, in place of refusing it.
    """
    own = forms or {}
    wanted = [at for at in kinds or range(width) if at not in own]
    usual = {at: kind for at, kind in kinds.items() if at not in own}
    batch = _read_alike(block, layout, width, usual, wanted, fill=fill, cut=cut)
    for form in dict.fromkeys(own.values()):
        columns = [at for at, each in own.items() if each == form]
        theirs = {at: kinds[at] for at in columns if at in kinds}
        other = _read_alike(block, layout.of(form), width, theirs, columns, fill=fill, cut=cut)
        batch.others |= dict.fromkeys(columns, other)
        for what in ("trimmed", "nulled"):
            if what in other.altered:
                batch.alter(what, *other.altered[what])
    return batch


def _read_alike(
    block: Block, layout: Layout, width: int, kinds: Mapping[int, Kind], wanted: Sequence[int], *, fill: bool, cut: bool
) -> TextBatch:  # fmt: skip
    """The columns of a block, of which some are wanted; what was done to those is counted."""
    lines = block.feeds + (not block.ended)

    def slowly(layout: Layout) -> TextBatch:
        if block.scanned is not None:
            return _from_scanned(block, block.scanned, layout, width, lines)
        return _from_arrow(block, layout, width, lines)

    batch = _from_kernel(block, layout, width, lines, kinds) if block.scanned is None else None
    read = batch._read if batch is not None else None
    if batch is None:
        batch = slowly(layout)
        if any(layout.null_words):
            _count_nulled(batch, slowly(replace(layout, null_words=[])), wanted)
    elif read is not None:
        for at, (count, row) in read.worded.items():
            if at in wanted:
                batch.alter("nulled", read.records[row : row + 1], np.array([count], np.int64))
    if batch.odd and (fill or cut):
        batch = _mended(batch, layout, width, fill=fill, cut=cut)
    if layout.trim:
        _trim(batch, layout, wanted)
    return batch


def _count_nulled(batch: TextBatch, raw: TextBatch, wanted: Sequence[int]) -> None:
    """Count the cells that are null for a word which is not empty, by the same block read without null words."""
    counts = np.zeros(len(batch.records), np.int64)
    for at in wanted:
        column = batch.columns[at]
        if column.null_count:
            filled = pc.greater(pc.fill_null(pc.binary_length(raw.columns[at]), 0), 0)
            counts += pc.and_(column.is_null(), filled).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero(counts)
    batch.alter("nulled", batch.records[rows], counts[rows])


_SOME = 1 << 16
_SHORT = 4  # bytes of a line, on average, below which most lines must be empty
_FEW = 256  # places that are counted up to one by one
_SUBSTITUTES = (0x1F, 0x1E, 0x1D, 0x1C, 0x02, 0x01)


def _arrow(data: bytes, layout: Layout, width: int) -> tuple[list[Any], bool]:
    """Columns of text, and whether records of another width were left out."""
    import pyarrow.csv  # only now: the kernel reads what is plain

    ragged: list[Any] = []
    delimiter = layout.delimiter
    if not data.endswith(b"\n"):  # else Arrow takes an empty last field for quoted, if another of its record is
        data += b"\n"
    if (
        len(delimiter.encode()) > 1
    ):  # Arrow knows delimiters of one byte: one that is not in the data stands in for ours
        stand_in = next((code for code in _SUBSTITUTES if code not in data), None)
        if stand_in is None:
            return _split(data, layout, width)
        data, delimiter = data.replace(delimiter.encode(), bytes([stand_in])), chr(stand_in)

    def skip(row: Any) -> str:
        ragged.append(row.number)
        return "skip"

    names = [str(at) for at in range(width)]
    table = pyarrow.csv.read_csv(
        pa.BufferReader(data),
        read_options=pyarrow.csv.ReadOptions(
            use_threads=False, column_names=names, block_size=min(len(data) + 1, 2**31 - 1)
        ),
        parse_options=pyarrow.csv.ParseOptions(
            delimiter=delimiter,
            quote_char=layout.quote or False,
            double_quote=True,
            newlines_in_values=bool(layout.quote),
            invalid_row_handler=skip,
        ),
        convert_options=pyarrow.csv.ConvertOptions(
            check_utf8=False,
            column_types=dict.fromkeys(names, pa.string()),
            null_values=layout.null_words,
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        ),
    )
    return [_one_chunk(column) for column in table.columns], bool(ragged)


def _split(data: bytes, layout: Layout, width: int) -> tuple[list[Any], bool]:
    """The same, without Arrow: for a file that holds every byte that could stand in for its delimiter."""
    lines = [line.removesuffix(b"\r") for line in data.split(b"\n")]
    records = [[(value, False) for value in line.split(layout.delimiter.encode())] for line in lines if line]
    fitting = [record for record in records if len(record) == width]
    return _text_columns(fitting, layout, width), len(fitting) < len(records)


def _one_chunk(column: Any) -> Any:
    if column.num_chunks == 1:
        return column.chunk(0)
    return pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], pa.string())


def _from_kernel(block: Block, layout: Layout, width: int, lines: int, kinds: Mapping[int, Kind]) -> TextBatch | None:
    """The block as the kernel reads it; None where there is none, or the delimiter is more than a byte."""
    delimiter = layout.delimiter.encode()
    if len(delimiter) != 1 or not width:
        return None
    nulls, quote = Words(layout.null_words), ord(layout.quote) if layout.quote else None
    all_texts = dict.fromkeys(range(width), TEXT)
    specs = all_texts if layout.trim else all_texts | {at: spec_of(kind, layout) for at, kind in kinds.items()}
    most = lines if lines < block.size // _SHORT else _filled_lines(block)  # room is made for what may be a record
    read = read_block(block.chunk, most, width, delimiter[0], quote, nulls, specs, size=block.size)
    if read is None:
        return None

    def as_texts(data: bytes, size: int, most: int, columns: Sequence[int]) -> Mapping[int, Any]:
        again = read_block(data, most, width, delimiter[0], quote, nulls, dict.fromkeys(columns, TEXT), size=size)
        assert again is not None  # noqa: S101 - it has just read more
        return again.texts

    odd = [_ragged(at, have, width) for at, have in zip(read.odd.tolist(), read.odd_widths.tolist(), strict=True)]
    columns = Columns(block.chunk, block.size, read, as_texts)
    return TextBatch(columns, read.records, odd, read.count, lines, read.empty, block=block, layout=layout, _read=read)


def _filled_lines(block: Block) -> int:
    """How many lines of a block are not empty."""
    codes = np.frombuffer(block.chunk, np.uint8, block.size)
    ends = (codes == LINE_FEED) | (codes == RETURN)
    return int(np.count_nonzero(~ends[1:] & ends[:-1])) + int(not ends[0])


def _from_arrow(block: Block, layout: Layout, width: int, lines: int) -> TextBatch:
    data = block.data
    if not data[:_SOME].strip(b"\r\n") and not data.strip(b"\r\n"):
        return TextBatch(_no_columns(width), np.zeros(0, np.int64), [], 0, lines, lines, block=block, layout=layout)
    columns, has_ragged = _arrow(data, layout, width)
    rows = len(columns[0])
    batch = TextBatch(columns, np.arange(rows), [], rows, lines, block=block, layout=layout)
    if has_ragged:
        widths = _widths(batch.spans(), data, layout)
        batch.odd = [_ragged(int(at), int(widths[at]), width) for at in np.flatnonzero(widths != width)]
        batch.records = np.flatnonzero(widths == width)
        batch.count = len(widths)
    if batch.count != lines:
        batch.empty = batch.spans().empty
    return batch


def _no_columns(width: int) -> list[Any]:
    return [pa.array([], pa.string()) for _ in range(width)]


def _widths(spans: Spans, data: bytes, layout: Layout) -> Ints:
    """How many fields each record of a well-formed block has."""
    codes = np.frombuffer(data, np.uint8)
    marks = _delimiters(data, layout)
    if layout.quote:
        quotes = np.flatnonzero(codes == ord(layout.quote))
        marks = marks[np.searchsorted(quotes, marks) % 2 == 0]
    return np.searchsorted(marks, spans.ends) - np.searchsorted(marks, spans.starts) + 1


def _delimiters(data: bytes, layout: Layout) -> Ints:
    """Where the delimiters are."""
    if len(layout.delimiter.encode()) == 1:
        return np.flatnonzero(np.frombuffer(data, np.uint8) == ord(layout.delimiter))
    return np.array([match.start() for match in re.finditer(re.escape(layout.delimiter.encode()), data)], np.int64)


def _ragged(record: int, have: int, want: int) -> Odd:
    fields = counted(have, "field")
    reason = "too_few_fields" if have < want else "too_many_fields"
    return Odd(record, reason, f"has {fields} where the header has {want}")


def _from_scanned(block: Block, scanned: Scanned, layout: Layout, width: int, lines: int) -> TextBatch:
    """Records that are plain are read together; of those whose quotes are of both sorts the fields were read."""
    spans = scanned.spans
    count = len(spans.starts)
    own = np.ones(count, np.bool_)
    own[[*scanned.fields, *scanned.stray, *scanned.bare.tolist()]] = False
    odd = [Odd(at, "stray_quote", why) for at, why in scanned.stray.items()]
    odd += [_ragged(at, len(values), width) for at, values in scanned.fields.items() if len(values) != width]
    fitting = {at: values for at, values in scanned.fields.items() if len(values) == width}
    read = _text_columns(list(fitting.values()), layout, width)
    parts: list[tuple[Sequence[Any], Ints]] = [(read, np.array(list(fitting), np.int64))]
    for chosen, quote in ((np.flatnonzero(own), layout.quote), (scanned.bare, "")):
        if len(chosen):
            columns, fits, widths = _together(block, spans, chosen, replace(layout, quote=quote), width)
            parts.append((columns, chosen[fits]))
            odd += [_ragged(int(chosen[at]), int(widths[at]), width) for at in np.flatnonzero(~fits)]
    records = np.concatenate([numbers for _, numbers in parts])
    order = np.argsort(records)
    columns = [pa.concat_arrays([columns[at] for columns, _ in parts]).take(pa.array(order)) for at in range(width)]
    odd.sort(key=lambda each: each.record)
    return TextBatch(
        columns, records[order], odd, count, lines, spans.empty, scanned.comments, block=block, layout=layout
    )


def _together(
    block: Block, spans: Spans, chosen: Ints, layout: Layout, width: int
) -> tuple[Sequence[Any], NDArray[np.bool_], Ints]:
    """Some records as columns of text, as far as they fit, which of them do, and how many fields each has."""
    pairs = zip(spans.starts[chosen].tolist(), spans.ends[chosen].tolist(), strict=True)
    data = b"\n".join([block.chunk[start:end] for start, end in pairs]) + b"\n"
    widths = np.full(len(chosen), width)
    delimiter, quote = layout.delimiter.encode(), ord(layout.quote) if layout.quote else None
    if len(delimiter) == 1:
        nulls, texts = Words(layout.null_words), dict.fromkeys(range(width), TEXT)
        read = read_block(data, count_byte(data, LINE_FEED), width, delimiter[0], quote, nulls, texts)
        if read is not None:
            widths[read.odd] = read.odd_widths
            return [read.texts[at] for at in range(width)], widths == width, widths
    widths = _plain_widths(block, spans, chosen, layout)
    return _arrow(data, layout, width)[0], widths == width, widths


def _plain_widths(block: Block, spans: Spans, plain: Ints, layout: Layout) -> Ints:
    marks = _delimiters(block.data, layout)
    return np.searchsorted(marks, spans.ends[plain]) - np.searchsorted(marks, spans.starts[plain]) + 1


def _text_columns(records: Sequence[Sequence[Value | None]], layout: Layout, width: int) -> list[Any]:
    nulls = {word.encode() for word in layout.null_words}

    def text(value: Value | None) -> str | None:
        if value is None:
            return None
        content, quoted = value
        return None if not quoted and content in nulls else content.decode("utf-8", "replace")

    rows = [[text(value) for value in values] for values in records]
    return [pa.array([row[at] for row in rows], pa.string()) for at in range(width)]


def _mended(batch: TextBatch, layout: Layout, width: int, *, fill: bool, cut: bool) -> TextBatch:
    """Rows of another width made to fit, as far as the charter lets them."""
    chosen = [
        odd
        for odd in batch.odd
        if (odd.reason == "too_few_fields" and fill) or (odd.reason == "too_many_fields" and cut)
    ]
    rows: list[list[Value | None]] = []
    for odd in chosen:
        fields, _ = read_record(batch.original(odd.record).encode(), 0, layout, final=True)
        values = fields[:width] if isinstance(fields, list) else []
        rows.append([*values, *[None] * (width - len(values))])
    for reason, what in (("too_few_fields", "filled"), ("too_many_fields", "cut")):
        batch.alter(what, np.array([odd.record for odd in chosen if odd.reason == reason], np.int64))
    added = _text_columns(rows, layout, width)
    records = np.concatenate([batch.records, np.array([odd.record for odd in chosen], np.int64)])
    order = pa.array(np.argsort(records))
    pairs = zip(batch.columns, added, strict=True)
    batch.columns = [pa.concat_arrays([first, second]).take(order) for first, second in pairs]
    batch.records = np.sort(records)
    batch.odd = [odd for odd in batch.odd if odd not in chosen]
    return batch


def _trim(batch: TextBatch, layout: Layout, wanted: Sequence[int]) -> None:
    """Take white space off the ends of all cells, and count the cells that had some, of the columns that are wanted."""
    counts, nulled = np.zeros(len(batch.records), np.int64), np.zeros(len(batch.records), np.int64)
    columns = []
    for at, column in enumerate(batch.columns):
        trimmed = without_edges(column)
        changed = pc.fill_null(pc.not_equal(pc.binary_length(trimmed), pc.binary_length(column)), fill_value=False)
        if pc.any(changed).as_py():
            filled = pc.greater(pc.binary_length(trimmed), 0)
            trimmed = _null_again(trimmed, changed, layout)
            if at in wanted:
                counts += changed.to_numpy(zero_copy_only=False)
                became = pc.and_(pc.and_(changed, trimmed.is_null()), pc.fill_null(filled, fill_value=False))
                nulled += became.to_numpy(zero_copy_only=False)
        columns.append(trimmed)
    batch.columns = columns
    for what, times in (("trimmed", counts), ("nulled", nulled)):
        rows = np.flatnonzero(times)
        batch.alter(what, batch.records[rows], times[rows])


def _null_again(trimmed: Any, changed: Any, layout: Layout) -> Any:
    """What became a null word when white space was taken off is null."""
    if not layout.null_words:
        return trimmed
    null = pc.and_(changed, pc.is_in(trimmed, pa.array(layout.null_words, pa.string())))
    return pc.if_else(pc.fill_null(null, fill_value=False), pa.scalar(None, pa.string()), trimmed)


def without_headers(batch: TextBatch, header: list[str], *, skip: bool) -> None:
    """Take the rows that are the header again out of a batch, as of files that were put one behind the other."""
    rows = np.arange(len(batch.records))
    pairs = [(at, name) for at, name in enumerate(header[: len(batch.columns)]) if name]
    for narrow in (_at_first_sight, _named):
        for at, name in pairs:
            rows = narrow(batch, at, name, rows)
            if not len(rows):
                return
    if not pairs:
        return
    same = np.zeros(len(batch.records), np.bool_)
    same[rows] = True
    again = batch.records[same]
    if skip:
        spans = batch.spans()
        ends = np.append(spans.lines, batch.lines)[again + 1]
        batch.headers += int((ends - spans.lines[again]).sum())
    else:
        told = "is the header again"
        batch.odd += [Odd(int(record), "repeated_header", told) for record in again]
        batch.odd.sort(key=lambda each: each.record)
    batch.headings += len(again) if skip else 0
    keep = pa.array(~same)
    batch.columns = [column.filter(keep) for column in batch.columns]
    batch.records = batch.records[~same]


def _at_first_sight(batch: TextBatch, at: int, name: str, rows: Ints) -> Ints:
    """Those of some rows in which a column may hold its own name."""
    column = batch.values(at)
    if not isinstance(column, ReadColumn):
        offsets = np.frombuffer(column.buffers()[1], np.int32)[column.offset : column.offset + len(column) + 1]
        fitting: Ints = rows[np.diff(offsets)[rows] == len(name.encode())]
        return fitting
    layout = batch.layout
    values = {*layout.null_words, *layout.true_words, *layout.false_words}
    if name in values or any(letter.isdigit() for letter in name):
        return rows  # a name that may itself be a value
    if not column.values.odd:
        return rows[:0]
    odd: Ints = rows[column.values.state[rows] == ODD]
    return odd


def _named(batch: TextBatch, at: int, name: str, rows: Ints) -> Ints:
    """Those of some rows in which a column holds its own name."""
    here = pc.fill_null(pc.equal(batch.taken(at, rows), name), fill_value=False)
    found: Ints = rows[here.to_numpy(zero_copy_only=False)]
    return found
