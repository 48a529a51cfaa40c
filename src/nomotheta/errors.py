"""Every error that Nomotheta raises on purpose.

NomothetaError            one root: what went wrong, where, and the mend
├── DeclarationError      the call or a declaration is wrong              exit 2
├── DeliveryError         a delivery is missing, corrupt, or came before  exit 1
│   └── AwaitedError      it is not there, or not as a whole, yet
├── ElsewhereError        what lies behind a URL cannot be reached        exit 3
├── GoneError             something that was kept is not there any more   exit 3
└── PlaceError            it could not be found out                       exit 3
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from typing import Any

from nomotheta.secrets import scrubbed


class NomothetaError(Exception):
    """What went wrong, where, and what to do about it; `code` is the exit code of a command that ends in it."""

    code = 3

    def __init__(self, what: str, *, where: str = "", mend: str = "") -> None:
        what, where, mend = map(scrubbed, (what, where, mend))
        super().__init__(what)
        self.what, self.where, self.mend = what, where, mend

    def __str__(self) -> str:
        where = f"{self.where}: " if self.where else ""
        mend = f"\n  → {self.mend}" if self.mend else ""
        return f"{where}{self.what}{mend}"


class DeclarationError(NomothetaError):
    """The call, the workspace or a charter is wrong."""

    code = 2


class DeliveryError(NomothetaError):
    """A delivery is missing, empty, corrupt, not as declared, or was loaded before; the target is untouched."""

    code = 1


class AwaitedError(DeliveryError):
    """A delivery, or a part of it, is not there yet, or is still being written: it may still come."""


class ElsewhereError(NomothetaError):
    """What lies behind a URL cannot be listed, or fetched; nothing can be said about it."""


class GoneError(NomothetaError):
    """Something that the workspace kept is not there any more, or lies on another machine."""


class PlaceError(NomothetaError):
    """A place cannot be reached, is locked, or refused a statement; nothing can be said about its tables.

    `row` is the number, from 1, of the row among those sent that the place refused, where it says so.
    """

    code = 3

    def __init__(self, what: str, *, where: str = "", mend: str = "", row: int | None = None) -> None:
        super().__init__(what + (f" (row {row:,} of those sent)" if row else ""), where=where, mend=mend)
        self.told, self.row = scrubbed(what), row


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word closest to `word`, or None where nothing is close."""
    by_lower = {name.lower(): name for name in known}
    found = difflib.get_close_matches(word.lower(), by_lower, 1, 0.6)
    return by_lower[found[0]] if found else None


def did_you_mean(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """A hint naming the nearest known word, or `otherwise`."""
    found = nearest(word, known)
    return f"did you mean '{found}'?" if found else otherwise


def visible(value: Any) -> str:
    """A value from data with its control characters made visible."""
    text = str(value)
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in text)


def visible_lines(text: str) -> str:
    """Text of several lines with its other control characters made visible."""
    if text.isprintable():
        return text
    return "\n".join(visible(line) for line in text.split("\n"))


def counted(count: int, noun: str) -> str:
    """A count of things in words: 1 row, 2 rows, 1,021 rows."""
    return f"{count:,} {noun}" if count == 1 else f"{count:,} {noun}s"
