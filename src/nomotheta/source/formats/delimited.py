"""A delimited file as blocks of whole records, each with its place in the file."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import dataclass

from nomotheta.errors import DeliveryError
from nomotheta.kernel import count_byte, survey
from nomotheta.layout import Layout
from nomotheta.source.base import Lines, ReadFile, Stretch
from nomotheta.source.block import Block
from nomotheta.source.content import text_chunks
from nomotheta.source.line_blocks import before_footer, with_end
from nomotheta.source.marks import LINE_FEED, Marks
from nomotheta.source.records import NeedMore, ends_as_line_feeds, read_record, scan
from nomotheta.source.texts import TextBatch, read_texts, without_headers
from nomotheta.unpack import Most

_MOST = 10_000  # fields of a first record that are looked at
_START = 1 << 18  # bytes in which the header and the first record nearly always are


@dataclass(slots=True)
class DelimitedFile(ReadFile):
    """One delimited file. `header` is known once `blocks` has begun, or after `read_header`."""

    def read_header(self) -> list[str] | None:
        """The names in the header, or None where the layout says there is none.

        Raises:
            DeliveryError: the file cannot be read, or its first line is not a header.
        """
        stream = self.blocks(lambda: _START)
        block = next(stream, None)
        stream.close()
        self.lines = Lines()
        self.first = self._first(block.data) if block is not None else None
        return self.header

    def read(self, block: Block, width: int, *, fill: bool = False, cut: bool = False) -> TextBatch:
        """The columns of a block; where the header is among them again, it is not a row."""
        batch = read_texts(block, self.layout, width, self.kinds, self.forms, fill=fill, cut=cut)
        if self.header:
            skip = self.layout.repeated_header == "skip"
            for each in {id(each): each for each in (batch, *batch.others.values())}.values():
                without_headers(each, self.header, skip=skip)
        return batch

    def _first(self, data: bytes) -> list[str] | None:
        """The values of the first record, where it can be read."""
        at, comment = 0, self.layout.comment.encode()
        while data.startswith((b"\n", b"\r\n"), at) or (comment and data.startswith(comment, at)):
            at = (data.find(b"\n", at) + 1) or len(data)
        found = read_record(data, at, self.layout, final=True, most=_MOST)[0] if at < len(data) else ""
        return None if isinstance(found, str) else [value.decode("utf-8", "replace") for value, _ in found[:_MOST]]

    def blocks(self, most: Most | None = None) -> Generator[Block, None, None]:
        """The file's records below the header, in order, in blocks of about one chunk, of `most` bytes if that is less.

        Raises:
            DeliveryError: the file cannot be read.
        """
        self.lines = Lines()
        of = self.stretch
        rest, line, offset = b"", of.line if of else 1, of.start if of else 0
        waiting = bool(self.layout.header) and (of is None or of.first)
        for chunk, final in with_end(self._chunks(most or self.at_once)):
            raw = rest + chunk
            data = ends_as_line_feeds(raw, self.layout, self.layout.header - 1 if waiting else 0, final=final)
            start = 0
            if waiting:
                start = self._take_header(data, final=final)
                if start < 0:
                    rest = raw
                    continue
                waiting = False
                line += count_byte(data[:start], LINE_FEED)
                self.lines.read += count_byte(data[:start], LINE_FEED)
            end, footer = before_footer(data, start, self.layout) if of is None or of.last else (len(data), 0)
            if final:
                self.footer, self.lines.footer = data[end:].decode("utf-8", "replace"), footer
                self.lines.read += count_byte(data[end:], LINE_FEED) + (data != b"" and not data.endswith(b"\n"))
            block, cut = self.cut(data[start:end], line, offset + start, final=final)
            if block is not None:
                self.lines.read += block.feeds
                yield block
                line += block.feeds
            rest = raw[start + cut :]
            offset += start + cut

    def _chunks(self, most: Most) -> Iterator[bytes]:
        of = self.stretch
        return text_chunks(self.path, self.name, self.layout.encoding, most, (of.start, of.stop) if of else None)

    def feeds_of(self, stretch: Stretch) -> int | None:
        """How many line ends are in a stretch that begins with a record, or in the first; None if it ends within one.

        So where each of several stretches begins and ends with a record, they can be read side by side.
        """
        self.stretch, self.lines = stretch, Lines()
        rest, feeds, waiting = b"", 0, bool(self.layout.header) and stretch.first
        for chunk in self._chunks(self.at_once):
            raw = rest + chunk
            data = ends_as_line_feeds(raw, self.layout, self.layout.header - 1 if waiting else 0, final=False)
            start = 0
            if waiting:
                start = self._take_header(data, final=False)
                if start < 0:
                    rest = raw
                    continue
                waiting = False
                feeds += count_byte(data[:start], LINE_FEED)
            block, cut = self.cut(data[start:], 1, 0, final=False)
            feeds += block.feeds if block is not None else 0
            rest = raw[start + cut :]
        return None if rest or waiting else feeds

    def _take_header(self, data: bytes, *, final: bool) -> int:
        """Read the header's lines, the last of which names the columns; where the rest begins, or -1 for more data."""
        at, comments, empty, comment = 0, 0, 0, self.layout.comment.encode()
        for number in range(self.layout.header):
            while data.startswith((b"\n", b"\r\n"), at) or (comment and data.startswith(comment, at)):
                following = data.find(b"\n", at) + 1
                if not following:
                    break
                is_empty = data.startswith((b"\n", b"\r\n"), at)
                empty, comments, at = empty + is_empty, comments + (not is_empty), following
            try:
                names, following = self._header_line(data, at, number, final=final)
            except NeedMore:
                if len(data) < self.layout.record_bytes:
                    return -1
                names, following = "the line does not end", len(data)
            if isinstance(names, str):
                where = f"{self.name}:{data.count(10, 0, at) + 1}"
                raise DeliveryError(f"the header cannot be read: {names}", where=where)
            if data[at : at + 2] in {b"", b"\r"}:
                raise DeliveryError("the file holds no header and no rows, only empty lines", where=self.name)
            self.header, at = names, min(following, len(data))
        self.lines.empty, self.lines.comment = empty, comments
        self.heading = data[:at].decode("utf-8", "replace")
        lines = count_byte(data[:at], LINE_FEED) + (not data[:at].endswith(b"\n"))
        self.lines.header = lines - empty - comments
        return at

    def _header_line(self, data: bytes, at: int, number: int, *, final: bool) -> tuple[list[str] | str, int]:
        """The names in a line of the header, none in those before the last; or what is wrong, and where the next is."""
        if number < self.layout.header - 1:
            feed = data.find(b"\n", at)
            if feed < 0 and not final:
                raise NeedMore
            return [], len(data) if feed < 0 else feed + 1
        found, following = read_record(data, at, self.layout, final=final)
        if isinstance(found, str):
            return found, following
        return [value.decode("utf-8", "replace") for value, _ in found], following

    def cut(self, data: bytes, line: int, offset: int, *, final: bool) -> tuple[Block | None, int]:
        """The whole records at the start of `data` as a block, and where they end.

        Raises:
            DeliveryError: a record is longer than the largest.
        """
        if not data:
            return None, 0
        layout = self.layout
        quote = ord(layout.quote) if layout.quote else None
        quoted = quote is not None and quote in data
        slow = any(sign and sign.encode() in data for sign in (layout.escape, layout.comment))
        if slow or (quoted and len(layout.delimiter.encode()) > 1):
            return self._scanned(data, line, offset, final=final)
        if quote is None or not quoted:
            cut = len(data) if final else data.rfind(b"\n") + 1
            if not cut and len(data) >= layout.record_bytes:
                raise self._endless(line)
            return (Block.of(data[:cut], line, offset) if cut else None), cut
        cut, feeds, plain = _whole_records(data, quote, layout, final=final)
        if plain:
            return Block(data, cut, line, offset, feeds), cut
        if not cut and len(data) < layout.record_bytes:
            return None, 0
        return self._scanned(data, line, offset, final=final)

    def _scanned(self, data: bytes, line: int, offset: int, *, final: bool) -> tuple[Block | None, int]:
        """The same, the slow way."""
        scanned, cut = scan(data, self.layout, final=final)
        if not cut and len(data) >= 2 * self.layout.record_bytes:
            raise self._endless(line)
        return (Block.of(data[:cut], line, offset, scanned) if cut else None), cut

    def _endless(self, line: int) -> DeliveryError:
        return DeliveryError(
            f"a line is longer than the largest record, {self.layout.record_bytes:,} bytes",
            where=f"{self.name}:{line}",
            mend="check the delimiter and the encoding, or raise record_bytes in the layout",
        )


def _whole_records(data: bytes, quote: int, layout: Layout, *, final: bool) -> tuple[int, int, bool]:
    """Where the last whole record of a chunk ends, the line feeds before that, and whether all quotes are in place.

    Nor may a record be larger than the largest.
    """
    seen = survey(data, ord(layout.delimiter), quote, final=final)
    if seen is not None and (seen.inner <= layout.record_lines or not seen.well_formed):
        plain = bool(seen.cut) and seen.well_formed and seen.longest <= layout.record_bytes
        return seen.cut, seen.feeds, plain
    marks = Marks.of(data, quote, ord(layout.delimiter), final=final)
    cut = len(data) if final else marks.cut
    plain = bool(cut) and marks.well_formed(cut) and marks.within_limits(cut, layout)
    return cut, marks.count_feeds(cut), plain
