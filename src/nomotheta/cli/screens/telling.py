"""What goes to whom, and why."""

from __future__ import annotations

import datetime

from rich.text import Text

from nomotheta.cli.paint import out, plain_table
from nomotheta.errors import visible
from nomotheta.ledger import OutgoingPage


def show_outgoing(page: OutgoingPage, zone: datetime.tzinfo) -> None:
    """A line for each message."""
    console = out()
    if not page.messages:
        console.print("Nothing would be told." if page.rehearsed else "Nothing waits to be told.")
        return
    table = plain_table(("tell", ""), ("to", ""), ("when", ""), ("why", ""), ("subject", ""))
    for each in page.messages:
        when = f"{each.not_before.astimezone(zone):%Y-%m-%d %H:%M}" if each.not_before is not None else "now"
        table.add_row(
            Text(visible(each.tell), "bold"), Text(visible(", ".join(each.to) or each.url)), when,
            Text(visible(each.why)), Text(visible(each.subject)),
        )  # fmt: skip
    console.print(table)
