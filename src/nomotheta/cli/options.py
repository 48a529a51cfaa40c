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
Engine = Annotated[
    str | None,
    typer.Option(
        "--engine", metavar="NAME", help="The engine that loads, judges, compares a lake; none: this machine."
    ),
]
Create = Annotated[bool, typer.Option("--create", help="Create the table where it is not there.")]
Day = Annotated[
    str | None,
    typer.Option("--day", metavar="DAY", help="The delivery's day: 2026-12-31, yesterday, -1; default: today."),
]
TellIt = Annotated[bool, typer.Option("--tell", help="Tell those who want to hear of it, as a run does.")]
NoTell = Annotated[bool, typer.Option("--no-tell", help="Send no mail about it.")]
Tables = Annotated[
    list[str] | None, typer.Argument(metavar="TABLE", help="The tables; default: all.", autocompletion=complete_tables)
]
From = Annotated[str | None, typer.Option("--from", metavar="DAY", help="With --to: all days from this one on.")]
To = Annotated[str | None, typer.Option("--to", metavar="DAY", help="The last of these days; default: today.")]
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


_MOST_DAYS = 3_700


def days_given(
    day: str | None, first: str | None, last: str | None, opened: Workspace
) -> list[datetime.date]:  # fmt: skip
    """The days of --day, or from --from up to --to; none where none is given.

    Raises:
        DeclarationError: one is not a day, or they contradict each other.
    """
    import datetime

    from nomotheta.errors import DeclarationError

    if first is None and last is None:
        found = day_given(day, opened)
        return [found] if found is not None else []
    if day is not None or first is None:
        told = "--day is one day, --from and --to are several" if day is not None else "--to needs --from"
        raise DeclarationError(told, where="--day" if day is not None else "--to", mend="write --from DAY --to DAY")
    start, end = day_given(first, opened), day_given(last, opened) or opened.today()
    assert start is not None  # noqa: S101 - it is given
    count = (end - start).days + 1
    if not 0 < count <= _MOST_DAYS:
        told = f"from {start} to {end} there is no day" if count < 1 else f"from {start} to {end} are {count:,} days"
        raise DeclarationError(
            told, where="--from", mend="write the earlier day first" if count < 1 else "ask for fewer"
        )
    return [start + datetime.timedelta(days=at) for at in range(count)]
