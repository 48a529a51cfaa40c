"""Columns of a Delta table: their types, the kinds that these stand for, and the types that kinds become.

What a type alone does not say, a column's metadata does: the size of a text as Spark notes it, and our kinds that Delta
has no type for (a time of day and a UUID are strings there).
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.conditions import Kind, decimal
from nomotheta.frozen import frozen
from nomotheta.place.base import PlaceColumn
from nomotheta.place.limits import Limits

KIND, _SIZED = "nomotheta.kind", "__CHAR_VARCHAR_TYPE_STRING"
_PHYSICAL, _GENERATED = "delta.columnMapping.physicalName", "delta.generationExpression"
_KINDS = {
    "long": "integer", "integer": "integer", "short": "integer", "byte": "integer", "double": "real", "float": "real",
    "boolean": "boolean", "date": "date", "timestamp": "timestamptz", "timestamp_ntz": "timestamp", "string": "text",
    "binary": "binary",
}  # fmt: skip
_TYPES = {
    "integer": "long", "real": "double", "boolean": "boolean", "date": "date", "timestamptz": "timestamp",
    "timestamp": "timestamp_ntz", "text": "string", "binary": "binary", "uuid": "string", "time": "string",
}  # fmt: skip
_ENGINE = {
    "long": "BIGINT", "integer": "INTEGER", "short": "SMALLINT", "byte": "TINYINT", "double": "DOUBLE",
    "float": "FLOAT", "boolean": "BOOLEAN", "date": "DATE", "timestamp": "TIMESTAMP WITH TIME ZONE",
    "timestamp_ntz": "TIMESTAMP", "string": "VARCHAR", "binary": "BLOB",
}  # fmt: skip
_BITS = {"byte": 8, "short": 16, "integer": 32}


@frozen
class Field:
    """A column of a Delta table: its name, the one that it has in files, its type as the log says it, its metadata."""

    name: str
    physical: str
    type_name: str
    nullable: bool
    metadata: Mapping[str, Any]

    @property
    def kind(self) -> Kind | None:
        """The kind that its values are of; None for a type that no kind stands for."""
        noted = self.metadata.get(KIND)
        if self.type_name == "string" and noted in {"uuid", "time"}:
            return Kind(noted)
        sized = re.fullmatch(r"(?:var)?char\((\d+)\)", str(self.metadata.get(_SIZED, "")))
        if self.type_name == "string" and sized:
            return Kind("text", int(sized[1]))
        digits = re.fullmatch(r"decimal\((\d+),(\d+)\)", self.type_name)
        if digits:
            return decimal(int(digits[1]), int(digits[2]))
        return Kind(_KINDS[self.type_name]) if self.type_name in _KINDS else None

    @property
    def engine_type(self) -> str | None:
        """The type that the embedded engine reads it as; None where it is left as the engine finds it."""
        if self.kind is not None and self.kind.name in {"uuid", "time"}:
            return self.kind.name.upper()
        digits = re.fullmatch(r"decimal\((\d+),(\d+)\)", self.type_name)
        return f"DECIMAL({digits[1]},{digits[2]})" if digits else _ENGINE.get(self.type_name)

    @property
    def generated(self) -> bool:
        """Whether whoever writes has to work its values out, or number them."""
        return any(key == _GENERATED or key.startswith("delta.identity.") for key in self.metadata)

    def column(self) -> PlaceColumn:
        """As a place tells of it."""
        bits = _BITS.get(self.type_name)
        bounds = (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1) if bits else None
        limits = Limits(nulls=self.nullable, single=self.type_name == "float", bounds=bounds)
        noted = f" ({self.kind})" if self.type_name == "string" and self.kind != Kind("text") else ""
        return PlaceColumn(self.name, self.type_name + noted, self.kind, self.nullable, limits=limits)


def fields_of(schema_json: str) -> list[Field]:
    """The columns of a schema as the log has it (Delta's protocol, "Schema Serialization Format")."""
    found = []
    for each in json.loads(schema_json)["fields"]:
        of, metadata = each["type"], each.get("metadata") or {}
        shown = of if isinstance(of, str) else str(of.get("type"))
        physical = metadata.get(_PHYSICAL, each["name"])
        found.append(Field(each["name"], physical, shown, bool(each["nullable"]), metadata))
    return found


def schema_of(columns: Mapping[str, Kind]) -> str:
    """The schema of a new table, as the log has it."""
    return schema_json([(name, delta_type(kind), True, _noted(kind)) for name, kind in columns.items()])


def schema_json(fields: Sequence[tuple[str, Any, bool, Mapping[str, Any]]]) -> str:
    """Name, type, whether null may be in it, and metadata of columns, as the log has them."""
    listed = [
        {"name": name, "type": of, "nullable": nullable, "metadata": dict(noted)}
        for name, of, nullable, noted in fields
    ]
    return json.dumps({"type": "struct", "fields": listed})


def delta_type(kind: Kind) -> str:
    """The type that a kind becomes."""
    return f"decimal({kind.size},{kind.scale})" if kind.name == "decimal" else _TYPES[kind.name]


def _noted(kind: Kind) -> dict[str, str]:
    if kind.name == "text" and kind.size:
        return {_SIZED: f"varchar({kind.size})"}
    return {KIND: kind.name} if kind.name in {"uuid", "time"} else {}
