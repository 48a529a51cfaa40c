"""Nomotheta: declare what a table must be, load the night's files into it, and know exactly what did not fit.

The Python API is `open_workspace`; the command line stands on it and computes nothing itself.
"""

from __future__ import annotations

TYPE_CHECKING = False  # as `typing` has it; importing that takes longer than everything here
if TYPE_CHECKING:
    from pathlib import Path

    from nomotheta.workspace import Workspace

__version__ = "0.1.0"
__all__ = ["__version__", "open_workspace"]


def open_workspace(folder: Path | str = ".") -> Workspace:
    """Open the workspace at or above `folder`.

    Raises:
        DeclarationError: no `nomotheta.toml` is found, or it cannot be read.
    """
    from pathlib import Path

    from nomotheta.workspace import Workspace

    return Workspace.open(Path(folder))
