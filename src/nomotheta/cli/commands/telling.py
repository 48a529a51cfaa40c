"""Who hears of what."""

from __future__ import annotations

from typing import Annotated

import typer

from nomotheta.cli.command import Call, command, end, warn
from nomotheta.errors import counted


@command()
def tell(
    call: Call,
    rehearse: Annotated[
        bool, typer.Option("--rehearse", help="Show what would go to whom and why; nothing is sent.")
    ] = False,
    test: Annotated[
        str | None, typer.Option("--test", metavar="NAME", help="Send a test message to [tell.NAME].")
    ] = None,
) -> None:
    """Send what waits to be told, show it, or try a way."""
    opened = call.workspace()
    if test is not None:
        wrong = opened.tell_test(test)
        warn(wrong)
        if wrong:
            end("error")
        call.tell(f"a test message went to tell {test}")
        return
    if not rehearse:
        warn(opened.tell())
    page = opened.outgoing(rehearse=rehearse)
    if call.json:
        call.print(page)
        return
    from nomotheta.cli.screens.telling import show_outgoing

    if page.messages or rehearse:
        show_outgoing(page, opened.zone)
    else:
        call.tell(f"{counted(page.sent, 'message')} went out; nothing waits")
