"""One JSON object (RFC 8259) read exactly: the slow way, which says what is wrong where the kernel only says that."""

from __future__ import annotations

import json
import re
from collections.abc import Collection
from typing import Any

DEEPEST = 500
_SPACE = re.compile(r"[ \t\r\n]*")
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')


class FaultError(ValueError):
    """A line that is not an object, or one that does not fit; `reason` is its code."""

    def __init__(self, reason: str, message: str) -> None:
        super().__init__(message)
        self.reason, self.message = reason, message


def _no_constant(word: str) -> Any:
    raise json.JSONDecodeError(f"{word} is not JSON", word, 0)


_DECODER = json.JSONDecoder(parse_constant=_no_constant, parse_int=str, parse_float=str)
Member = tuple[str | None, str | None]  # a text, or another value as it is written; neither where it is null


def members_of(line: str, wanted: Collection[str] | None = None) -> dict[str, Member]:
    """The members of the object in a line.

    Args:
        line: one object, with nothing but white space around it.
        wanted: the names that are wanted; None for all. Of others nothing is held against the object.

    Raises:
        FaultError: it is not an object, has a wanted member twice, or half a character in a text.
    """
    at = _past(line, 0)
    if not line.startswith("{", at):
        raise FaultError("no_object", _told(line))
    found: dict[str, Member] = {}
    at = _past(line, at + 1)
    if line.startswith("}", at):
        at += 1
    else:
        while True:
            name, at = _name(line, at)
            start = at = _past(line, at)
            at = _value(line, at)
            if wanted is None or name in wanted:
                if name in found:
                    raise FaultError("member_twice", f"has the member '{name}' twice")
                found[name] = _member(line[start:at])
            at = _past(line, at)
            if line.startswith("}", at):
                at += 1
                break
            if not line.startswith(",", at):
                raise _wrong(line, "a comma or the end of the object is expected", at)
            at = _past(line, at + 1)
    if _past(line, at) < len(line):
        raise _wrong(line, "something follows after the object", at)
    return found


def _past(line: str, at: int) -> int:
    """The next place that is not white space."""
    match = _SPACE.match(line, at)
    return match.end() if match else at


def _name(line: str, at: int) -> tuple[str, int]:
    if not line.startswith('"', at):
        raise _wrong(line, "a name in double quotes is expected", at)
    try:
        name, at = _DECODER.raw_decode(line, at)
    except ValueError as error:
        raise _wrong(line, str(error).split(":")[0], getattr(error, "pos", at)) from None
    _whole(name)
    at = _past(line, at)
    if not line.startswith(":", at):
        raise _wrong(line, "a colon is expected behind a name", at)
    return name, at + 1


def _value(line: str, at: int) -> int:
    """Where the value that begins here ends."""
    try:
        value, end = _DECODER.raw_decode(line, at)
    except RecursionError:
        raise FaultError("no_object", f"is nested more than {DEEPEST} deep") from None
    except ValueError as error:
        raise _wrong(line, str(error).split(":")[0], getattr(error, "pos", at) or at) from None
    raw = line[at:end]
    if raw[0] in "{[" and _depth(raw) > DEEPEST:
        raise FaultError("no_object", f"is nested more than {DEEPEST} deep")
    if "\\u" in raw:
        _whole(json.dumps(value, ensure_ascii=False))
    return end


def _depth(raw: str) -> int:
    depth = deepest = 0
    for sign in re.findall(r"[\[\]{}]", _STRING.sub("", raw)):
        depth += 1 if sign in "[{" else -1
        deepest = max(deepest, depth)
    return deepest


def _whole(text: str) -> None:
    try:
        text.encode()
    except UnicodeEncodeError:
        raise FaultError("no_object", "holds half a character (a lone surrogate)") from None


def _member(raw: str) -> Member:
    if raw.startswith('"'):
        return str(json.loads(raw)), None
    return None, (None if raw == "null" else raw)


def _told(line: str) -> str:
    """What a line that is not an object is."""
    try:
        value = json.loads(line, parse_constant=_no_constant)
    except (ValueError, RecursionError) as error:
        return str(_wrong(line, str(error).split(":")[0], getattr(error, "pos", 0)))
    sort = {list: "an array", str: "a text", bool: "true or false", type(None): "null"}.get(type(value), "a number")
    return f"is JSON, but not an object: it is {sort}"


def _wrong(line: str, what: str, at: int) -> FaultError:
    return FaultError("no_object", f"is not JSON ({what}, character {min(at, len(line)) + 1})")
