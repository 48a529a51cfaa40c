"""Whether what was loaded may stay: it adds up, it is what was stated, little enough was set aside, the rules hold."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from nomotheta.charter import Charter, Compiled
from nomotheta.errors import DeliveryError, PlaceError, counted
from nomotheta.load.account import Account
from nomotheta.load.balance import Balance
from nomotheta.load.copies import Told
from nomotheta.load.order import Order, UndoneError
from nomotheta.rules.finding import Finding, Samples, worst

if TYPE_CHECKING:
    from collections.abc import Sequence


@dataclass(slots=True)
class Settlement:
    """What comes of a load: its balance, what was told of repeated rows, the findings of its rules."""

    compiled: Compiled
    order: Order
    balance: Balance = field(default_factory=Balance)
    told: Told = field(default_factory=Told)
    findings: list[Finding] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)

    def check(self, account: Account) -> None:
        """Hold the load to its files, its account and its tolerance.

        Raises:
            DeliveryError: the files are not what they were, or not what the sender states, or hold nothing.
            PlaceError: the account does not add up.
            UndoneError: more was set aside than the charter tolerates.
        """
        for file in self.order.files:
            file.check_unchanged()
        self.order.still()
        charter, balance = self.compiled.charter, self.balance
        faults = balance.faults()
        if faults:
            raise PlaceError("the balance does not add up: " + "; ".join(faults), where=charter.table)
        stated = charter.delivery.stated if charter.delivery else None
        if stated is not None and not self.order.opened:
            account.check_stated(stated, self.order.stated, self.compiled)
        if not balance.records and charter.load.empty == "refuse":
            mend = 'write empty = "accept" under [load] if a delivery may hold no rows'
            raise DeliveryError("the delivery holds no rows", where=self.order.files[0].name, mend=mend)
        self._check_tolerance()
        if balance.records and balance.repeated == balance.records and charter.load.how == "append":
            self.warnings.append("every row of the delivery repeats one that is in the table, or another of its rows")

    def _check_tolerance(self) -> None:
        load, balance, told = self.compiled.charter.load, self.balance, self.told
        rejected = balance.rejected + len(told.undecided)
        if not load.tolerate.allows(rejected, balance.records):
            share = f" ({rejected / balance.records:.2%})"
            among = f", {counted(len(told.undecided), 'conflict')} among them" if told.undecided else ""
            raise UndoneError(
                f"{rejected:,} of {counted(balance.records, 'row')} rejected{share}{among}; tolerated: {load.tolerate}"
            )
        for check in self.compiled.checks:
            copies = told.copies_of.get(check.name, 0)
            if check.sort == "key" and not check.copies.allows(copies, balance.records):
                word = "copy" if copies == 1 else "copies"
                raise UndoneError(f"{copies:,} {word} set aside ({check.name}); allowed: {check.copies}")

    def judged(self, findings: Sequence[Finding]) -> None:
        """Hold it to its rules.

        Raises:
            UndoneError: a rule fails, or could not be judged.
        """
        self.findings = [self._with_conflicts(each) for each in findings]
        broken = [each for each in self.findings if each.verdict == "fail"]
        if any(each.verdict == "error" for each in self.findings):
            raise UndoneError("a rule could not be judged")
        if undoes(self.compiled.charter, self.findings):
            names = ", ".join(f"'{each.rule}'" for each in broken[:3]) + (", …" if len(broken) > 3 else "")
            raise UndoneError(f"{len(broken)} {'rule failed' if len(broken) == 1 else 'rules fail'}: {names}")

    def _with_conflicts(self, finding: Finding) -> Finding:
        """A key's finding says how many rows are copies and how many in conflict; it warns where keep has decided."""
        told = self.told
        copies, decided, open_ = (
            each.get(finding.rule, 0) for each in (told.copies_of, told.decided_of, told.conflicts_of)
        )
        if finding.sort != "key" or not (copies or decided or open_):
            return finding
        parts = [f"{copies:,} {'copy' if copies == 1 else 'copies'}"] * bool(copies)
        parts += [counted(decided + open_, "conflict")] * bool(decided + open_)
        message = f"{' and '.join(parts)} set aside at loading"
        if decided and not open_:
            message += "; keep says which row stays"
        samples = Samples(("row set aside", "row that stays", "why"), tuple(told.samples.get(finding.rule, ())))
        verdict = "warn" if decided and finding.verdict == "pass" else finding.verdict
        return replace(finding, verdict=verdict, message=message, samples=samples)

    @property
    def message(self) -> str:
        """What is said of a load that was committed."""
        return "loaded; a rule failed, and the charter says to keep the rows" if worst(self.findings) == "fail" else ""


def undoes(charter: Charter, findings: Sequence[Finding]) -> bool:
    """Whether a load may not stay where rules were judged so."""
    worst_of_all = worst(findings)
    return worst_of_all == "error" or (worst_of_all == "fail" and charter.load.after_fail == "undo")
