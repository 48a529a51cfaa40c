"""Where quotes and line ends are in a chunk of text, a bit a byte: 64 bytes are looked at by one instruction.

A word is 64 bits, the first byte's the least; bit i of n words belongs to byte i.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from nomotheta.frozen import frozen
from nomotheta.layout import Layout

LINE_FEED, RETURN = 10, 13
Words = NDArray[np.uint64]
_ONE, _LAST = np.uint64(1), np.uint64(63)
_DOUBLINGS = tuple(np.uint64(1 << at) for at in range(6))


def bits_of(data: bytes, byte: int) -> Words:
    """Where a byte is; at least one bit more than data has bytes."""
    packed = np.zeros(len(data) // 64 + 1, np.uint64)
    found = np.packbits(np.frombuffer(data, np.uint8) == byte, bitorder="little")
    packed.view(np.uint8)[: len(found)] = found
    return packed


def next_of(words: Words, first: int = 0) -> Words:
    """Every bit moved to the byte behind it; `first` is the first byte's."""
    moved = words << _ONE
    moved[1:] |= words[:-1] >> _LAST
    moved[0] |= np.uint64(first)
    return moved


def before(words: Words) -> Words:
    """Every bit moved to the byte before it."""
    moved = words >> _ONE
    moved[:-1] |= words[1:] << _LAST
    return moved


def _odd(words: Words) -> Words:
    """For every byte, whether an odd number of bits is set up to it, its own included."""
    spread = words.copy()
    for shift in _DOUBLINGS:
        spread ^= spread << shift
    carried = np.bitwise_xor.accumulate(spread >> _LAST)
    spread[1:] ^= np.uint64(0) - carried[:-1]
    return spread


@frozen
class Marks:
    """What a chunk that begins with a record is made of, as far as its quotes are in place.

    `feeds` are its line ends, `closing` those of them that are outside quotes and so end a record.
    """

    size: int
    feeds: Words
    closing: Words
    quotes: Words
    inside: Words
    edges: Words

    @classmethod
    def of(cls, data: bytes, quote: int, delimiter: int, *, final: bool) -> Marks:
        """The marks of a chunk; `final` if the file ends with it."""
        feeds, quotes = bits_of(data, LINE_FEED), bits_of(data, quote)
        inside = _odd(quotes)
        edges = feeds | bits_of(data, delimiter)
        if b"\r" in data:
            edges |= bits_of(data, RETURN) & before(feeds)
        if final:
            edges[len(data) // 64] |= _ONE << np.uint64(len(data) % 64)
        return cls(len(data), feeds, feeds & ~inside, quotes, inside, edges)

    @property
    def cut(self) -> int:
        """The end of the last whole record; 0 where there is none."""
        words = np.flatnonzero(self.closing)
        return 64 * int(words[-1]) + int(self.closing[words[-1]]).bit_length() if len(words) else 0

    def count_feeds(self, end: int) -> int:
        """How many line ends come before byte `end`."""
        return int(np.bitwise_count(_until(self.feeds, end)).sum())

    def well_formed(self, end: int) -> bool:
        """Whether each quote of the first `end` bytes, whole records, is at the edge of a field or doubled."""
        quotes = _until(self.quotes, end)
        inside, edges = self.inside[: len(quotes)], self.edges[: len(quotes)]
        opening, closing = quotes & inside, quotes & ~inside
        if int(np.bitwise_count(quotes).sum()) % 2:
            return False
        behind = self.edges[: len(quotes) + 1] | self.quotes[: len(quotes) + 1]
        return not (
            (opening & ~(next_of(edges, first=1) | next_of(closing))).any()
            or (closing & ~before(behind)[: len(quotes)]).any()
        )

    def within_limits(self, end: int, layout: Layout) -> bool:
        """Whether no record of the first `end` bytes is larger than the largest that the layout allows."""
        closing = _until(self.closing, end)
        inner = _until(self.feeds, end) & ~closing
        words = np.concatenate([[-1], np.flatnonzero(closing), [len(closing)]])
        few = int(np.bitwise_count(inner).sum()) <= layout.record_lines
        if few and 64 * (int(np.diff(words).max()) + 1) <= layout.record_bytes:
            return True
        ends = np.concatenate([[-1], _positions(closing), [end]])
        lines = np.diff(np.searchsorted(_positions(inner), ends))
        return bool(np.diff(ends).max() <= layout.record_bytes and lines.max() <= layout.record_lines)


def _until(words: Words, end: int) -> Words:
    """The bits of the first `end` bytes."""
    whole, rest = divmod(end, 64)
    if not rest:
        return words[:whole]
    found = words[: whole + 1].copy()
    found[whole] &= (_ONE << np.uint64(rest)) - _ONE
    return found


def _positions(words: Words) -> NDArray[np.int64]:
    return np.flatnonzero(np.unpackbits(words.view(np.uint8), bitorder="little"))


def lone_returns(data: bytes) -> Words | None:
    """Where a carriage return has no line feed behind it; None if nowhere. One at the end counts."""
    if b"\r" not in data:
        return None
    lone = bits_of(data, RETURN) & ~before(bits_of(data, LINE_FEED))
    return lone if lone.any() else None


def lone_returns_at(data: bytes) -> NDArray[np.int64]:
    """Where they are, as positions."""
    lone = lone_returns(data)
    return _positions(lone) if lone is not None else np.zeros(0, np.int64)


def without_lone_returns(data: bytes) -> tuple[bytes, int]:
    """Lone carriage returns turned into line feeds, and how many there were."""
    at = lone_returns_at(data)
    return with_line_feeds(data, at), len(at)


def with_line_feeds(data: bytes, at: NDArray[np.int64]) -> bytes:
    """Line feeds at some places, in place of what is there."""
    if not len(at):
        return data
    changed = bytearray(data)
    np.frombuffer(changed, np.uint8)[at] = LINE_FEED
    return bytes(changed)
