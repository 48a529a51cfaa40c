"""What the documents of linked data have in common: names as URIs, and JSON."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import quote


def uri(*parts: object) -> str:
    """A name of ours as a URN, whatever characters it has."""
    return "urn:nomotheta:" + ":".join(quote(str(part), safe="", errors="replace") for part in parts)


def document(prefixes: Mapping[str, str], nodes: Sequence[Mapping[str, Any]]) -> bytes:
    """JSON-LD 1.1: the prefixes that are used, and the nodes."""
    made = {"@context": dict(prefixes), "@graph": list(nodes)}
    return (json.dumps(made, ensure_ascii=False, indent=1) + "\n").encode("utf-8", "replace")


def typed(value: object, sort: str) -> dict[str, str]:
    """A value with its type of XML Schema."""
    return {"@value": str(value), "@type": f"xsd:{sort}"}
