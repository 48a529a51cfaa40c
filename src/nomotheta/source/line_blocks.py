"""Text files whose records are single lines, as blocks of whole lines."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from nomotheta.errors import DeliveryError
from nomotheta.frozen import frozen
from nomotheta.kernel import count_byte
from nomotheta.layout import Layout
from nomotheta.source.base import LineBatch, Lines, Odd, ReadFile
from nomotheta.source.content import text_chunks
from nomotheta.source.marks import LINE_FEED, RETURN, without_lone_returns
from nomotheta.source.records import find_all


@frozen
class LineBlock:
    """Whole lines as UTF-8, with the number of the first, from 1, and its byte in the file's UTF-8 text, from 0."""

    data: bytes
    line: int
    offset: int

    @property
    def size(self) -> int:
        """Its bytes."""
        return len(self.data)


@dataclass(slots=True)
class LineFile(ReadFile):
    """A file of lines: header and footer lines are left out of its blocks, and counted."""

    def header_lines(self) -> int:
        """How many lines of header the format and the layout have."""
        return self.layout.header

    def blocks(self) -> Generator[LineBlock, None, None]:
        """Lines below the header and before the footer, in blocks of about one chunk.

        Raises:
            DeliveryError: the file cannot be read, or a line is longer than the largest record.
        """
        self.lines, self.heading = Lines(), ""
        rest, line, offset = b"", 1, 0
        left = self.header_lines()
        for chunk, final in with_end(text_chunks(self.path, self.name, self.layout.encoding, self.at_once)):
            data, changed = without_lone_returns(rest + chunk)
            self.lines.read += (
                count_byte(chunk, LINE_FEED) + changed + (final and not data.endswith(b"\n") and data != b"")
            )
            start = 0
            while left and start < len(data):
                feed = data.find(b"\n", start)
                if feed < 0 and not final:
                    break
                self.heading += data[start : feed if feed >= 0 else len(data)].decode("utf-8", "replace") + "\n"
                start = len(data) if feed < 0 else feed + 1
                left, self.lines.header, line = left - 1, self.lines.header + 1, line + 1
            end, footer = before_footer(data, start, self.layout)
            if final:
                self.footer, self.lines.footer = data[end:].decode("utf-8", "replace"), footer
            cut = end if final else (data.rfind(b"\n", start, end) + 1 or start)
            if left:
                cut = start
            if cut == start and len(data) - start > 2 * self.layout.record_bytes:
                what = f"a line is longer than the largest record, {self.layout.record_bytes:,} bytes"
                mend = "check that the format is the right one, or raise record_bytes in the layout"
                raise DeliveryError(what, where=f"{self.name}:{line}", mend=mend)
            if cut > start:
                block = LineBlock(data[start:cut], line, offset + start)
                yield block
                line += count_byte(block.data, LINE_FEED)
            rest, offset = data[cut:], offset + cut

    def batch(self, block: LineBlock) -> tuple[LineBatch, pa.Array]:
        """A batch without columns yet, and the text of each of its records; empty and comment lines are left out."""
        data = block.data
        feeds = find_all(data, LINE_FEED)
        ends = feeds if data.endswith(b"\n") else np.append(feeds, len(data))
        starts = np.concatenate([[0], ends[:-1] + 1])
        codes = np.frombuffer(data, np.uint8)
        ends = ends - ((ends > starts) & (codes[np.maximum(ends - 1, 0)] == RETURN))
        kept = ends > starts
        comments = 0
        if self.layout.comment:
            sign = self.layout.comment.encode()
            remarks = np.array([at for at in np.flatnonzero(kept) if data.startswith(sign, int(starts[at]))], np.int64)
            kept[remarks] = False
            comments = len(remarks)
        empty = int(len(kept) - kept.sum()) - comments
        texts = _texts(data, starts, ends, kept)
        rows = int(kept.sum())
        batch = LineBatch(
            [], np.arange(rows), [], rows, len(kept), empty, comments, first_line=block.line,
            first_byte=block.offset, data=data, within=np.flatnonzero(kept), starts=starts[kept], ends=ends[kept],
        )  # fmt: skip
        return batch, texts


def _texts(data: bytes, starts: np.ndarray, ends: np.ndarray, kept: np.ndarray) -> pa.Array:
    """The kept lines as texts, over the block's own bytes: lines and what lies between them take turns."""
    edges = np.empty(2 * len(starts) + 1, np.int32)
    edges[0:-1:2], edges[1::2], edges[-1] = starts, ends, len(data)
    both = pa.Array.from_buffers(pa.string(), 2 * len(starts), [None, pa.py_buffer(edges), pa.py_buffer(data)])
    return both.take(pa.array(2 * np.flatnonzero(kept)))


def set_aside(batch: LineBatch, texts: pa.Array, odd: list[Odd]) -> pa.Array:
    """The texts without those of odd records, which are noted in the batch."""
    if not odd:
        return texts
    keep = np.ones(batch.count, np.bool_)
    keep[[each.record for each in odd]] = False
    batch.odd, batch.records = odd, np.flatnonzero(keep)
    return texts.filter(pa.array(keep))


def before_footer(data: bytes, start: int, layout: Layout) -> tuple[int, int]:
    """Where the last lines begin that are the footer if the file ends here, and how many they are."""
    end, found = len(data), 0
    while found < layout.footer and end > start:
        end = max(data.rfind(b"\n", start, end - 1) + 1, start)
        found += 1
    return end, found


def with_end(chunks: Iterator[bytes]) -> Iterator[tuple[bytes, bool]]:
    """Each chunk, and whether it is the last."""
    held = next(chunks, b"")
    for chunk in chunks:
        yield held, False
        held = chunk
    yield held, True
