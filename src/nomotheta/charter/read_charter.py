"""A charter's file, with those that it uses, into the model."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from nomotheta.charter.model import Charter
from nomotheta.charter.read import Problem, Read, parse, read_source
from nomotheta.charter.shared import Shared, with_shared


def read_charter(path: Path, name: str, also: Sequence[Shared] = ()) -> tuple[Read | None, list[Problem]]:
    """A charter, or None and what is wrong with it.

    Args:
        path: its file.
        name: what it is called in messages.
        also: shared files, which apply if they name its table.

    Raises:
        DeclarationError: it cannot be read, is not UTF-8, or is not TOML.
    """
    values, source = read_source(path, name)
    table = values.get("table")
    for_it = [each for each in also if isinstance(table, str) and each.is_for(table)]
    values, source, wrong = with_shared(values, source, path.parent, for_it)
    charter, problems = parse(Charter, values, source, path.parent)
    return (Read(charter, source) if charter else None), [*wrong, *problems]
