"""What the core tells while it works. The interface decides how it looks; by default nobody listens."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class Progress:
    """Work that goes on: `done` of `total` in `unit`; the total is None where nobody can know it."""

    label: str
    done: int
    total: int | None
    unit: Literal["bytes", "rows", "tables"]
    ended: bool = False


Listener = Callable[[Progress], None]


def nobody(_event: Progress) -> None:
    """Listen to nothing."""
