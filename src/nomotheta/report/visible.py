"""Values from data made harmless to show."""

from __future__ import annotations

from typing import Any


def visible(value: Any) -> str:
    """A value from data with its control characters made visible."""
    text = str(value)
    return "".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in text)
