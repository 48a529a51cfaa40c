"""Secrets: how they come into a URL, and that they come into nothing else.

A secret enters a URL as a field of it, percent-encoded (RFC 3986), so that none of its signs can end the field: what
was declared as a password is never taken for a host. Every secret that was used is known from then on, and is taken out
of whatever an error says, wherever its words come from.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from urllib.parse import quote, unquote

STARS = "***"
_PLACEHOLDER = re.compile(r"\$\{([A-Za-z_][A-Za-z0-9_]*)\}")
_PARTS = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*://)(?:(.*)@)?([^/?#]*)([^?#]*)(?:\?(.*))?", re.DOTALL)
_TELLING = re.compile(r"(?i)((?:pwd|passw(?:or)?d|passwd|secret|token)(?:=|%3d))((?:(?!%3b)[^;&@])*)")
_SHORTEST = 3  # characters: a shorter one is in any word
_known: set[str] = set()


class UnsetError(Exception):
    """An environment variable that is named is not set."""

    def __init__(self, variable: str) -> None:
        super().__init__(variable)
        self.variable = variable


class UnfitError(UnsetError):
    """An environment variable holds what its place in a URL cannot hold."""


def filled(url: str) -> str:
    """A URL with every `${ENV_NAME}` filled in, as a field of it.

    Raises:
        UnsetError: a variable is not set.
        UnfitError: the value of one cannot stand where it is named.
    """
    whole = _PLACEHOLDER.fullmatch(url.strip())
    if whole:  # all of it is secret, and is what it is
        url = _value(whole)
        if not _PARTS.fullmatch(url):
            _keep(url)
    found = _PARTS.fullmatch(url)
    if found is None or url.startswith(("duckdb:", "sqlite:", "folder:")):
        return url if whole else _PLACEHOLDER.sub(_value, url)
    scheme, user, host, path, query = found.groups()
    name, colon, password = (user or "").partition(":")
    for literal in _secrets_of(found):
        if not _PLACEHOLDER.search(literal):
            _keep(literal)
    if whole:
        return f"{scheme}{name}{colon}{_encoded(password)}{'@' if user is not None else ''}{url[found.start(3) :]}"
    # a login without a password is a token; beside one it is a name, which may be told
    login = f"{_PLACEHOLDER.sub(_quoted if colon else _secret, name)}{colon}{_with(_secret, password)}"
    rest = f"{_PLACEHOLDER.sub(_plain, host)}{_PLACEHOLDER.sub(_quoted, path)}"
    asked = "" if query is None else f"?{_PLACEHOLDER.sub(_secret, query)}"
    return f"{scheme}{login}{'@' if user is not None else ''}{rest}{asked}"


def _encoded(password: str) -> str:
    """A password as it may be in a URL: what is encoded already stays so."""
    return quote(re.sub("%(?![0-9A-Fa-f]{2})", "%25", password), safe="%")


def _with(fill: Callable[[re.Match[str]], str], password: str) -> str:
    """A password with what is named in it filled in, and the rest encoded."""
    done, parts = 0, []
    for match in _PLACEHOLDER.finditer(password):
        parts += [_encoded(password[done : match.start()]), fill(match)]
        done = match.end()
    return "".join([*parts, _encoded(password[done:])])


def _secrets_of(parts: re.Match[str]) -> list[str]:
    password = (parts[2] or "").partition(":")[2]
    return [each for each in (password, *(match[2] for match in _TELLING.finditer(parts[5] or ""))) if each]


def _value(match: re.Match[str]) -> str:
    found = os.environ.get(match[1])
    if found is None:
        raise UnsetError(match[1])
    return found


def _quoted(match: re.Match[str]) -> str:
    return quote(_value(match), safe="")


def _secret(match: re.Match[str]) -> str:
    value = _value(match)
    _keep(value)
    return quote(value, safe="")


def _plain(match: re.Match[str]) -> str:
    value = _value(match)
    if re.search(r"[\s@/?#\\]", value):
        raise UnfitError(match[1])
    return value


def _keep(secret: str) -> None:
    for form in (secret, quote(secret, safe=""), unquote(secret)):
        if len(form) >= _SHORTEST:
            _known.add(form)
            for written in (repr(form)[1:-1], form.replace("\\", "\\\\")):  # as a driver may quote it
                _known.add(written)


def scrubbed(text: str) -> str:
    """A text in which every secret that was used is hidden."""
    for secret in sorted(_known, key=len, reverse=True):
        text = text.replace(secret, STARS)
    return text


def masked(url: str) -> str:
    """A URL without what is secret in it, for messages."""
    found = _PARTS.fullmatch(url)
    if found is None:
        return scrubbed(_PLACEHOLDER.sub(STARS, url) if _PLACEHOLDER.fullmatch(url.strip()) else url)
    scheme, user, host, path, query = found.groups()
    name, colon, _ = (user or "").partition(":")
    login = "" if user is None else f"{name}{colon}{STARS if colon else ''}@"
    asked = "" if query is None else "?" + _TELLING.sub(lambda part: part[1] + STARS, query)
    return scrubbed(f"{scheme}{login}{host}{path}{asked}")
