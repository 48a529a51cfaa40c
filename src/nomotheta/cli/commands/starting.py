"""A first look: the demo."""

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
    from nomotheta.workspace import Workspace

    write_demo(folder)
    workspace = Workspace.open(folder)
    runs = []
    for night in NIGHTS:
        with call.bars("night") as listener:
            runs.append(workspace.run(night, create=True, listener=listener))
        warn(workspace.tell(runs[-1]))
    paths = [workspace.report(run.run_id)[1] for run in runs]
    if call.json:
        from nomotheta.report.documents import Demo

        call.print(Demo(str(folder), str(paths[-1]), tuple(runs)))
        return
    from nomotheta.cli.screens.night import show_demo

    show_demo(runs, folder, paths)
