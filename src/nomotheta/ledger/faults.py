"""What of a table's part of a run fails, and what of it was decided and passes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal

from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.ledger.record import LoadResult, TableResult
from nomotheta.reconcile import Reconciliation
from nomotheta.rules.finding import Verdict, gravest

FaultSort = Literal["rule", "reconciliation", "delivery", "comparison"]
_FAILS = frozenset({"fail", "error"})
_IN_PLACE = frozenset({"loaded", "unchanged", "nothing arrived", "judged"})  # states of a table that its rules hold of
_NO_FAULT_OF_ITS_OWN = frozenset({"held back", "rehearsed"})


@frozen
class Fault:
    """Something that fails: what sort of check it is, its name, how grave, and how many rows it is about, if known."""

    sort: FaultSort
    name: str
    verdict: Verdict
    size: int | None
    message: str
    owners: tuple[str, ...] = ()

    @property
    def key(self) -> tuple[FaultSort, str]:
        """What it is known by, within its table."""
        return self.sort, self.name


@frozen
class Decided:
    """What a run found out of a table: what fails, what passes, and the rules that it has, where all were judged.

    Rules that are broken and only `warns` are neither: nobody may be told that they pass.
    """

    faults: tuple[Fault, ...]
    passes: frozenset[tuple[FaultSort, str]]
    rules: frozenset[str] | None = None
    warns: frozenset[str] = frozenset()

    def settles(self, sort: FaultSort, name: str) -> str:
        """Why what failed before does not any more: it passes, only warns, or is declared no longer; else empty."""
        if sort == "rule" and name in self.warns:
            return "only warns now"
        if (sort, name) in self.passes:
            return "passes"
        gone = sort == "rule" and self.rules is not None and name not in self.rules
        return "no longer declared" if gone else ""


def decided(table: TableResult) -> Decided:
    """What a run found out of a table. A rule that passed on rows which were rolled back says nothing of the table."""
    load = table.load
    if load.state in _NO_FAULT_OF_ITS_OWN:
        return Decided((), frozenset())
    if load.state == "compared":
        fault = Fault("comparison", "", table.verdict, _apart(table.reconciliation), load.message, table.owners)
        fails = table.verdict in _FAILS
        return Decided((fault,) if fails else (), frozenset() if fails else frozenset({fault.key}))
    faults = list(_merged(_faults(table)))
    failing = {fault.key for fault in faults}
    passes: set[tuple[FaultSort, str]] = set()
    if load.state in _IN_PLACE:
        passes |= {("rule", each.rule) for each in load.findings if each.verdict not in _FAILS}
        passes.add(("delivery", ""))
    if table.reconciliation is not None:
        passes.add(("reconciliation", ""))
    rules = frozenset(each.rule for each in load.findings) if load.state == "loaded" else None
    broken = {each.rule for each in load.findings if each.verdict == "warn"} if load.state in _IN_PLACE else set[str]()
    warns = frozenset(name for name in broken if ("rule", name) not in failing)
    return Decided(tuple(faults), frozenset(passes - failing), rules, warns)


def _merged(faults: Iterable[Fault]) -> Iterator[Fault]:
    """One fault a key: several rules of one name are one, of all their rows."""
    by_key: dict[tuple[FaultSort, str], list[Fault]] = {}
    for fault in faults:
        by_key.setdefault(fault.key, []).append(fault)
    for (sort, name), same in by_key.items():
        sizes = [each.size for each in same if each.size is not None]
        messages = "; ".join(dict.fromkeys(each.message for each in same))
        owners = tuple(dict.fromkeys(owner for each in same for owner in each.owners))
        verdict = gravest(each.verdict for each in same)
        yield Fault(sort, name, verdict, sum(sizes) if sizes else None, messages, owners)


def _faults(table: TableResult) -> Iterator[Fault]:
    load = table.load
    broken = [each for each in load.findings if each.verdict in _FAILS]
    for each in broken:
        yield Fault("rule", each.rule, each.verdict, each.breaks, each.message, each.owners or table.owners)
    if load.bad or (load.verdict in _FAILS and (not broken or load.state not in _IN_PLACE | {"undone"})):
        yield Fault("delivery", "", load.verdict, _aside(load), load.message or _left_out(load), table.owners)
    found = table.reconciliation
    if found is not None and found.verdict == "fail":
        yield Fault(
            "reconciliation", "", "fail", _apart(found), f"{found.source} and {found.target} differ", table.owners
        )
    elif found is None and table.verdict in _FAILS and load.verdict not in _FAILS:
        yield Fault("reconciliation", "", table.verdict, None, table.message, table.owners)


def _aside(load: LoadResult) -> int | None:
    """How many rows were set aside, or files left out."""
    if load.bad:
        return len(load.bad)
    return load.balance.rejected if load.balance is not None and load.balance.rejected else None


def _left_out(load: LoadResult) -> str:
    return f"{counted(len(load.bad), 'file')} left out" if load.bad else ""


def _apart(found: Reconciliation | None) -> int | None:
    """How many rows differ; at least, where not all were looked at."""
    if found is None:
        return None
    return found.differing_rows or abs(found.source_rows - found.target_rows) or sum(found.sorts.values()) or None
