"""What happened before: the ledger, and pages about it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from nomotheta.cli.command import Call, command, end
from nomotheta.cli.options import complete_loads, complete_places, complete_tables, day_given
from nomotheta.errors import DeclarationError

if TYPE_CHECKING:
    from nomotheta.workspace import Workspace


@command()
def ledger(
    call: Call,
    table: Annotated[
        str | None, typer.Argument(metavar="TABLE", help="Only this table.", autocompletion=complete_tables)
    ] = None,
    last: Annotated[int, typer.Option("--last", metavar="N", min=1, help="So many entries.")] = 30,
    failed: Annotated[bool, typer.Option("--failed", help="Only what failed or ended in an error.")] = False,
    day: Annotated[str | None, typer.Option("--day", metavar="DAY", help="Only deliveries of that day.")] = None,
    place: Annotated[
        str | None, typer.Option("--place", metavar="NAME", help="Only that place.", autocompletion=complete_places)
    ] = None,
    load: Annotated[
        int | None,
        typer.Option("--load", metavar="N", help="All that is known of one load.", autocompletion=complete_loads),
    ] = None,
    charter: Annotated[bool, typer.Option("--charter", help="With --load: the charter as it was then.")] = False,
    verify: Annotated[bool, typer.Option("--verify", help="Look whether it is as it was written.")] = False,
    changes: Annotated[
        bool, typer.Option("--changes", help="What is otherwise than the night before; with --day, on that day.")
    ] = False,
    trends: Annotated[bool, typer.Option("--trends", help="The tables over the last N nights.")] = False,
    prune: Annotated[
        str | None, typer.Option("--prune", metavar="DAY", help="Remove what is older and no longer needed.")
    ] = None,
    rehearse: Annotated[bool, typer.Option("--rehearse", help="With --prune: only say what would be removed.")] = False,
) -> None:
    """Show what happened before, newest first."""
    opened = call.workspace(lazily=True)
    asked = [name for name, given in (("--verify", verify), ("--load", load is not None), ("--changes", changes),
                                      ("--trends", trends), ("--prune", prune is not None)) if given]  # fmt: skip
    if len(asked) > 1 or (rehearse and prune is None):
        told = " and ".join(asked) if len(asked) > 1 else "--rehearse without --prune"
        raise DeclarationError(f"{told} cannot be asked together" if len(asked) > 1 else f"{told} says nothing",
                               mend="see: nomotheta ledger --help")  # fmt: skip
    if prune is not None:
        _prune(call, opened, prune, rehearse=rehearse)
        return
    if changes or trends:
        _show_nights(call, opened, [table] if table else None, day, last if trends else None)
        return
    if verify:
        _verify(call, opened)
        return
    if load is not None:
        _show_kept(call, opened, load, charter=charter)
        return
    entries = opened.ledger.entries(table, last, failed=failed, day=day_given(day, opened), place=place)
    if call.json:
        from nomotheta.report.documents import LedgerPage

        call.print(LedgerPage(tuple(entries)))
        return
    from nomotheta.cli.screens.ledger import show_ledger

    nights = opened.ledger.history.parts(60, [table]).get(table, ()) if table else ()
    show_ledger(entries, opened.zone, chosen=bool(table or failed or day or place), nights=nights)


def _prune(call: Call, opened: Workspace, before: str, *, rehearse: bool) -> None:
    """Remove what is old."""
    found = opened.prune(day_given(before, opened) or opened.today(), rehearse=rehearse)
    if call.json:
        call.print(found)
    elif not call.quiet:
        from nomotheta.cli.screens.nights import show_pruned

        show_pruned(found)


def _show_nights(call: Call, opened: Workspace, tables: list[str] | None, day: str | None, nights: int | None) -> None:
    """What changed since the night before, or how some nights were."""
    history = opened.ledger.history
    if nights is not None:
        parts = history.by_day(nights, tables)
        if call.json:
            from nomotheta.report.documents import LedgerTrends

            call.print(LedgerTrends(nights, {name: tuple(each) for name, each in parts.items()}))
            return
        from nomotheta.cli.screens.nights import show_trends

        show_trends(parts, tables[0] if tables else None)
        return
    when, changes = history.changes(day_given(day, opened))
    changes = [each for each in changes if tables is None or each.table in tables]
    if call.json:
        from nomotheta.report.documents import LedgerChanges

        call.print(LedgerChanges(when, tuple(changes)))
        return
    from nomotheta.cli.screens.nights import show_changes

    show_changes(when, changes, tables[0] if tables else None)


def _verify(call: Call, opened: Workspace) -> None:
    """Whether the ledger is as it was written."""
    found = opened.ledger.verified()
    if call.json:
        call.print(found)
    elif not call.silent("fail" if found.altered else "pass"):
        from nomotheta.cli.screens.ledger import show_verified

        show_verified(found)
    end("fail" if found.altered else "pass")


def _show_kept(call: Call, opened: Workspace, load_no: int, *, charter: bool) -> None:
    """A load as the ledger keeps it."""
    kept, began, text = opened.kept_load(load_no)
    if call.json:
        from nomotheta.report.documents import LedgerLoad

        call.print(LedgerLoad(kept, began.isoformat(), text))
    elif charter:
        typer.echo(text, nl=not text.endswith("\n"))
    else:
        from nomotheta.cli.screens.ledger import show_kept

        show_kept(kept, began.astimezone(opened.zone))


@command()
def report(
    call: Call,
    run: Annotated[int | None, typer.Argument(metavar="RUN", help="A page of this run alone.")] = None,
    file: Annotated[Path | None, typer.Option("--to", metavar="FILE", help="Where; default: reports/.")] = None,
    load: Annotated[
        int | None,
        typer.Option("--load", metavar="N", help="In place of a run: one load.", autocompletion=complete_loads),
    ] = None,
    judged: Annotated[
        str | None,
        typer.Option(
            "--judged",
            metavar="TABLE",
            help="In place of a run: a table as last judged.",
            autocompletion=complete_tables,
        ),
    ] = None,
    as_: Annotated[
        str | None,
        typer.Option(
            "--as",
            metavar="FORM",
            help="For programs: junit, openmetrics, dqv, prov, findings, breaks, rejects, differences.",
        ),
    ] = None,
) -> None:
    """Write the pages of all tables, or of one run or load."""
    if as_ is not None:
        if load is not None or judged is not None:
            raise DeclarationError("--as is of a run", mend="name the run, or none for the newest")
        result, path = call.workspace().write_as(as_, run, file)
        if call.json:
            from nomotheta.report.documents import Page

            call.print(Page(result.run_id, str(path)))
        else:
            from nomotheta.cli.paint import relative

            typer.echo(relative(path.resolve()))
        return
    if run is None and file is None and load is None and judged is None:
        path = call.workspace().write_site()
        if call.json:
            from nomotheta.report.documents import Page

            call.print(Page(None, str(path)))
        else:
            from nomotheta.cli.paint import relative

            typer.echo(relative(path.resolve()))
        return
    result, path = call.workspace().report(run, file, load_no=load, judged=judged)
    if call.json:
        from nomotheta.report.documents import Page

        call.print(Page(result.run_id or None, str(path)))
        return
    from nomotheta.cli.paint import relative

    typer.echo(relative(path.resolve()))


@command()
def evidence(
    call: Call,
    table: Annotated[
        str | None, typer.Argument(metavar="TABLE", help="Only this table.", autocompletion=complete_tables)
    ] = None,
    since: Annotated[str | None, typer.Option("--from", metavar="DAY", help="The first delivery's day.")] = None,
    until: Annotated[str | None, typer.Option("--to", metavar="DAY", help="The last one; default: the first.")] = None,
    file: Annotated[
        Path, typer.Option("--to-file", metavar="FILE", help="Where; default: evidence.zip.", show_default=False)
    ] = Path("evidence.zip"),
) -> None:
    """Pack what an auditor asks for about some days.

    Charters, balances, findings, fingerprints, checksums, rejects and excuses, as a BagIt bag.
    """
    opened = call.workspace()
    first = day_given(since, opened) or opened.today()
    found = opened.evidence(first, day_given(until, opened) or first, file, table=table)
    if call.json:
        call.print(found)
        return
    told = f"{found.entries:,} {'entry' if found.entries == 1 else 'entries'} of the ledger in {file}"
    typer.echo(told if found.intact else f"{told}; the ledger is not as it was written: nomotheta ledger --verify")
