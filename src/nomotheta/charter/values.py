"""Values as TOML writes them, held to a kind: nothing is cut, rounded or shifted on the way into a constant."""

from __future__ import annotations

import datetime
import math
import re
import uuid
import zoneinfo
from decimal import Decimal
from typing import Any

from nomotheta.conditions import Kind

EXAMPLES = {
    "text": '"foot"', "integer": "7", "decimal": "12.50", "real": "0.5", "boolean": "true", "date": "2026-12-31",
    "time": "23:59:00", "timestamp": "2026-12-31T23:59:00", "timestamptz": "2026-12-31T23:59:00Z",
    "uuid": '"6f9619ff-8b86-d011-b42d-00c04fc964ff"', "binary": '"00ff"',
}  # fmt: skip
_UUID = r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}"
_PLAIN = r"[+-]?([0-9]+(\.[0-9]+)?|\.[0-9]+)"


def value_of(kind: Kind, raw: Any) -> Any:
    """A TOML value as a value of `kind`: str, int, Decimal, float, bool, bytes, UUID, date, time or datetime.

    Floats are read as decimals, with every digit that the file has (`nomotheta.charter.read`).

    Raises:
        ValueError: it does not fit.
    """
    made = _number(kind, raw) if kind.is_number else _other(kind, raw)
    if made is None:
        raise ValueError(f"{_shown(raw)} does not fit {kind}")
    return made


def _shown(raw: Any) -> str:
    return str(raw) if isinstance(raw, Decimal | datetime.date | datetime.time) else repr(raw)


def _number(kind: Kind, raw: Any) -> Any:
    if isinstance(raw, bool) or not isinstance(raw, int | float | Decimal | str):
        return None
    if isinstance(raw, str) and (kind.name != "decimal" or not re.fullmatch(_PLAIN, raw, re.ASCII)):
        return None
    value = Decimal(str(raw)) if isinstance(raw, float | str) else Decimal(raw)
    if not value.is_finite():
        return None
    if kind.name == "real":
        number = float(value)
        return number if math.isfinite(number) and (number or not value) else None
    sign, digits, exponent = value.as_tuple()
    whole, fraction = _halves(digits, int(exponent))
    if kind.name == "integer":
        number = int(value) if len(whole) < 20 else 2**64
        return number if not fraction and -(2**63) <= number < 2**63 else None
    if len(fraction) > kind.scale:
        raise ValueError(f"{_shown(raw)} has more than the {kind.scale} decimal places of {kind}")
    if len(whole) > kind.digits - kind.scale:
        raise ValueError(f"{_shown(raw)} has more digits than {kind} holds")
    padded = tuple(map(int, whole + fraction.ljust(kind.scale, "0"))) or (0,)
    return Decimal((sign, padded, -kind.scale))


def _halves(digits: tuple[int, ...], exponent: int) -> tuple[str, str]:
    """The digits before the point and those behind it, without zeros at their outer ends."""
    text = "".join(map(str, digits)).lstrip("0")
    if not text or exponent >= 0:
        return text + "0" * min(exponent, 64) * bool(text), ""
    behind = text.rjust(min(-exponent, len(text) + 64), "0")
    cut = len(behind) + max(exponent, -len(behind))
    return behind[:cut].lstrip("0"), behind[cut:].rstrip("0")


def _other(kind: Kind, raw: Any) -> Any:
    if kind.name == "text" and isinstance(raw, str):
        if "\0" in raw:
            raise ValueError(f"{raw!r} holds a NUL character, which texts in SQL cannot")
        if kind.size is not None and len(raw) > kind.size:
            raise ValueError(f"{raw!r} has {len(raw)} characters; {kind} holds {kind.size}")
        return raw
    if kind.name == "boolean" and isinstance(raw, bool):
        return raw
    if kind.name == "uuid" and isinstance(raw, str) and re.fullmatch(_UUID, raw):
        return uuid.UUID(raw)
    if kind.name == "binary" and isinstance(raw, str) and re.fullmatch("([0-9a-fA-F]{2})*", raw):
        return bytes.fromhex(raw)
    return _moment(kind, raw)


def _moment(kind: Kind, raw: Any) -> Any:
    types: dict[str, Any] = {
        "date": datetime.date, "time": datetime.time, "timestamp": datetime.datetime, "timestamptz": datetime.datetime
    }  # fmt: skip
    wanted = types.get(kind.name)
    if wanted is None:
        return None
    if isinstance(raw, str):
        try:
            raw = wanted.fromisoformat(raw)
        except ValueError:
            return None
    if type(raw) is not wanted:
        return None
    zoned = getattr(raw, "tzinfo", None) is not None
    return None if zoned and kind.name != "timestamptz" else raw


def instant(kind: Kind, value: Any, zone: str) -> Any:
    """A value of `kind`, an instant in UTC: one that names no zone is a local time of `zone`. Others are as they are.

    Raises:
        ValueError: in UTC it is before the year 1, or after 9999.
    """
    if kind.name != "timestamptz" or not isinstance(value, datetime.datetime):
        return value
    try:
        known = value if value.tzinfo else value.replace(tzinfo=zoneinfo.ZoneInfo(zone))
        return known.astimezone(datetime.UTC)
    except OverflowError:
        raise ValueError(f"{value} is not a moment in the years 1 to 9999 in UTC") from None
