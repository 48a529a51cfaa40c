"""The last line of a file, where it is not a row: a total, a count, or the mark of an end."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from nomotheta.layout import Layout
from nomotheta.source.records import read_record
from nomotheta.unpack import packing_of, raw_chunks

_TAIL = 1 << 16  # bytes in which the last line is looked for
_WORDS = re.compile(
    r"\W*(\d[\d.,]*\s+|grand\s+|sub\s*)?(totals?|sums?|counts?|rows?|records?|lines|trailer|footer|trl|end|eof|summe|gesamt|insgesamt|t)\b",
    re.IGNORECASE,
)
_DIGITS = re.compile(r"\d+")


@dataclass(frozen=True, slots=True)
class Footer:
    """A line at the end that is not a row; `pattern` finds the count of rows that it states, where it states one."""

    line: str
    pattern: str


def footer_of(path: Path, layout: Layout, width: int, rows: int) -> Footer | None:
    """A delimited file's footer, if its last line is one.

    Args:
        path: the file.
        layout: how it is written.
        width: the number of its columns.
        rows: how many rows it seems to have, its last line perhaps among them.
    """
    text = _tail(path).decode(layout.encoding, "replace").rstrip("\r\n\x1a \t")
    line = re.split(r"\r\n|\n|\r", text)[-1]
    fields, _ = read_record(line.encode(), 0, layout, final=True)
    if not isinstance(fields, list) or width < 2:
        return None
    values = [value.decode("utf-8", "replace").strip() for value, _ in fields]
    if not _is_footer(values, width, rows):
        return None
    return Footer(line, _pattern(line, rows))


def _tail(path: Path) -> bytes:
    """The last bytes of a file's content."""
    if packing_of(path):
        tail = b""
        for chunk in raw_chunks(path, path.name):
            tail = (tail + bytes(chunk))[-_TAIL:]
        return tail
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - _TAIL))
        return file.read()


def _is_footer(values: Sequence[str], width: int, rows: int) -> bool:
    """Whether fields look like a total line: few of them, and a word or a count that says so."""
    filled = [value for value in values if value]
    few = len(values) < width or 2 * len(filled) <= width
    if not filled or not few:
        return False
    counts = {str(rows - 1), str(rows)}
    return bool(_WORDS.match(filled[0])) or (len(values) < width and any(value in counts for value in filled))


def _pattern(line: str, rows: int) -> str:
    """What finds the number of rows in lines like this one; empty where it is not stated once."""
    stated = [each for each in _DIGITS.finditer(line) if each[0].lstrip("0") == str(rows - 1)]
    if len(stated) != 1:
        return ""
    head, tail = line[: stated[0].start()], line[stated[0].end() :]
    return f"{_like(head)}(?P<rows>[0-9]+){_like(tail)}"


def _like(text: str) -> str:
    """A pattern for texts that differ from this one in their digits only."""
    return _DIGITS.sub("[0-9]+", re.escape(text))
