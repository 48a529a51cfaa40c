"""What the files of a table say of themselves, held against what its log says of its columns.

A writer may put other values into a file than the log speaks of: reals where it says decimals, moments where it says
days. Read as the log says, they would be rounded, and nobody would know. So the footer of every file is looked at, and
a column may differ from the log only in the ways in which Delta's protocol lets types be widened, which lose nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from nomotheta.errors import PlaceError
from nomotheta.place.delta.snapshot import LakeFile, Snapshot
from nomotheta.place.delta.types import Field
from nomotheta.place.render import text_literal

_WHOLE = {"TINYINT": 8, "SMALLINT": 16, "INTEGER": 32, "BIGINT": 64}
_DIGITS = {"TINYINT": 3, "SMALLINT": 5, "INTEGER": 10, "BIGINT": 19}
_EXACT_IN_DOUBLE = 32  # bits
_OTHERS = {
    "double": {"DOUBLE", "FLOAT"}, "float": {"FLOAT"}, "boolean": {"BOOLEAN"}, "date": {"DATE"},
    "timestamp": {"TIMESTAMP WITH TIME ZONE", "INT96"}, "timestamp_ntz": {"TIMESTAMP", "DATE"},
    "string": {"VARCHAR", "ENUM", "JSON"}, "binary": {"BLOB"},
}  # fmt: skip
_BITS = {"byte": 8, "short": 16, "integer": 32, "long": 64}
_SHAPES = """
SELECT shape, list(file) FROM (
    SELECT file_name AS file, list({'name': name, 'children': coalesce(num_children, 0), 'of': CASE
        WHEN type = 'INT96' THEN 'INT96' WHEN logical_type LIKE '%NanoSeconds%' THEN 'nanoseconds'
        ELSE duckdb_type END} ORDER BY column_id) AS shape
    FROM parquet_schema([{}]) GROUP BY file_name
) GROUP BY shape"""
_AT_ONCE = 1000  # files


class Footers:
    """The columns of the files that were looked at; each file is looked at once, for nobody changes one."""

    def __init__(self, run: Callable[[str], Sequence[Any]]) -> None:
        self._run = run
        self._seen: dict[str, frozenset[str]] = {}

    def absent(self, snapshot: Snapshot, files: Iterable[LakeFile]) -> frozenset[str]:
        """The columns that none of some files has: they were added since.

        Raises:
            PlaceError: a file has a column of a type whose values are not those that the log speaks of.
        """
        at = {snapshot.store.engine_path(f"{snapshot.folder}/{file.path}"): file for file in files}
        new = [path for path in at if path not in self._seen]
        for first in range(0, len(new), _AT_ONCE):
            listed = ", ".join(map(text_literal, new[first : first + _AT_ONCE]))
            for shape, paths in self._run(_SHAPES.replace("[{}]", f"[{listed}]")):
                columns = _top(shape)
                _check(snapshot, columns, at[paths[0]].path)
                names = frozenset(name.casefold() for name in columns)
                self._seen.update(dict.fromkeys(paths, names))
        there = frozenset[str]().union(*{self._seen[path] for path in at})
        return frozenset(field.physical for field in snapshot.fields if field.physical.casefold() not in there)


def _top(shape: Sequence[Any]) -> dict[str, str]:
    """The columns of a file and their types in the engine's words: of all elements those that are part of no other."""
    found: dict[str, str] = {}
    inside = 0
    for element in shape[1:]:  # the first is the whole
        if not inside:
            found[element["name"]] = element["of"]
        inside += element["children"] - (1 if inside else 0)
    return found


def _check(snapshot: Snapshot, columns: dict[str, str], path: str) -> None:
    types = {name.casefold(): of for name, of in columns.items()}
    if len(types) < len(columns):
        raise PlaceError(f"a file of the table has two columns that differ by case alone: {path}", where=snapshot.where,
                         mend="have the table written anew")  # fmt: skip
    for field in snapshot.fields:
        of = types.get(field.physical.casefold())
        if of is not None and not fits(field, of):
            raise PlaceError(
                f"a file of the table holds {of} in '{field.name}', and the log says {field.type_name}: {path}",
                where=snapshot.where,
                mend="have the file written anew by the engine that wrote it, or go back to an older version",
            )  # fmt: skip


def fits(field: Field, of: str) -> bool:
    """Whether every value of a type of the engine is one of a column's, as it is (Delta protocol, "Type Widening")."""
    of = of.partition("(")[0] if of.startswith("ENUM(") else of
    bits = _WHOLE.get(of)
    if field.type_name in _BITS:
        return bits is not None and bits <= _BITS[field.type_name]
    wanted = re.fullmatch(r"decimal\((\d+),(\d+)\)", field.type_name)
    if wanted:
        digits, scale = int(wanted[1]), int(wanted[2])
        had = re.fullmatch(r"DECIMAL\((\d+),(\d+)\)", of)
        if had:
            return int(had[2]) <= scale and int(had[1]) - int(had[2]) <= digits - scale
        return of in _DIGITS and _DIGITS[of] <= digits - scale
    if field.type_name == "double" and bits is not None:
        return bits <= _EXACT_IN_DOUBLE
    return field.type_name not in _OTHERS or of in _OTHERS[field.type_name]
