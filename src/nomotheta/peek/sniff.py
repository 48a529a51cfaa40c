"""What a file is, from its first megabyte: encoding, line ends, delimiter, quote, header; each with its reason."""

from __future__ import annotations

import codecs
import json
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from nomotheta.errors import DeliveryError, counted
from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.source.content import format_of
from nomotheta.source.formats import open_file
from nomotheta.source.records import NeedMore, read_record
from nomotheta.unpack import check_regular, raw_chunks

SAMPLE = 1 << 20
_RECORDS = 500
_FEW = 3  # values that may be odd, but at most a tenth
_MOST_FIELDS = 10_000
_DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", "^": "caret", "~": "tilde", ":": "colon"}
_BOMS = {codecs.BOM_UTF8: "utf-8", codecs.BOM_UTF16_LE: "utf-16", codecs.BOM_UTF16_BE: "utf-16"}
_NAME = re.compile(r"[^\W\d][\w .()/#%²&-]{0,63}")
_GIVEN = "as given"
_VALUE = re.compile(r"[+-]?[\d.,:/ -]*\d[\d.,:/ TZ-]*%?")


@frozen
class Sniffed:
    """The layout of a file as it seems, and why. A format that is not text has no encoding."""

    layout: Layout
    format_why: str
    encoding: str
    encoding_why: str
    line_ends: dict[str, int]
    delimiter_why: str
    header_why: str
    names: tuple[str, ...]
    width: int


def sniff(path: Path, name: str, given: Mapping[str, Any] | None = None) -> Sniffed:
    """Look at the start of a file.

    Args:
        path: the file.
        name: what messages call it.
        given: keys of the layout that are known, and not to be guessed.

    Raises:
        DeliveryError: it cannot be read, or is empty.
    """
    check_regular(path, name)
    try:
        found = format_of(path)
    except OSError:
        found = None  # which the reading itself tells of
    if found:
        return _of_another_format(path, name, found, "its first bytes say so")
    sample = b""
    for chunk in raw_chunks(path, name):
        sample += chunk
        if len(sample) >= SAMPLE:
            break
    if not sample:
        raise DeliveryError("the file is empty: 0 bytes", where=name, mend="ask the sender to send it again")
    known = given or {}
    whole = len(sample) < SAMPLE
    encoding, encoding_why = (known["encoding"], _GIVEN) if "encoding" in known else _encoding(sample, whole=whole)
    text = codecs.getincrementaldecoder(encoding)("replace").decode(sample).removeprefix("\ufeff")
    ends = {"CRLF": text.count("\r\n"), "LF": text.count("\n") - text.count("\r\n")}
    ends["CR"] = text.count("\r") - ends["CRLF"]
    if ends["CR"] and not ends["LF"] and not ends["CRLF"]:
        text = text.replace("\r", "\n")
    data = text.encode("utf-8", "replace")
    if data.lstrip().startswith(b"[") and _is_array(data):
        mend = "ask for it as JSON Lines: each object of the array on a line of its own, without commas between them"
        raise DeliveryError("the file is one JSON array, which is not read", where=name, mend=mend)
    if _is_json(data):
        seen = _of_another_format(path, name, "json-lines", "its first line is a JSON object")
        ends = {end: count for end, count in ends.items() if count}
        return replace(
            seen, layout=replace(seen.layout, encoding=encoding), encoding=encoding,
            encoding_why=encoding_why, line_ends=ends,
        )  # fmt: skip
    layout, records, delimiter_why = _delimiter(data, encoding, known, whole=whole)
    if not records:
        raise DeliveryError("the file holds only empty lines", where=name)
    width = _width(records, delimiter_why, name)
    header, header_why = (bool(known["header"]), _GIVEN) if "header" in known else _header(records, width)
    names = tuple(records[0]) if header else tuple(f"column_{at + 1}" for at in range(width))
    return Sniffed(
        replace(layout, header=int(header), footer=known.get("footer", 0)), "", encoding, encoding_why,
        {end: count for end, count in ends.items() if count}, delimiter_why, header_why, names, max(width, len(names)),
    )  # fmt: skip


def _width(records: Sequence[Sequence[str]], why: str, name: str) -> int:
    """How many fields most records have.

    Raises:
        DeliveryError: more than a table has columns.
    """
    width = Counter(map(len, records)).most_common(1)[0][0]
    if width > _MOST_FIELDS:
        told = f"its records have {width:,} fields ({why}); more than {_MOST_FIELDS:,} are not a table"
        raise DeliveryError(told, where=name, mend="check what the file is, and ask for it as a table of fewer columns")
    return width


def _of_another_format(path: Path, name: str, found: str, why: str) -> Sniffed:
    """A file whose columns have names of their own."""
    layout = Layout(format=found, null_words=[])
    names = open_file(path, name, layout).read_header() or []
    told = "the first row is taken for it" if found == "sheet" else ""
    return Sniffed(layout, why, "", "", {}, "", told, tuple(names), len(names))


def _is_json(data: bytes) -> bool:
    """Whether the first line that is not empty is a JSON object."""
    line = data.lstrip().partition(b"\n")[0]
    if not line.startswith(b"{"):
        return False
    try:
        return isinstance(json.loads(line), dict)
    except (ValueError, RecursionError):
        return False


def _is_array(data: bytes) -> bool:
    """Whether text begins like an array of objects, as far as it goes."""
    return re.match(rb'\[\s*(\{\s*("|\})|\])', data.lstrip()) is not None


def _encoding(sample: bytes, *, whole: bool) -> tuple[str, str]:
    for bom, encoding in _BOMS.items():
        if sample.startswith(bom):
            return encoding, "it starts with a byte order mark"
    zeros = [sample[at : 1 << 16 : 2].count(0) for at in (0, 1)]
    if sum(zeros) > len(sample[: 1 << 16]) // 4:
        return ("utf-16-be" if zeros[0] > zeros[1] else "utf-16-le"), "every other byte is zero"
    if sample.isascii():
        return "utf-8", "all of it is ASCII so far"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample, final=whole)
    except UnicodeDecodeError as error:
        byte = sample[error.start]
        if any(other in sample for other in b"\x81\x8d\x8f\x90\x9d"):
            return "latin-1", f"the byte {byte:02X} is not UTF-8, and there are bytes that cp1252 does not have"
        return "cp1252", f"the byte {byte:02X} is not UTF-8; a guess, which covers latin-1 too"
    return "utf-8", "its letters beyond ASCII are UTF-8"


@frozen
class _Split:
    """Records as one delimiter splits them: how well that fits, and whether it may be part of the values as well."""

    layout: Layout
    records: list[list[str]]
    share: float
    width: int
    doubtful: bool

    @property
    def score(self) -> float:
        """The share of records that have as many fields as most; more fields are better."""
        return self.share * (1 + min(self.width, 50) / 100) if self.width > 1 else 0.0

    def why(self) -> str:
        """In words."""
        told = _DELIMITERS.get(self.layout.delimiter, repr(self.layout.delimiter))
        if len(self.records) == 1:
            return f"with the {told}, the one record has {counted(self.width, 'field')}"
        count = f"the first {len(self.records):,} records"
        return f"with the {told}, {self.share:.0%} of {count} have {counted(self.width, 'field')}"


def _delimiter(
    data: bytes, encoding: str, given: Mapping[str, Any], *, whole: bool
) -> tuple[Layout, list[list[str]], str]:
    """The delimiter and quote under which most records have the same number of fields, more than one.

    What stands between digits alone may be a decimal comma, or the colon of a time: it is taken only where no other
    splits the records as well.
    """
    plain = Layout(encoding=encoding, header=0, null_words=[])
    splits: list[_Split] = []
    for delimiter in [given["delimiter"]] if "delimiter" in given else _DELIMITERS:
        inner = re.findall(rb"\d" + re.escape(delimiter.encode()) + rb"(?=\d)", data)
        doubtful = delimiter in {",", ":"} and len(inner) == data.count(delimiter.encode())
        for quote in [given["quote"]] if "quote" in given else ('"', "'"):
            if (
                "quote" not in given
                and quote == "'"
                and not re.search(rb"(^|[\n" + re.escape(delimiter.encode()) + rb"])'", data)
            ):
                continue
            layout = replace(plain, delimiter=delimiter, quote=quote)
            records = _records(data, layout, whole=whole)
            if records:
                (width, often), *_ = Counter(map(len, records)).most_common(1)
                splits.append(_Split(layout, records, often / len(records), width, doubtful))
    best = max(splits, key=lambda each: each.score, default=None)
    if best is not None and (best.doubtful or best.layout.delimiter == ":"):
        others = [each for each in splits if each.width > 1 and each.share >= _WELL and each.layout.delimiter != ":"]
        sure = [each for each in others if not each.doubtful]
        best = max(sure or others, key=lambda each: each.score, default=best)
    if best is None:
        return plain, [], "nothing was found"
    if not best.score:
        return plain, _records(data, plain, whole=whole), f"no delimiter was found{_one_width(data)}"
    return best.layout, best.records, best.why()


_WELL = 0.9  # of the records have as many fields as most


def _one_width(data: bytes) -> str:
    """What lines that are all equally long may mean."""
    lines = data.decode("utf-8", "replace").split("\n")[:-1]
    widths = {len(line.rstrip("\r")) for line in lines}
    if len(lines) > 2 and len(widths) == 1 and min(widths) > 8 and any("  " in line.strip() for line in lines):
        return f"; all lines have {min(widths)} characters: it may be fixed-width text"
    return ": there seems to be one column"


def _records(data: bytes, layout: Layout, *, whole: bool) -> list[list[str]]:
    found: list[list[str]] = []
    at = 0
    while at < len(data) and len(found) < _RECORDS:
        if data.startswith((b"\n", b"\r\n"), at):
            at = data.index(b"\n", at) + 1
            continue
        try:
            record, at = read_record(data, at, layout, final=whole)
        except NeedMore:
            break
        if isinstance(record, list):
            found.append([value.decode("utf-8", "replace") for value, _ in record])
    return found


def _are_values(texts: Sequence[str]) -> bool:
    """Whether all but a few texts are numbers, days or times, and no names."""
    odd = sum(not _VALUE.fullmatch(text) for text in texts)
    return odd <= min(_FEW, len(texts) // 10) and odd < len(texts)


def _a_value(texts: Sequence[str]) -> str:
    return next(text for text in texts if _VALUE.fullmatch(text))


def _header(records: Sequence[Sequence[str]], width: int) -> tuple[bool, str]:
    """Whether the first record names the columns."""
    first, rest = records[0], [record for record in records[1:101] if record != records[0]]
    if len(first) != width:
        return False, f"the first record has {counted(len(first), 'field')}, not {width}"
    blank = [at for at, value in enumerate(first) if not value.strip()]
    if blank:
        return False, f"field {blank[0] + 1} of the first record is blank"
    numbers = [value for value in first if _VALUE.fullmatch(value.strip())]
    if numbers:
        return False, f"the first record holds values such as {numbers[0]!r}"
    below = [[row[at].strip() for row in rest if len(row) == width and row[at].strip()] for at in range(width)]
    valued = [at for at, values in enumerate(below) if _are_values(values)]
    if valued:
        return (
            True,
            f"{first[valued[0]]!r} looks like a name; below it are values such as {_a_value(below[valued[0]])!r}",
        )
    if len(set(first)) < len(first):
        return False, "the first record has a value twice"
    if any(name.strip() in values for name, values in zip(first, below, strict=True)):
        return False, "a value of the first record is found again further down"
    if all(_NAME.fullmatch(value.strip()) for value in first):
        return True, "the first record looks like names, and none of them is found further down"
    return False, "the first record does not look like names"
