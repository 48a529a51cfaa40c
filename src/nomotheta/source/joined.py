"""Small files with the same header, read as one: their records in one block, each with its own file and line.

A file costs a few hundred microseconds whatever it holds; thousands of small ones would cost more than their rows. They
are joined only where the records of the whole are, record by record, those of the files: each ends with a line end, and
with its quotes closed. What is special in any other way is read file by file.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.frozen import frozen
from nomotheta.source.base import Batch, Ints, Lines
from nomotheta.source.block import Block
from nomotheta.source.content import text_chunks
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.formats.delimited import DelimitedFile

SMALL, _ENOUGH = 1 << 20, 4 << 20  # bytes of a file, and of files that are read as one
_ASCII = frozenset({"utf-8", "ascii", "latin-1", "cp1252"})  # encodings in which ASCII is what it is


@frozen
class Parts:
    """The files of a block: n names, and n + 1 places where they begin, and the last ends, in its records and lines.

    `offsets` are the bytes at which their first records begin in the block; in its own file each of them begins at
    `header_bytes`.
    """

    names: Sequence[str]
    records: Ints
    lines: Ints
    offsets: Ints
    empty: Ints
    header_bytes: int

    def of(self, records: Ints) -> Ints:
        """For each of some records of the block the number of its file."""
        return np.searchsorted(self.records, records, side="right") - 1

    def counted(self, records: Ints) -> Ints:
        """How many of some records are in each file."""
        return np.bincount(self.of(records), minlength=len(self.names))

    def files(self, records: Ints) -> Any:
        """The names of the files of some records, as an Arrow array."""
        return pa.array(self.names, pa.string()).take(pa.array(self.of(records)))

    def places(self, records: Ints, lines: Ints, offsets: Ints) -> tuple[Ints, Ints, Ints]:
        """The line, the byte and the number in its own file of each of some records of the block."""
        at = self.of(records)
        return (
            lines - self.lines[at] + 1,
            offsets - self.offsets[at] + self.header_bytes,
            records - self.records[at] + 1,
        )

    def line(self, record: int, line: int) -> tuple[str, int]:
        """The file of a record that begins on a line of the block, from 1, and its line in that file."""
        at = int(self.of(np.array([record]))[0])
        return self.names[at], line - int(self.lines[at]) + 1

    def account(self, at: int) -> Lines:
        """The lines of a file."""
        body = int(self.lines[at + 1] - self.lines[at])
        empty = int(self.empty[at])
        return Lines(read=body + 1, header=1, empty=empty, records=body - empty)


@dataclass(slots=True)
class Joining:
    """Files that are to be read as one, all with the header of the first."""

    source: DelimitedFile
    head: bytes
    files: list[ArrivedFile] = field(default_factory=list)
    bodies: list[bytes] = field(default_factory=list)
    size: int = 0

    @classmethod
    def of(cls, source: Any) -> Joining | None:
        """For the first file, whose header was read; None where its layout does not allow it."""
        if not isinstance(source, DelimitedFile):
            return None
        layout, head = source.layout, source.heading.encode()
        plain = layout.header == 1 and not layout.footer and len(layout.delimiter.encode()) == 1
        whole = head.count(b"\n") == 1 and head.endswith(b"\n") and b"\r" not in head.removesuffix(b"\r\n")
        return cls(source, head) if plain and whole else None

    @property
    def full(self) -> bool:
        """Whether it holds enough."""
        return self.size >= _ENOUGH

    def take(self, file: ArrivedFile) -> bool:
        """Read a file, and keep what is below its header; False if it cannot be read together with the others.

        Raises:
            DeliveryError: the file cannot be read.
        """
        layout = self.source.layout
        held = file.survey.held
        plain = held is not None and held.isascii() and layout.encoding in _ASCII  # and needs no reading
        text = held if plain and held else b"".join(text_chunks(file.path, file.name, layout.encoding))
        body = text[len(self.head) :]
        quote = layout.quote.encode() if layout.quote else b""
        special = [sign.encode() for sign in (layout.comment, layout.escape) if sign]
        if (
            not text.startswith(self.head)
            or (b"\r" in text and text.count(b"\r") != text.count(b"\r\n"))
            or any(sign in body for sign in special)
            or (quote and body.count(quote) % 2)
        ):
            return False
        self.files.append(file)
        self.bodies.append(body if body.endswith(b"\n") or not body else body + b"\n")
        self.size += len(body)
        return True

    def block(self) -> Block | None:
        """All of it as one block; None where a quote is out of place, or a record too large."""
        whole = b"".join(self.bodies)
        block, cut = self.source.cut(whole, 1, 0, final=True)
        return block if block is not None and block.scanned is None and cut == len(whole) else None

    def parts(self, batch: Batch) -> Parts | None:
        """Where the files are in the records that were read; None where they must be read one by one."""
        if batch.headings or batch.comments or batch.headers:
            return None
        sizes = np.array([len(body) for body in self.bodies], np.int64)
        feeds = np.array([body.count(b"\n") for body in self.bodies], np.int64)
        offsets, lines = _sums(sizes), _sums(feeds)
        records = np.searchsorted(batch.offsets(np.arange(batch.count)), offsets)
        empty = np.zeros(len(sizes), np.int64)
        if batch.empty:
            empty = feeds - np.diff(records)
            if empty.sum() != batch.empty or (empty < 0).any():  # a record may take several lines
                return None
        if batch.empty and self.source.layout.quote and batch.with_quotes():
            return None
        names = [file.name for file in self.files]
        return Parts(names, records, lines, offsets, empty, len(self.head))


def _sums(counts: Ints) -> Ints:
    return np.concatenate([np.zeros(1, np.int64), np.cumsum(counts)])
