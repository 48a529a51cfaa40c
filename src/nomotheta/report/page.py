"""A run as one self-contained HTML page: no script, no outside resource."""

from __future__ import annotations

import datetime
import os
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from nomotheta.errors import visible
from nomotheta.ledger import RunResult, TableResult
from nomotheta.rules import Finding

STATES = {
    "rehearsed": "rehearsed",
    "taken out": "loaded, and taken out again",
    "loaded": "loaded",
    "undone": "undone: the table is as it was",
    "refused": "delivery refused: the table is as it was",
    "unchanged": "unchanged since it was last loaded",
    "held back": "held back",
    "failed": "could not be loaded",
}
_ORDER = {"error": 0, "fail": 1, "warn": 2, "pass": 3}


def page(result: RunResult, now: datetime.datetime) -> str:
    """The HTML of a run's page."""
    template = environment().get_template("page.html.j2")
    text: str = template.render(
        run=result, headline=headline(result), now=now, words=STATES, ordered=ordered, gravest_first=gravest_first
    )
    return text


def headline(result: RunResult) -> str:
    """A run in one sentence."""
    bad = [table for table in result.tables if table.verdict in {"fail", "error"}]
    warned = [table for table in result.tables if table.verdict == "warn"]
    if len(result.tables) == 1:
        (table,) = result.tables
        return table.table + (" fails" if bad else " stands, with warnings" if warned else " stands")
    if bad:
        verb = "fails" if len(bad) == 1 else "fail"
        return f"{len(bad)} of {len(result.tables)} tables {verb}: {', '.join(table.table for table in bad)}"
    if warned:
        return f"all {len(result.tables)} tables stand, {len(warned)} with warnings"
    return f"all {len(result.tables)} tables stand"


def ordered(findings: Sequence[Finding]) -> list[Finding]:
    """The gravest findings first."""
    return sorted(findings, key=lambda finding: _ORDER[finding.verdict])


def gravest_first(tables: Sequence[TableResult]) -> list[TableResult]:
    """The tables that fail before those that stand."""
    return sorted(tables, key=lambda table: _ORDER[table.verdict])


def why(table: TableResult) -> str:
    """Why a table is not well, in one line."""
    load = table.load
    if load.state not in {"loaded", "unchanged"}:
        return load.message
    broken = [finding for finding in ordered(load.findings) if finding.verdict != "pass"]
    parts = [f"{finding.rule}: {finding.message}" for finding in broken[:2]]
    if table.reconciliation and table.reconciliation.verdict == "fail":
        parts.append("files and table differ")
    if table.message:
        parts.append(table.message)
    return "; ".join(parts)


def environment() -> Any:
    """The templates."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.report"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )  # fmt: skip
    environment.filters["thousands"] = lambda value: f"{value:,}"
    environment.filters["visible"] = visible
    return environment


def write_file(path: Path, text: str) -> None:
    """Write a file whole or not at all."""
    write_parts(path, (text.encode(),))


def write_parts(path: Path, parts: Iterable[bytes]) -> None:
    """The same of a file that is made part by part; what the parts raise leaves nothing behind."""
    path.parent.mkdir(parents=True, exist_ok=True)
    descriptor, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.writelines(parts)
        Path(name).replace(path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
