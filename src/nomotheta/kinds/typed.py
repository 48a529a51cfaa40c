"""What comes of typing a column."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from nomotheta.kinds.cells import Ints

Reason = Literal["kind", "range", "text_length"]


@dataclass(frozen=True, slots=True)
class Misfit:
    """Rows of a column (from 0) that do not fit, for one reason."""

    reason: Reason
    rows: Ints

    @classmethod
    def all(cls, **by_reason: Ints) -> tuple[Misfit, ...]:
        """The misfits of those reasons that have any rows."""
        return tuple(cls(reason, rows) for reason, rows in by_reason.items() if len(rows))  # type: ignore[arg-type]


@dataclass(frozen=True, slots=True)
class Typed:
    """A typed column: an Arrow array of n values, null where a text was null or does not fit.

    `notes` say what else there is to be said of the column, and of how many values.
    """

    values: Any
    misfits: tuple[Misfit, ...] = ()
    notes: Mapping[str, int] = field(default_factory=dict)
