"""What the screen, the page and the mail say alike of a run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nomotheta.errors import visible_lines
from nomotheta.ledger import RunResult, TableResult
from nomotheta.rules.finding import Finding

STATES = {
    "rehearsed": "rehearsed",
    "taken out": "loaded, and taken out again",
    "loaded": "loaded",
    "undone": "rolled back; the table is unchanged",
    "refused": "delivery refused; the table is unchanged",
    "unchanged": "unchanged since it was last loaded",
    "nothing arrived": "nothing arrived, and nothing had to",
    "held back": "held back",
    "judged": "checked",
    "failed": "could not be loaded",
}
_ORDER = {"error": 0, "fail": 1, "warn": 2, "pass": 3}


def shown_text(value: Any) -> Any:
    """What a template shows: no text, wherever it comes from, has control characters; markup is our own."""
    return visible_lines(value) if isinstance(value, str) and not hasattr(value, "__html__") else value


def headline(result: RunResult) -> str:
    """A run in one sentence."""
    bad = [table for table in result.tables if table.verdict in {"fail", "error"}]
    warned = [table for table in result.tables if table.verdict == "warn"]
    if len(result.tables) == 1:
        (table,) = result.tables
        return table.table + (" fails" if bad else " passes, with warnings" if warned else " passes")
    if bad:
        verb = "fails" if len(bad) == 1 else "fail"
        return f"{len(bad)} of {len(result.tables)} tables {verb}: {', '.join(table.table for table in bad)}"
    if warned:
        return f"all {len(result.tables)} tables pass, {len(warned)} with warnings"
    return f"all {len(result.tables)} tables pass"


def title(result: RunResult) -> str:
    """The same as a sentence of its own; a table's name stays as it is."""
    said = headline(result)
    return f"All{said[3:]}" if len(result.tables) > 1 and said.startswith("all ") else said


def ordered(findings: Sequence[Finding]) -> list[Finding]:
    """The gravest findings first."""
    return sorted(findings, key=lambda finding: _ORDER[finding.verdict])


def gravest_first(tables: Sequence[TableResult]) -> list[TableResult]:
    """The tables that fail before those that stand."""
    return sorted(tables, key=lambda table: _ORDER[table.verdict])


def why(table: TableResult) -> str:
    """Why a table is not well, in one line."""
    load = table.load
    if load.state not in {"loaded", "unchanged"} or (load.verdict == "fail" and not load.findings):
        return load.message
    broken = [finding for finding in ordered(load.findings) if finding.verdict != "pass"]
    parts = [f"{finding.rule}: {finding.message}" for finding in broken[:2]]
    if load.state == "loaded" and load.verdict == "fail" and load.message:
        parts.insert(0, load.message)
    if table.reconciliation and table.reconciliation.verdict == "fail":
        parts.append("files and table differ")
    if table.message:
        parts.append(table.message)
    return "; ".join(parts)
