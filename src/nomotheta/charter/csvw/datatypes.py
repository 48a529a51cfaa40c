"""Datatypes of CSV on the Web and kinds, forms of dates in its notation (that of Unicode) and in ours."""

from __future__ import annotations

import re
from collections.abc import Mapping

CONTEXT = "http://www.w3.org/ns/csvw"

_SIGNS = {
    "yyyy": "%Y", "yy": "%y", "MMMM": "%B", "MMM": "%b", "MM": "%m", "M": "%-m", "dd": "%d", "d": "%-d",
    "HH": "%H", "H": "%-H", "hh": "%I", "h": "%-I", "mm": "%M", "ss": "%S", "a": "%p",
}  # fmt: skip
_LETTERS = {ours: theirs for theirs, ours in _SIGNS.items()} | {"%%": "'%'", "%f": "SSSSSS"}
_TOKEN = re.compile(r"yyyy|yy|M{1,4}|dd?|HH?|hh?|mm|ss|\.S+|a|[Xx]+|'[^']*'|.", re.DOTALL)

BASES: Mapping[str, str] = {
    **dict.fromkeys(["string", "normalizedString", "token", "language", "Name", "NMTOKEN", "xml", "html", "json",
                     "anyURI", "anyAtomicType", "any"], "text"),
    **dict.fromkeys(["integer", "long", "int", "short", "byte", "nonNegativeInteger", "positiveInteger",
                     "nonPositiveInteger", "negativeInteger", "unsignedLong", "unsignedInt", "unsignedShort",
                     "unsignedByte"], "integer"),
    **dict.fromkeys(["double", "float", "number"], "real"),
    "decimal": "decimal", "boolean": "boolean", "date": "date", "time": "time", "datetime": "timestamp",
    "dateTime": "timestamp", "dateTimeStamp": "timestamptz", "hexBinary": "binary",
}  # fmt: skip
BOUNDS: Mapping[str, tuple[int | str, int | str]] = {
    "int": (-(2**31), 2**31 - 1), "short": (-(2**15), 2**15 - 1), "byte": (-128, 127), "nonNegativeInteger": (0, ""),
    "positiveInteger": (1, ""), "nonPositiveInteger": ("", 0), "negativeInteger": ("", -1),
    "unsignedInt": (0, 2**32 - 1), "unsignedShort": (0, 2**16 - 1), "unsignedByte": (0, 255),
}  # fmt: skip


def forms_of(pattern: str) -> tuple[list[str], bool] | None:
    """Our forms for a date pattern, and whether it has a zone; None where it uses what they do not know.

    A fraction of a second may be there or not, so that such a pattern is two forms.
    """
    written, fraction, zoned = "", "", False
    for part in _TOKEN.findall(pattern):
        if part in _SIGNS:
            written += _SIGNS[part]
        elif part.startswith(".S"):
            fraction = ".%f"
            written += "\0"
        elif part[0] in "Xx":
            zoned = True
        elif part.startswith("'"):
            written += part[1:-1].replace("%", "%%") or "'"
        elif part == "T" or not part.isalpha():
            written += part.replace("%", "%%")
        else:
            return None
    written = written.rstrip(" ") if zoned else written
    both = [written.replace("\0", each) for each in dict.fromkeys(["", fraction])]
    return both, zoned


def pattern_of(form: str) -> str | None:
    """A form in the notation of Unicode; None where it has a sign that is not known there."""
    found = ""
    for part in re.findall(r"%-?[A-Za-z%]|[^%]", form):
        if part.startswith("%"):
            if part not in _LETTERS:
                return None
            found += _LETTERS[part]
        else:
            found += f"'{part}'" if part.isalpha() and part != "T" else part
    return found
