"""The names that statements of ours use: they have one form, which no table and no column of a user has."""

from __future__ import annotations

from collections.abc import Iterable

OWN = "nomotheta "


def own(word: str) -> str:
    """A name of ours in a statement; lint and loads refuse tables and columns that are called so."""
    return f"{OWN}{word}"


def own_names(names: Iterable[str]) -> list[str]:
    """Those of some names of tables or columns that only our statements may use, whatever their case."""
    return [name for name in names if any(part.casefold().startswith(OWN) for part in name.split("."))]


def quoted(name: str) -> str:
    """A name as SQL: the one place where names are quoted."""
    return '"' + name.replace('"', '""') + '"'
