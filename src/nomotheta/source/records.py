"""Where records begin and end, and the slow, exact way to read one (RFC 4180, and what strays from it).

A quote opens a field only at its start. Inside, a doubled quote is one quote; the closing quote must be followed by
a delimiter or a line end. What is opened and not closed within the largest record, or closed and followed by something
else, is a stray quote: its first line becomes one reject, and reading goes on with the next line.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from nomotheta import kernel
from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.source.marks import LINE_FEED, RETURN, lone_returns_at, with_line_feeds

Ints = NDArray[np.int64]
Value = tuple[bytes, bool]  # a field's content, and whether it was quoted


class NeedMore(Exception):  # noqa: N818 - not an error: the record goes on in data that was not read yet
    """The record is not complete in the data at hand."""


@frozen
class Spans:
    """n records of a block: record i is `data[starts[i] : ends[i]]`, without its line end.

    `lines` counts the line ends before each record. `empty` lines belong to no record.
    """

    starts: Ints
    ends: Ints
    lines: Ints
    empty: int


@dataclass(slots=True)
class Scanned:
    """What the slow way found: the records' spans, the fields it read, the stray quotes by record, and the comments.

    `bare` are the records with quotes in unquoted fields alone; those that are in none of these have their quotes in
    place, or none.
    """

    spans: Spans
    fields: dict[int, list[Value]] = field(default_factory=dict)
    stray: dict[int, str] = field(default_factory=dict)
    comments: int = 0
    bare: Ints = field(default_factory=lambda: np.zeros(0, np.int64))


def find_all(data: bytes, byte: int) -> Ints:
    """The positions of a byte."""
    return np.flatnonzero(np.frombuffer(data, np.uint8) == byte)


def record_spans(data: bytes, quote: int | None) -> Spans:
    """The spans of a well-formed block's records."""
    feeds = find_all(data, LINE_FEED)
    ends = feeds
    if quote is not None and quote in data:
        ends = feeds[np.searchsorted(find_all(data, quote), feeds) % 2 == 0]
    if not data.endswith(b"\n"):
        ends = np.append(ends, len(data))
    starts = np.concatenate([[0], ends[:-1] + 1])
    codes = np.frombuffer(data, np.uint8)
    stops = ends - ((ends > starts) & (codes[np.maximum(ends - 1, 0)] == RETURN))
    full = stops > starts
    lines = np.searchsorted(feeds, starts)
    return Spans(starts[full], stops[full], lines[full], int((~full).sum()))


_NOT_CLOSED, _FOLLOWED = "a quote is opened and not closed", "a closing quote is followed by more text"


def read_record(data: bytes, at: int, layout: Layout, *, final: bool, most: int = -1) -> tuple[list[Value] | str, int]:
    """One record, byte by byte where need be.

    Args:
        data: UTF-8 text.
        at: where the record starts.
        layout: its delimiter, quote, and the size of the largest record.
        final: whether `data` reaches to the end of the file.
        most: after how many fields a record without quotes is no longer taken apart; -1 for all of it.

    Returns:
        Its fields, or what is wrong with its quotes; and where the next record starts.

    Raises:
        NeedMore: the record goes on past the data.
    """
    line_end = data.find(b"\n", at)
    if line_end < 0 and not final:
        raise NeedMore
    line_end = len(data) if line_end < 0 else line_end
    limit = at + layout.record_bytes
    fields: list[Value] = []
    quote, delimiter, escape = layout.quote.encode(), layout.delimiter.encode(), layout.escape.encode()
    if not any(sign and data.find(sign, at, line_end) >= 0 for sign in (quote, escape)):  # no line end is in a field
        line = data[at:line_end].removesuffix(b"\r")
        return [(value, False) for value in line.split(delimiter, most)], min(line_end + 1, len(data))
    position = counted = at
    feeds = 0
    while True:
        if quote and data.startswith(quote, position):
            value, position = _quoted(data, position, quote, escape, limit, final=final)
            feeds += data.count(b"\n", counted, position)
            counted = position
            if value is None or feeds > layout.record_lines:
                return _NOT_CLOSED, line_end + 1
            fields.append((value, True))
            if not data.startswith((delimiter, b"\n", b"\r\n"), position) and data[position : position + 2] not in {
                b"",
                b"\r",
            }:
                return _FOLLOWED, line_end + 1
            end = position
        else:
            value, end = _unquoted(data, position, delimiter, escape)
            fields.append((value.removesuffix(b"\r") if not data.startswith(delimiter, end) else value, False))
        if data.startswith(delimiter, end):
            position = end + len(delimiter)
            continue
        after = data.find(b"\n", end)
        if after < 0 and not final:
            raise NeedMore
        return fields, len(data) if after < 0 else after + 1


def _quoted(data: bytes, at: int, quote: bytes, escape: bytes, limit: int, *, final: bool) -> tuple[bytes | None, int]:
    """The content of the quoted field that opens at `at`, and where it ends; None where it does not close."""
    start = search = at + 1
    parts: list[bytes] = []
    while True:
        close = data.find(quote, search, limit)
        escaped = data.find(escape, search, limit if close < 0 else close) if escape else -1
        if escaped >= 0:
            if escaped + 2 > len(data) and not final:
                raise NeedMore
            parts.append(data[start:escaped])
            start, search = escaped + 1, escaped + 2
            continue
        if close < 0:
            if not final and len(data) < limit:
                raise NeedMore
            return None, at
        if data.startswith(quote, close + 1):
            parts.append(data[start : close + 1])
            start = search = close + 2
            continue
        if close + 1 >= len(data) and not final:
            raise NeedMore
        return b"".join([*parts, data[start:close]]), close + 1


def _unquoted(data: bytes, at: int, delimiter: bytes, escape: bytes) -> tuple[bytes, int]:
    """The content of the unquoted field that starts at `at`, and where it ends. A line end cannot be escaped."""
    feed = data.find(b"\n", at)
    feed = len(data) if feed < 0 else feed
    start = search = at
    parts: list[bytes] = []
    while True:
        found = data.find(delimiter, search, feed)
        end = feed if found < 0 else found
        escaped = data.find(escape, search, end) if escape else -1
        if escaped < 0 or escaped + 1 >= feed:
            return b"".join([*parts, data[start:end]]), end
        parts.append(data[start:escaped])
        start, search = escaped + 1, escaped + 2


def scan(data: bytes, layout: Layout, *, final: bool) -> tuple[Scanned, int]:
    """The slow way: lines with a quote, an escape or a lone CR are read bytewise, and comments are told from records.

    Returns:
        What was found in the whole records, and where the first that is not whole begins.
    """
    seen = _by_kernel(data, layout, final=final)
    if seen is not None:
        return seen
    starts: list[int] = []
    ends: list[int] = []
    lines: list[int] = []
    found = Scanned(Spans(_NONE, _NONE, _NONE, 0))
    empty = done = line = 0
    for at, stop, following, record in _lines(data, layout, final=final):
        if record is _COMMENT:
            found.comments += 1
        elif stop == at:
            empty += 1
        else:
            if isinstance(record, str):
                found.stray[len(starts)] = record
            elif record is not None:
                found.fields[len(starts)] = record
            starts.append(at)
            ends.append(stop)
            lines.append(line)
        line += data.count(b"\n", at, following)
        done = following
    found.spans = Spans(np.array(starts, np.int64), np.array(ends, np.int64), np.array(lines, np.int64), empty)
    return found, done


def _by_kernel(data: bytes, layout: Layout, *, final: bool) -> tuple[Scanned, int] | None:
    """The same by the kernel, which knows no escapes, and delimiters of one byte."""
    if layout.escape or not layout.quote or len(layout.delimiter.encode()) > 1:
        return None
    largest = (layout.record_bytes, layout.record_lines)
    quote, comment = ord(layout.quote), layout.comment.encode()
    seen = kernel.scan(data, ord(layout.delimiter), quote, comment, largest, final=final)
    if seen is None:
        return None
    found = Scanned(Spans(seen.starts, seen.stops, seen.lines, seen.empty), comments=seen.comments)
    for sort, told in ((kernel.UNCLOSED, _NOT_CLOSED), (kernel.FOLLOWED, _FOLLOWED)):
        found.stray |= dict.fromkeys(np.flatnonzero(seen.sorts == sort).tolist(), told)
    found.bare = np.flatnonzero(seen.sorts == kernel.BARE)
    for at in np.flatnonzero(seen.sorts == kernel.MIXED).tolist():
        record, _ = read_record(data[seen.starts[at] : seen.stops[at]], 0, layout, final=True)
        found.fields[at] = record if isinstance(record, list) else []
    return found, seen.done


def ends_as_line_feeds(data: bytes, layout: Layout, titles: int, *, final: bool) -> bytes:
    """A chunk with a line feed for every carriage return that ends a line by itself.

    One within the quotes of a record is part of a value, and stays; which those are, only the records themselves tell,
    since a quote that opens no field says nothing. What follows the last whole record stays as it is.

    Args:
        data: UTF-8 text that begins with a line.
        layout: how its records are written.
        titles: how many lines come before the first record, whatever they hold.
        final: whether `data` reaches to the end of the file.
    """
    lone = lone_returns_at(data)
    if not len(lone):
        return data
    changed = with_line_feeds(data, lone)
    if not layout.quote or layout.quote.encode() not in data:
        return changed
    start = 0
    for _ in range(titles):
        start = changed.find(b"\n", start) + 1 or len(changed)
    scanned, done = scan(changed[start:], layout, final=final)
    spans = scanned.spans
    at = np.searchsorted(spans.starts, lone - start, side="right") - 1
    inside = (at >= 0) & (lone >= start)
    inside[inside] = (lone[inside] - start) < spans.ends[at[inside]]
    ends = lone[~inside & (lone < start + done)]
    return with_line_feeds(data, ends)


_NONE = np.zeros(0, np.int64)
_COMMENT: list[Value] = []


def _lines(data: bytes, layout: Layout, *, final: bool) -> Iterator[tuple[int, int, int, list[Value] | str | None]]:
    """Each record, comment or empty line: its start, its end, what follows it, and its fields where they were read."""
    at = 0
    quote, escape, comment = layout.quote.encode(), layout.escape.encode(), layout.comment.encode()
    while at < len(data):
        feed = data.find(b"\n", at)
        if feed < 0 and not final:
            return
        following = len(data) if feed < 0 else feed + 1
        record: list[Value] | str | None = None
        if comment and data.startswith(comment, at):
            record = _COMMENT
        elif any(sign and data.find(sign, at, following) >= 0 for sign in (quote, escape)) or _lone_return(
            data, at, following
        ):
            try:
                record, following = read_record(data, at, layout, final=final)
            except NeedMore:
                return
            following = min(following, len(data))
        stop = following - data.startswith(b"\n", following - 1)
        stop -= data.startswith(b"\r", stop - 1) and stop > at
        yield at, stop, following, record if stop > at else None
        at = following


def _lone_return(data: bytes, at: int, following: int) -> bool:
    found = data.find(b"\r", at, following)
    return found >= 0 and found != following - 2
