"""Tables checked: against their charters, against their files, and the whole path of a night."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, end, gravest, warn
from nomotheta.cli.options import Create, Day, NoTell, Place, complete_loads, complete_tables, day_given


@command()
def judge(
    call: Call,
    tables: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="TABLE", help="The tables; default: all that have a charter.", autocompletion=complete_tables
        ),
    ] = None,
    day: Day = None,
    place: Place = None,
    load: Annotated[
        int | None,
        typer.Option("--load", metavar="N", help="Only the rows of that load.", autocompletion=complete_loads),
    ] = None,
    jobs: Annotated[
        int, typer.Option("--jobs", metavar="N", min=1, help="So many tables of a place at a time, as of one moment.")
    ] = 1,
    show_sql: Annotated[bool, typer.Option("--show-sql", help="Print every statement, to run it yourself.")] = False,
    keep_breaks: Annotated[
        Path | None,
        typer.Option("--keep-breaks", metavar="FILE", help="Keep all breaking rows: .parquet, .csv, a folder."),
    ] = None,
) -> None:
    """Check tables against their charters."""
    opened = call.workspace()
    shown = "nomotheta.report.documents" if call.json else "nomotheta.cli.screens.findings"
    results = opened.judge(
        tables or [], place=place, day=day_given(day, opened), load_no=load, keep=keep_breaks, jobs=jobs,
        meanwhile=[shown],
    )  # fmt: skip
    verdict = gravest(result.verdict for result in results)
    if call.json:
        from nomotheta.report.documents import Judgements

        call.print(Judgements(verdict, tuple(results)))
    elif show_sql:
        from nomotheta.cli.screens.statements import show_statements

        show_statements(results, opened.sessions({each.place for each in results}))
    elif not call.silent(verdict):
        from nomotheta.cli.screens.findings import show_judgements

        show_judgements(results)
    end(verdict)


@command()
def reconcile(
    call: Call,
    tables: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="TABLE", help="The tables; default: all that were loaded.", autocompletion=complete_tables
        ),
    ] = None,
    load: Annotated[
        int | None,
        typer.Option("--load", metavar="N", help="That load; default: the newest.", autocompletion=complete_loads),
    ] = None,
    place: Place = None,
) -> None:
    """Compare loaded files with their table.

    Row counts, totals of every column, and a checksum of all rows; where they differ, the very rows.
    """
    from nomotheta.cli.screens.reconciliation import show_reconciliation

    opened = call.workspace()
    results = []
    for table in tables or opened.loaded_tables(place):
        with call.bars("reconciliation") as listener:
            results.append(opened.reconcile(table, load_no=load, place=place, listener=listener))
        if not call.json and not call.silent(results[-1].verdict):
            show_reconciliation(results[-1], again=len(results) > 1)
    verdict = gravest(result.verdict for result in results)
    if call.json:
        from nomotheta.report.documents import Reconciliations

        call.print(Reconciliations(verdict, tuple(results)))
    end(verdict)


@command()
def run(
    call: Call,
    tables: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="TABLE", help="The tables; default: all with a delivery.", autocompletion=complete_tables
        ),
    ] = None,
    day: Day = None,
    place: Place = None,
    create: Create = False,
    rehearse: Annotated[
        bool, typer.Option("--rehearse", help="Trial run: load and check everything, then roll back.")
    ] = False,
    no_tell: NoTell = False,
) -> None:
    """Load, check and reconcile all tables, in order.

    Each table comes after those it refers to; those who want to hear of failures are told.
    """
    opened = call.workspace()
    with call.bars("night") as listener:
        carry_out = opened.rehearse_run if rehearse else opened.run
        result = carry_out(day_given(day, opened), tables or [], place=place, create=create, listener=listener)
    if call.json:
        call.print(result)
    elif not call.silent(result.verdict):
        from nomotheta.cli.screens.night import show_run

        show_run(result)
    if not (no_tell or rehearse):
        warn(opened.tell(result))
    end(result.verdict)
