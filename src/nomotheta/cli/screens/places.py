"""Places, and what they answer."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from nomotheta.cli.paint import RED, YELLOW, out, plain_table
from nomotheta.errors import visible
from nomotheta.place.answer import PlaceAnswer


def show_places(answers: Sequence[PlaceAnswer]) -> None:
    """Each place, what it answered, and what to do where something is in the way."""
    console = out()
    table = plain_table(
        ("place", "whole"), ("database", ""), ("answer", "right"), ("version", "whole"), ("rights", "whole")
    )
    for each in answers:
        taken = Text("no answer", RED) if not each.answers else Text("–")
        if each.milliseconds is not None:
            taken = Text(f"{each.milliseconds:.1f} ms")
        table.add_row(
            Text(each.name, "bold"), Text(visible(each.url)), taken, Text(each.version or "–"), Text(_rights(each))
        )  # fmt: skip
    console.print(table)
    for each in answers:
        if each.message:
            console.print()
            style = YELLOW if each.answers else RED
            console.print(Text.assemble((f"{each.name}: {visible(each.message)}", style)))
            if each.mend:
                console.print(Text(f"  → {visible(each.mend)}"))


def _rights(answer: PlaceAnswer) -> str:
    """What may be done there, as far as it is known."""
    if answer.may_create is None and answer.may_write is None:
        return "–"
    rights = [word for word, may in (("create", answer.may_create), ("write", answer.may_write)) if may]
    return ", ".join(rights) or "read only"
