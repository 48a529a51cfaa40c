"""The statements that judged tables, for the database's own client."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import typer

from nomotheta.errors import visible
from nomotheta.ledger import Judgement


def show_statements(results: Sequence[Judgement], sessions: Mapping[str, Sequence[str]]) -> None:
    """Every statement with the rule that it judged, and what came of it."""
    for result in results:
        typer.echo(f"-- {visible(result.table)} in {visible(result.place)}")
        for statement in sessions.get(result.place, ()):
            typer.echo(f"{statement};")
        for finding in result.findings:
            told = f": {finding.message}" if finding.message else ""
            typer.echo(f"\n-- {visible(finding.rule)}: {finding.verdict}{visible(told)}")
            if not finding.sql:
                typer.echo("-- no statement was needed")
                continue
            lines = f"{finding.sql};".splitlines()
            if finding.embedded:  # the place's own client would take it for something else
                typer.echo("-- judged over its rows by the embedded engine (DuckDB):")
                lines = [f"-- {line}" for line in lines]
            typer.echo("\n".join(lines))
