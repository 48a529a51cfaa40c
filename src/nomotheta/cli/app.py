"""The program's commands, in the order in which they are listed."""

from __future__ import annotations

from typing import Annotated

import typer

from nomotheta.cli.command import FOLDER, QUIET, VERBOSE, app, keep_before

# isort: off - the order is that of the help
from nomotheta.cli.commands import checking, declaring, loading, looking, remembering, starting

# isort: on

__all__ = ["app", "checking", "declaring", "loading", "looking", "remembering", "starting"]


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
