"""Tables checked: against their charters, against their files, and the whole path of a night."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nomotheta.cli.command import Call, command, end, gravest, warn
from nomotheta.cli.options import (
    Create,
    Day,
    Engine,
    From,
    NoTell,
    Place,
    To,
    complete_loads,
    complete_tables,
    day_given,
    days_given,
)
from nomotheta.errors import DeclarationError, counted

if TYPE_CHECKING:
    from nomotheta.events import Listener
    from nomotheta.ledger import RunResult
    from nomotheta.reconcile import Reconciliation
    from nomotheta.workspace import Workspace


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
    engine: Engine = None,
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
    opened.use_engine(engine)
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
        from nomotheta.cli.screens.past import known

        failing = any(each.verdict in {"fail", "error"} for each in results)
        show_judgements(results, known(opened.ledger.docket.entries()) if failing else {})
    end(verdict)


@command()
def reconcile(
    call: Call,
    tables: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="TABLE",
            help="Tables, or comparisons of the workspace; with --with PLACE:TABLE or a file, too. Default: all.",
            autocompletion=complete_tables,
        ),
    ] = None,
    other: Annotated[
        str | None, typer.Option("--with", metavar="TABLE", help="Compare with this: a table, PLACE:TABLE, or a file.")
    ] = None,
    load: Annotated[
        int | None,
        typer.Option("--load", metavar="N", help="That load; default: the newest.", autocompletion=complete_loads),
    ] = None,
    place: Place = None,
    engine: Engine = None,
    where: Annotated[
        str | None, typer.Option("--where", metavar="CONDITION", help="With --with: only rows that meet it.")
    ] = None,
    key: Annotated[
        str | None, typer.Option("--key", metavar="COLUMNS", help="With --with: what tells rows apart, with commas.")
    ] = None,
    without: Annotated[
        str | None, typer.Option("--without", metavar="COLUMNS", help="With --with: columns to leave out.")
    ] = None,
    distinct: Annotated[
        str | None,
        typer.Option("--distinct", metavar="COLUMNS", help="With --with: columns whose different values are counted."),
    ] = None,
    fingerprints: Annotated[
        bool, typer.Option("--fingerprints", help="With --with: show that of each column.")
    ] = False,
    by: Annotated[
        str | None,
        typer.Option("--by", metavar="COLUMN", help="Count rows by that, or by load, day or file, and no more."),
    ] = None,
    since: Annotated[
        str | None, typer.Option("--since", metavar="DAY", help="With --by: the loads from that day.")
    ] = None,
    until: Annotated[
        str | None, typer.Option("--until", metavar="DAY", help="With --by: the loads to that day.")
    ] = None,
    day: Day = None,
    limit: Annotated[
        int,
        typer.Option(
            "--limit", metavar="N", min=0, help="So many of the rows that differ; default: 20.", show_default=False
        ),
    ] = 20,
    csv: Annotated[
        Path | None, typer.Option("--csv", metavar="FILE", help="Write the rows that differ to a CSV file.")
    ] = None,
    parquet: Annotated[
        Path | None, typer.Option("--parquet", metavar="FILE", help="Write the rows that differ to a Parquet file.")
    ] = None,
) -> None:
    """Compare files with their table, or any two tables and files.

    Row counts, totals of every column, and a checksum of all rows; where they differ, the very rows.
    """
    from nomotheta.cli.screens.reconciliation import show_reconciliation

    opened = call.workspace()
    opened.use_engine(engine)
    if by is not None:
        period = [day_given(each, opened) if each else None for each in (since, until)]
        _count(call, opened, tables or [], by, other, place, where, period, day_given(day, opened), limit)
        return
    every = None if csv or parquet else limit
    asked = {
        "where": where, "key": _listed(key), "without": _listed(without), "distinct": _listed(distinct),
        "fingerprints": fingerprints,
    }  # fmt: skip
    ways = _ways(opened, tables or [], other, load, place, asked, day, every)
    results = []
    for way in ways:
        with call.bars("reconciliation") as listener:
            results.append(way(listener))
        if not call.json and not call.silent(results[-1].verdict):
            from nomotheta.cli.screens.past import known

            differs = results[-1].verdict != "pass"
            entries = known(opened.ledger.docket.entries()) if differs else {}
            show_reconciliation(results[-1], again=len(results) > 1, limit=limit, entries=entries)
    verdict = gravest(result.verdict for result in results)
    for file in filter(None, (csv, parquet)):
        rows = opened.write_differences(results, file)
        if not call.json:
            call.tell(f"{counted(rows, 'line')} written to {file}")
    if call.json:
        from nomotheta.report.documents import Reconciliations

        call.print(Reconciliations(verdict, tuple(result.first(limit) for result in results)))
    end(verdict)


def _count(
    call: Call, opened: Workspace, names: list[str], by: str, other: str | None, place: str | None, where: str | None,
    period: list[Any], day: Any, limit: int,
) -> None:  # fmt: skip
    """Rows by groups, on both sides."""
    from nomotheta.cli.screens.reconciliation import show_row_counts

    if other is not None and len(names) != 1:
        raise DeclarationError("--with compares one table or file with another", mend="nomotheta reconcile A --with B")
    results = []
    for name in names or opened.loaded_tables(place):
        with call.bars("reconciliation") as listener:
            found = opened.count(
                name, by, other or "", where=where, place=place, since=period[0], until=period[1], day=day,
                listener=listener,
            )  # fmt: skip
        results.append(found)
        if not call.json and not call.silent(results[-1].verdict):
            show_row_counts(results[-1], again=len(results) > 1, limit=limit)
    verdict = gravest(result.verdict for result in results)
    if call.json:
        from nomotheta.report.documents import Counts

        call.print(Counts(verdict, tuple(results)))
    end(verdict)


def _listed(text: str | None) -> list[str]:
    return [each.strip() for each in text.split(",") if each.strip()] if text else []


def _ways(
    opened: Workspace, names: list[str], other: str | None, load: int | None, place: str | None,
    asked: dict[str, Any], day: str | None, limit: int | None,
) -> Iterator[Callable[[Listener], Reconciliation]]:  # fmt: skip
    """What is to be reconciled, one after the other."""
    if other is not None:
        if len(names) != 1:
            raise DeclarationError(
                "--with compares one table or file with another", mend="nomotheta reconcile A --with B"
            )
        if load is not None or place is not None:
            told = "--load" if load is not None else "--place"
            raise DeclarationError(f"{told} is for the files of a load; with --with, write PLACE:TABLE and --where")
        when = day_given(day, opened)
        yield lambda listener: opened.compare(names[0], other, **asked, day=when, limit=limit, listener=listener)
        return
    given = next((name for name, value in asked.items() if value), None)
    if given is not None:
        raise DeclarationError(f"--{given} is for two sides", mend="name the other: --with TABLE, PLACE:TABLE or FILE")
    comparisons = opened.comparisons()
    tables = [name for name in names if name not in comparisons] if names else opened.loaded_tables(place)
    for table in tables:
        yield lambda listener, table=table: opened.reconcile(  # type: ignore[misc]
            table, load_no=load, place=place, limit=limit, listener=listener
        )
    for name in [name for name in comparisons if name in names or not names]:
        when = day_given(day, opened)
        yield lambda listener, name=name, when=when: opened.compare(name, day=when, limit=limit, listener=listener)  # type: ignore[misc]


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
    first: From = None,
    last: To = None,
    only: Annotated[
        str | None,
        typer.Option("--only", metavar="WHICH", help="failing: the tables that did not pass in that day's newest run."),
    ] = None,
    place: Place = None,
    engine: Engine = None,
    create: Create = False,
    jobs: Annotated[
        int, typer.Option("--jobs", metavar="N", min=1, help="So many tables at a time, where none waits for another.")
    ] = 1,
    rehearse: Annotated[
        bool, typer.Option("--rehearse", help="Trial run: load and check everything, then roll back.")
    ] = False,
    watch: Annotated[
        bool, typer.Option("--watch", help="Follow the folders of deliveries, and run what has come, until stopped.")
    ] = False,
    no_tell: NoTell = False,
) -> None:
    """Load, check and reconcile all tables, in order.

    Each table comes after those it refers to; those who want to hear of failures are told. With --from, one day after
    the other: what came late, or was missed, as if it had come in time.
    """
    opened = call.workspace()
    opened.use_engine(engine)
    if only not in {None, "failing"}:
        raise DeclarationError(f"--only knows 'failing', not '{only}'", where="--only", mend="write failing")
    given = days_given(day, first, last, opened)
    if rehearse and jobs > 1:
        raise DeclarationError("a trial run loads one table after another", where="--jobs",
                               mend="take --jobs out")  # fmt: skip
    if watch:
        if given or only or rehearse:
            raise DeclarationError("--watch runs what comes, whatever its day", where="--watch",
                                   mend="take --day, --from, --only and --rehearse out")  # fmt: skip
        _watched(call, opened, tables or [], place=place, create=create, jobs=jobs, no_tell=no_tell)
        return
    days = given or [opened.today()]
    results: list[RunResult] = []
    for each in days:
        chosen = tables or []
        if only is not None:
            chosen = [name for name in opened.failing(each) if not tables or name in tables]
            if not chosen:
                call.tell(f"no table failed in the newest run for {each}")
                continue
        with call.bars("night") as listener:
            asked: dict[str, Any] = {"place": place, "create": create, "listener": listener}
            until = days[-1] if only is None else None
            carry_out = opened.rehearse_run if rehearse else partial(opened.run, until=until, jobs=jobs)
            results.append(carry_out(each, chosen, **asked))
        _tell_of_part(call, opened, results[-1])
        if not rehearse:
            warn(opened.keep_pages(results[-1]))
            warn([] if no_tell else opened.tell(results[-1]))
        if len(days) > 1:
            call.tell(f"{each}: {results[-1].verdict}")
    _show_runs(call, results, several=len(days) > 1, trial=rehearse)


def _tell_of_part(call: Call, opened: Workspace, result: RunResult) -> None:
    """That this machine has carried out only a part of a run, if it has."""
    here = opened.led_elsewhere.get(result.run_id)
    if here is not None:
        of = counted(len(result.tables), "table")
        call.tell(f"another machine led run {result.run_id}: this one carried out {here} of its {of}")


def _watched(
    call: Call, opened: Workspace, tables: list[str], *, place: str | None, create: bool, jobs: int, no_tell: bool
) -> None:  # fmt: skip
    """Run what comes until somebody ends it; each run is shown when it is done."""
    import signal
    import threading

    ended = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: ended.set())

    def told(result: RunResult) -> None:
        _tell_of_part(call, opened, result)
        warn(opened.keep_pages(result))
        warn([] if no_tell else opened.tell(result))
        if call.json:
            call.print(result)
        elif not call.silent(result.verdict):
            from nomotheta.cli.screens.night import show_run
            from nomotheta.cli.screens.past import known

            show_run(result, known(opened.ledger.docket.entries()))

    call.tell("following the folders of deliveries; end it with Ctrl-C")
    try:
        opened.watch(tables, place=place, create=create, jobs=jobs, ended=ended, told=told)
    except KeyboardInterrupt:
        ended.set()


def _show_runs(call: Call, results: list[RunResult], *, several: bool, trial: bool) -> None:
    """Show what came of some days, and end with the gravest of it."""
    verdict = gravest(each.verdict for each in results) if results else "pass"
    if call.json:
        from nomotheta.report.documents import Runs

        call.print(Runs(verdict, tuple(results)) if several or not results else results[0])
    elif not call.silent(verdict) and results:
        from nomotheta.cli.screens.night import show_runs
        from nomotheta.cli.screens.past import known

        show_runs(results, {} if trial else known(call.workspace(lazily=True).ledger.docket.entries()))
    end(verdict)
