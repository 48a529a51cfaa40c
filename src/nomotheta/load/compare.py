"""A table as its place has it, held against what its charter loads."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import FROM_PLACE, Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import PlaceError, did_you_mean
from nomotheta.kinds import UNTYPED, arrow_type, read_column
from nomotheta.place import Place
from nomotheta.rules import existing


def as_kind(column: Any, kind: Kind) -> Any:
    """A place's column as the Arrow type in which values of `kind` are held; texts are such as PostgreSQL writes."""
    if pa.types.is_string(column.type) and kind.name not in {"text", "uuid"}:
        told = {"binary": (r"^\\x", ""), "timestamptz": (r"([+-]\d\d)$", r"\1:00")}.get(kind.name)
        texts = pc.replace_substring_regex(column, *told) if told else column
        return read_column(texts, kind, UNTYPED).values
    return column.cast(arrow_type(kind))


def compare(place: Place, compiled: Compiled) -> None:
    """Whether the table can take what the charter loads, before a row is sent.

    Raises:
        PlaceError: there is no such table, or a column is missing or of another kind.
    """
    charter = compiled.charter
    try:
        there = {column.name: column for column in existing(place, charter.table)}
    except PlaceError as error:
        mend = f"{error.mend}; or create it: nomotheta load {charter.table} --create"
        raise PlaceError(error.what, where=error.where, mend=mend) from None
    wrong = []
    for name, kind in charter.kinds().items():
        column = there.get(name)
        if charter.columns[name].from_ == FROM_PLACE:
            continue
        if column is None:
            hint = did_you_mean(name, there)
            wrong.append(f"it has no column '{name}'" + (f" ({hint})" if hint else ""))
        elif kind.name not in column.also and (column.kind is None or not _takes(column.kind, kind)):
            wrong.append(f"'{name}' is {column.type_name}, which does not hold {kind}")
    extra = [name for name, column in there.items() if name not in charter.columns and not column.nullable]
    wrong += [f"'{name}' may not be null, and the charter does not fill it" for name in extra]
    if wrong:
        raise PlaceError(
            f"the table cannot take what the charter loads: {'; '.join(wrong)}",
            where=f"{charter.table} in {place.shown}",
            mend="change the charter's kinds, or the table",
        )  # fmt: skip


def _takes(have: Kind, kind: Kind) -> bool:
    """Whether a column of one kind holds every value of the other."""
    if have.name == kind.name == "decimal":
        return have.scale >= kind.scale and have.digits - have.scale >= kind.digits - kind.scale
    if have.name == kind.name == "text" and have.size is not None:
        return kind.size is not None and kind.size <= have.size
    return have.name == kind.name
