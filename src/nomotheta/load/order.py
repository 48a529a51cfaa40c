"""A load as it is ordered, and what comes of it."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from nomotheta.conditions import Node
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance
from nomotheta.load.imprint import Imprint
from nomotheta.load.steps import Step
from nomotheta.place.base import Mark
from nomotheta.rules.finding import Finding
from nomotheta.rules.flown import Flown
from nomotheta.rules.question import Surroundings
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.stated import StatementTold

if TYPE_CHECKING:
    from nomotheta.load.inside import Inside

State = Literal["loaded", "undone"]
Judge = Callable[[Mapping[str, int], bool, str, Mapping[str, Flown]], list[Finding]]


@frozen
class Removal:
    """Rows that a load takes out: those that meet a condition, or all; and whether they are kept for an undo.

    `of` says whose they are: those of the load's `day`, or of `all` loads.
    """

    where: Node | None
    of: Literal["day", "all"]
    kept: bool


@frozen
class Order:
    """A load to be carried out.

    `once` is what may be in the place only once for this table; `opened` opens a file, where the layout alone does
    not say how; `staging` is the table in which rows are gathered first, if they are; with `rehearsed` all of it is
    done and then undone; `stated` are the texts beside the files that state counts, by file, or under "" for all.
    `around` is where values may be listed, beside the place; `own_rows` says that rules look at this load's rows alone.
    `marks` are the loads that were in the table when this was ordered; `removal` is what goes before the rows go in.
    `brought` is what is kept of files that were not opened as they are: name, content, and size in bytes; `still`
    raises a DeliveryError if, inside the transaction, what is loaded is not there any more. `inside` are rows that the
    place moves by itself: then the files are known only inside the transaction, and hold the other rows. `steps` are
    the team's own statements around it. `streams` makes the stream of its rows, where an engine carries it out.
    """

    load_no: int
    workspace: str
    day: datetime.date
    at: datetime.datetime
    zone: str
    files: Sequence[ArrivedFile]
    content: str
    once: str
    rejects: Path
    rehearsed: bool = False
    staging: str = ""
    opened: Callable[[ArrivedFile], SourceFile] | None = None
    stated: Mapping[str, str] = field(default_factory=dict)
    marks: tuple[int, ...] = ()
    removal: Removal | None = None
    around: Surroundings | None = None
    own_rows: bool = False
    brought: Sequence[tuple[str, str, int]] = ()
    still: Callable[[], None] = lambda: None
    inside: Inside | None = None
    steps: tuple[Step, ...] = ()
    streams: Callable[..., Any] | None = None

    def mark(self, table: str, rows: int) -> Mark:
        """What the load leaves in the place."""
        replaced = self.removal.of if self.removal else ""
        return Mark(
            self.load_no, self.workspace, table, self.content, self.once, self.day, self.at, rows, replaced
        )  # fmt: skip


@frozen
class Outcome:
    """What came of a load.

    `reasons` counts faults by reason; a row can have several. `notes` say more, `warnings` what is to be looked at.
    `in_the_way` counts the rows that were set aside for the sake of rows of other loads, by the load. `imprint` is what
    the rows come to that went in, `stated` what the sender said of the files, which holds.
    """

    state: State
    balance: Balance
    findings: tuple[Finding, ...]
    reasons: Mapping[str, int]
    message: str
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    in_the_way: Mapping[int, int] = field(default_factory=dict)
    imprint: Imprint | None = None
    stated: tuple[StatementTold, ...] = ()


class OvertakenError(Exception):
    """Another load has changed the table since this one was ordered: it needs a new number, and a new look."""


class UndoneError(Exception):
    """The load may not stand, and why."""

    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.message = message


class CollisionError(Exception):
    """Two keys with one hash: the load starts over with another seed."""
