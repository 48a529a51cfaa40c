"""Lists of values in files that are kept with the charters."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

from nomotheta.charter.values import value_of
from nomotheta.conditions import Kind

MOST = 10_000  # values; a longer list is better kept in a table, and referred to


def listed(folder: Path, file: str, column: str | None) -> list[str]:
    """The values of a list, as they are written: one in each line, or those of a column of a CSV file (RFC 4180).

    Raises:
        ValueError: the file is not there, cannot be read, or is not such a list; with the mend after a semicolon.
    """
    return [value for (value,) in listed_rows(folder, file, None if column is None else [column])]


def listed_rows(folder: Path, file: str, columns: Sequence[str] | None) -> list[tuple[str, ...]]:
    """The same of several columns of a CSV file: each different row of their values.

    Raises:
        ValueError: as `listed`.
    """
    text = text_of(folder, file, "the list")
    values = [(line,) for line in _lines(text, file)] if columns is None else _columns(text, file, columns)
    if not values:
        raise ValueError(f"the list '{file}' holds no values; write one in each line")
    if len(values) > MOST:
        told = f"the list '{file}' holds {len(values):,} values, and at most {MOST:,} are read"
        raise ValueError(f"{told}; load it as a table, and refer to it with [[references]]")
    return list(dict.fromkeys(values))


def text_of(folder: Path, file: str, what: str) -> str:
    """The text of a file that is kept with the charters.

    Raises:
        ValueError: it is not there, cannot be read, or is not UTF-8; with the mend after a semicolon.
    """
    path = folder / file
    if Path(file).is_absolute() or not path.resolve().is_relative_to(folder.resolve()):
        raise ValueError(f"{what} '{file}' is not kept with the charters; put it into their folder")
    try:
        return path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except FileNotFoundError:
        told = f"{what} '{file}' is not there; {what.replace('the', 'a', 1)} is kept in the folder of the charters"
        raise ValueError(told) from None
    except OSError as error:
        raise ValueError(f"{what} '{file}' cannot be read: {error.strerror}; check its rights") from None
    except UnicodeDecodeError:
        raise ValueError(f"{what} '{file}' is not UTF-8; save it as UTF-8") from None


def _lines(text: str, file: str) -> list[str]:
    lines = text.removesuffix("\n").split("\n") if text else []
    for at, line in enumerate(lines, 1):
        if line != line.strip() or not line:
            what = "is blank" if not line.strip() else "has white space at its ends"
            raise ValueError(f"line {at} of the list '{file}' {what}; take it out")
    return lines


def _columns(text: str, file: str, columns: Sequence[str]) -> list[tuple[str, ...]]:
    try:
        header, *rows = [row for row in csv.reader(io.StringIO(text, newline=""), strict=True) if row]
    except (csv.Error, ValueError) as error:
        told = str(error) if isinstance(error, csv.Error) else "it is empty"
        raise ValueError(f"the list '{file}' is not a CSV file: {told}; correct it") from None
    for column in columns:
        if header.count(column) != 1:
            times = f"{header.count(column)} columns" if column in header else "no column"
            raise ValueError(f"the list '{file}' has {times} called '{column}'; its columns: {', '.join(header)}")
    at = [header.index(column) for column in columns]
    for number, row in enumerate(rows, 2):
        if len(row) != len(header):
            raise ValueError(f"record {number} of the list '{file}' has {len(row)} fields, its header {len(header)}; "
                             "correct it")  # fmt: skip
        for place, column in zip(at, columns, strict=True):
            if not row[place].strip():
                raise ValueError(f"record {number} of the list '{file}' has a blank {column}; take it out")
    return [tuple(row[place] for place in at) for row in rows]


def value_written(kind: Kind, text: str) -> Any:
    """A value of a list as a value of `kind`.

    Raises:
        ValueError: it does not fit.
    """
    if kind.is_number:
        try:
            return value_of(kind, Decimal(text))
        except ArithmeticError:
            raise ValueError(f"{text!r} does not fit {kind}") from None
    if kind.name == "boolean":
        return value_of(kind, {"true": True, "false": False}.get(text, text))
    return value_of(kind, text)
