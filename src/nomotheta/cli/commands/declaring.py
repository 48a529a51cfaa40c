"""What is declared, before any data is touched: charters and places."""

from __future__ import annotations

import datetime
from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, end, warn
from nomotheta.errors import DeclarationError, NomothetaError, did_you_mean


@command()
def lint(
    call: Call,
    with_places: Annotated[bool, typer.Option("--places", help="Hold them against the real tables, too.")] = False,
) -> None:
    """Check all charters without touching any data."""
    opened = call.workspace()
    charters, problems = opened.lint()
    silent: list[NomothetaError] = []
    notes = [] if problems else opened.notes()
    if with_places and not problems:
        problems, more, silent = opened.lint_places()
        notes += more
    if call.json:
        from nomotheta.report.documents import Linted

        call.print(Linted(tuple(charters), tuple(problems), tuple(notes)))
    elif problems or not call.quiet:
        from nomotheta.cli.screens.lint import show_lint

        show_lint(charters, problems, notes)
    warn(silent)
    if problems or silent:
        raise typer.Exit(2 if problems else 3)


@command(workspace=False)
def schema(
    _call: Call,
    of: Annotated[str, typer.Argument(metavar="OF", help="charter, shared, settings, or a document of --json.")] = "",
) -> None:
    """Print the JSON Schema of what is declared, for an editor, or of a document.

    An editor that knows TOML completes and checks charters by it: nomotheta schema charter > charter.schema.json
    """
    from nomotheta.report.documents import schemas

    known = schemas()
    if not of:
        typer.echo("\n".join(known))
    elif of in known:
        typer.echo(known[of])
    else:
        raise DeclarationError(f"there is no schema of '{of}'", mend=did_you_mean(of, known, ", ".join(known)))


@command()
def places(call: Call) -> None:
    """Try each declared place: does it answer, what may be done."""
    answers = call.workspace().places.tried()
    verdict = "pass" if all(each.answers for each in answers) else "error"
    if call.json:
        from nomotheta.report.documents import Places

        call.print(Places(tuple(answers)))
    elif not call.silent(verdict):
        from nomotheta.cli.screens.places import show_places

        show_places(answers)
    end(verdict)


@command()
def schedule(
    call: Call,
    clock: Annotated[str, typer.Option("--for", metavar="CLOCK", help="What starts it: systemd, or cron.")] = "systemd",
    at: Annotated[
        str | None,
        typer.Option("--at", metavar="HH:MM", help="When; default: five minutes after the last file is due."),
    ] = None,
) -> None:
    """Print what starts a run every day, for systemd or cron.

    It is only printed: nothing is installed. Without --at, a run starts five minutes after the last file is due.
    """
    opened = call.workspace()
    if clock not in {"systemd", "cron"}:
        raise DeclarationError(f"the clock '{clock}' is not known", where="--for", mend="write systemd or cron")
    try:
        time = None if at is None else datetime.time.fromisoformat(at)
    except ValueError:
        raise DeclarationError(f"'{at}' is not a time of day", where="--at", mend="write it as 06:35") from None
    text = opened.schedule(clock, time)
    if call.json:
        from nomotheta.report.documents import Schedule

        call.print(Schedule(clock, text))
    else:
        typer.echo(text, nl=False)
