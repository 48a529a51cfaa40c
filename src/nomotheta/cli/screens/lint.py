"""What is wrong with charters."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from nomotheta.charter import Problem
from nomotheta.cli.paint import GREEN, RED, out
from nomotheta.errors import counted, visible


def show_lint(charters: Sequence[str], problems: Sequence[Problem], notes: Sequence[str] = ()) -> None:
    """What is wrong with the charters, each with its place and mend."""
    console = out()
    for problem in problems:
        line = Text.assemble((f"{problem.file}:{problem.line}", "bold"), ": ", (visible(problem.what), RED))
        console.print(line, soft_wrap=True)
        for part in problem.excerpt.split("\n") if problem.excerpt else []:
            console.print(Text(f"    {part}"), soft_wrap=True)
        if problem.mend:
            console.print(Text(f"  → {visible(problem.mend)}"), soft_wrap=True)
    if problems:
        console.print()
    kept = sum(name.startswith("comparisons/") for name in charters)
    several = counted(len(charters) - kept, "charter") + (f" and {counted(kept, 'comparison')}" if kept else "")
    told = f"{counted(len(problems), 'problem')} in" if problems else "No problem in"
    console.print(Text(f"{told} {several}", RED if problems else GREEN))
    for note in notes:
        console.print(Text(f"note  {visible(note)}", "dim"), soft_wrap=True)
