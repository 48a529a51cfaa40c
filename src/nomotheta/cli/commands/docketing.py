"""What fails, since when, and whose it is."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, warn
from nomotheta.cli.options import complete_tables, day_given
from nomotheta.errors import DeclarationError

_WORDS = "write docket, docket N, docket take N or docket excuse N"


@command()
def docket(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[take|excuse] [N]", help="An entry by its number; what to do with it."),
    ] = None,
    table: Annotated[
        str | None, typer.Option("--table", metavar="TABLE", help="Only this table.", autocompletion=complete_tables)
    ] = None,
    owner: Annotated[str | None, typer.Option("--owner", metavar="NAME", help="Only entries of this owner.")] = None,
    closed: Annotated[bool, typer.Option("--closed", help="What is closed, too.")] = False,
    by: Annotated[str | None, typer.Option("--by", metavar="NAME", help="Who it is; default: the user.")] = None,
    note: Annotated[
        str | None, typer.Option("--note", metavar="TEXT", help="With take: what is done about it.")
    ] = None,
    until: Annotated[
        str | None, typer.Option("--until", metavar="DAY", help="With excuse: nobody is told of it up to that day.")
    ] = None,
    reason: Annotated[str | None, typer.Option("--reason", metavar="TEXT", help="With excuse: why.")] = None,
    csv: Annotated[Path | None, typer.Option("--csv", metavar="FILE", help="Write the entries to a CSV file.")] = None,
) -> None:
    """Show what fails, since when, and whose it is; or take an entry."""
    act, number = _parsed(words or [])
    opened, entry = call.workspace(lazily=True), None
    if act == "take":
        _only(act, {"--until": until, "--reason": reason})
        entry = opened.take_entry(number or 0, by, note or "")
    elif act == "excuse":
        _only(act, {"--note": note})
        day = day_given(until, opened)
        if day is None or not (reason or "").strip():
            raise DeclarationError(
                "an excuse has an end and a reason", mend="docket excuse N --until DAY --reason TEXT"
            )
        entry = opened.excuse_entry(number or 0, day, reason or "", by)
    else:
        _only("take or excuse", {"--by": by, "--note": note, "--until": until, "--reason": reason})
    if entry is not None:
        warn(opened.keep_pages(entry=entry))
        warn(opened.tell())
    page = opened.docket(number, table=table, owner=owner, closed=closed)
    if csv is not None:
        rows = opened.write_docket(page, csv)
        told = "1 entry" if rows == 1 else f"{rows:,} entries"
        call.tell(f"{told} written to {csv}")
    if call.json:
        call.print(page)
        return
    from nomotheta.cli.screens.docket import show_docket, show_entry

    if number is not None:
        show_entry(page, opened.zone)
    elif csv is None:
        show_docket(page, chosen=bool(table or owner))


def _parsed(words: list[str]) -> tuple[str, int | None]:
    """What to do, and the entry's number."""
    act = words.pop(0) if words and words[0] in {"take", "excuse"} else ""
    if len(words) > 1 or (words and not words[0].isdecimal()) or (act and not words):
        raise DeclarationError(f"'{' '.join([act, *words]).strip()}' names no entry", where="docket", mend=_WORDS)
    return act, int(words[0]) if words else None


def _only(act: str, given: dict[str, str | None]) -> None:
    wrong = next((name for name, value in given.items() if value is not None), None)
    if wrong is not None:
        of = {"take": "excuse", "excuse": "take"}.get(act, act)
        raise DeclarationError(f"{wrong} is for docket {of}", mend=_WORDS)
