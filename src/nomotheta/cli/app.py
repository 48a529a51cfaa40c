"""The program's commands, in the order in which they are listed."""

from __future__ import annotations

from typing import Annotated

import typer

from nomotheta.cli.command import FOLDER, QUIET, VERBOSE, app, keep_before
from nomotheta.cli.commands import checking, declaring, loading, looking, remembering, starting

__all__ = ["app", "checking", "declaring", "loading", "looking", "remembering", "starting"]

_ORDER = (  # in which the commands are listed: that of the work
    "demo", "begin", "peek", "propose", "lint", "places", "load", "undo", "rejects", "judge", "reconcile", "run",
    "ledger", "report",
)  # fmt: skip
app.registered_commands.sort(key=lambda each: _ORDER.index(getattr(each.callback, "__name__", "")))


def _version(value: bool) -> None:
    if value:
        from nomotheta import __version__
        from nomotheta.kernel import in_use

        typer.echo(f"nomotheta {__version__} ({'with' if in_use() else 'without'} the compiled kernel)")
        raise typer.Exit


@app.callback()
def _main(
    _: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
    workspace: FOLDER = None,
    quiet: QUIET = False,
    verbose: VERBOSE = False,
) -> None:
    keep_before(workspace, quiet=quiet, verbose=verbose)
