"""Charters to start from, and metadata for those who send the files."""

from __future__ import annotations

import datetime
import json
import re
import tomllib
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path

from nomotheta.charter import Charter, Compiled, proposal_text
from nomotheta.charter.csvw import is_metadata, metadata_of, propose_from_metadata
from nomotheta.errors import DeclarationError
from nomotheta.events import Listener
from nomotheta.layout import Layout
from nomotheta.place.base import Place


def propose_of_file(file: Path, root: Path, table: str | None, day: datetime.date, listener: Listener) -> str:
    """A charter as TOML, proposed from a file of data, or from metadata of CSV on the Web."""
    from nomotheta.peek import look
    from nomotheta.peek.propose import propose_from_look

    if is_metadata(file):
        return proposal_text(propose_from_metadata(file, str(file), root, table, day))
    path = file.resolve()
    name = path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)
    plain = re.sub(r"[^a-z]+", "_", path.name.lower().partition(".")[0]).strip("_")
    return proposal_text(
        propose_from_look(look(file, None, listener, spreads=False), table or plain or "table", name, day)
    )


def propose_of_table(place: Callable[[], AbstractContextManager[Place]], table: str, day: datetime.date) -> str:
    """A charter as TOML, proposed from a table as it is."""
    from nomotheta.peek.propose import propose_from_table

    with place() as opened:
        return proposal_text(propose_from_table(opened, table, day))


def metadata_of_proposal(text: str) -> str:
    """The metadata of a proposed charter, as JSON.

    Raises:
        DeclarationError: its files are no delimited text, which is all that such metadata describes.
    """
    charter = Charter.model_validate(tomllib.loads(text))
    layout = charter.delivery.layout if charter.delivery else Layout()
    return _written(charter, layout if isinstance(layout, Layout) else Layout(), charter.table)


def metadata_of_charter(compiled: Compiled) -> str:
    """The metadata of a charter of the workspace, as JSON.

    Raises:
        DeclarationError: as above.
    """
    return _written(compiled.charter, compiled.layout, compiled.file)


def _written(charter: Charter, layout: Layout, where: str) -> str:
    if layout.format != "delimited":
        what = f"its files are of the format {layout.format}; the metadata describes delimited text"
        raise DeclarationError(what, where=where)
    patterns = charter.delivery.patterns if charter.delivery else []
    name = patterns[0].rpartition("/")[2] if patterns else ""
    if not name or "{" in name or "*" in name or "?" in name:
        name = f"{charter.table}.csv"
    return json.dumps(metadata_of(charter, layout, name), indent=2, ensure_ascii=False) + "\n"
