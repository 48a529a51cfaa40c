"""The kinds of a column, in SQL's names."""

from __future__ import annotations

import re
from dataclasses import dataclass

from nomotheta.errors import did_you_mean

NAMES = ("text", "integer", "decimal", "real", "boolean", "date", "time", "timestamp", "timestamptz", "uuid", "binary")
_WRITTEN = re.compile(r"\s*([a-z]+)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*", re.ASCII)
MOST_DIGITS = 38


@dataclass(frozen=True, slots=True)
class Kind:
    """A column's type. `size` is a text's greatest length in characters, or a decimal's digits in all."""

    name: str
    size: int | None = None
    scale: int = 0

    def __str__(self) -> str:
        if self.name == "decimal":
            return f"decimal({self.size},{self.scale})"
        return f"{self.name}({self.size})" if self.size is not None else self.name

    @property
    def digits(self) -> int:
        """Decimal digits in all; a whole number counts as 18."""
        return self.size if self.name == "decimal" and self.size is not None else 18

    @property
    def is_number(self) -> bool:
        """Whether arithmetic is defined on it."""
        return self.name in {"integer", "decimal", "real"}


TEXT, INTEGER, REAL, BOOLEAN = Kind("text"), Kind("integer"), Kind("real"), Kind("boolean")
DATE, TIME, TIMESTAMP, TIMESTAMPTZ = Kind("date"), Kind("time"), Kind("timestamp"), Kind("timestamptz")
UUID, BINARY, NULL = Kind("uuid"), Kind("binary"), Kind("null")
# of parts of conditions only: a written interval, and the span between two moments in whole microseconds
INTERVAL, DURATION = Kind("interval"), Kind("duration")


def decimal(size: int, scale: int) -> Kind:
    """A decimal of `size` digits, `scale` of them behind the mark."""
    return Kind("decimal", size, scale)


def parse_kind(text: str) -> Kind:
    """Read a kind as a charter writes it, such as `decimal(8,2)`.

    Raises:
        ValueError: it is not a kind; the message says why and what would be.
    """
    match = _WRITTEN.fullmatch(text.lower())
    if not match:
        raise ValueError(f"'{text}' is not a kind; write one such as text(9), integer or decimal(8,2)")
    name = match[1]
    size, scale = (int(part) if part else None for part in (match[2], match[3]))
    if name not in NAMES:
        hint = did_you_mean(name, NAMES, "known: " + ", ".join(NAMES))
        raise ValueError(f"'{name}' is not a kind; {hint}")
    if name == "decimal":
        if size is None or not 1 <= size <= MOST_DIGITS or (scale or 0) > size:
            raise ValueError(f"a decimal needs its digits, 1 to {MOST_DIGITS}, and its scale; write decimal(8,2)")
        return decimal(size, scale or 0)
    if scale is not None or (size is not None and name != "text") or size == 0:
        raise ValueError(f"'{text}' carries a size that {name} cannot have; only text(n) and decimal(p,s) do")
    return Kind(name, size)
