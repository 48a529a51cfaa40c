"""What is declared, before any data is touched: charters and places."""

from __future__ import annotations

import typer

from nomotheta.cli.command import Call, command, end


@command()
def lint(call: Call) -> None:
    """Check all charters without touching any data."""
    opened = call.workspace()
    charters, problems = opened.lint()
    notes = [] if problems else opened.notes()
    if call.json:
        from nomotheta.report.documents import Linted

        call.print(Linted(tuple(charters), tuple(problems), tuple(notes)))
    elif problems or not call.quiet:
        from nomotheta.cli.screens.lint import show_lint

        show_lint(charters, problems, notes)
    if problems:
        raise typer.Exit(2)


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
