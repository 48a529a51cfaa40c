"""A very large file in stretches that can be read side by side: where each begins and ends with a record.

A stretch begins behind a line end. Whether a record begins there, only what comes before can tell. The first does begin
with one. One that begins with a record and holds nothing but whole records is followed by one that begins with one,
too. So if each of them holds whole records provided that it begins with one, all do; else the file stays in one piece.
"""

from __future__ import annotations

import codecs
from collections.abc import Iterator, Sequence
from dataclasses import replace

from nomotheta.layout import Layout
from nomotheta.source.base import Stretch
from nomotheta.source.delivery import ArrivedFile
from nomotheta.unpack import packing_of

_WORTH = 1.5  # times the size of a task, from which a file is taken apart
_UTF8 = {"utf-8", "ascii"}


def divisible(file: ArrivedFile, layout: Layout) -> bool:
    """Whether a file may be read in stretches: delimited UTF-8, not packed, without footer or byte order mark."""
    survey = file.survey
    if layout.footer:  # which may begin in the stretch before the last
        return False
    plain = layout.traits.reader == ("delimited", "DelimitedFile") and codecs.lookup(layout.encoding).name in _UTF8
    if not plain or survey.bytes_on_disk != survey.bytes_of_content:
        return False
    return not (survey.head.startswith(codecs.BOM_UTF8) or packing_of(file.path))


def stretches(file: ArrivedFile, size: int) -> Iterator[Stretch]:
    """A file in stretches of about a size, each but the first behind a line end; none where it is not worth it.

    In which line each begins is not known yet.
    """
    whole = file.survey.bytes_of_content
    if whole < _WORTH * size:
        return
    borders = [0]
    with file.path.open("rb") as data:
        for at in range(size, whole, size):
            if at <= borders[-1]:
                continue
            data.seek(at)
            data.readline(size)
            if data.tell() < whole:
                borders.append(data.tell())
    for start, stop in zip(borders, [*borders[1:], whole], strict=True):
        yield Stretch(start, stop, 1, start == 0, stop == whole)


def numbered(found: Sequence[tuple[Stretch, int | None]]) -> list[Stretch]:
    """Stretches, each with the line in which it begins; none where one does not end with a record."""
    line, numbered = 1, []
    for stretch, feeds in found:
        numbered.append(replace(stretch, line=line))
        if feeds is None and not stretch.last:
            return []
        line += feeds or 0
    return numbered if len(numbered) > 1 else []
