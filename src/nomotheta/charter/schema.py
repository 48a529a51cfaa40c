"""The JSON Schemas (2020-12) of what is declared, for editors to complete and check it; made from the models."""

from __future__ import annotations

from typing import Any

from nomotheta.charter.comparison import ComparisonKeys
from nomotheta.charter.model import Charter
from nomotheta.charter.settings import Settings

DIALECT = "https://json-schema.org/draft/2020-12/schema"
_SHARED = ("columns", "keys", "references", "rules", "excused")


def declared_schemas() -> dict[str, dict[str, Any]]:
    """Those of a charter, of what charters share, of `nomotheta.toml`, and of a comparison, by their names."""
    charter, settings = (_plain(model.model_json_schema(by_alias=True)) for model in (Charter, Settings))
    known = charter["properties"]
    shared = {name: known[name] for name in _SHARED}
    shared |= {"tables": {"type": "array", "items": {"type": "string"}}, "layouts": settings["properties"]["layouts"]}
    whole = {**charter, "title": "Shared", "description": "Declarations that many charters share.", "required": []}
    whole |= {"properties": shared, "$defs": charter["$defs"] | settings["$defs"]}
    comparison = _plain(ComparisonKeys.model_json_schema(by_alias=True)) | {"title": "Comparison"}
    known_schemas = {"charter": charter, "shared": whole, "settings": settings, "comparison": comparison}
    return {name: {"$schema": DIALECT, **schema} for name, schema in known_schemas.items()}


def _plain(schema: dict[str, Any]) -> dict[str, Any]:
    """Without the defaults that are tables, and the titles that only repeat a key."""
    kept: dict[str, Any] = {}
    for key, value in schema.items():
        if key == "default" and isinstance(value, dict | list):
            continue
        if key == "properties":
            kept[key] = {name: _plain({k: v for k, v in each.items() if k != "title"}) for name, each in value.items()}
        elif isinstance(value, dict):
            kept[key] = _plain(value)
        elif isinstance(value, list):
            kept[key] = [_plain(each) if isinstance(each, dict) else each for each in value]
        else:
            kept[key] = value
    return kept
