"""Rows that were set aside as CSV (RFC 4180), to be mended in a spreadsheet or an editor and loaded again."""

from __future__ import annotations

import re
from collections.abc import Sequence

from nomotheta.load import LINKS, Reject

_FORMULA = re.compile(r"[=+\-@\t\r']")
_NUMBER = re.compile(r"[+-]?[0-9][0-9.,]*")
_QUOTED = re.compile(r'[",\r\n]|^\s|\s$')


def mendable_csv(load_no: int, rejects: Sequence[Reject], columns: Sequence[str]) -> tuple[str, int]:
    """The rows of rejects as CSV, and how many they are.

    A row stands once, with all its faults in one cell, and the columns by their names in the charter. What a
    spreadsheet would take for a formula starts with an apostrophe, which is dropped when the file is read again.
    """
    rows: dict[tuple[str, int], list[Reject]] = {}
    for reject in rejects:
        rows.setdefault((reject.file, reject.record), []).append(reject)
    lines = [[*LINKS, *columns]]
    for faults in rows.values():
        first = faults[0]
        why = "; ".join(dict.fromkeys(fault.message for fault in faults))
        links = [load_no, first.file, first.line, first.record, why, first.original]
        cells = [*first.cells, *[None] * (len(columns) - len(first.cells))]
        lines.append([_cell(str(link)) for link in links] + [_cell(value) for value in cells])
    return "".join(",".join(line) + "\r\n" for line in lines), len(rows)


def _cell(value: str | None) -> str:
    """A cell: nothing at all for null, and quotes for a text that is empty."""
    if value is None:
        return ""
    safe = safe_cell(value)
    return '"' + safe.replace('"', '""') + '"' if not safe or _QUOTED.search(safe) else safe


def safe_cell(value: str) -> str:
    """A cell that no spreadsheet takes for a formula; plain numbers stay as they are."""
    return "'" + value if _FORMULA.match(value) and not _NUMBER.fullmatch(value) else value
