"""The commands."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nomotheta.cli.guard import CODES, guarded, print_json
from nomotheta.cli.plainly import take_plainly

if TYPE_CHECKING:
    from nomotheta.peek import Look
    from nomotheta.workspace import Workspace

take_plainly()
app = typer.Typer(
    add_completion=False, no_args_is_help=True, rich_markup_mode=None, pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="Load the night's files into tables, check them against what was declared, and show what did not fit.",
)  # fmt: skip

Folder = Annotated[
    Path,
    typer.Option(
        "--workspace",
        "-w",
        metavar="FOLDER",
        show_default=False,
        help="The workspace; default: here or a folder above.",
    ),
]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON document.")]
Place = Annotated[str | None, typer.Option("--place", metavar="NAME", help="Another place than the charter's.")]
Create = Annotated[bool, typer.Option("--create", help="Create the table where it is not there.")]
Day = Annotated[
    datetime.datetime | None,
    typer.Option("--day", formats=["%Y-%m-%d"], metavar="YYYY-MM-DD", help="The delivery's day; default: today."),
]
HERE = Path()


def _open(folder: Path) -> Workspace:
    from nomotheta.workspace import Workspace

    return Workspace.open(folder)


def _date(day: datetime.datetime | None, workspace: Workspace) -> datetime.date:
    return day.date() if day else workspace.today()


def _print(document: Any) -> None:
    from nomotheta.report.documents import to_json

    print_json(to_json(document))


def _warn(errors: list[Any]) -> None:
    from nomotheta.cli.paint import show_error

    for error in errors:
        show_error(error)


def _end(verdict: str) -> None:
    if CODES[verdict]:
        raise typer.Exit(CODES[verdict])


def _version(value: bool) -> None:
    if value:
        from nomotheta import __version__
        from nomotheta.kernel import in_use

        typer.echo(f"nomotheta {__version__} ({'with' if in_use() else 'without'} the compiled kernel)")
        raise typer.Exit


@app.callback()
def _main(
    _: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
) -> None:
    pass


@app.command()
def demo(
    folder: Annotated[
        Path, typer.Argument(metavar="FOLDER", help="A new or empty folder; default: skerry-line.", show_default=False)
    ] = Path("skerry-line"),
    json: Json = False,
) -> None:
    """Write a made-up ferry line and run three of its nights."""
    with guarded(json=json):
        from nomotheta.cli.progress import bars
        from nomotheta.demo import NIGHTS, write_demo

        write_demo(folder)
        workspace = _open(folder)
        runs = []
        for night in NIGHTS:
            with bars(quiet=json) as listener:
                runs.append(workspace.run(night, create=True, listener=listener))
            _warn(workspace.tell(runs[-1]))
        paths = [workspace.report(run.run_id)[1] for run in runs]
        if json:
            from nomotheta.report.documents import Demo

            _print(Demo(str(folder), str(paths[-1]), tuple(runs)))
            return
        from nomotheta.cli.show import show_demo

        show_demo(runs, folder, paths)


@app.command()
def peek(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A file of any format, plain or packed.")],
    rows: Annotated[
        int | None, typer.Option("--rows", metavar="N", min=1, help="Read only so many; default: all.")
    ] = None,
    page: Annotated[
        Path | None, typer.Option("--page", metavar="FILE", help="Write an HTML page too, with one chart per column.")
    ] = None,
    json: Json = False,
) -> None:
    """Look at a file: layout, columns, kinds, keys, oddities."""
    with guarded(json=json):
        from nomotheta.cli.progress import bars
        from nomotheta.peek import look

        with bars(quiet=json, screen="nomotheta.cli.show_look") as listener:
            found = look(file, rows, listener, spreads=bool(json or page))
        if page:
            _write_page(found, page)
        if json:
            _print(found)
            return
        from nomotheta.cli.show_look import show_look

        show_look(found)


def _write_page(found: Look, page: Path) -> None:
    from nomotheta.errors import DeclarationError
    from nomotheta.report.look_page import look_page
    from nomotheta.report.write import write_file

    try:
        write_file(page, look_page(found, datetime.datetime.now().astimezone()))
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(page)) from None
    typer.echo(f"written to {page}", err=True)


@app.command()
def propose(
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
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Write a charter to start from.

    Its comments say what was seen, and what is a guess.
    """
    with guarded(json=json):
        from nomotheta.cli.progress import bars
        from nomotheta.errors import DeclarationError
        from nomotheta.workspace.proposing import metadata_of_proposal

        if sum(each is not None for each in (file, from_table, from_charter)) != 1:
            raise DeclarationError("name a file, or a table with --from-table", mend="nomotheta propose inbox/FILE")
        if from_charter and not metadata:
            mend = f"nomotheta propose --from-charter {from_charter} --metadata"
            raise DeclarationError("a charter is there already; what can be written from it is metadata", mend=mend)
        opened = _open(workspace)
        if from_charter:
            text = opened.metadata(from_charter)
        elif file is not None:
            with bars(quiet=json) as listener:
                text = opened.propose_file(file, table, listener)
        else:
            text = opened.propose_table(str(from_table), place)
        text = metadata_of_proposal(text) if metadata and not from_charter else text
        if to:
            opened.write_proposal(text, to)
        if json:
            from nomotheta.report.documents import Proposed

            _print(Proposed(text, str(to) if to else None))
        elif to is None:
            typer.echo(text)
        else:
            typer.echo(f"written to {to}", err=True)


@app.command()
def lint(workspace: Folder = HERE, json: Json = False) -> None:
    """Check all charters without touching any data."""
    with guarded(json=json):
        opened = _open(workspace)
        charters, problems = opened.lint()
        notes = [] if problems else opened.notes()
        if json:
            from nomotheta.report.documents import Linted

            _print(Linted(tuple(charters), tuple(problems), tuple(notes)))
        else:
            from nomotheta.cli.show import show_lint

            show_lint(charters, problems, notes)
        if problems:
            raise typer.Exit(2)


@app.command()
def load(
    table: Annotated[str, typer.Argument(metavar="TABLE", help="The table, as its charter names it.")],
    file: Annotated[
        Path | None, typer.Argument(metavar="FILE", help="With --again: the rows of rejects --csv, mended.")
    ] = None,
    day: Day = None,
    place: Place = None,
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
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Load a table's delivery, all or nothing.

    Rows that do not fit are set aside; the rules are judged before anything is committed.
    """
    with guarded(json=json):
        from nomotheta.cli.progress import bars

        _check_again(file, again=again, others=bool(rehearse or day or create or even_if_loaded))
        opened = _open(workspace)
        with bars(quiet=json) as listener:
            if again and file is None:
                results = opened.load_open_again(table, place=place, listener=listener)
            elif again and file is not None:
                results = [opened.load_mended(table, file, place=place, listener=listener)]
            else:
                carry_out = opened.rehearse if rehearse else opened.load
                result = carry_out(
                    table, _date(day, opened), place=place, create=create, even_if_loaded=even_if_loaded,
                    listener=listener,
                )  # fmt: skip
                results = [result]
        verdict = _gravest(result.verdict for result in results)
        if json:
            from nomotheta.report.documents import Loads

            _print(Loads(verdict, tuple(results)))
        else:
            from nomotheta.cli.show import show_loads

            show_loads(table, results)
        for result in results if not rehearse else ():
            _warn(opened.tell(result))
        _end(verdict)


def _check_again(file: Path | None, *, again: bool, others: bool) -> None:
    """Whether --again stands where it can."""
    from nomotheta.errors import DeclarationError

    if again and others:
        told = "--again goes with none of --day, --create, --rehearse and --even-if-loaded"
        raise DeclarationError(told, mend="the day is that of the load whose rows were mended")
    if file is not None and not again:
        raise DeclarationError("the charter says which files are loaded, so none is named here", where=str(file),
                               mend="for mended rows: nomotheta load TABLE --again FILE")  # fmt: skip


@app.command()
def undo(
    loads: Annotated[
        list[str] | None, typer.Argument(metavar="LOAD", help="A load's number, or several: 4 6, or 4..7.")
    ] = None,
    run_id: Annotated[int | None, typer.Option("--run", metavar="N", help="All loads of that run.")] = None,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Take loads out of their tables again, all of them or none.

    Their rows are removed, the newest load's first, and those that they replaced are put back, if they were kept.
    """
    with guarded(json=json):
        results = _open(workspace).undo(*_numbers(loads or [], some=run_id is not None), run_id=run_id)
        verdict = _gravest(result.verdict for result in results)
        if json:
            from nomotheta.report.documents import Undos

            _print(Undos(verdict, tuple(results)))
        else:
            from nomotheta.cli.show import show_undone

            show_undone(results)
        _end(verdict)


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


@app.command()
def judge(
    tables: Annotated[
        list[str] | None, typer.Argument(metavar="TABLE", help="The tables; default: all that have a charter.")
    ] = None,
    day: Day = None,
    place: Place = None,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Check tables against their charters."""
    with guarded(json=json):
        opened = _open(workspace)
        results = opened.judge(tables or [], place=place, day=day.date() if day else None)
        verdict = _gravest(result.verdict for result in results)
        if json:
            from nomotheta.report.documents import Judgements

            _print(Judgements(verdict, tuple(results)))
        else:
            from nomotheta.cli.show import show_judgements

            show_judgements(results)
        _end(verdict)


@app.command()
def reconcile(
    tables: Annotated[list[str], typer.Argument(metavar="TABLE", help="The tables, as their charters name them.")],
    load: Annotated[int | None, typer.Option("--load", metavar="N", help="That load; default: the newest.")] = None,
    place: Place = None,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Compare loaded files with their table.

    Row counts, totals of every column, and a checksum of all rows; where they differ, the very rows.
    """
    with guarded(json=json):
        from nomotheta.cli.progress import bars
        from nomotheta.cli.show import show_reconciliation

        opened = _open(workspace)
        results = []
        for table in tables:
            with bars(quiet=json) as listener:
                results.append(opened.reconcile(table, load_no=load, place=place, listener=listener))
            if not json:
                show_reconciliation(results[-1])
        verdict = _gravest(result.verdict for result in results)
        if json:
            from nomotheta.report.documents import Reconciliations

            _print(Reconciliations(verdict, tuple(results)))
        _end(verdict)


@app.command()
def rejects(
    load: Annotated[int | None, typer.Argument(metavar="LOAD", help="The load; default: the newest with any.")] = None,
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
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Show the rows that a load set aside, and why.

    Rows that were mended in the CSV file come later with: load TABLE --again FILE.
    """
    with guarded(json=json):
        opened = _open(workspace)
        found = opened.set_aside(load, None if every else 0 if csv or close is not None else 20)
        if close is not None:
            number = found.load.load_no or 0
            rows = opened.close_rejects(number, close, line or [])
            if not json:
                typer.echo(f"{rows:,} {'row' if rows == 1 else 'rows'} of load {number} closed: {close}", err=True)
                return
            found = opened.set_aside(number, 20)
        if csv:
            rows = opened.write_rejects(found, csv)
            if json:
                from nomotheta.report.documents import RejectsFile

                _print(RejectsFile(found.load.load_no or 0, found.load.table, rows, str(csv)))
                return
            told = f"mend them there, then: nomotheta load {found.load.table} --again {csv}"
            typer.echo(f"{rows:,} open {'row' if rows == 1 else 'rows'} written to {csv}; {told}", err=True)
            return
        if json:
            from nomotheta.report.documents import Rejects

            _print(
                Rejects(
                    found.load.load_no or 0, found.load.table, found.rows, found.came, found.open, found.by,
                    dict(found.closed), found.faults, dict(found.load.reasons), tuple(found.shown),
                )
            )  # fmt: skip
            return
        from nomotheta.cli.show import show_rejects

        show_rejects(found)


@app.command()
def run(
    tables: Annotated[
        list[str] | None, typer.Argument(metavar="TABLE", help="The tables; default: all with a delivery.")
    ] = None,
    day: Day = None,
    place: Place = None,
    create: Create = False,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Load, check and reconcile all tables, in order.

    Each table comes after those it refers to; those who want to hear of failures are told.
    """
    with guarded(json=json):
        from nomotheta.cli.progress import bars

        opened = _open(workspace)
        with bars(quiet=json) as listener:
            result = opened.run(
                day.date() if day else None, tables or [], place=place, create=create, listener=listener
            )
        if json:
            _print(result)
        else:
            from nomotheta.cli.show import show_run

            show_run(result)
        _warn(opened.tell(result))
        _end(result.verdict)


@app.command()
def places(workspace: Folder = HERE, json: Json = False) -> None:
    """Try each declared place: does it answer, what may be done."""
    with guarded(json=json):
        answers = _open(workspace).places.tried()
        if json:
            from nomotheta.report.documents import Places

            _print(Places(tuple(answers)))
        else:
            from nomotheta.cli.show import show_places

            show_places(answers)
        if not all(each.answers for each in answers):
            raise typer.Exit(CODES["error"])


@app.command()
def ledger(
    table: Annotated[str | None, typer.Argument(metavar="TABLE", help="Only this table.")] = None,
    last: Annotated[int, typer.Option("--last", metavar="N", min=1, help="So many entries.")] = 30,
    load: Annotated[int | None, typer.Option("--load", metavar="N", help="All that is known of one load.")] = None,
    charter: Annotated[bool, typer.Option("--charter", help="With --load: the charter as it was then.")] = False,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Show what happened before, newest first."""
    with guarded(json=json):
        opened = _open(workspace)
        if load is not None:
            _show_kept(opened, load, charter=charter, json=json)
            return
        entries = opened.ledger.entries(table, last)
        if json:
            from nomotheta.report.documents import LedgerPage

            _print(LedgerPage(tuple(entries)))
            return
        from nomotheta.cli.show import show_ledger

        show_ledger(entries, opened.zone)


def _show_kept(opened: Workspace, load_no: int, *, charter: bool, json: bool) -> None:
    """A load as the ledger keeps it."""
    kept, began, text = opened.kept_load(load_no)
    if json:
        from nomotheta.report.documents import LedgerLoad

        _print(LedgerLoad(kept, began.isoformat(), text))
    elif charter:
        typer.echo(text, nl=not text.endswith("\n"))
    else:
        from nomotheta.cli.show import show_kept

        show_kept(kept, began.astimezone(opened.zone))


@app.command()
def report(
    run: Annotated[int | None, typer.Argument(metavar="RUN", help="The run; default: the newest.")] = None,
    file: Annotated[Path | None, typer.Option("--to", metavar="FILE", help="Where; default: reports/.")] = None,
    load: Annotated[int | None, typer.Option("--load", metavar="N", help="In place of a run: one load.")] = None,
    judged: Annotated[
        str | None, typer.Option("--judged", metavar="TABLE", help="In place of a run: a table as last judged.")
    ] = None,
    workspace: Folder = HERE,
    json: Json = False,
) -> None:
    """Write the page of a run, a load or a judgement."""
    with guarded(json=json):
        result, path = _open(workspace).report(run, file, load_no=load, judged=judged)
        if json:
            from nomotheta.report.documents import Page

            _print(Page(result.run_id or None, str(path)))
            return
        from nomotheta.cli.show import relative

        typer.echo(relative(path.resolve()))


def _gravest(verdicts: Any) -> str:
    from nomotheta.rules.finding import gravest

    return gravest(verdicts)
