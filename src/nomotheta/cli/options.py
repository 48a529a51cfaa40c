"""Options that several commands have, and what completes their values."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from collections.abc import Iterator

    from nomotheta.workspace import Workspace


def _opened(ctx: Any) -> Workspace | None:
    """The workspace that a half-typed command speaks of, where it can be opened."""
    from pathlib import Path

    from nomotheta.errors import NomothetaError
    from nomotheta.workspace import Workspace

    try:
        return Workspace.open(Path(ctx.params.get("workspace") or Path()))
    except NomothetaError:
        return None


def complete_tables(ctx: typer.Context, incomplete: str) -> list[str]:
    """Tables that have a charter."""
    opened = _opened(ctx)
    tables = [each.charter.table for each in opened.charters.apart(())[0]] if opened else []
    return [each for each in tables if each.startswith(incomplete)]


def complete_places(ctx: typer.Context, incomplete: str) -> list[str]:
    """Places of the workspace."""
    opened = _opened(ctx)
    return [each for each in (opened.settings.places if opened else ()) if each.startswith(incomplete)]


def complete_loads(ctx: typer.Context, incomplete: str) -> list[tuple[str, str]]:
    """Loads, the newest first, each with what it was."""
    opened = _opened(ctx)
    return list(_loads(opened, incomplete)) if opened else []


def _loads(opened: Workspace, incomplete: str) -> Iterator[tuple[str, str]]:
    for each in opened.ledger.entries(None, 200):
        number = str(each.load_no or "")
        if number and each.what == "load" and number.startswith(incomplete):
            yield number, f"{each.table} for {each.day}: {each.verdict}"


Place = Annotated[
    str | None,
    typer.Option("--place", metavar="NAME", help="Another place than the charter's.", autocompletion=complete_places),
]
Create = Annotated[bool, typer.Option("--create", help="Create the table where it is not there.")]
Day = Annotated[
    str | None,
    typer.Option("--day", metavar="DAY", help="The delivery's day: 2026-12-31, yesterday, -1; default: today."),
]
TellIt = Annotated[bool, typer.Option("--tell", help="Tell those who want to hear of it, as a run does.")]
NoTell = Annotated[bool, typer.Option("--no-tell", help="Send no mail about it.")]
Table = Annotated[
    str, typer.Argument(metavar="TABLE", help="The table, as its charter names it.", autocompletion=complete_tables)
]


def day_given(day: str | None, opened: Workspace) -> datetime.date | None:
    """The day of an option; None where none is given.

    Raises:
        DeclarationError: it is not a day.
    """
    from nomotheta.days import day_of
    from nomotheta.errors import DeclarationError

    try:
        return day_of(day, opened.today()) if day is not None else None
    except ValueError as error:
        raise DeclarationError(str(error), where="--day") from None
