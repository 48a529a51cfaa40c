"""What comes of typing a column."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field, replace
from typing import Any, Literal

import numpy as np

from nomotheta.frozen import frozen
from nomotheta.kinds.cells import Bools, Ints

Reason = Literal["kind", "range", "text_length"]


@frozen
class Misfit:
    """Rows of a column (from 0) that do not fit, for one reason."""

    reason: Reason
    rows: Ints

    @classmethod
    def all(cls, **by_reason: Ints) -> tuple[Misfit, ...]:
        """The misfits of those reasons that have any rows."""
        return tuple(cls(reason, rows) for reason, rows in by_reason.items() if len(rows))  # type: ignore[arg-type]


def united(*rows: Ints) -> Ints:
    """The rows of several lists, each once and in order."""
    marked = np.zeros(max(int(each.max(initial=-1)) for each in rows) + 1, np.bool_)
    for each in rows:
        marked[each] = True
    return np.flatnonzero(marked)


@frozen
class Typed:
    """A typed column: an Arrow array of n values, null where a text was null or does not fit.

    `notes` say what else there is to be said of the column, and of how many values.
    """

    values: Any
    misfits: tuple[Misfit, ...] = ()
    notes: Mapping[str, int] = field(default_factory=dict)

    def accounted(self, was_null: Callable[[], Bools], nulls: int) -> Typed:
        """The column, held to what every reader of values promises: what was not null is now a value or a misfit.

        Whatever became null and is not told of is made a misfit here, so that no reader can lose a value in silence.

        Args:
            was_null: which of the n values were null before they were read.
            nulls: how many those are.
        """
        if not self.misfits and self.values.null_count == nulls:
            return self
        lost = self.values.is_null().to_numpy(zero_copy_only=False) & ~was_null()
        for misfit in self.misfits:
            lost[misfit.rows] = False
        rows = np.flatnonzero(lost)
        return replace(self, misfits=together(*self.misfits, Misfit("kind", rows))) if len(rows) else self


def together(*misfits: Misfit) -> tuple[Misfit, ...]:
    """Misfits of several readings of one column, those of a reason as one."""
    found: dict[str, Ints] = {}
    for misfit in misfits:
        known = found.get(misfit.reason)
        found[misfit.reason] = misfit.rows if known is None else united(known, misfit.rows)
    return Misfit.all(**found)
