"""A delimited file as blocks of whole records, each with its place in the file."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from nomotheta.charter import Layout
from nomotheta.errors import DeliveryError
from nomotheta.source.content import text_chunks
from nomotheta.source.records import (
    LINE_FEED,
    NeedMore,
    Scanned,
    count,
    find_all,
    last_cut,
    normalised,
    read_record,
    record_spans,
    scan,
    well_formed,
    within_limits,
)


@dataclass(frozen=True, slots=True)
class Block:
    """Whole records as UTF-8.

    `line` is the number of its first line and `offset` its first byte in the file's UTF-8 text, from 1 and 0.
    `scanned` is set where the quotes are not all in place, and the records were read the slow way.
    """

    data: bytes
    line: int
    offset: int
    scanned: Scanned | None = None
    feeds: int = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "feeds", count(self.data, LINE_FEED))


@dataclass(slots=True)
class Lines:
    """The lines of a file, counted twice: as they are read, and by what they turned out to be."""

    read: int = 0
    header: int = 0
    empty: int = 0
    records: int = 0

    @property
    def adds_up(self) -> bool:
        """Whether both counts agree."""
        return self.read == self.header + self.empty + self.records


@dataclass(slots=True)
class DelimitedFile:
    """One delimited file. `header` is known once `blocks` has begun, or after `read_header`."""

    path: Path
    name: str
    layout: Layout
    header: list[str] | None = None
    lines: Lines = field(default_factory=Lines)

    def read_header(self) -> list[str] | None:
        """The names in the first line, or None where the layout says there is no header.

        Raises:
            DeliveryError: the file cannot be read, or its first line is no header.
        """
        stream = self.blocks()
        next(stream, None)
        stream.close()
        self.lines = Lines()
        return self.header

    def blocks(self) -> Generator[Block, None, None]:
        """The file's records below the header, in order, in blocks of about one chunk.

        Raises:
            DeliveryError: the file cannot be read.
        """
        self.lines = Lines()
        quote = ord(self.layout.quote) if self.layout.quote else None
        rest, line, offset, last = b"", 1, 0, b"\n"
        waiting = self.layout.header
        for chunk, final in _with_end(text_chunks(self.path, self.name, self.layout.encoding)):
            data, changed = normalised(rest + chunk, quote)
            self.lines.read += count(chunk, LINE_FEED) + changed
            last = chunk[-1:] or last
            if final and data and not data.endswith(b"\n"):
                self.lines.read += 1
            start = 0
            if waiting:
                start = self._take_header(data, final=final)
                if start < 0:
                    rest = data
                    continue
                waiting = False
                line += self.lines.header + self.lines.empty
            block, cut = self._cut(data[start:], line, offset + start, quote, final=final)
            if block is not None:
                yield block
                line += block.feeds
            rest = data[start + cut :]
            offset += start + cut

    def _take_header(self, data: bytes, *, final: bool) -> int:
        """Read the header from the first line that is not empty; where the rest begins, or -1 for more data."""
        at = 0
        while data.startswith((b"\n", b"\r\n"), at):
            at = data.index(b"\n", at) + 1
        try:
            found, following = read_record(data, at, self.layout, final=final)
        except NeedMore:
            if len(data) < self.layout.record_bytes:
                return -1
            found, following = "the first line does not end", len(data)
        if isinstance(found, str):
            raise DeliveryError(f"the header cannot be read: {found}", where=f"{self.name}:{data.count(10, 0, at) + 1}")
        if data[at:] in {b"", b"\r"}:
            raise DeliveryError("the file holds no header and no rows, only empty lines", where=self.name)
        self.header = [value.decode("utf-8", "replace").strip() for value, _ in found]
        self.lines.empty = data.count(b"\n", 0, at)
        self.lines.header = data.count(b"\n", at, following) + (not data.endswith(b"\n") and following >= len(data))
        return min(following, len(data))

    def _cut(self, data: bytes, line: int, offset: int, quote: int | None, *, final: bool) -> tuple[Block | None, int]:
        """The whole records at the start of `data` as a block, and where they end."""
        if not data:
            return None, 0
        quotes = find_all(data, quote) if quote is not None and quote in data else None
        cut = len(data) if final else data.rfind(b"\n") + 1 if quotes is None else last_cut(data, quotes)
        if quotes is None:
            if not cut and len(data) >= self.layout.record_bytes:
                raise DeliveryError(
                    f"a line is longer than the largest record, {self.layout.record_bytes:,} bytes",
                    where=f"{self.name}:{line}",
                    mend="check the delimiter and the encoding, or raise record_bytes in the layout",
                )
            return (Block(data[:cut], line, offset) if cut else None), cut
        whole, inside = data[:cut], quotes[quotes < cut]
        if cut and well_formed(whole, inside, ord(self.layout.delimiter)) and within_limits(whole, inside, self.layout):
            return Block(whole, line, offset), cut
        if not cut and len(data) < self.layout.record_bytes:
            return None, 0
        scanned, cut = scan(data, self.layout, final=final)
        return (Block(data[:cut], line, offset, scanned) if cut else None), cut


def _with_end(chunks: Iterator[bytes]) -> Iterator[tuple[bytes, bool]]:
    """Each chunk, and whether it is the last."""
    held = next(chunks, b"")
    for chunk in chunks:
        yield held, False
        held = chunk
    yield held, True


__all__ = ["Block", "DelimitedFile", "Lines", "record_spans"]
