"""What the ledger keeps, as documents: the shape of what `--json` prints and of what reports are made from."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from nomotheta.load.balance import Balance
from nomotheta.reconcile import Reconciliation
from nomotheta.rules.finding import Finding, Verdict

State = Literal[
    "loaded", "undone", "refused", "unchanged", "nothing arrived", "held back", "failed", "started", "cut off",
    "rehearsed", "taken out", "judged",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A file that was not loaded because its content is in the table, or is another file's of the delivery.

    `load_no` is the load that brought the content, `as_file` the name it had then, or the other file's.
    """

    file: str
    load_no: int | None
    as_file: str


@dataclass(frozen=True, slots=True)
class BadFile:
    """A file that was left out because it cannot be loaded, why, and what to do."""

    file: str
    message: str
    mend: str = ""


@dataclass(frozen=True, slots=True)
class ShownReject:
    """A fault of a row as it may be shown: private values and texts that hold them are left out."""

    file: str
    line: int
    record: int
    column: str
    value: str | None
    reason: str
    message: str
    original: str | None


@dataclass(frozen=True, slots=True)
class LoadResult:
    """What came of a load.

    `state`: loaded; undone (rules, tolerance); refused (the delivery is missing, corrupt or came before); unchanged
    (what came is in the table already); nothing arrived (and need not); held back (a table it refers to failed);
    failed (the place); rehearsed; taken out (loaded, and undone later). `despite` is the load that had brought the same
    content before. `table_rows` counts the table's rows afterwards, where they could be counted. `notes` say what is no
    fault, but worth knowing: numbers stored as text, columns that the file lacks; `warnings` what makes it `warn` at
    least. `mends` is the load whose rows came again. `left_out` files are in the table already, `bad` ones cannot be
    loaded and make it `fail`; `replaced` are the loads whose rows this one took out. `in_the_way`
    counts the rows that were set aside because rows of other loads have their keys, by the load. `charter` is the
    version of the charter that was carried out, `changed` the keys in which it differs from the one under which the
    table's rows were loaded; `by` and `command` are who loaded, and how.
    """

    table: str
    place: str
    day: datetime.date
    state: State
    verdict: Verdict
    load_no: int | None = None
    message: str = ""
    where: str = ""
    mend: str = ""
    balance: Balance | None = None
    findings: tuple[Finding, ...] = ()
    reasons: Mapping[str, int] = field(default_factory=dict)
    rejects: tuple[ShownReject, ...] = ()
    table_rows: int | None = None
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    bad: tuple[BadFile, ...] = ()
    replaced: tuple[int, ...] = ()
    in_the_way: Mapping[int, int] = field(default_factory=dict)
    charter: str = ""
    changed: tuple[str, ...] = ()
    by: str = ""
    command: str = ""
    mends: int | None = None
    despite: int | None = None
    seconds: float = 0.0
    format: str = "nomotheta/load/1"


@dataclass(frozen=True, slots=True)
class Undone:
    """What came of taking a load out of its table again: the rows before, removed, put back, and after.

    `open_again` counts the rows that other loads set aside because rows of this one had their keys, by the load.
    """

    load_no: int
    table: str
    place: str
    verdict: Verdict
    message: str = ""
    where: str = ""
    mend: str = ""
    before: int | None = None
    removed: int | None = None
    restored: int | None = None
    after: int | None = None
    open_again: Mapping[int, int] = field(default_factory=dict)
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class Judgement:
    """What came of judging a table."""

    table: str
    place: str
    over: str
    verdict: Verdict
    findings: tuple[Finding, ...] = ()
    message: str = ""
    mend: str = ""
    seconds: float = 0.0
    format: str = "nomotheta/judgement/1"


@dataclass(frozen=True, slots=True)
class TableResult:
    """One table's part of a run."""

    table: str
    verdict: Verdict
    load: LoadResult
    about: str = ""
    owners: tuple[str, ...] = ()
    reconciliation: Reconciliation | None = None
    message: str = ""


@dataclass(frozen=True, slots=True)
class RunResult:
    """What came of a night's run."""

    run_id: int
    workspace: str
    day: datetime.date
    started: datetime.datetime
    seconds: float
    verdict: Verdict
    tables: tuple[TableResult, ...]
    format: str = "nomotheta/run/1"

    @classmethod
    def of_one(
        cls, load: LoadResult, workspace: str, started: datetime.datetime, about: str = "", owners: tuple[str, ...] = ()
    ) -> RunResult:  # fmt: skip
        """A single load as a run of one table, without a number, so that it is told and shown like one."""
        table = TableResult(load.table, load.verdict, load, about, owners)
        return cls(0, workspace, load.day, started, load.seconds, load.verdict, (table,))


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of the ledger."""

    entry_id: int
    what: Literal["load", "judge", "reconcile", "undo"]
    run_id: int | None
    load_no: int | None
    table: str
    place: str
    day: datetime.date | None
    started: datetime.datetime
    state: str
    verdict: str
    summary: str
