"""The ledger: what happened, kept in the workspace."""

from nomotheta.ledger.docket import TOLD, Docket, DocketEntry, DocketPage, Event, Night
from nomotheta.ledger.history import Change, Part, usual_range
from nomotheta.ledger.ledger import Ledger
from nomotheta.ledger.outbox import Mail, Outbox, Outgoing, OutgoingPage
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
from nomotheta.ledger.summaries import summary_of_load, summary_of_reconciliation

__all__ = [
    "TOLD",
    "BadFile",
    "Change",
    "Docket",
    "DocketEntry",
    "DocketPage",
    "Entry",
    "Event",
    "Judgement",
    "Ledger",
    "LeftOut",
    "LoadResult",
    "Mail",
    "Night",
    "Outbox",
    "Outgoing",
    "OutgoingPage",
    "Part",
    "RunResult",
    "ShownReject",
    "State",
    "TableResult",
    "Undone",
    "summary_of_load",
    "summary_of_reconciliation",
    "usual_range",
]
