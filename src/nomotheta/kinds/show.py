"""Values as people read them."""

from __future__ import annotations

import datetime
from decimal import Decimal
from typing import Any


def show(value: Any) -> str | None:
    """A value as text: ISO 8601 moments, plain decimals, true and false; None for null."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, datetime.datetime):
        if value.tzinfo is not None:
            value = value.astimezone(datetime.UTC)
        text: str = value.isoformat(" ", "microseconds" if value.microsecond else "seconds")
        return text.replace("+00:00", "Z")
    return value.hex() if isinstance(value, bytes) else str(value)
