"""What a text is as a value of a kind, told slowly and a second time: written from docs/kinds.md, not from the program."""

from __future__ import annotations

import datetime
import math
import random
import re
import uuid
import zoneinfo
from dataclasses import replace
from decimal import Decimal
from typing import Any

from nomotheta.conditions import Kind
from nomotheta.layout import Layout

SIGNS = {"Y": "[0-9]{4}", "y": "[0-9]{2}", "m": "[0-9]{2}", "d": "[0-9]{2}", "H": "[0-9]{2}", "I": "[0-9]{2}", "M": "[0-9]{2}",
         "S": "[0-9]{2}", "f": "[0-9]{1,9}", "p": "(?:[aA][mM]|[pP][mM])", "-m": "[1-9][0-9]?", "-d": "[1-9][0-9]?",
         "-H": "[0-9]|[1-9][0-9]", "-I": "[1-9][0-9]?"}  # fmt: skip


class MisfitError(ValueError):
    """The text is no value of the kind."""


def value(text: str, kind: Kind, layout: Layout, zone: str = "UTC") -> Any:
    """The value; MisfitError where there is none."""
    found = _READERS[kind.name](text, kind, layout, zone)
    if found is None:
        raise MisfitError(text)
    return found


def _text(text: str, kind: Kind, _layout: Layout, _zone: str) -> Any:
    return None if "\0" in text or (kind.size and len(text) > kind.size) else text


def _number(text: str, layout: Layout, *, exponent: bool = False, whole: bool = False) -> str | None:
    """Plain digits with a point, or None."""
    sign, rest = (text[:1], text[1:]) if text[:1] in {"+", "-"} and text[:1] else ("", text)
    for prefix in sorted(layout.number_prefixes, key=len, reverse=True):
        if rest.startswith(prefix):
            rest = rest[len(prefix) :]
            break
    for suffix in sorted(layout.number_suffixes, key=len, reverse=True):
        if rest.endswith(suffix):
            rest = rest[: -len(suffix)]
            break
    sign_again, rest = (rest[:1], rest[1:]) if not sign and rest[:1] in {"+", "-"} and rest[:1] else ("", rest)
    point, thousands = re.escape(layout.decimal_sign), re.escape(layout.thousands_sign)
    digits = rf"[0-9]+|[1-9][0-9]{{0,2}}(?:{thousands}[0-9]{{3}})+" if thousands else "[0-9]+"
    fraction = "" if whole else rf"({point}[0-9]+)?"
    tail = "([eE][+-]?[0-9]+)?" if exponent else ""
    match = re.fullmatch(rf"({digits}){fraction}{tail}", rest) or (
        None if whole else re.fullmatch(rf"()({point}[0-9]+){tail}", rest)
    )
    if not match:
        return None
    if (
        tail
        and thousands
        and layout.thousands_sign in (match[1] or "")
        and match[match.lastindex or 0][:1] in {"e", "E"}
    ):
        return None
    parts = [part or "" for part in match.groups()]
    return (
        sign + sign_again + parts[0].replace(layout.thousands_sign or "\0", "") + "".join(parts[1:]).replace(",", ".")
    )


def _integer(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    plain = _number(text, layout, whole=True)
    if plain is None or len(plain.lstrip("+-0")) > 19:
        return None
    return (
        number
        if -(2**63) <= (number := int((plain[0] if plain[0] in "+-" else "") + "0" + plain.lstrip("+-0"))) < 2**63
        else None
    )


def _decimal(text: str, kind: Kind, layout: Layout, _zone: str) -> Any:
    plain = _number(text, layout)
    if plain is None:
        return None
    whole, _, fraction = plain.lstrip("+-").partition(".")
    whole, fraction = whole.lstrip("0"), fraction.rstrip("0")
    if len(whole) > kind.digits - kind.scale or len(fraction) > kind.scale:
        return None
    digits = tuple(map(int, whole + fraction.ljust(kind.scale, "0"))) or (0,)
    return Decimal((int(plain[0] == "-"), digits, -kind.scale))


def _real(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    plain = _number(text, layout, exponent=True)
    if plain is None:
        return None
    number = float(plain)
    vanished = number == 0 and any(digit in "123456789" for digit in re.split("[eE]", plain)[0])
    return number if math.isfinite(number) and not vanished else None


def _boolean(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    return True if text in layout.true_words else False if text in layout.false_words else None


def _uuid(text: str, _kind: Kind, _layout: Layout, _zone: str) -> Any:
    return str(uuid.UUID(text)) if re.fullmatch("[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}", text) else None


def _binary(text: str, _kind: Kind, _layout: Layout, _zone: str) -> Any:
    return bytes.fromhex(text) if re.fullmatch("([0-9a-fA-F]{2})*", text) else None


def _lower(text: str) -> str:
    return "".join(letter.lower() if letter.isascii() else letter for letter in text)


def _fields(text: str, form: str, layout: Layout) -> dict[str, Any] | None:
    """The fields of a text of a form, and its month."""
    pattern, signs = "", []
    for part in re.findall(r"%-?[A-Za-z]|%%|[^%]", form):
        sign = part[1:]
        if part == "%%" or part[0] != "%":
            pattern += re.escape(part[-1])
            continue
        words = {"b": layout.months_short, "B": layout.months}.get(sign)
        signs.append(sign)
        pattern += f"((?i:{'|'.join(map(re.escape, words))}))" if words else f"({SIGNS[sign]})"
    match = re.fullmatch(pattern, text, re.ASCII)
    if not match:
        return None
    found: dict[str, Any] = {}
    for sign, written in zip(signs, match.groups(), strict=True):
        if sign in {"b", "B"}:
            words = layout.months_short if sign == "b" else layout.months
            found["m"] = [_lower(word) for word in words].index(_lower(written)) + 1
        elif sign == "f":
            if written[6:].strip("0"):
                return None
            found["f"] = int(written[:6].ljust(6, "0"))
        else:
            found[sign.removeprefix("-")] = written.lower() if sign == "p" else int(written)
    return found


def _moment_of(text: str, form: str, layout: Layout) -> datetime.datetime | None:
    found = _fields(text, form, layout)
    if found is None:
        return None
    if "y" in found:
        first = layout.two_digit_years_from or 0
        found["Y"] = next(year for year in range(first, first + 100) if year % 100 == found["y"])
    hour = found.get("H", 0)
    if "I" in found:
        if not 1 <= found["I"] <= 12:
            return None
        hour = found["I"] % 12 + 12 * (found.get("p") == "pm")
    rest = (found.get("M", 0), found.get("S", 0), found.get("f", 0))
    late = layout.midnight_24 and hour == 24 and rest == (0, 0, 0)
    try:
        day = datetime.datetime(found.get("Y", 1970), found.get("m", 1), found.get("d", 1), 0 if late else hour, *rest)
        return day + datetime.timedelta(days=1) if late else day
    except (ValueError, OverflowError):
        return None


def _first(text: str, forms: list[str], layout: Layout) -> datetime.datetime | None:
    return next((found for form in forms if (found := _moment_of(text, form, layout)) is not None), None)


def _date(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    found = _first(text, layout.date_forms, layout)
    return found and found.date()


def _time(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    found = _first(text, layout.time_forms, replace(layout, midnight_24=False))
    return found and found.time()


def _timestamp(text: str, _kind: Kind, layout: Layout, _zone: str) -> Any:
    return _first(text, layout.timestamp_forms, layout)


def _timestamptz(text: str, _kind: Kind, layout: Layout, zone: str) -> Any:
    local = _first(text, layout.timestamp_forms, layout)
    if local is not None:
        there = local.replace(tzinfo=zoneinfo.ZoneInfo(zone))
        try:
            back = there.astimezone(datetime.UTC).astimezone(there.tzinfo).replace(tzinfo=None)
            return there.astimezone(datetime.UTC) if back == local else None  # the clocks skip it
        except OverflowError:
            return None
    match = re.fullmatch(r"(.*?) ?(?:(Z)|([+-])(0[0-9]|1[0-5]):?([0-5][0-9]))", text, re.DOTALL | re.ASCII)
    local = _first(match[1], layout.timestamp_forms, layout) if match else None
    if match is None or local is None:
        return None
    east = datetime.timedelta(hours=int(match[4] or 0), minutes=int(match[5] or 0))
    try:
        return (local + east if match[3] == "-" else local - east).replace(tzinfo=datetime.UTC)
    except OverflowError:
        return None


_READERS = {
    "text": _text, "integer": _integer, "decimal": _decimal, "real": _real, "boolean": _boolean, "uuid": _uuid,
    "binary": _binary, "date": _date, "time": _time, "timestamp": _timestamp, "timestamptz": _timestamptz,
}  # fmt: skip

_SEEDS = {
    "text": ["ab", "äöü", "a\0b", "", " ", "日本", "\U0001f6a2"],
    "integer": ["0", "7", "-12", "+3", "007", "9223372036854775807", "9223372036854775808", "-9223372036854775808",
                "1234567", "1.234", "1,234", "9" * 40, "0" * 5000 + "1", "1 000", "€5", "5%"],
    "decimal": ["0", "12.5", "-.5", "1,5", "3.1000", "7" * 37, "9" * 129, "1.1" + "0" * 42, "0." + "0" * 40 + "1", "1.234,5",
                "1234.567", "99999999999999999999999999999999999999", "-0.00", "0" * 60 + "1.5", "€5,00", "12345678901234567.8",
                "9999999999999999.99", "922337203685477580.7", "170141183460469231731687303715884105728"],
    "real": ["1.5", "2,5", "1e3", "1e00005", "1.234,5", "abc.def", "1e999", "-1e-400", "0e-999", "5e-324", "1.7976931348623157e308",
             "0.1", "nan", "inf", "+.5E+2", "1" * 400, "0." + "0" * 400 + "1", "123456789012345678901234567890"],
    "boolean": ["true", "false", "TRUE", "1", "yes", ""],
    "uuid": ["6F9619FF-8B86-D011-B42D-00C04FC964FF", "6f9619ff8b86d011b42d00c04fc964ff"],
    "binary": ["00ff", "0", "", "zz", "FF" * 40],
    "date": ["2026-06-01", "31.06.2026", "2024-02-29", "0000-01-01", "9999-12-31", "0001-01-01", "1 June 2026", "01 MAY 2026", "1.6.26",
             "20260601", "ABCD-01-01", "ABCD0101", "~~~~0101", "29.02.1900"],
    "time": ["10:20", "23:59:59", "23:59:60", "24:00:00", "12:05 am", "1:05 PM", "10:20:30.5", "10:20:30.123456789", "00:00:00"],
    "timestamp": ["2026-06-01 10:20:30", "9999-12-31 24:00:00", "2026-06-01T24:00:00", "2026-06-01 10:20", "01 Jun 2026 12:00 PM",
                  "2026-06-01 10:20:30.123456000", "2026-06-01 10:20:30.1234567", "0001-01-01 00:00:00"],
}  # fmt: skip
_SEEDS["timestamptz"] = [text + zone for text in [*_SEEDS["timestamp"], "2026-03-29 01:30:00", "2026-10-25 01:30:00"]
                         for zone in ("", "Z", " Z", "+02:00", "-0330", " +1559", "+16:00", "\nZ")]  # fmt: skip
_LETTERS = "0123456789.,-+:T /eEZ%€'_\n\0aAé"


def texts(kind: str, count: int, chance: random.Random) -> list[str]:
    """Texts that are values of a kind, or close to such."""
    found = list(_SEEDS[kind])
    while len(found) < count:
        text = chance.choice(_SEEDS[kind])
        if kind in {"integer", "decimal", "real"} and chance.random() < 0.4:
            digits = "".join(chance.choices("0123456789", k=chance.randint(1, chance.choice([3, 9, 20, 45]))))
            at = chance.randint(0, len(digits))
            text = chance.choice(["", "", "-", "+"]) + digits[:at] + chance.choice(["", ".", ","]) + digits[at:]
        elif kind in {"date", "timestamp", "timestamptz", "time"} and chance.random() < 0.4:
            text = re.sub("[0-9]", lambda _: chance.choice("0123"), text)
        for _ in range(chance.choice([0, 0, 1, 1, 2])):
            at = chance.randint(0, len(text))
            text = text[:at] + chance.choice(["", chance.choice(_LETTERS)]) + text[at + chance.randint(0, 1) :]
        found.append(text)
    return found
