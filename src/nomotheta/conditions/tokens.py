"""Text of a condition into tokens with positions."""

from __future__ import annotations

import re

from nomotheta.conditions.tree import ConditionError
from nomotheta.frozen import frozen

_TOKEN = re.compile(
    r"""(?P<space>\s+|--[^\n]*|/\*.*?\*/)
    |(?P<number>(?:\d+(?:\.\d+)?|\.\d+)(?:[eE][+-]?\d+)?(?![A-Za-z_0-9.]))
    |(?P<string>'(?:[^'\0]|'')*')
    |(?P<quoted>"(?:[^"\0]|"")+")
    |(?P<parameter>:last(?:\.[^\W\d]\w*){1,2}|:[a-z_]+)
    |(?P<name>[^\W\d]\w*)
    |(?P<op><>|!=|<=|>=|\|\||!~|[-+*/%(),<>=~])""",
    re.S | re.X,
)
KEYWORDS = frozenset(
    "and or not is null true false in between like escape case when then else end cast as extract from for distinct "
    "filter where interval current_date current_timestamp select exists any all".split()
)
_ELSEWHERE = {
    "==": "write =",
    "&&": "write and",
    "::": "write cast(x as kind)",
    ";": "one condition, and nothing after it",
    "`": 'write "name"',
    "[": "lists are written in (...)",
    "?": "parameters are named, such as :day",
    "$": "parameters are named, such as :day",
    ".": "a condition speaks of one table: write the column alone",
    "!": "write not",
    "^": "powers are not known here",
}


@frozen
class Token:
    """A token: `sort` is number, string, name, quoted, keyword, parameter, op or end."""

    sort: str
    value: str
    start: int
    end: int


def tokens(text: str) -> list[Token]:
    """The tokens of `text`, closed by one of sort `end`.

    Raises:
        ConditionError: at the first character that starts no token.
    """
    found: list[Token] = []
    at = 0
    while at < len(text):
        match = None if text.startswith("==", at) else _TOKEN.match(text, at)
        if not match:
            raise _unreadable(text, at)
        if match.lastgroup != "space":
            found.append(_token(str(match.lastgroup), match[0], at, match.end()))
        at = match.end()
    end = len(text.rstrip())
    found.append(Token("end", "", end, end + 1))
    return found


def _token(sort: str, value: str, start: int, end: int) -> Token:
    if sort == "string":
        value = value[1:-1].replace("''", "'")
    elif sort == "quoted":
        value = value[1:-1].replace('""', '"')
    elif sort == "parameter":
        value = value[1:]
    elif sort == "name" and value.lower() in KEYWORDS:
        sort, value = "keyword", value.lower()
    return Token(sort, value, start, end)


def _unreadable(text: str, at: int) -> ConditionError:
    if text[at] == "'":
        return ConditionError("this text has no closing quote", at, len(text))
    if text[at] == '"':
        return ConditionError("this name has no closing quote", at, len(text))
    if text.startswith("/*", at):
        return ConditionError("this comment is not closed", at, at + 2)
    number = re.match(r"\d[\w.]+", text[at:])
    if number:
        return ConditionError("this is not a number", at, at + number.end())
    for sign, hint in _ELSEWHERE.items():
        if text.startswith(sign, at):
            return ConditionError(f"'{sign}' is not expected here", at, at + len(sign), hint)
    return ConditionError(f"{text[at]!r} is not expected here", at, at + 1)
