"""One module a format. Each has a class that is a `SourceFile`, and is named in `nomotheta.formats`."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.layout import Layout
from nomotheta.source.base import SourceFile

if TYPE_CHECKING:
    from nomotheta.charter import Charter


def open_file(path: Path, name: str, layout: Layout, charter: Charter | None = None) -> SourceFile:
    """A file, read as its layout says.

    Args:
        path: where it is.
        name: how messages call it.
        layout: its format and how it is written.
        charter: whose columns stand at declared characters of a line (fixed-width text alone asks for it).
    """
    module, reader = layout.traits.reader
    made = getattr(import_module(f"{__name__}.{module}"), reader)
    source: SourceFile = made(path, name, layout, charter)
    return source
