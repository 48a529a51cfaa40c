"""What the core tells while it works. The interface decides how it looks; by default nobody listens."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class Progress:
    """Work that goes on: `done` of `total` in `unit`, and so many `rows`; the total is None where nobody knows it."""

    label: str
    done: int
    total: int | None
    unit: Literal["bytes", "rows", "tables"]
    ended: bool = False
    rows: int = 0


Listener = Callable[[Progress], None]


def nobody(_event: Progress) -> None:
    """Listen to nothing."""
