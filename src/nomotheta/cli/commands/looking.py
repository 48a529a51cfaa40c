"""What a file is, before anything is declared about it; and a charter to start from."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from nomotheta.cli.command import Call, command
from nomotheta.cli.options import Place

if TYPE_CHECKING:
    from nomotheta.peek import Look


@command(workspace=False)
def peek(
    call: Call,
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A file of any format, plain or packed.")],
    rows: Annotated[
        int | None, typer.Option("--rows", metavar="N", min=1, help="Read only so many; default: all.")
    ] = None,
    page: Annotated[
        Path | None, typer.Option("--page", metavar="FILE", help="Write an HTML page too, with one chart per column.")
    ] = None,
) -> None:
    """Look at a file: layout, columns, kinds, keys, oddities."""
    from nomotheta.peek import look

    with call.bars("look") as listener:
        found = look(file, rows, listener, spreads=bool(call.json or page))
    if page:
        _write_page(call, found, page)
    if call.json:
        call.print(found)
        return
    from nomotheta.cli.screens.look import show_look

    show_look(found)


def _write_page(call: Call, found: Look, page: Path) -> None:
    from nomotheta.errors import DeclarationError
    from nomotheta.report.look_page import look_page
    from nomotheta.report.write import write_file

    try:
        write_file(page, look_page(found, datetime.datetime.now().astimezone()))
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(page)) from None
    call.tell(f"written to {page}")


@command()
def propose(
    call: Call,
    file: Annotated[Path | None, typer.Argument(metavar="FILE", help="Data, or metadata that describes it.")] = None,
    from_table: Annotated[
        str | None, typer.Option("--from-table", metavar="NAME", help="A table in place of a file.")
    ] = None,
    from_charter: Annotated[
        str | None, typer.Option("--from-charter", metavar="TABLE", help="A charter; with --metadata.")
    ] = None,
    table: Annotated[
        str | None, typer.Option("--table", metavar="NAME", help="The table's name; default: the file's.")
    ] = None,
    metadata: Annotated[
        bool, typer.Option("--metadata", help="Write CSV on the Web metadata in place of a charter.")
    ] = False,
    place: Place = None,
    to: Annotated[Path | None, typer.Option("--to", metavar="FILE", help="Write it there; default: stdout.")] = None,
) -> None:
    """Write a charter to start from.

    Its comments say what was seen, and what is a guess.
    """
    from nomotheta.errors import DeclarationError
    from nomotheta.workspace.proposing import metadata_of_proposal

    if sum(each is not None for each in (file, from_table, from_charter)) != 1:
        raise DeclarationError("name a file, or a table with --from-table", mend="nomotheta propose inbox/FILE")
    if from_charter and not metadata:
        mend = f"nomotheta propose --from-charter {from_charter} --metadata"
        raise DeclarationError("the charter is there already; only metadata can be written from it", mend=mend)
    opened = call.workspace()
    if from_charter:
        text = opened.metadata(from_charter)
    elif file is not None:
        with call.bars("look") as listener:
            text = opened.propose_file(file, table, listener)
    else:
        text = opened.propose_table(str(from_table), place)
    text = metadata_of_proposal(text) if metadata and not from_charter else text
    if to:
        opened.write_proposal(text, to)
    if call.json:
        from nomotheta.report.documents import Proposed

        call.print(Proposed(text, str(to) if to else None))
    elif to is None:
        typer.echo(text)
    else:
        call.tell(f"written to {to}")
