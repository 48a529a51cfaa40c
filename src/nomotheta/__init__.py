"""Nomotheta: declare what a table must be, load the night's files into it, and know exactly what did not fit.

The Python API is `open_workspace`, and `look` and `begin`, which need no workspace; the command line uses nothing else.
"""

from __future__ import annotations

TYPE_CHECKING = False  # as `typing` has it; importing that takes longer than everything here
if TYPE_CHECKING:
    from pathlib import Path

    from nomotheta.peek import Look
    from nomotheta.workspace import Workspace
    from nomotheta.workspace.beginning import Begun

__version__ = "0.1.0"
__all__ = ["__version__", "begin", "look", "open_workspace"]


def open_workspace(folder: Path | str = ".") -> Workspace:
    """Open the workspace at or above `folder`.

    Raises:
        DeclarationError: no `nomotheta.toml` is found, or it cannot be read.
    """
    from pathlib import Path

    from nomotheta.workspace import Workspace

    return Workspace.open(Path(folder))


def look(file: Path | str, rows: int | None = None) -> Look:
    """Look at a file of any format, before anything is declared about it.

    Args:
        file: the file, plain or packed.
        rows: stop after about so many; all where it is None.

    Raises:
        DeliveryError: it cannot be read, is damaged or empty.
    """
    from pathlib import Path

    from nomotheta.peek import look as look_at

    return look_at(Path(file), rows)


def begin(folder: Path | str = ".", url: str = "duckdb:///warehouse.duckdb") -> Begun:
    """Make a folder a workspace, whose tables are to live in the database at `url`; what is there stays as it is.

    Raises:
        DeclarationError: the URL is none that may be declared, or something cannot be written.
    """
    from pathlib import Path

    from nomotheta.workspace.beginning import begin as begin_at

    return begin_at(Path(folder), url)
