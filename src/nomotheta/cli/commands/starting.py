"""The first hour: the demo, and a workspace of one's own."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, warn


@command(workspace=False)
def demo(
    call: Call,
    folder: Annotated[
        Path, typer.Argument(metavar="FOLDER", help="A new or empty folder; default: skerry-line.", show_default=False)
    ] = Path("skerry-line"),
) -> None:
    """Write a made-up ferry line and run three of its nights."""
    from nomotheta.demo import NIGHTS, write_demo
    from nomotheta.report.site import run_file
    from nomotheta.workspace import Workspace

    write_demo(folder)
    workspace = Workspace.open(folder)
    runs = []
    for night in NIGHTS:
        with call.bars("night") as listener:
            runs.append(workspace.run(night, create=True, listener=listener))
        index = workspace.write_site(runs[-1] if runs[1:] else None)
        warn(workspace.tell(runs[-1]))
    paths = [index.with_name(run_file(run.run_id, run.day)) for run in runs]
    if call.json:
        from nomotheta.report.documents import Demo

        call.print(Demo(str(folder), str(paths[-1]), tuple(runs)))
        return
    from nomotheta.cli.screens.night import show_demo

    show_demo(runs, folder, paths, index)


@command(workspace=False)
def begin(
    call: Call,
    folder: Annotated[
        Path, typer.Argument(metavar="FOLDER", help="The folder; default: here.", show_default=False)
    ] = Path(),
    place: Annotated[
        str | None,
        typer.Option("--place", metavar="URL", help="Where the tables live; default: duckdb:///warehouse.duckdb."),
    ] = None,
) -> None:
    """Make a workspace: settings, a folder for charters, one for files.

    What is there already is left as it is.
    """
    from nomotheta.workspace.beginning import DEFAULT_URL, begin

    begun = begin(folder, place or DEFAULT_URL)
    if call.json:
        from nomotheta.report.documents import Began

        call.print(Began(str(begun.folder), begun.made, begun.kept, begun.ignored))
        return
    if not call.quiet:
        from nomotheta.cli.screens.begun import show_begun

        show_begun(begun)
