"""The program with all its commands, in the order in which they are listed."""

from __future__ import annotations

from nomotheta.cli.command import app
from nomotheta.cli.commands import (
    ORDER,
    checking,
    declaring,
    docketing,
    loading,
    looking,
    remembering,
    starting,
    telling,
)

__all__ = ["app", "checking", "declaring", "docketing", "loading", "looking", "remembering", "starting", "telling"]

app.registered_commands.sort(key=lambda each: ORDER.index(getattr(each.callback, "__name__", "")))
