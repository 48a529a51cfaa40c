"""What a charter declares, as a document that is kept with each load, and in which keys two of them differ."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import fields
from typing import Any

from nomotheta.charter.compiled import Compiled
from nomotheta.layout import Layout

_USUAL = Layout()
_TOLD_ONLY = {"about", "owners", "because"}  # keys that say something to people, and nothing to a load


def declared(compiled: Compiled) -> dict[str, Any]:
    """The keys that are written in a charter, and of its layout those that are not as usual."""
    document: dict[str, Any] = compiled.charter.model_dump(
        mode="json", by_alias=True, exclude_unset=True, exclude={"delivery": {"layout"}}
    )
    own = {each.name: getattr(compiled.layout, each.name) for each in fields(Layout)}
    layout = {name: value for name, value in own.items() if value != getattr(_USUAL, name)}
    if layout:
        document["delivery"] = (document.get("delivery") or {}) | {"layout": layout}
    return document


def version_of(document: Mapping[str, Any]) -> str:
    """What a charter is known by: it changes with every key that means something to a load."""
    text = json.dumps(dict(_keys(document)), sort_keys=True, default=str)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def changed_keys(before: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """The keys in which two charters differ, as a charter writes them."""
    old, new = dict(_keys(before)), dict(_keys(now))
    missing = object()
    return [name for name in {**old, **new} if old.get(name, missing) != new.get(name, missing)]


def _keys(document: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """All values by their keys; those that only people read are left out."""
    parts = document.items() if isinstance(document, Mapping) else enumerate(document, 1)
    for key, value in parts:
        if key in _TOLD_ONLY:
            continue
        name = f"{path}.{key}" if path and isinstance(key, str) else f"{path}[{key}]" if path else str(key)
        if isinstance(value, Mapping) or (isinstance(value, list) and any(isinstance(each, Mapping) for each in value)):
            yield from _keys(value, name)
        else:
            yield name, value
