"""What the ledger keeps, as documents: the shape of what `--json` prints and of what reports are made from."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import field
from typing import Any, ClassVar, Literal

from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance
from nomotheta.load.imprint import Imprint
from nomotheta.reconcile import Reconciliation
from nomotheta.rules.finding import Finding, Verdict
from nomotheta.source.stated import StatementTold
from nomotheta.tabular import Tabular

State = Literal[
    "loaded", "undone", "refused", "unchanged", "nothing arrived", "held back", "failed", "started", "cut off",
    "rehearsed", "taken out", "judged", "compared",
]  # fmt: skip


@frozen
class LeftOut:
    """A file that was not loaded because its content is in the table, or is another file's of the delivery.

    `load_no` is the load that brought the content, `as_file` the name it had then, or the other file's.
    """

    file: str
    load_no: int | None
    as_file: str


WAS = {"taken out": "undone", "undone": "rolled back", "held back": "skipped"}  # what is said of some states


@frozen
class BadFile:
    """A file that was left out because it cannot be loaded, why, and what to do."""

    file: str
    message: str
    mend: str = ""


@frozen
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


@frozen
class LoadResult(Tabular):
    """What came of a load.

    `state`: loaded; undone (rules, tolerance); refused (the delivery is missing, corrupt or came before); unchanged
    (what came is in the table already); nothing arrived (and need not); held back (a table it refers to failed);
    failed (the place); rehearsed; taken out (loaded, and undone later);
    compared (no load, but a comparison). `despite` is the load that had brought the same
    content before. `table_rows` counts the table's rows afterwards, where they could be counted. `notes` say what is no
    fault, but worth knowing: numbers stored as text, columns that the file lacks; `warnings` what makes it `warn` at
    least. `mends` is the load whose rows came again. `left_out` files are in the table already, `bad` ones cannot be
    loaded and make it `fail`; `replaced` are the loads whose rows this one took out. `in_the_way`
    counts the rows that were set aside because rows of other loads have their keys, by the load. `imprint` is what the
    rows came to while they came in, `stated` what the sender said of the files. `charter` is the version of the charter
    that was carried out, `changed` the keys in which it differs from the one under which the table's rows were loaded;
    `by` and `command` are who loaded, and how.
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
    imprint: Imprint | None = None
    stated: tuple[StatementTold, ...] = ()
    charter: str = ""
    changed: tuple[str, ...] = ()
    by: str = ""
    command: str = ""
    mends: int | None = None
    despite: int | None = None
    seconds: float = 0.0
    format: str = "nomotheta/load/1"
    COLUMNS: ClassVar[Mapping[str, str]] = Finding.COLUMNS

    def caption(self) -> str:
        """The table, its verdict, and what is listed."""
        return f"{self.table}: {self.verdict}, {counted(len(self.findings), 'rule')}"

    def as_rows(self) -> list[dict[str, Any]]:
        """Its findings, one a row."""
        return [each.record() for each in self.findings]


@frozen
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


@frozen
class Judgement(Tabular):
    """What came of judging a table."""

    table: str
    place: str
    over: str
    verdict: Verdict
    findings: tuple[Finding, ...] = ()
    message: str = ""
    mend: str = ""
    seconds: float = 0.0
    notes: tuple[str, ...] = ()
    format: str = "nomotheta/judgement/1"
    COLUMNS: ClassVar[Mapping[str, str]] = Finding.COLUMNS

    def caption(self) -> str:
        """The table, its verdict, and what is listed."""
        return f"{self.table}: {self.verdict}, {counted(len(self.findings), 'rule')}"

    def as_rows(self) -> list[dict[str, Any]]:
        """Its findings, one a row."""
        return [each.record() for each in self.findings]


@frozen
class TableResult:
    """One table's part of a run, or a comparison's, whose `load` says no more than that."""

    table: str
    verdict: Verdict
    load: LoadResult
    about: str = ""
    owners: tuple[str, ...] = ()
    reconciliation: Reconciliation | None = None
    message: str = ""


@frozen
class RunResult(Tabular):
    """What came of a night's run; `rehearsed` says that it was a trial, of which nothing stays."""

    run_id: int
    workspace: str
    day: datetime.date
    started: datetime.datetime
    seconds: float
    verdict: Verdict
    tables: tuple[TableResult, ...]
    rehearsed: bool = False
    format: str = "nomotheta/run/1"
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "table": "text", "verdict": "text", "state": "text", "load_no": "integer", "loaded": "integer",
        "rejected": "integer", "copies": "integer", "conflicts": "integer", "in_table": "integer", "message": "text",
    }  # fmt: skip

    def caption(self) -> str:
        """The workspace, the day and the verdict."""
        return f"{self.workspace}, {self.day}: {self.verdict}"

    def as_rows(self) -> list[dict[str, Any]]:
        """Its tables, one a row; counts are of what this run loaded."""
        return [_record(each) for each in self.tables]

    @classmethod
    def of_one(
        cls, load: LoadResult, workspace: str, started: datetime.datetime, about: str = "", owners: tuple[str, ...] = ()
    ) -> RunResult:  # fmt: skip
        """A single load as a run of one table, without a number, so that it is told and shown like one."""
        table = TableResult(load.table, load.verdict, load, about, owners)
        return cls(0, workspace, load.day, started, load.seconds, load.verdict, (table,))


def _record(result: TableResult) -> dict[str, Any]:
    load, balance = result.load, result.load.balance
    names = ("loaded", "rejected", "copies", "conflicts")
    counts = {} if balance is None else {name: getattr(balance, name) for name in names}
    message = "; ".join(filter(None, [load.message, result.message]))
    return {"table": result.table, "verdict": result.verdict, "state": load.state, "load_no": load.load_no,
            "in_table": load.table_rows, "message": message, **counts}  # fmt: skip


@frozen
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
