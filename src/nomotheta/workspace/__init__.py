"""Workspaces: the context of a folder, the steps of the work on it, and the Python API above them."""

from nomotheta.workspace.workspace import Workspace, folder_of

__all__ = ["Workspace", "folder_of"]
