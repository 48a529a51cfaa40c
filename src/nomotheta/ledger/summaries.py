"""What the ledger keeps, in a line each."""

from __future__ import annotations

from nomotheta.errors import counted
from nomotheta.ledger.record import Judgement, LoadResult
from nomotheta.reconcile import Reconciliation


def summary_of_load(result: LoadResult) -> str:
    """A load in one line."""
    balance = result.balance
    if balance is None or result.state not in {"loaded", "undone"}:
        return result.message
    if result.state == "undone":
        return f"rolled back: {result.message}"
    of = f" of load {result.mends}, mended," if result.mends else ""
    parts = [f"{counted(balance.loaded, 'row')}{of} loaded"]
    parts += [balance.aside().replace(" + ", ", ")] * bool(balance.rejected or balance.repeated)
    parts += [f"{counted(len(result.bad), 'file')} left out"] * bool(result.bad)
    broken = [finding.rule for finding in result.findings if finding.verdict in {"fail", "error"}]
    if result.despite is not None:
        parts.append(f"although load {result.despite} brought the same content")
    return ", ".join(parts) + (f"; broken: {', '.join(broken)}" if broken else "")


def summary_of_judgement(result: Judgement) -> str:
    """A judgement in one line."""
    if result.message:
        return result.message
    verdicts = [finding.verdict for finding in result.findings]
    return ", ".join(f"{verdicts.count(v)} {v}" for v in ("error", "fail", "warn", "pass") if v in verdicts)


def summary_of_reconciliation(result: Reconciliation) -> str:
    """A reconciliation in one line."""
    if result.verdict == "pass":
        return f"{result.over}: {counted(result.target_rows, 'row')}, equal"
    if result.source_rows != result.target_rows:
        source = f"{counted(result.source_rows, 'row')} in the {'files' if result.of_files else 'source'}"
        return f"{result.over}: {source}, {result.target_rows:,} in the {'table' if result.of_files else 'target'}"
    return f"{result.over}: differs in {', '.join(result.differing)}"
