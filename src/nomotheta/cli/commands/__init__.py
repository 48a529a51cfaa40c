"""The commands, a module for each part of the path. Each only reads arguments, calls the core, and shows."""

from __future__ import annotations

import importlib

_MODULES = {
    "starting": ("demo", "begin"), "looking": ("peek", "propose"),
    "declaring": ("lint", "schema", "places", "schedule"), "loading": ("arrivals", "load", "undo", "rejects"),
    "checking": ("judge", "reconcile", "run"), "docketing": ("docket",), "telling": ("tell",),
    "remembering": ("ledger", "report", "evidence"),
}  # fmt: skip
ORDER = tuple(command for commands in _MODULES.values() for command in commands)


def take_in(word: str) -> bool:
    """Import the module of a command, and no other; whether the word is one."""
    module = next((name for name, commands in _MODULES.items() if word in commands), None)
    if module is None:
        return False
    importlib.import_module(f"nomotheta.cli.commands.{module}")
    return True
