"""What travels between the driver and the workers: what all tasks share, a task, and what came of it.

All of it is pickled. A task reads some files from the delivery, writes the rows that fit as files of the table, and
what else it found into a folder beside them; so what comes back is small, whatever the size of the files.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.charter import Check, Compiled
from nomotheta.load.account import Account
from nomotheta.load.imprint import Made
from nomotheta.load.order import Order
from nomotheta.place.base import PlaceColumn
from nomotheta.place.delta.store import Store
from nomotheta.place.delta.types import Field
from nomotheta.place.delta.written import Written
from nomotheta.place.render import Now
from nomotheta.source.base import Stretch
from nomotheta.source.delivery import ArrivedFile

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Target:
    """Where workers write: the lake, the folder of the table, what all names of this load begin with, the columns."""

    place: str
    root: str
    local: bool
    options: Mapping[str, str]
    folder: str
    ident: str
    fields: Sequence[Field]

    def store(self) -> Store:
        """The lake's files."""
        return Store(self.place, Path(self.root) if self.local else self.root, self.options)

    @property
    def staging(self) -> str:
        """The folder for what is not of the table."""
        return f"{self.folder}/_nomotheta/staging-{self.ident}"


@dataclass(frozen=True)
class Shared:
    """What all tasks of a load share; `order` without files, and without what only this program can call."""

    compiled: Compiled
    order: Order
    now: Now
    there: Mapping[str, PlaceColumn]
    seed: int
    listed: Mapping[str, Any]
    flight: Sequence[Check]
    target: Target


@dataclass(frozen=True)
class Out:
    """For one key, the records of a task that stay out, in their order, for whose sake, and the hashes of their keys.

    Records are counted from 1 through all files of the delivery.
    """

    records: Ints
    firsts: Ints
    hashes: NDArray[np.uint64]


@dataclass(frozen=True)
class Origins:
    """On which line of which file some records began."""

    records: Ints
    files: Sequence[str]
    lines: Ints


@dataclass(frozen=True)
class Task:
    """Some files of a delivery, in their order; before them, so many records are in others.

    Where rows of them stay out for the sake of others, it is known only once all files were read: then the task is done
    once more, with what is `out` for each key, and where those `origins` are. A task without files hashes the keys of
    rows that are `there` in the table, given as a SELECT of the embedded engine. Of a file alone it may be only a
    `stretch`; before, it is `tried` whether a stretch ends with a record, and how many line ends are in it.
    """

    number: int
    files: Sequence[ArrivedFile]
    before: int = 0
    out: Sequence[Out] | None = None
    origins: Origins | None = None
    there: str = ""
    stretch: Stretch | None = None
    tried: Stretch | None = None


TOGETHER = 500  # tasks that lie in one file, until they are carried out


def tasks_at(staging: str, number: int) -> str:
    """The file in which a task lies."""
    return f"{staging}/tasks-{number // TOGETHER:06d}.pickle"


@dataclass
class Result:
    """What came of a task: paths are from the root of the lake on."""

    number: int
    account: Account = field(default_factory=lambda: Account(()))
    notes: Sequence[str] = ()
    feeds: int | None = None
    reasons: Counter[str] = field(default_factory=Counter)
    by_check: Counter[str] = field(default_factory=Counter)
    written: Sequence[Written] = ()
    rejects: str = ""
    hashes: str = ""
    hashed: int = 0  # keys that are in that file
    waiting: str = ""
    apart: Sequence[tuple[Any, NDArray[np.uint64]]] = ()
    in_table: int = 0
    flight: Any = None
    imprint: Made | None = None
    error: BaseException | None = None
    other_version: str = ""  # of a worker that is of another version, and did nothing

    @property
    def records(self) -> int:
        """How many records it has read."""
        return self.account.in_all
