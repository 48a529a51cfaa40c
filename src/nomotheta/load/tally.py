"""What a sender may have stated of a file, counted while it is loaded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from nomotheta.load.work import Summed, Worked
from nomotheta.source.stated import Counted


@dataclass(slots=True)
class Tally:
    """What the sender may have stated: rows, and the totals of columns with what could not be read of them."""

    rows: int = 0
    totals: dict[str, Summed] = field(default_factory=dict)

    def add(self, worked: Worked) -> None:
        """Take in a block."""
        self.rows += worked.batch.count - worked.batch.headings
        self.take(worked.totals)

    def take(self, totals: Mapping[str, Summed]) -> None:
        """Take in further totals, each with how many values could not be read."""
        for name, more in totals.items():
            before = self.totals.get(name, Summed())
            self.totals[name] = Summed(
                before.total + more.total, before.unread + more.unread, before.first or more.first
            )  # fmt: skip

    def counted(self) -> Counted:
        """All of it, to be held against what is stated."""
        totals = self.totals.items()
        return Counted(
            self.rows, {name: each.total for name, each in totals}, {name: each.unread for name, each in totals},
            {name: each.first for name, each in totals if each.first},
        )  # fmt: skip
