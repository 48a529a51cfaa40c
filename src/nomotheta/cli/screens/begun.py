"""A workspace that was made, and what to do next."""

from __future__ import annotations

from rich.text import Text

from nomotheta.cli.paint import GREEN, out
from nomotheta.workspace.beginning import Begun


def show_begun(begun: Begun) -> None:
    """What was made, what was there, and the next commands."""
    console = out()
    for name in begun.made:
        console.print(Text.assemble(("made   ", GREEN), name))
    for name in begun.kept:
        console.print(Text.assemble(("there  ", "dim"), name, ("  left as it is", "dim")))
    if begun.ignored:
        console.print(Text(f"add to .gitignore: {'  '.join(begun.ignored)}"))
    console.print()
    here = str(begun.folder)
    console.print(Text("Next:"))
    if here != ".":
        console.print(Text(f"  cd {here}"), soft_wrap=True)
    for command, why in (
        ("nomotheta peek FILE", "look at a file"),
        ("nomotheta propose FILE --to charters/", "write a charter from it"),
        ("nomotheta lint", "check the charter"),
        ("nomotheta load TABLE --create", "load it, and check it"),
    ):
        console.print(Text.assemble(f"  {command:<40}", (why, "dim")), soft_wrap=True)
