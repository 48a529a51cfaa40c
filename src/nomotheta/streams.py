"""Stdout and stderr that hold nobody up: what cannot be written is left out, and the work and its exit code are right.

A reader may have gone, a disk may be full, a terminal may know ASCII only, a stream may have been closed before the
program began. None of that is the business of whoever loads a table.
"""

from __future__ import annotations

import codecs
import contextlib
import errno
import io
import os
import sys
from typing import Any

_STREAMS = 3  # stdin, stdout, stderr
_PLAIN = str.maketrans(
    {
        "✓": "+", "✗": "x", "→": ">", "…": ".", "·": "-", "−": "-", "–": "-", "—": "-", "─": "-", "━": "-", "│": "|",
        "×": "x", "≤": "<", "≥": ">", "’": "'", "±": "+",
    }
)  # fmt: skip


class _Lossy(io.RawIOBase):
    """A file descriptor that takes everything; what could not be written is remembered as its error."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self.failed: OSError | None = None

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return self._descriptor

    def isatty(self) -> bool:
        return os.isatty(self._descriptor)

    def write(self, data: Any) -> int:
        size = len(data)
        if self.failed is None:
            try:
                return os.write(self._descriptor, data)
            except OSError as error:
                self.failed = error
        return size


def _plainer(error: UnicodeError) -> tuple[str, int]:
    """Signs that an encoding has not, as those that say the same; letters as question marks."""
    assert isinstance(error, UnicodeEncodeError)  # noqa: S101 - it is asked for while something is written
    text = error.object[error.start : error.end].translate(_PLAIN)
    return "".join(sign if sign.isascii() else "?" for sign in text), error.end


def make_sturdy() -> None:
    """Have the process's stdout and stderr take whatever is written to them, from now to its end."""
    codecs.register_error("plainer", _plainer)
    for number in range(_STREAMS):  # a file that is opened later is not to get the number of one of them
        try:
            os.fstat(number)
        except OSError:
            with contextlib.suppress(OSError):
                os.open(os.devnull, os.O_RDWR)
    for name, number in (("stdout", 1), ("stderr", 2)):
        stream = getattr(sys, name)
        encoding = getattr(stream, "encoding", None) or "utf-8"
        lines = number == _STREAMS - 1 or os.isatty(number)
        made = io.TextIOWrapper(
            io.BufferedWriter(_Lossy(number)), encoding, "plainer", line_buffering=lines, write_through=False
        )
        if stream is not None:
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
        setattr(sys, name, made)


def lost() -> str:
    """Why what was written to stdout is not all there; empty where it is, and where its reader did not want more."""
    with contextlib.suppress(OSError, ValueError):
        sys.stdout.flush()
    raw = getattr(getattr(sys.stdout, "buffer", None), "raw", None)
    failed = raw.failed if isinstance(raw, _Lossy) else None
    return "" if failed is None or failed.errno == errno.EPIPE else failed.strerror or str(failed)
