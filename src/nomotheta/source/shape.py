"""Whether a file has the columns that the charter expects, and in which field each of them stands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import pyarrow as pa

from nomotheta.errors import DeliveryError, nearest
from nomotheta.frozen import frozen
from nomotheta.kinds.read import read_column
from nomotheta.source.base import SourceFile

if TYPE_CHECKING:
    from nomotheta.charter import Charter


@frozen
class Shape:
    """Where each column of the charter is among the `width` fields of a record; `absent` are filled with null."""

    positions: Mapping[str, int]
    width: int
    absent: tuple[str, ...] = ()


def match_columns(source: SourceFile, charter: Charter) -> Shape:
    """Where each column of the charter is in a file, which is told what kinds they are.

    By header name, or by position where a column declares one or there is no header.

    Raises:
        DeliveryError: columns are missing, unknown or named twice; the header was taken for data, or data for it.
    """
    shape = _matched(source, charter)
    kinds = charter.kinds()
    forms = charter.cell_forms(source.layout)
    source.kinds = {at: kinds[name] for name, at in shape.positions.items()}
    source.forms = {at: forms[name] for name, at in shape.positions.items() if name in forms}
    return shape


def _matched(source: SourceFile, charter: Charter) -> Shape:
    header = source.read_header()
    wanted = charter.file_columns()
    if header is None:
        shape = _in_order(charter, wanted, None if source.layout.traits.placed else source.first)
        _check_no_header(source, charter, shape)
        return shape
    loose = source.layout.header_match == "loose"
    named = [_loosely(name) if loose else name for name in header]
    positions: dict[str, int] = {}
    missing: dict[str, str] = {}
    twice: list[str] = []
    for column in wanted:
        at = charter.columns[column].at
        if isinstance(at, int):
            if at > len(header):
                told = f"'{column}' is declared to be field {at}, but the header has {len(header)}"
                raise DeliveryError(told, where=source.name, mend="check the delimiter, or change 'at' in the charter")
            positions[column] = at - 1
            continue
        names = {_loosely(each) if loose else each for each in charter.names_of(column)}
        found = [place for place, other in enumerate(named) if other in names]
        if len(found) == 1:
            positions[column] = found[0]
        elif found:
            twice.append("' and '".join(dict.fromkeys(header[place] for place in found)))
            positions[column] = found[0]
        else:
            missing[column] = "' or '".join(charter.names_of(column))
    known = {_loosely(each) if loose else each for column in wanted for each in charter.names_of(column)}
    extra = [name for place, name in enumerate(header) if place not in positions.values() and named[place] not in known]
    load = charter.load
    absent = tuple(missing) if load.missing_columns == "null" and len(missing) < len(wanted) else ()
    lacking = [] if absent else list(missing.values())
    refused = extra if load.extra_columns == "refuse" or lacking else []
    if lacking or refused or twice or not any(charter.columns[name].at is None for name in wanted):
        _check_header(source, charter, header)
    if lacking or refused or twice:
        raise DeliveryError(_told(lacking, refused, twice), where=source.name, mend=_mend(lacking, refused, twice))
    return Shape(positions, len(header), absent)


def _loosely(name: str) -> str:
    """A name without its case and the space around and within it."""
    return " ".join(name.split()).casefold()


def _in_order(charter: Charter, wanted: Mapping[str, str], first: Sequence[str] | None) -> Shape:
    """Columns by their position: the declared one, or the next."""
    positions: dict[str, int] = {}
    following = 0
    for column in wanted:
        at = charter.columns[column].at
        following = at - 1 if isinstance(at, int) else following
        positions[column] = following
        following += 1
    width = max(positions.values(), default=-1) + 1
    placed = any(isinstance(charter.columns[column].at, int) for column in wanted)
    if first is not None and (placed or charter.load.extra_columns == "ignore"):
        width = max(width, len(first))
    return Shape(positions, width)


def _fits(source: SourceFile, charter: Charter, values: Sequence[str], positions: Mapping[str, int]) -> list[bool]:
    """For each column that is not text, and has a value, whether that value is of its kind."""
    found = []
    kinds = charter.kinds()
    for column, at in positions.items():
        if kinds[column].name == "text" or at >= len(values) or values[at] in source.layout.null_words:
            continue
        found.append(not read_column(pa.array([values[at]], pa.string()), kinds[column], source.layout).misfits)
    return found


def _check_no_header(source: SourceFile, charter: Charter, shape: Shape) -> None:
    """Whether the first record is a header that the layout does not know of.

    Raises:
        DeliveryError: it is.
    """
    first = source.first
    if not first:
        return
    names = {_loosely(name) for column in charter.file_columns() for name in (column, *charter.names_of(column))}
    known = [value for value in first if _loosely(value) in names]
    fits = _fits(source, charter, first, shape.positions)
    words = not any(letter.isdigit() for value in first for letter in value)
    if 2 * len(known) >= len(shape.positions) or (len(fits) > 1 and not any(fits) and words):
        told = ", ".join(f"'{value}'" for value in first[:3]) + (", …" if len(first) > 3 else "")
        what = f"the first record looks like a header ({told}), but the layout declares none"
        raise DeliveryError(what, where=f"{source.name}:1", mend="write header = 1 in the layout")


def _check_header(source: SourceFile, charter: Charter, header: Sequence[str]) -> None:
    """Whether the header is a row of data.

    Raises:
        DeliveryError: it is.
    """
    shape = _in_order(charter, charter.file_columns(), header)
    fits = _fits(source, charter, header, shape.positions)
    if fits and all(fits) and len(header) >= len(shape.positions):
        told = ", ".join(f"'{value}'" for value in header[:3]) + (", …" if len(header) > 3 else "")
        what = f"the first line is a row and no header: its values ({told}) are of the columns' kinds"
        mend = "write header = 0 in the layout, or ask the sender for the header"
        raise DeliveryError(what, where=f"{source.name}:1", mend=mend)


def _told(missing: list[str], extra: list[str], twice: list[str]) -> str:
    parts = []
    for label, names in (("missing", missing), ("not in the charter", extra), ("named twice", twice)):
        if names:
            parts.append(f"{label}: " + ", ".join(f"'{name}'" for name in names))
    return "the header is not the one the charter declares; " + "; ".join(parts)


def _mend(missing: list[str], extra: list[str], twice: list[str]) -> str:
    pairs = [(name, nearest(name, extra)) for name in missing]
    alike = {name: other for name in missing for other in extra if _loosely(name) == _loosely(other)}
    if alike and len(alike) == len(missing):
        return 'they differ in case or space only: write header_match = "loose" in the layout'
    near = [f"'{found}' looks like '{name}': write from = \"{found}\" there" for name, found in pairs if found]
    if near:
        return "; ".join(near)
    if len(extra) == 1 and missing:
        return "the file may have another delimiter than the layout declares"
    if twice:
        return "say which field is meant: at = 3 under [columns.NAME] is the third"
    if extra and not missing:
        return 'declare them, or write extra_columns = "ignore" under [load]'
    return "ask the sender what changed, or change the charter's columns"
