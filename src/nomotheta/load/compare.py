"""A table as its place has it, held against what its charter loads."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nomotheta.charter import FROM_PLACE, Charter, Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import PlaceError, did_you_mean
from nomotheta.kinds.show import show
from nomotheta.load.kept import broken
from nomotheta.load.work import Worked
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.rules.finding import HIDDEN
from nomotheta.rules.shape import existing


def compare(place: Place, compiled: Compiled) -> Mapping[str, PlaceColumn]:
    """The columns of the table by name, if it can take what the charter loads; before a row is sent.

    Raises:
        PlaceError: there is no such table, or a column is missing or of another kind.
    """
    charter = compiled.charter
    try:
        there = {column.name: column for column in existing(place, charter.table)}
    except PlaceError as error:
        if place.columns(charter.table) is not None:
            raise
        mend = f"{error.mend}; or create it: nomotheta load {charter.table} --create"
        raise PlaceError(error.what, where=error.where, mend=mend) from None
    wrong = [told for _, told in misfits(charter, there)]
    if wrong:
        raise PlaceError(
            f"the table cannot take what the charter loads: {'; '.join(wrong)}",
            where=f"{charter.table} in {place.shown}",
            mend="change the charter's kinds, or the table",
        )  # fmt: skip
    return there


def misfits(charter: Charter, there: Mapping[str, PlaceColumn]) -> Iterator[tuple[str, str]]:
    """The columns of a table that cannot take what a charter loads, and why."""
    for name, kind in charter.kinds().items():
        column = there.get(name)
        if charter.columns[name].from_ == FROM_PLACE:
            continue
        if column is None:
            hint = did_you_mean(name, there)
            yield name, f"it has no column '{name}'" + (f" ({hint})" if hint else "")
        elif kind.name not in column.also and (column.kind is None or not _takes(column.kind, kind)):
            yield name, f"'{name}' is {column.type_name}, which does not hold {kind}"
    for name, column in there.items():
        if name not in charter.columns and not column.nullable:
            yield name, f"'{name}' may not be null, and the charter does not fill it"


def _takes(have: Kind, kind: Kind) -> bool:
    """Whether a column of one kind holds every value of the other."""
    if have.name == kind.name == "decimal":
        return have.scale >= kind.scale and have.digits - have.scale >= kind.digits - kind.scale
    if have.name == kind.name == "text" and have.size is not None:
        return kind.size is not None and kind.size <= have.size
    return have.name == kind.name


def held_to_limits(worked: Worked, there: Mapping[str, PlaceColumn], private: frozenset[str]) -> None:
    """Whether the table gives every value of a block's good rows back as it is.

    Raises:
        PlaceError: it would not; with the file, the line, the value, and why.
    """
    for name in worked.good.column_names:
        column = there.get(name)
        if column is None or not column.limits.any:
            continue
        found = broken(column.limits, worked.good[name].combine_chunks())
        if found is None:
            continue
        row, why = found
        file, line = worked.place_of(int(worked.records[row]))
        value = HIDDEN if name in private else show(worked.good[name][row].as_py())
        raise PlaceError(
            f"{'null' if value is None else value} does not fit '{name}', which is {column.type_name}: {why}",
            where=f"{file}:{line}", mend="change the column's type in the table, or have such rows set aside",
        )  # fmt: skip
