"""A chunk surveyed for its records, and a block of them read into columns."""

from __future__ import annotations

import ctypes
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.frozen import frozen
from nomotheta.kernel import library as kernel_of
from nomotheta.kernel.library import FIELDS, MOST_FIELDS, PLAIN_WIDTH, WIDEST, CColumn, CField, CForm, CWords, address

Ints = NDArray[np.int64]
State = NDArray[np.uint8]
VALUE, BLANK, ODD, LOCAL = range(4)
_SORTS = {"text": 1, "integer": 2, "decimal": 3, "moment": 4, "word": 5, "zoned": 6}
_SLACK = 32
_i64, _i32, _u8 = ctypes.c_int64, ctypes.c_int32, ctypes.c_uint8
_scratch = threading.local()


class Words:
    """Texts as the kernel takes them."""

    def __init__(self, words: Sequence[str]) -> None:
        encoded = [word.encode() for word in words]
        self.text = b"".join(encoded)
        self.edges = np.concatenate([[0], np.cumsum([len(word) for word in encoded])]).astype(np.int32)
        self.count = len(encoded)

    def c(self) -> CWords:
        """`words_t`, for as long as these words are kept."""
        return CWords(self.text, self.edges.ctypes.data, self.count)


@frozen
class Form:
    """A form of fixed width: where each sign and each literal byte stands.

    `months` and `months_short` are the words that stand for the months, in lower case; `century` is the year from which
    those of two digits are counted.
    """

    width: int
    fields: Sequence[tuple[str, int, int]]
    literals: Sequence[tuple[int, int]]
    months: Words
    months_short: Words
    century: int = 0

    @property
    def known(self) -> bool:
        """Whether the kernel can read it: one that is not too wide, and says nothing twice."""
        parts = [_PARTS.get(sign.removeprefix("-"), sign) for sign, _, _ in self.fields]
        return self.width <= WIDEST and len(self.fields) <= MOST_FIELDS and len(set(parts)) == len(parts)

    @property
    def plain(self) -> bool:
        """Whether it can be read a machine word at a time."""
        widths = all(sign in FIELDS and width == (4 if sign == "Y" else 2) for sign, _, width in self.fields)
        return widths and self.width <= PLAIN_WIDTH

    def c(self) -> CForm:
        """`form_t`, for as long as this form is kept."""
        at = {sign: place for sign, place, _ in self.fields}
        made = CForm(self.width, self.plain, (_i32 * len(FIELDS))(*(at.get(sign, -1) for sign in FIELDS)))
        for place in range(self.width if self.plain else 0):
            made.written[place], made.digit[place] = ord("0"), 255
        for place, byte in self.literals:
            made.text[place], made.fixed[place] = byte, 1
            if self.plain:
                made.written[place], made.digit[place], made.literal[place] = byte, 0, 255
        for number, (sign, place, width) in enumerate(self.fields):
            made.fields[number] = CField(ord(sign[-1]), place, width, sign.startswith("-"))
        made.count, made.century = len(self.fields), self.century
        made.months, made.months_short = self.months.c(), self.months_short.c()
        return made


_PARTS = {"y": "Y", "b": "m", "B": "m", "I": "H"}


@frozen
class Spec:
    """How a column is read.

    As a text; as an integer of at most 18 digits; as a decimal of at most 18, a pair of 64 bits each, as Arrow's are;
    as days since 1970, or with a clock microseconds, in the first of some forms that a cell has; the same in UTC, if
    the cell names a zone; or as one of some words, a bit each, which is set for the first `digits` of them.
    """

    sort: Literal["text", "integer", "decimal", "moment", "zoned", "word"] = "text"
    digits: int = 0
    scale: int = 0
    mark: str = "."
    clock: bool = False
    forms: tuple[Form, ...] = ()
    words: tuple[str, ...] = ()


TEXT = Spec()


@frozen
class Values:
    """What was read of a column: see `ReadColumn`."""

    buffer: Any
    valid: Any
    state: State
    missing: int
    odd: int


@frozen
class ReadColumn:
    """The n values of a column that was read as no text, as the buffers of an Arrow array.

    `state` says of each whether it is a value, null, odd, or a local time; `odd` counts the odd ones, and `missing` all
    that are not values. A null word is null, in quotes too. `texts` gives all of the column as a `pa.StringArray`,
    `taken` some rows of it.
    """

    values: Values
    texts: Callable[[], Any]
    taken: Callable[[Ints], Any]


@frozen
class Read:
    """A block as n rows.

    `texts` and `values` are the columns that were asked for; `starts` and `stops` say where each of `count` records
    stands, `records` which of them, from 0, is that of each row; `odd` are those of another width. `empty` is how many
    empty lines there are. Of columns with cells that are null for a word which is not empty, `worded` says how many,
    and the first of their rows.
    """

    texts: Mapping[int, Any]
    values: Mapping[int, Values]
    starts: NDArray[np.int32]
    stops: NDArray[np.int32]
    records: Ints
    odd: Ints
    odd_widths: Ints
    count: int
    empty: int
    worded: Mapping[int, tuple[int, int]]


@frozen
class Survey:
    """The whole records of a chunk.

    Where the last ends, their line feeds and how many of them are in quotes, whether each quote is at the edge of a
    field or doubled, and the bytes of the longest record.
    """

    cut: int
    feeds: int
    inner: int
    well_formed: bool
    longest: int


def survey(data: bytes, delimiter: int, quote: int, *, final: bool) -> Survey | None:
    """Look over a chunk that begins with a record; None where there is no kernel."""
    kernel = kernel_of.library()
    if kernel is None:
        return None
    found = np.zeros(5, np.int64)
    kernel.survey(ctypes.c_char_p(data), _i64(len(data)), _u8(delimiter), _u8(quote), _i32(final), address(found))
    cut, feeds, inner, good, longest = found.tolist()
    return Survey(cut, feeds, inner, bool(good), longest)


@frozen
class Scan:
    """The n records of a chunk, one by one: where each begins, the line feeds before it, and what its quotes are like.

    `sorts` are IN_PLACE, BARE (within unquoted fields), MIXED, UNCLOSED or FOLLOWED (by text). `done` is where the
    first record begins that is not whole.
    """

    starts: Ints
    stops: Ints
    lines: Ints
    sorts: NDArray[np.uint8]
    empty: int
    comments: int
    done: int


IN_PLACE, BARE, MIXED, UNCLOSED, FOLLOWED = range(5)


def scan(
    data: bytes, delimiter: int, quote: int, comment: bytes, largest: tuple[int, int], *, final: bool
) -> Scan | None:
    """The records of a chunk, whatever its quotes are like; None where there is no kernel.

    `largest` is the largest record, in bytes and in line feeds.
    """
    kernel = kernel_of.library()
    if kernel is None:
        return None
    room = count_byte(data, 10) + 1
    starts, stops, lines = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int64)
    sorts, counts = np.empty(room, np.uint8), np.zeros(4, np.int64)
    if kernel.scan(
        ctypes.c_char_p(data), _i64(len(data)), _i32(final), _u8(delimiter), _u8(quote), ctypes.c_char_p(comment),
        _i64(len(comment)), _i64(largest[0]), _i64(largest[1]), _i64(room), address(starts), address(stops),
        address(lines), address(sorts), address(counts),
    ):  # fmt: skip
        return None
    count, empty, comments, done = counts.tolist()
    return Scan(starts[:count], stops[:count], lines[:count], sorts[:count], empty, comments, done)


def count_byte(data: bytes, byte: int) -> int:
    """How often a byte occurs in data."""
    kernel = kernel_of.library()
    if kernel is None:
        return int(np.count_nonzero(np.frombuffer(data, np.uint8) == byte))
    return int(kernel.count_byte(ctypes.c_char_p(data), _i64(len(data)), _u8(byte)))


def read_block(
    data: bytes,
    lines: int,
    width: int,
    delimiter: int,
    quote: int | None,
    nulls: Words,
    specs: Mapping[int, Spec],
    *,
    size: int | None = None,
) -> Read | None:
    """Read whole records whose quotes are in place.

    Args:
        data: the records, as UTF-8.
        size: how many bytes of them are meant, if not all.
        lines: how many lines there are at most.
        width: how many cells a row has.
        delimiter: a byte.
        quote: a byte, or None.
        nulls: the words that are null.
        specs: the columns that are wanted, by number from 0.

    Returns:
        The rows; None where there is no kernel, or the block is too large for it.
    """
    kernel = kernel_of.library()
    size = len(data) if size is None else size
    if kernel is None or size + _SLACK >= 2**31:
        return None
    columns = (CColumn * width)()
    kept: dict[int, tuple[Any, ...]] = {}
    for at, spec in specs.items():
        kept[at] = _prepared(columns[at], spec, lines, size + _SLACK, at)
    starts, stops, records = np.empty(lines, np.int32), np.empty(lines, np.int32), np.empty(lines, np.int64)
    odd, odd_widths, counts = np.empty(lines, np.int64), np.empty(lines, np.int64), np.zeros(4, np.int64)
    if kernel.read_block(
        ctypes.c_char_p(data), _i64(size), _u8(delimiter), _i32(-1 if quote is None else quote),
        ctypes.c_char_p(nulls.text), address(nulls.edges), _i64(nulls.count), _i64(width), columns, _i64(lines),
        address(starts), address(stops), address(records), address(odd), address(odd_widths), address(counts),
    ):  # fmt: skip
        return None
    rows, odds, count, empty = counts.tolist()
    texts = {at: _text(columns[at], kept[at], rows) for at, spec in specs.items() if spec.sort == "text"}
    values = {
        at: Values(kept[at][0], kept[at][2], kept[at][1][:rows], columns[at].missing, columns[at].odd)
        for at, spec in specs.items()
        if spec.sort != "text"
    }
    return Read(
        texts,
        values,
        starts[:count],
        stops[:count],
        records[:rows],
        odd[:odds],
        odd_widths[:odds],
        count,
        empty,
        {at: (columns[at].worded, columns[at].first_worded) for at in specs if columns[at].worded},
    )


def _prepared(column: CColumn, spec: Spec, lines: int, size: int, at: int) -> tuple[Any, ...]:
    """Fill in what the kernel is to know of a column; the arrays it writes to, and what else must be kept."""
    column.sort = _SORTS[spec.sort]
    if spec.sort == "text":
        room, edges, valid = room_for(at, size), np.zeros(lines + 1, np.int32), np.full((lines + 7) // 8, 255, np.uint8)
        column.text, column.edges, column.valid = room.ctypes.data, edges.ctypes.data, valid.ctypes.data
        return room, edges, valid
    column.digits, column.scale, column.mark, column.clock = spec.digits, spec.scale, ord(spec.mark), spec.clock
    forms, words = (CForm * len(spec.forms))(*(form.c() for form in spec.forms)), Words(spec.words)
    column.forms, column.form_count, column.words = forms, len(spec.forms), words.c()
    out = np.zeros((lines + 7) // 8, np.uint8) if spec.sort == "word" else np.empty(_bytes(spec) * lines, np.uint8)
    state, valid = np.empty(lines, np.uint8), np.full((lines + 7) // 8, 255, np.uint8)
    column.out, column.state, column.valid = out.ctypes.data, state.ctypes.data, valid.ctypes.data
    return out, state, valid, forms, words


def _bytes(spec: Spec) -> int:
    """How many a value takes."""
    if spec.sort == "decimal":
        return 16
    return 4 if spec.sort == "moment" and not spec.clock else 8


def room_for(at: int, size: int) -> NDArray[np.uint8]:
    """Room for the texts of a column, used again for every block of a thread: its size is known only afterwards."""
    rooms: dict[int, NDArray[np.uint8]] = _scratch.__dict__.setdefault("rooms", {})
    if at not in rooms or len(rooms[at]) < size:
        rooms[at] = np.empty(size + size // 4, np.uint8)
    return rooms[at]


def _text(column: CColumn, kept: tuple[Any, ...], rows: int) -> Any:
    room, edges, valid = kept
    text = room[: column.used].copy()
    buffers = [pa.py_buffer(valid) if column.missing else None, pa.py_buffer(edges), pa.py_buffer(text)]
    return pa.Array.from_buffers(pa.string(), rows, buffers, column.missing)
