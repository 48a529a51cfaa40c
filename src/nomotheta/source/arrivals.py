"""What has arrived of what is expected, as it is told."""

from __future__ import annotations

import datetime
from typing import Literal

from nomotheta.frozen import frozen

Told = Literal["pass", "warn", "fail"]
State = Literal["late", "missing", "refused", "awaited", "arrived", "loaded", "none came"]
ORDER: tuple[State, ...] = ("late", "missing", "refused", "arrived", "awaited", "loaded", "none came")
VERDICTS: dict[State, Told] = {
    "late": "fail", "missing": "fail", "refused": "fail", "awaited": "pass", "arrived": "pass", "loaded": "pass",
    "none came": "pass",
}  # fmt: skip


@frozen
class FileThere:
    """A file that is there: its size in bytes, and when it was written to last."""

    file: str
    size: int
    written: datetime.datetime


@frozen
class Arrival:
    """What a table's delivery for a day has come to.

    `late` and `missing` have not come as a whole, the first by its due time; `refused` could not be loaded; `awaited`
    is not due yet; `arrived` can be loaded; `loaded` is in the table, by the load `load_no`. `parts` is how many files
    are expected, None where that is not declared. Where the place does not answer, what is loaded is not known.
    """

    table: str
    day: datetime.date
    state: State
    due: datetime.datetime | None
    files: tuple[FileThere, ...]
    parts: int | None
    load_no: int | None = None
    message: str = ""
    where: str = ""
    mend: str = ""
    owners: tuple[str, ...] = ()
    place_answers: bool = True

    @property
    def verdict(self) -> Told:
        """Fails what should be there and is not, or is not as it should be."""
        return VERDICTS[self.state]


@frozen
class Stray:
    """A file that belongs to no charter: its size in bytes, and what may be meant by it, of which table."""

    file: str
    size: int
    told: str
    table: str = ""


@frozen
class Arrivals:
    """All deliveries of some days, the gravest first, and files that belong to none."""

    verdict: Told
    asked_at: datetime.datetime
    arrivals: tuple[Arrival, ...]
    strays: tuple[Stray, ...]
    format: str = "nomotheta/arrivals/1"
