"""Results as JSON documents, and the JSON Schemas of their shapes."""

from __future__ import annotations

import datetime
import json
import re
from collections.abc import Mapping
from dataclasses import field
from typing import Any

from pydantic import TypeAdapter

from nomotheta.charter import Problem
from nomotheta.charter.schema import declared_schemas
from nomotheta.frozen import frozen
from nomotheta.ledger import (
    Change,
    DocketPage,
    Entry,
    Judgement,
    LoadResult,
    OutgoingPage,
    Part,
    RunResult,
    ShownReject,
    Undone,
)
from nomotheta.ledger.chain import Verified
from nomotheta.ledger.pruning import Pruned
from nomotheta.peek import Look
from nomotheta.peek.table import TableLook
from nomotheta.place.answer import PlaceAnswer
from nomotheta.reconcile import Reconciliation, RowCounts
from nomotheta.source.arrivals import Arrivals


@frozen
class Linted:
    """What `lint` found; `notes` say what is not a problem, but worth knowing."""

    charters: tuple[str, ...]
    problems: tuple[Problem, ...]
    notes: tuple[str, ...] = ()
    format: str = "nomotheta/lint/1"


@frozen
class Began:
    """A workspace that was made: what of it is new, what was there, and what a `.gitignore` that was there may lack."""

    folder: str
    made: tuple[str, ...]
    kept: tuple[str, ...]
    ignored: tuple[str, ...]
    format: str = "nomotheta/workspace/1"


@frozen
class Proposed:
    """A charter to start from, as TOML, and the file it was written to."""

    charter: str
    file: str | None = None
    format: str = "nomotheta/proposal/1"


@frozen
class Judgements:
    """Tables that were judged."""

    verdict: str
    tables: tuple[Judgement, ...]
    format: str = "nomotheta/judgements/1"


@frozen
class Loads:
    """Tables that were loaded."""

    verdict: str
    loads: tuple[LoadResult, ...]
    format: str = "nomotheta/loads/1"


@frozen
class Runs:
    """The runs of several days, in their order."""

    verdict: str
    runs: tuple[RunResult, ...]
    format: str = "nomotheta/runs/1"


@frozen
class Undos:
    """Loads that were taken out of their tables as one, the newest first."""

    verdict: str
    loads: tuple[Undone, ...]
    format: str = "nomotheta/undo/1"


@frozen
class Reconciliations:
    """Tables that were reconciled."""

    verdict: str
    tables: tuple[Reconciliation, ...]
    format: str = "nomotheta/reconciliations/1"


@frozen
class Counts:
    """Rows of tables, counted by groups on both sides."""

    verdict: str
    counts: tuple[RowCounts, ...]
    format: str = "nomotheta/counts/1"


@frozen
class Rejects:
    """The rows that a load set aside: `rows` of them, of which `came_later` came with the loads `with_loads`.

    `closed` counts those that will not come, by the reason. `faults` counts those of the open rows by reason; `shown`
    are the first.
    """

    load_no: int
    table: str
    rows: int
    came_later: int
    open: int
    with_loads: tuple[int, ...]
    closed: dict[str, int]
    faults: int
    reasons: dict[str, int]
    shown: tuple[ShownReject, ...]
    format: str = "nomotheta/rejects/1"


@frozen
class RejectsFile:
    """The open rows of a load that were written to a file, to be mended: how many, and where."""

    load_no: int
    table: str
    rows: int
    file: str
    format: str = "nomotheta/rejects-file/1"


@frozen
class LedgerPage:
    """What happened, newest first."""

    entries: tuple[Entry, ...]
    format: str = "nomotheta/ledger/1"


@frozen
class LedgerChanges:
    """What is otherwise on the night of a day than on the one before: the tables in which anything differs, or all."""

    day: datetime.date | None
    changes: tuple[Change, ...]
    format: str = "nomotheta/ledger-changes/1"


@frozen
class LedgerTrends:
    """The parts of tables in the newest nights, the oldest first."""

    nights: int
    tables: Mapping[str, tuple[Part, ...]]
    format: str = "nomotheta/ledger-trends/1"


@frozen
class LedgerLoad:
    """A load as the ledger keeps it, when it began, and the charter that was carried out, as TOML."""

    load: LoadResult
    began: str
    charter: str
    format: str = "nomotheta/ledger-load/1"


@frozen
class Places:
    """The places that are declared, each tried."""

    places: tuple[PlaceAnswer, ...]
    format: str = "nomotheta/places/1"


@frozen
class Schedule:
    """What the clock of an operating system is told, to run a workspace every day."""

    clock: str
    text: str
    format: str = "nomotheta/schedule/1"


@frozen
class Page:
    """A report that was written: of a run, or where there is no number of one, of a load or a judgement."""

    run_id: int | None
    file: str
    format: str = "nomotheta/report/1"


@frozen
class Demo:
    """A demo that was written and run."""

    folder: str
    report: str
    runs: tuple[RunResult, ...] = field(default=())
    format: str = "nomotheta/demo/1"


@frozen
class Failure:
    """Why a command could not do its work."""

    what: str
    where: str
    mend: str
    exit_code: int
    format: str = "nomotheta/error/1"


DOCUMENTS = (
    Began,
    Linted,
    Proposed,
    Judgements,
    Loads,
    Undos,
    Reconciliations,
    Rejects,
    RejectsFile,
    LedgerPage,
    DocketPage,
    OutgoingPage,
    Verified,
    LedgerLoad,
    Places,
    Schedule,
    Page,
    Demo,
    Look,
    TableLook,
    RunResult,
    Runs,
    Arrivals,
    LedgerChanges,
    LedgerTrends,
    Pruned,
    Failure,
)

_CONTROLS = re.compile("[\x7f-\x9f\u2028\u2029]")


def to_json(document: Any) -> str:
    """A document as indented JSON; what could move a terminal's cursor is escaped in it, although JSON allows it."""
    text = TypeAdapter(type(document)).dump_json(document, indent=2).decode()
    return _CONTROLS.sub(lambda sign: f"\\u{ord(sign[0]):04x}", text)


def schemas() -> dict[str, str]:
    """The JSON Schema (2020-12) of every document, by the name of its format, and of what is declared."""
    found = {}
    for each in DOCUMENTS:
        schema = TypeAdapter(each).json_schema(mode="serialization")
        name = schema["properties"]["format"]["default"]
        schema["properties"]["format"]["const"] = name
        found[name.split("/")[1]] = json.dumps(
            {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}, indent=2
        )
    return found | {name: json.dumps(schema, indent=2) for name, schema in declared_schemas().items()}
