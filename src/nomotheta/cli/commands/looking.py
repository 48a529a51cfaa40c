"""What a file or a table is, before anything is declared about it; and a charter to start from."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from nomotheta.cli.command import Call, command
from nomotheta.cli.options import Place, complete_places

if TYPE_CHECKING:
    from nomotheta.peek import Look


@command()
def peek(
    call: Call,
    what: Annotated[
        str, typer.Argument(metavar="FILE|TABLE", help="A file of any format, plain or packed; or a table.")
    ],
    rows: Annotated[
        int | None, typer.Option("--rows", metavar="N", min=1, help="Read only so many; default: all.")
    ] = None,
    page: Annotated[
        Path | None, typer.Option("--page", metavar="FILE", help="Write an HTML page too, with one chart per column.")
    ] = None,
    delimiter: Annotated[str | None, typer.Option("--delimiter", metavar="TEXT", help="Not guessed.")] = None,
    quote: Annotated[str | None, typer.Option("--quote", metavar="CHARACTER", help="Not guessed.")] = None,
    encoding: Annotated[str | None, typer.Option("--encoding", metavar="NAME", help="Not guessed.")] = None,
    header: Annotated[
        bool | None, typer.Option("--header/--no-header", help="Whether the first line names the columns.")
    ] = None,
    place: Annotated[
        str | None,
        typer.Option("--place", metavar="NAME", help="Of a table: where it is.", autocompletion=complete_places),
    ] = None,
    where: Annotated[
        str | None, typer.Option("--where", metavar="CONDITION", help="Of a table: only rows that meet it.")
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", metavar="COLUMN", help="Of a table: count the rows per value.")
    ] = None,
) -> None:
    """Look at a file or a table: columns, blanks, keys, oddities."""
    given = {"delimiter": delimiter, "quote": quote, "encoding": encoding, "header": header}
    if place is not None or where is not None or by is not None or not _is_file(call, what):
        _check_of_table(what, bool(rows or page or any(each is not None for each in given.values())))
        _peek_table(call, what, place, where or "", by or "")
        return
    from nomotheta.peek import look

    with call.bars("look") as listener:
        found = look(
            Path(what), rows, listener, spreads=bool(call.json or page),
            given={key: value for key, value in given.items() if value is not None},
        )  # fmt: skip
    if page:
        _write_page(call, found, page)
    if call.json:
        call.print(found)
        return
    from nomotheta.cli.screens.look import show_look

    show_look(found)


def _is_file(call: Call, what: str) -> bool:
    """Whether a file is meant: there is one, it is called like one, or there is no workspace to hold a table."""
    path = Path(what)
    return path.exists() or "/" in what or path.suffix.lower() in _ENDINGS or call.workspace_if_any() is None


_ENDINGS = (
    ".csv", ".tsv", ".txt", ".dat", ".json", ".jsonl", ".ndjson", ".parquet", ".arrow", ".feather", ".xlsx", ".xls",
    ".xlsb", ".ods", ".gz", ".bz2", ".xz", ".zst", ".zip",
)  # fmt: skip


def _check_of_table(table: str, of_file: bool) -> None:
    from nomotheta.errors import DeclarationError

    if of_file:
        told = "--rows, --page and how a file is written are for files, and there is no file of this name"
        raise DeclarationError(told, where=table, mend="leave them out to look at the table")


def _peek_table(call: Call, table: str, place: str | None, where: str, by: str) -> None:
    found = call.workspace().look_at_table(table, place=place, where=where, by=by)
    if call.json:
        call.print(found)
        return
    from nomotheta.cli.screens.table import show_table

    show_table(found)


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
    files: Annotated[
        list[Path] | None,
        typer.Argument(metavar="FILE", help="Data, one file or several of one pattern; or metadata that describes it."),
    ] = None,
    into: Annotated[
        str | None, typer.Option("--into", metavar="TABLE", help="Take columns and kinds from a table that is there.")
    ] = None,
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
    to: Annotated[
        Path | None, typer.Option("--to", metavar="PATH", help="Write it to a file, or into a folder; default: stdout.")
    ] = None,
) -> None:
    """Write a charter to start from.

    Its comments say what was seen, what is a guess, and which rows it would set aside.
    """
    from nomotheta.errors import DeclarationError
    from nomotheta.workspace.proposing import metadata_of_proposal, propose_of_files, write_proposal

    if sum([bool(files), from_table is not None, from_charter is not None]) != 1:
        raise DeclarationError("name a file, or a table with --from-table", mend="nomotheta propose inbox/FILE")
    if from_charter and not metadata:
        mend = f"nomotheta propose --from-charter {from_charter} --metadata"
        raise DeclarationError("the charter is there already; only metadata can be written from it", mend=mend)
    name = table or into or from_table or from_charter or ""
    opened = call.workspace_if_any() if files and not into else call.workspace()
    if files:
        with call.bars("look") as listener:
            if opened is None:
                today = datetime.datetime.now().astimezone().date()
                text, name = propose_of_files(files, Path.cwd(), table, today, listener)
            else:
                text, name = opened.propose_files(files, table, listener, into=into, place=place)
    elif opened is not None and from_charter:
        text = opened.metadata(from_charter)
    elif opened is not None:
        text = opened.propose_table(str(from_table), place)
    text = metadata_of_proposal(text) if metadata and not from_charter else text
    written = write_proposal(text, to, f"{name}{'-metadata.json' if metadata else '.toml'}") if to else None
    if call.json:
        from nomotheta.report.documents import Proposed

        call.print(Proposed(text, str(written) if written else None))
    elif written is None:
        typer.echo(text)
    else:
        call.tell(f"written to {written}")
