"""A workspace opened: the Python API, which the command line uses.

workspace = nomotheta.open_workspace("skerry-line")
result = workspace.run(datetime.date(2026, 6, 1))
"""

from __future__ import annotations

from nomotheta.workspace.of_checks import Checks
from nomotheta.workspace.of_declarations import Declarations
from nomotheta.workspace.of_loads import Loads
from nomotheta.workspace.of_reports import Reports
from nomotheta.workspace.opened import folder_of

__all__ = ["Workspace", "folder_of"]


class Workspace(Declarations, Loads, Checks, Reports):
    """A folder with `nomotheta.toml` and `charters/`; its memory is in `.nomotheta/`."""
