"""Loads: carried out, taken out again, and the rows that they set aside."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, end, gravest, warn
from nomotheta.cli.options import (
    Create,
    Day,
    Engine,
    From,
    Place,
    Table,
    Tables,
    TellIt,
    To,
    complete_loads,
    day_given,
    days_given,
)


@command()
def arrivals(
    call: Call, tables: Tables = None, day: Day = None, first: From = None, last: To = None, place: Place = None
) -> None:  # fmt: skip
    """Show what is expected and what has arrived, late ones first.

    Everything that a load would ask is asked; nothing is loaded. Without TABLE, also files that belong to no charter.
    """
    opened = call.workspace()
    found = opened.arrivals(tables or [], days_given(day, first, last, opened), place=place)
    if call.json:
        call.print(found)
    elif not call.silent(found.verdict):
        from nomotheta.cli.screens.arrivals import show_arrivals

        show_arrivals(found)
    end(found.verdict)


@command()
def load(
    call: Call,
    table: Table,
    mended: Annotated[
        Path | None, typer.Argument(metavar="FILE", help="With --again: the rows of rejects --csv, mended.")
    ] = None,
    file: Annotated[
        Path | None, typer.Option("--file", metavar="PATH", help="Load this file, whatever the charter's pattern.")
    ] = None,
    day: Day = None,
    place: Place = None,
    engine: Engine = None,
    create: Create = False,
    rehearse: Annotated[
        bool, typer.Option("--rehearse", help="Trial run: load and check everything, then roll back.")
    ] = False,
    again: Annotated[
        bool,
        typer.Option("--again", help="Mended rows of a load; without FILE: repeats of rows that were taken out since."),
    ] = False,
    even_if_loaded: Annotated[
        bool, typer.Option("--even-if-loaded", help="Although the same content was loaded before.")
    ] = False,
    tell: TellIt = False,
) -> None:
    """Load a table's delivery, all or nothing.

    Rows that do not fit are set aside; the rules are judged before anything is committed.
    """
    _check_again(mended, again=again, others=bool(rehearse or day or create or even_if_loaded or file))
    opened = call.workspace()
    opened.use_engine(engine)
    with call.bars("load") as listener:
        if again and mended is None:
            results = opened.load_open_again(table, place=place, listener=listener)
        elif again and mended is not None:
            results = [opened.load_mended(table, mended, place=place, listener=listener)]
        else:
            results = opened.load_through(
                table, day_given(day, opened) or opened.today(), rehearse=rehearse, place=place, create=create,
                even_if_loaded=even_if_loaded, files=[file] if file else [], listener=listener,
            )  # fmt: skip
    verdict = gravest(result.verdict for result in results)
    if call.json:
        from nomotheta.report.documents import Loads

        call.print(Loads(verdict, tuple(results)))
    elif not call.silent(verdict):
        from nomotheta.cli.screens.load import show_loads

        show_loads(table, results)
    for result in results if tell and not rehearse else ():
        warn(opened.tell(result))
    end(verdict)


def _check_again(file: Path | None, *, again: bool, others: bool) -> None:
    """Whether --again stands where it can."""
    from nomotheta.errors import DeclarationError

    if again and others:
        told = "--again cannot be combined with --day, --file, --create, --rehearse or --even-if-loaded"
        raise DeclarationError(told, mend="the day is that of the load whose rows were mended")
    if file is not None and not again:
        raise DeclarationError("a file is named by --file, or by --again", where=str(file),
                               mend=f"load it with --file {file}; corrected rejects with --again {file}")  # fmt: skip


@command()
def undo(
    call: Call,
    loads: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="LOAD", help="A load's number, or several: 4 6, or 4..7.", autocompletion=complete_loads
        ),
    ] = None,
    run_id: Annotated[int | None, typer.Option("--run", metavar="N", help="All loads of that run.")] = None,
) -> None:
    """Take loads out of their tables again, all of them or none.

    Their rows are removed, the newest load's first, and those that they replaced are put back, if they were kept.
    """
    results = call.workspace().undo(*_numbers(loads or [], some=run_id is not None), run_id=run_id)
    verdict = gravest(result.verdict for result in results)
    if call.json:
        from nomotheta.report.documents import Undos

        call.print(Undos(verdict, tuple(results)))
    elif not call.silent(verdict):
        from nomotheta.cli.screens.load import show_undone

        show_undone(results)
    end(verdict)


_MOST_LOADS = 10_000  # that a range may name


def _numbers(words: list[str], *, some: bool) -> list[int]:
    """Loads by their numbers, in ranges or one by one; `some` are named otherwise, so that there need be none."""
    from nomotheta.errors import DeclarationError

    found: list[int] = []
    for word in words:
        first, dots, last = word.partition("..")
        if not first.isdecimal() or (dots and not last.isdecimal()):
            raise DeclarationError(f"'{word}' is not a load; write a number, or 4..7", mend="see: nomotheta ledger")
        numbers = range(int(first), int(last or first) + 1)
        if not 0 < len(numbers) <= _MOST_LOADS:
            raise DeclarationError(f"'{word}' names no loads", mend="write the lower number first")
        found += numbers
    if not found and not some:
        raise DeclarationError("no load is named", mend="write its number, see: nomotheta ledger; or --run N")
    return found


@command()
def rejects(
    call: Call,
    load: Annotated[
        str | None,
        typer.Argument(
            metavar="LOAD",
            help="A load's number, or a table for its newest; default: the newest with any.",
            autocompletion=complete_loads,
        ),
    ] = None,
    csv: Annotated[
        Path | None, typer.Option("--csv", metavar="FILE", help="Write the open rows to a CSV file, to be mended.")
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Show all, not only the first 20.")] = False,
    close: Annotated[
        str | None, typer.Option("--close", metavar="REASON", help="The open rows will not come; why.")
    ] = None,
    line: Annotated[
        list[int] | None, typer.Option("--line", metavar="N", help="With --close: only the row in that line.")
    ] = None,
) -> None:
    """Show the rows that a load set aside, and why.

    Rows that were mended in the CSV file come later with: load TABLE --again FILE.
    """
    opened = call.workspace(lazily=True)
    which = int(load) if load is not None and load.isdecimal() else load
    found = opened.set_aside(which, None if every else 0 if csv or close is not None else 20)
    number = found.load.load_no or 0
    if close is not None:
        rows = opened.close_rejects(number, close, line or [])
        if not call.json:
            call.tell(f"{rows:,} {'row' if rows == 1 else 'rows'} of load {number} closed: {close}")
            return
        found = opened.set_aside(number, 20)
    if csv:
        rows = opened.write_rejects(found, csv)
        if call.json:
            from nomotheta.report.documents import RejectsFile

            call.print(RejectsFile(number, found.load.table, rows, str(csv)))
            return
        told = f"correct them there, then: nomotheta load {found.load.table} --again {csv}"
        call.tell(f"{rows:,} open {'row' if rows == 1 else 'rows'} written to {csv}; {told}")
        return
    if call.json:
        from nomotheta.report.documents import Rejects

        call.print(
            Rejects(
                number, found.load.table, found.rows, found.came, found.open, found.by,
                dict(found.closed), found.faults, dict(found.load.reasons), tuple(found.shown),
            )
        )  # fmt: skip
        return
    from nomotheta.cli.screens.rejects import show_rejects

    show_rejects(found, opened.ledger.history.parts(60, [found.load.table]).get(found.load.table, ()))
