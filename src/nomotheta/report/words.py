"""What the screen, the page and the mail say alike of a run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nomotheta.errors import counted, visible, visible_lines
from nomotheta.ledger import DocketEntry, Event, RunResult, ShownReject, TableResult
from nomotheta.rules.finding import Finding

STATES = {
    "rehearsed": "rehearsed",
    "taken out": "loaded, then undone",
    "loaded": "loaded",
    "undone": "rolled back; the table is unchanged",
    "refused": "delivery refused; the table is unchanged",
    "unchanged": "unchanged since it was last loaded",
    "nothing arrived": "no file arrived; the delivery is optional",
    "held back": "skipped",
    "judged": "checked",
    "compared": "compared",
    "failed": "could not be loaded",
}
_LEAST, _MOST = 4, 60  # characters by which a column is as wide as it is
_ORDER = {"error": 0, "fail": 1, "warn": 2, "pass": 3}


def shown_text(value: Any) -> Any:
    """What a template shows: no text, wherever it comes from, has control characters; markup is our own."""
    return visible_lines(value) if isinstance(value, str) and not hasattr(value, "__html__") else value


def widths(heads: Sequence[str], rows: Sequence[Sequence[Any]]) -> list[tuple[str, float]]:
    """The columns of a table with their shares of its width, in percent: by the longest that stands in each.

    A browser that is told them need not move what it has drawn when it has read the last row.
    """
    longest = [max(len(head), *(len(str(row[at])) for row in rows), 0) for at, head in enumerate(heads)]
    wide = [min(max(each, _LEAST), _MOST) + 1 for each in longest]
    return [(head, round(100 * each / sum(wide), 1)) for head, each in zip(heads, wide, strict=True)]


def headline(result: RunResult) -> str:
    """A run in one sentence: what failed first, then what could not be checked, and what was skipped."""
    tables = result.tables
    if len(tables) == 1:
        return f"{tables[0].table} {_ALONE[_sort(tables[0])]}"
    of = {sort: [each.table for each in tables if _sort(each) == sort] for sort in _ALONE}
    noun = "tables and comparisons" if any(each.load.state == "compared" for each in tables) else "tables"
    passed = f"{len(of['pass']) + len(of['warn'])} of {len(tables)} {noun} passed"
    if of["warn"]:
        passed += f", {len(of['warn'])} with warnings: {', '.join(of['warn'])}"
    parts = [f"{len(of[sort])} {told}: {', '.join(of[sort])}" for sort, told in _TOLD.items() if of[sort]]
    if not parts:
        return passed
    return "; ".join([parts[0].replace(" ", f" of {len(tables)} {noun} ", 1), *parts[1:]])


_TOLD = {"fail": "failed", "error": "could not be checked", "held back": "skipped"}
_ALONE = {"pass": "passed", "warn": "passed with warnings", **_TOLD, "held back": "was skipped"}


def _sort(table: TableResult) -> str:
    """Its verdict; a table that was skipped has none of its own."""
    return "held back" if table.load.state == "held back" else table.verdict


def fails(entry: DocketEntry) -> str:
    """What fails, by its table, in words."""
    return f"{visible(entry.table)}: {visible(entry.name or entry.message or entry.sort)}"


def news_told(entry: DocketEntry, event: Event) -> str:
    """A change of the docket in a line."""
    what, nights = fails(entry), counted(event.nights, "night")
    rows = f", {counted(event.size, 'row')}" if event.size is not None else ""
    number = f" (docket {entry.entry_no})"
    return {
        "new": f"new: {what}{rows}",
        "back": f"back again: {what}{rows}",
        "worse": f"worse: {what}{rows}, {nights}",
        "excuse ended": f"still failing, the excuse is over: {what}{rows}, {nights}",
        "taken": f"taken by {visible(event.by)}: {what}{f', {visible(event.told)}' if event.told else ''}",
        "closed": f"closed: {what} {_OVER.get(event.told, event.told)} after {nights}",
    }.get(event.what, f"{event.what}: {what}") + number  # fmt: skip


_OVER = {"passes": "passes", "no longer declared": "was taken out of the charter"}


def why_aside(reject: ShownReject) -> str:
    """What is wrong with a row, where its column is named beside."""
    return reject.message.removeprefix(f"{reject.column} ")


def ordered(findings: Sequence[Finding]) -> list[Finding]:
    """The gravest findings first."""
    return sorted(findings, key=lambda finding: _ORDER[finding.verdict])


def telling(findings: Sequence[Finding]) -> list[Finding]:
    """What is to be looked at: all that did not pass, the gravest first, and what is excused."""
    return [finding for finding in ordered(findings) if finding.verdict != "pass" or finding.excused]


def quiet(findings: Sequence[Finding]) -> list[Finding]:
    """The others: what passed by itself."""
    return [finding for finding in findings if finding.verdict == "pass" and not finding.excused]


def gravest_first(tables: Sequence[TableResult]) -> list[TableResult]:
    """The tables that fail before those that pass."""
    return sorted(tables, key=lambda table: _ORDER[table.verdict])


def why(table: TableResult) -> str:
    """Why a table did not pass, in one line."""
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


def todo(table: TableResult) -> str:
    """What to do about a table that did not pass."""
    load, broken = table.load, [each for each in table.load.findings if each.verdict in {"fail", "error"}]
    if load.mend:
        return load.mend
    if table.reconciliation is not None and table.reconciliation.verdict == "fail":
        return f"see which rows differ: nomotheta reconcile {table.table}"
    if load.state == "undone" and broken:
        return f"have the file or the rule corrected, then: nomotheta run --day {load.day} {table.table}"
    if load.state == "undone":
        return f"see what was rejected: nomotheta rejects {load.load_no}"
    if broken and load.load_no:
        return f"have these rows corrected where they come from; to take the load back: nomotheta undo {load.load_no}"
    return ""
