"""What a sender may have stated of a file, counted while it is loaded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from nomotheta.load.work import Worked
from nomotheta.source import Counted


@dataclass(slots=True)
class Tally:
    """What the sender may have stated: rows, and the totals of columns with how many values could not be read."""

    rows: int = 0
    totals: dict[str, tuple[Decimal, int]] = field(default_factory=dict)

    def add(self, worked: Worked) -> None:
        """Take in a block."""
        self.rows += worked.batch.count - worked.batch.headings
        self.take(worked.totals)

    def take(self, totals: Mapping[str, tuple[Decimal, int]]) -> None:
        """Take in further totals, each with how many values could not be read."""
        for name, (total, unread) in totals.items():
            before, unread_before = self.totals.get(name, (Decimal(0), 0))
            self.totals[name] = (before + total, unread_before + unread)

    def counted(self) -> Counted:
        """All of it, to be held against what is stated."""
        totals = self.totals.items()
        return Counted(
            self.rows, {name: total for name, (total, _) in totals}, {name: bad for name, (_, bad) in totals}
        )
