"""Rejects as CSV (RFC 4180), for mending and for spreadsheets."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import fields

from nomotheta.load import Reject

_FORMULA = re.compile(r"[=+\-@\t\r]")
_NUMBER = re.compile(r"[+-]?[0-9][0-9.,]*")


def rejects_csv(rejects: Sequence[Reject]) -> str:
    """The rejects as CSV with a header; what a spreadsheet would take for a formula starts with an apostrophe."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    names = [field.name for field in fields(Reject)]
    writer.writerow(names)
    writer.writerows([[safe_cell(getattr(reject, name)) for name in names] for reject in rejects])
    return out.getvalue()


def safe_cell(value: object) -> object:
    """A cell that no spreadsheet takes for a formula; plain numbers stay as they are."""
    if isinstance(value, str) and _FORMULA.match(value) and not _NUMBER.fullmatch(value):
        return "'" + value
    return value
