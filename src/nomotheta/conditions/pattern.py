r"""The patterns that mean the same in RE2, in PostgreSQL, in PCRE2 and in Python.

`.` is any character but a newline; `\d`, `\w` and `\s` are ASCII; `^` stands only first and `$` only last.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import NoReturn

from nomotheta.frozen import frozen

_CLASSES = {"d": [(48, 57)], "w": [(48, 57), (65, 90), (95, 95), (97, 122)], "s": [(9, 13), (32, 32)]}
_CONTROLS = {"t": 9, "n": 10, "r": 13, "f": 12, "v": 11}
_ESCAPABLE = frozenset(".*+?()[]{}|^$\\/-\"'#&~ @%:,;<>=!_`")
_MOST_STATES, _DEEPEST, _MOST_COUNT = 1000, 20, 255
_QUANTIFIER = {"*": (0, None), "+": (1, None), "?": (0, 1)}
_FEW = 4  # characters
_ASCII, _RUNS, _LONG = 127, 4, 6  # the greatest code, sets of a pattern, and characters that it matches in all
_LAST = {"re2": "$", "python": r"\Z", "postgresql": "$", "pcre": r"\z", "java": r"\z"}


class PatternError(ValueError):
    """A pattern outside the common set; `position` counts characters from 0."""

    def __init__(self, what: str, position: int) -> None:
        super().__init__(what)
        self.position = position


@frozen
class Part:
    """A part of a pattern: set (of code ranges), repeat, group, sequence, either, first, last."""

    sort: str
    parts: tuple[Part, ...] = ()
    ranges: tuple[tuple[int, int], ...] = ()
    negative: bool = False
    count: tuple[int, int | None] = (1, 1)

    def states(self) -> int:
        """How many characters it can count to, which engines limit."""
        own = sum(part.states() for part in self.parts) or 1
        return own * max(1, self.count[0], self.count[1] or 0)


def parse_pattern(text: str) -> Part:
    """Read a pattern.

    Raises:
        PatternError: it is outside the common set, with the position and the mend.
    """
    if not text:
        raise PatternError("is empty", 0)
    parser = _Parser(text)
    part = parser.either(0)
    if parser.at < len(text):
        parser.fail("has ) without (")
    if part.states() > _MOST_STATES:
        raise PatternError(f"counts up to more than {_MOST_STATES} characters", 0)
    return part


def in_any_case(part: Part) -> Part:
    """The same pattern for ASCII letters of either case; others are matched as they are."""
    parts = tuple(in_any_case(each) for each in part.parts)
    ranges = list(part.ranges)
    for first, last in part.ranges:
        for low, high, shift in ((65, 90, 32), (97, 122, -32)):
            if max(first, low) <= min(last, high):
                ranges.append((max(first, low) + shift, min(last, high) + shift))
    return replace(part, parts=parts, ranges=_merged(ranges) if part.ranges else ())


def render_pattern(part: Part, engine: str = "re2", *, full: bool = False) -> str:
    """The text of a pattern for an engine: re2, python, postgresql, pcre or java; `full` matches whole values only."""
    body = _render(part, _LAST[engine])
    return f"^(?:{body}){_LAST[engine]}" if full else body


@dataclass(slots=True)
class _Parser:
    text: str
    at: int = 0
    ranges: list[tuple[int, int]] = field(default_factory=list)

    def fail(self, what: str, at: int | None = None) -> NoReturn:
        raise PatternError(what, self.at if at is None else at)

    @property
    def here(self) -> str:
        return self.text[self.at : self.at + 1]

    def either(self, depth: int) -> Part:
        if depth > _DEEPEST:
            self.fail("is nested too deeply")
        branches = [self.sequence(depth)]
        while self.here == "|":
            self.at += 1
            branches.append(self.sequence(depth))
        return branches[0] if len(branches) == 1 else Part("either", tuple(branches))

    def sequence(self, depth: int) -> Part:
        start, parts = self.at, []
        while self.here and self.here not in "|)":
            edge = self.edge(depth, start)
            parts.append(edge or self.counted(self.atom(depth)))
        edges = [part for part in parts if part.sort in {"first", "last"}]
        unclosed = depth and not self.here  # which the group says better
        if len(parts) == len(edges) and (depth or len(parts) < 2) and not unclosed:
            self.fail("has an empty branch", start)
        return Part("sequence", tuple(parts))

    def edge(self, depth: int, start: int) -> Part | None:
        if self.here == "^":
            if depth or self.at != start:
                self.fail("has ^ elsewhere than first")
            self.at += 1
            return Part("first")
        if self.here == "$":
            if depth or self.text[self.at + 1 : self.at + 2] not in {"", "|"}:
                self.fail("has $ elsewhere than last")
            self.at += 1
            return Part("last")
        return None

    def atom(self, depth: int) -> Part:
        character = self.here
        if character == "(":
            return self.group(depth)
        if character == "[":
            return self.bracket()
        if character == "\\":
            return self.escaped()
        if character in "*+?":
            self.fail(f"has '{character}' with nothing before it")
        if character in "{}]":
            self.fail(f"has a bare '{character}'; write \\{character}")
        self.at += 1
        if character == ".":
            return Part("set", ranges=((10, 10),), negative=True)
        return Part("set", ranges=((ord(character), ord(character)),))

    def group(self, depth: int) -> Part:
        start = self.at
        self.at += 1
        if self.text.startswith("?:", self.at):
            self.at += 2
        elif self.here == "?":
            self.fail("has (?...), which not every database knows")
        inner = self.either(depth + 1)
        if self.here != ")":
            self.fail("has an unclosed (", start)
        self.at += 1
        return Part("group", (inner,))

    def escaped(self, *, inside: bool = False) -> Part:
        start, character = self.at, self.text[self.at + 1 : self.at + 2]
        self.at += 2
        if character in _CLASSES:
            return Part("set", ranges=tuple(_CLASSES[character]))
        if character.lower() in _CLASSES and character:
            if inside:
                self.fail(f"has \\{character} inside [...]; write the characters", start)
            return Part("set", ranges=tuple(_CLASSES[character.lower()]), negative=True)
        if character in _CONTROLS:
            return Part("set", ranges=((_CONTROLS[character],) * 2,))
        if character in _ESCAPABLE and character:
            return Part("set", ranges=((ord(character),) * 2,))
        self.fail(_why_not(character), start)

    def bracket(self) -> Part:
        start = self.at
        self.at += 1
        negative = self.here == "^"
        self.at += negative
        if self.here == "]":
            self.fail("has an empty [...]; write \\] for the bracket itself")
        ranges: list[tuple[int, int]] = []
        while self.here != "]":
            if not self.here:
                self.fail("has an unclosed [", start)
            ranges += self.member()
        self.at += 1
        if any(low <= 0xDFFF and high >= 0xD800 for low, high in ranges):
            self.fail("has a range over surrogates", start)
        return Part("set", ranges=_merged(ranges), negative=negative)

    def member(self) -> list[tuple[int, int]]:
        low = self.single()
        if isinstance(low, list):
            return low
        following = self.text[self.at + 1 : self.at + 2]
        if self.here != "-" or following in {"]", ""}:
            return [(low, low)]
        self.at += 1
        start = self.at
        high = self.single()
        if isinstance(high, list):
            self.fail("has a range that ends in a class", start)
        if high < low:
            self.fail("has a range that runs backwards", start)
        return [(low, high)]

    def single(self) -> int | list[tuple[int, int]]:
        if self.here == "[":
            self.fail("has [ inside [...]; write \\[")
        for twice in ("&&", "--", "~~", "||"):
            if self.text.startswith(twice, self.at):
                self.fail(f"has {twice} inside [...]; write \\ before one")
        if self.here != "\\":
            self.at += 1
            return ord(self.text[self.at - 1])
        simple = self.text[self.at + 1 : self.at + 2] not in _CLASSES
        part = self.escaped(inside=True)
        return part.ranges[0][0] if simple else list(part.ranges)

    def counted(self, part: Part) -> Part:
        start, character = self.at, self.here
        if character and character in _QUANTIFIER:
            count: tuple[int, int | None] = _QUANTIFIER[character]
            self.at += 1
        elif character == "{":
            count = self.braces()
        else:
            return part
        if self.here and self.here in "?+*{":
            self.fail(f"has '{self.here}' after a count", start)
        return Part("repeat", (part,), count=count)

    def braces(self) -> tuple[int, int | None]:
        match = re.compile(r"\{(\d+)(?:(,)(\d*))?\}", re.A).match(self.text, self.at)
        if not match:
            self.fail("has a { that counts nothing; write \\{")
        low = int(match[1])
        high = low if not match[2] else int(match[3]) if match[3] else None
        if max(low, high or 0) > _MOST_COUNT or (high is not None and high < low):
            self.fail(f"counts beyond {_MOST_COUNT} or backwards")
        self.at = match.end()
        return low, high


def _why_not(character: str) -> str:
    if not character:
        return "ends in a lone \\"
    if character in "bByY":
        return f"has \\{character} (word edge), which differs between databases"
    if character.isdigit():
        return "refers back to a group, which not every database can"
    if character in "pP":
        return f"has \\{character}{{...}}, which not every database knows; write ranges such as [A-Za-zÀ-ÿ]"
    return f"has \\{character}, which is not in the common set"


def _merged(ranges: list[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    out: list[tuple[int, int]] = []
    for low, high in sorted(ranges):
        if out and low <= out[-1][1] + 1:
            out[-1] = (out[-1][0], max(high, out[-1][1]))
        else:
            out.append((low, high))
    return tuple(out)


def fixed_runs(part: Part) -> list[tuple[str, int]] | None:
    """A pattern of single ASCII characters and small sets of them, each so many times: the sets and how often.

    None for any other, and for short ones.
    """
    found: list[tuple[str, int]] = []
    for each in _in_order(part):
        inner, low, high = each, 1, 1
        if each.sort == "repeat":
            inner, (low, high) = each.parts[0], (each.count[0], each.count[1] or 0)
        if inner.sort != "set" or inner.negative or low != high or any(most > _ASCII for _, most in inner.ranges):
            return None
        letters = "".join(chr(code) for least, most in inner.ranges for code in range(least, most + 1))
        if found and found[-1][0] == letters:
            found[-1] = (letters, found[-1][1] + low)
        else:
            found.append((letters, low))
    return found if len(found) <= _RUNS and sum(count for _, count in found) >= _LONG else None


def as_glob(part: Part) -> str | None:
    """A pattern of a few ASCII letters and digits as that of a shell, which has no repeats; None for any other."""
    found = ""
    for each in _in_order(part):
        inner, (low, high) = (each.parts[0], each.count) if each.sort == "repeat" else (each, (1, 1))
        plain = inner.sort == "set" and not inner.negative and low == high
        if not plain or any(not f"{chr(least)}{chr(most)}".isalnum() or most > _ASCII for least, most in inner.ranges):
            return None
        if any(chr(least).isdigit() != chr(most).isdigit() or chr(least).isupper() != chr(most).isupper()
               for least, most in inner.ranges):  # fmt: skip
            return None
        found += f"[{''.join(f'{chr(least)}-{chr(most)}' for least, most in inner.ranges)}]" * low
    return found if 0 < found.count("[") <= _FEW else None


def span(part: Part) -> tuple[int, int | None]:
    """The least and the greatest number of characters that a pattern matches; None where there is no greatest."""
    inner = [span(each) for each in part.parts]
    if part.sort == "set":
        return 1, 1
    if part.sort == "repeat":
        (low, high), (least, most) = part.count, inner[0]
        return low * least, None if high is None or most is None else high * most
    lows, highs = [low for low, _ in inner], [high for _, high in inner if high is not None]
    if part.sort == "either":
        return min(lows), max(highs) if len(highs) == len(inner) else None
    return sum(lows), sum(highs) if len(highs) == len(inner) else None


def solid(part: Part) -> bool:
    """Whether all that a pattern matches holds a printable ASCII character, so that it is never blank."""
    if part.sort == "set":
        return not part.negative and all(low > _SPACE and high < _DELETE for low, high in part.ranges)
    if part.sort == "repeat":
        return part.count[0] > 0 and solid(part.parts[0])
    return all(map(solid, part.parts)) if part.sort == "either" else any(map(solid, part.parts))


_SPACE, _DELETE = 0x20, 0x7F


def _in_order(part: Part) -> Iterator[Part]:
    """The parts that follow each other."""
    if part.sort in {"sequence", "group"}:
        for each in part.parts:
            yield from _in_order(each)
    else:
        yield part


def _render(part: Part, last: str) -> str:
    inner = [_render(each, last) for each in part.parts]
    match part.sort:
        case "set":
            return _render_set(part)
        case "first":
            return "^"
        case "last":
            return last
        case "group":
            return f"(?:{inner[0]})"
        case "either":
            return "|".join(inner)
        case "repeat":
            return inner[0] + _render_count(*part.count)
    return "".join(inner)


def _render_count(low: int, high: int | None) -> str:
    for sign, count in _QUANTIFIER.items():
        if count == (low, high):
            return sign
    return f"{{{low}}}" if low == high else f"{{{low},{'' if high is None else high}}}"


def _render_set(part: Part) -> str:
    if not part.negative and len(part.ranges) == 1 and part.ranges[0][0] == part.ranges[0][1]:
        character = chr(part.ranges[0][0])
        return f"\\{character}" if character in ".*+?()[]{}|^$\\" else character
    inside = "".join(
        _in_set(low) if low == high else _in_set(low) + ("-" if high > low + 1 else "") + _in_set(high)
        for low, high in part.ranges
    )
    return f"[{'^' if part.negative else ''}{inside}]"


def _in_set(code: int) -> str:
    return f"\\{chr(code)}" if chr(code) in "\\]^-[" else chr(code)
