"""A block of delimited text: whole records, and where they are in the file."""

from __future__ import annotations

from nomotheta.frozen import frozen
from nomotheta.kernel import count_byte
from nomotheta.source.marks import LINE_FEED
from nomotheta.source.records import Scanned


@frozen
class Block:
    """Whole records as UTF-8: the first `size` bytes of `chunk`, which goes on with the start of the next.

    `line` is the number of its first line and `offset` its first byte in the file's UTF-8 text, from 1 and 0; `feeds`
    counts its line ends. `scanned` is set where the quotes are not all in place, and the records were read slowly.
    """

    chunk: bytes
    size: int
    line: int
    offset: int
    feeds: int
    scanned: Scanned | None = None

    @classmethod
    def of(cls, data: bytes, line: int, offset: int, scanned: Scanned | None = None) -> Block:
        """A block, its line ends counted."""
        return cls(data, len(data), line, offset, count_byte(data, LINE_FEED), scanned)

    @property
    def data(self) -> bytes:
        """Its bytes, copied out of the chunk."""
        return self.chunk[: self.size]

    @property
    def ended(self) -> bool:
        """Whether its last line has an end."""
        return self.chunk.endswith(b"\n", 0, self.size)
