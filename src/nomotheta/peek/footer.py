"""The last line of a file, where it is not a row: a total, a count, or the mark of an end."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.source.records import read_record
from nomotheta.unpack import packing_of, raw_chunks

_TAIL = 1 << 16  # bytes in which the last line is looked for
_WORDS = re.compile(
    r"\W*(\d[\d.,]*\s+|grand\s+|sub\s*)?(totals?|sums?|counts?|rows?|records?|lines|trailer|footer|trl|end|eof|summe|gesamt|insgesamt|t)\b",
    re.IGNORECASE,
)
_TOTAL = re.compile(r"\W*(grand\s+)?(totals?|sums?|summe|gesamt|insgesamt|trailer|footer)\W*", re.IGNORECASE)
_DIGITS = re.compile(r"\d+")


@frozen
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
    """Whether fields look like a total line: one is a word for it; or they are few, and a word or a count begins."""
    filled = [value for value in values if value]
    if not filled or len(values) > width:
        return False
    if _TOTAL.fullmatch(filled[0]):
        return True
    if len(values) == width and 2 * len(filled) > width:
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


def totals_pattern(line: str, layout: Layout, columns: Sequence[tuple[str, bool]]) -> str:
    """What finds the totals of columns in lines like this one; empty where it states none, or has other fields.

    Args:
        line: the footer.
        layout: how it is written.
        columns: in the order of the file, the name that the pattern is to call each by, and whether it has totals.
    """
    fields, _ = read_record(line.encode(), 0, layout, final=True)
    if not isinstance(fields, list) or len(fields) != len(columns) or layout.quote in line:
        return ""
    parts, found = [], False
    for (raw, _), (name, has) in zip(fields, columns, strict=True):
        value = raw.decode("utf-8", "replace")
        group = has and name.isidentifier() and name.isascii() and bool(_DIGITS.search(value))
        parts.append(f"(?P<{name}>[-+0-9.,]+)" if group else _like(value))
        found |= group
    return re.escape(layout.delimiter).join(parts) if found else ""


def word_pattern(line: str, layout: Layout) -> str:
    """What finds lines that begin with the same word, and takes no number from them; empty where there is no word."""
    head, mark, _ = line.partition(layout.delimiter)
    return f"(?P<rows>)^{re.escape(head + mark)}" if _TOTAL.fullmatch(head) else ""


def _like(text: str) -> str:
    """A pattern for texts that differ from this one in their digits only."""
    return _DIGITS.sub("[0-9]+", re.escape(text).replace("\\ ", " "))
