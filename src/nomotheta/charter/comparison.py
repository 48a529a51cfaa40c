"""What may be declared of a comparison that is kept: its two sides, and where they may differ."""

from __future__ import annotations

import re
from pathlib import Path

from pydantic import Field, model_validator

from nomotheta.charter.differ import Name, ReconcileKeys
from nomotheta.charter.layout import Declared
from nomotheta.charter.read import Problem, parse, read_source


class SideKeys(Declared):
    """One side: a table, a query in a place's own SQL, or a file; and which of its rows."""

    table: Name | None = None
    query: Name | None = None
    file: Name | None = None
    place: Name | None = None
    where: Name | None = None

    @model_validator(mode="after")
    def _one(self) -> SideKeys:
        given = [name for name in ("table", "query", "file") if getattr(self, name) is not None]
        if len(given) != 1:
            told = f"this names {' and '.join(given)}" if given else "this names no rows"
            raise ValueError(f'{told}; write one of table = "…", query = "select …" and file = "…"')
        if self.file is not None and self.place is not None:
            raise ValueError("a file is in no place; take 'place' out")
        if self.query is not None and self.place is None:
            raise ValueError('a query is asked of a place; add place = "…"')
        return self


class ComparisonKeys(ReconcileKeys):
    """`comparisons/NAME.toml`."""

    about: str = ""
    owners: list[str] = Field(default=[])
    source: SideKeys
    target: SideKeys


def read_comparison(path: Path, name: str) -> tuple[ComparisonKeys | None, list[Problem]]:
    """A comparison, or None and what is wrong with it.

    Raises:
        DeclarationError: the file cannot be read, or is not TOML.
    """
    values, source = read_source(path, name)
    return parse(ComparisonKeys, values, source)


def side_of(text: str, places: frozenset[str]) -> tuple[str | None, str]:
    """A side as it is written in a call: PLACE:TABLE, or a name by itself."""
    place, colon, rest = text.partition(":")
    if colon and place in places and rest and not re.match(r"[\\/]", rest):
        return place, rest
    return None, text
