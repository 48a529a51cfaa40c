"""A workspace opened: the Python API, on which the command line stands."""

from nomotheta.workspace.workspace import Workspace

__all__ = ["Workspace"]
