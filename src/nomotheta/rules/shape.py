"""A table as its place has it: whether it is there, and its columns are of the declared kinds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from weakref import WeakKeyDictionary

from nomotheta.charter import Check
from nomotheta.conditions import Kind, own_names
from nomotheta.errors import PlaceError, did_you_mean
from nomotheta.place.base import Place, PlaceColumn

_ALIKE = ({"integer", "decimal"},)  # kinds whose values the databases compare as the numbers that they are
_AS_TEXT = {"integer", "date", "uuid"}  # kinds each of whose values has one text, the same in every place
_MOMENTS = {"date", "timestamp"}
_SPELLED: WeakKeyDictionary[Place, set[str]] = WeakKeyDictionary()  # tables that were found to be called so


def existing(place: Place, table: str) -> list[PlaceColumn]:
    """The columns of a table.

    Raises:
        PlaceError: there is no such table; with the nearest name.
    """
    found = place.columns(table)
    if found is None:
        tables = place.tables()
        mend = did_you_mean(table, tables, "tables there: " + ", ".join(tables[:8]) if tables else "it holds no tables")
        raise PlaceError(f"there is no table '{table}' in {place.shown}", where=f"place {place.name}", mend=mend)
    check_spelled(place, table)
    for name in own_names([table, *(column.name for column in found)]):
        told = f"'{name}' is a name that only the program's own statements use: no table or column may begin so"
        raise PlaceError(told, where=f"{table} in {place.shown}", mend="rename it")
    return found


def check_spelled(place: Place, table: str) -> None:
    """Whether a table is called by the name by which its loads are known: as in the catalog, without the usual schema.

    Raises:
        PlaceError: it is called otherwise there.
    """
    right = _SPELLED.setdefault(place, set())
    if table in right:  # for as long as the place is open here
        return
    schema, dot, name = table.rpartition(".")
    bare = name if dot and schema.casefold() == place.home().casefold() else table
    listed = place.tables()
    alike = table if table in listed else next((each for each in listed if each.casefold() == bare.casefold()), bare)
    spelled = bare if bare in listed else alike
    if spelled != table and (spelled in listed or bare != table):
        told = f"the table {table} is called {spelled} there"
        raise PlaceError(told, where=f"place {place.name}", mend=f'write table = "{spelled}" in the charter')
    if spelled in listed:
        right.add(table)


def holds(column: PlaceColumn, declared: Kind) -> bool:
    """Whether a place's column can only hold values of the declared kind."""
    have = column.kind
    if have is None or have.name != declared.name or not column.sure:
        return False
    if declared.name != "decimal":
        return True
    return have.scale <= declared.scale and have.digits - have.scale <= declared.digits - declared.scale


def compared_as(column: PlaceColumn, kind: Kind) -> bool:
    """Whether a place compares the values of a column as those of a kind."""
    have = column.kind.name if column.kind else ""
    return have == kind.name or kind.name in column.also or any({have, kind.name} <= alike for alike in _ALIKE)


def held_as(column: PlaceColumn, kind: Kind) -> bool:
    """Whether a place holds values as those of a kind, and not as texts that may be something else as well."""
    have = column.kind.name if column.kind else ""
    return compared_as(column, kind) and (have != "text" or kind.name == "text")


def comparable(column: PlaceColumn, kind: Kind) -> bool:
    """Whether values of a kind can be looked for in a column with one meaning everywhere: at worst, its texts are read.

    A real is next to other numbers, never sure to be one of them; what is true or false is not a number.
    """
    have = column.kind.name if column.kind else "text"
    return (
        compared_as(column, kind)
        or have == "text"
        or (kind.name == "text" and have in _AS_TEXT)
        or {have, kind.name} <= _MOMENTS
    )


def check_comparable(check: Check, kinds: Sequence[Kind], there: Mapping[str, PlaceColumn]) -> None:
    """See that the columns are there, and of kinds that can be compared.

    Raises:
        PlaceError: they are not.
    """
    assert check.listed_in is not None  # noqa: S101
    table, names = check.listed_in
    for name, kind, other in zip(check.columns, kinds, names, strict=True):
        if other not in there:
            raise PlaceError(f"{table} has no column '{other}'")
        if not comparable(there[other], kind):
            told = f"{name} is {kind}, and {table}.{other} is {there[other].kind}: such values cannot be compared"
            raise PlaceError(told)
