"""The ledger: what happened, kept in the workspace."""

from nomotheta.ledger.ledger import Ledger, summary_of_load, summary_of_reconciliation
from nomotheta.ledger.outbox import Mail, Outbox
from nomotheta.ledger.record import (
    BadFile,
    Entry,
    Judgement,
    LeftOut,
    LoadResult,
    RunResult,
    ShownReject,
    State,
    TableResult,
    Undone,
)

__all__ = [
    "BadFile",
    "Entry",
    "Judgement",
    "Ledger",
    "LeftOut",
    "LoadResult",
    "Mail",
    "Outbox",
    "RunResult",
    "ShownReject",
    "State",
    "TableResult",
    "Undone",
    "summary_of_load",
    "summary_of_reconciliation",
]
