"""A charter to start from, as text: what was seen, with comments that say what is a guess."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import Any

from nomotheta.frozen import frozen

_BARE = re.compile(r"[A-Za-z0-9_-]+")


@frozen
class ProposedColumn:
    """A column: its keys in TOML, each with a comment or none."""

    name: str
    keys: Sequence[tuple[str, Any, str]]


@frozen
class Proposal:
    """All that a proposed charter says; `notes` stand above it."""

    table: str
    notes: Sequence[str]
    columns: Sequence[ProposedColumn]
    files: tuple[str, str] | None = None
    layout: Mapping[str, Any] = field(default_factory=dict)
    load: Sequence[tuple[str, Any, str]] = ()
    keys: Sequence[tuple[Sequence[str], str]] = ()
    references: Sequence[tuple[Sequence[str], str]] = ()
    about: str = ""
    stated: Sequence[tuple[str, Any, str]] = ()


def proposal_text(proposal: Proposal) -> str:
    """The TOML of a proposal."""
    lines = [f"# {_comment(note)}" for note in proposal.notes]
    lines += ["", f"table = {_value(proposal.table)}"]
    lines += [f"about = {_value(proposal.about)}", ""] if proposal.about else [""]
    if proposal.files:
        lines += ["[delivery]", *_aligned([("files", *proposal.files)]), ""]
    if proposal.layout:
        lines += ["[delivery.layout]", *_aligned([(key, value, "") for key, value in proposal.layout.items()]), ""]
    if proposal.stated:
        lines += ["[delivery.stated]", *_aligned(proposal.stated), ""]
    if proposal.load:
        lines += ["[load]", *_aligned(proposal.load), ""]
    for column in proposal.columns:
        lines += [f"[columns.{_key(column.name)}]", *_aligned(column.keys), ""]
    for columns, comment in proposal.keys:
        lines += ["[[keys]]", *_aligned([("columns", list(columns), comment)]), ""]
    for columns, listed in proposal.references:
        lines += ["[[references]]", *_aligned([("columns", list(columns), ""), ("listed_in", listed, "")]), ""]
    return "\n".join(lines)


def _comment(text: str) -> str:
    """A text that stays within its line."""
    return re.sub(r"[^\x20-\x7e\xa0-\uffff]", "?", text)


def column_name(header: str, taken: Sequence[str]) -> str:
    """A plain name for a column: lower case, words joined by _, none twice."""
    plain = re.sub(r"\W+", "_", header.strip().lower()).strip("_") or "column"
    name, number = plain, 2
    while name in taken:
        name, number = f"{plain}_{number}", number + 1
    return name


def _aligned(rows: Sequence[tuple[str, Any, str]]) -> list[str]:
    written = [f"{_key(key)} = {_value(value)}" for key, value, _ in rows]
    width = max(map(len, written))
    return [
        f"{text:<{width}}  # {_comment(comment)}" if comment else text
        for text, (_, _, comment) in zip(written, rows, strict=True)
    ]


def _key(name: str) -> str:
    return name if _BARE.fullmatch(name) else _value(name)


def _value(value: Any) -> str:
    """A value as TOML; texts are written as JSON does, which TOML reads the same."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(_value, value)) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
    return str(value)
