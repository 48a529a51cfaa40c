"""The versions of the ledger's tables: the steps that bring those of an older one to this program's."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Any

Ask = Callable[..., Sequence[Any]]  # a statement and its values; its rows
_SIDES = {"files_rows": "source_rows", "table_rows": "target_rows", "files_fingerprint": "source_fingerprint",
          "table_fingerprint": "target_fingerprint", "files_count": "source_count", "table_count": "target_count",
          "files": "source", "table": "target"}  # fmt: skip
_SORTS = {"differs": "changed", "only in files": "missing", "only in table": "unexpected"}


def _with_sides(ask: Ask) -> None:
    """Reconciliations of format 1 become those of format 2, whose sides are a source and a target."""
    for table, number in (("runs", "run_id"), ("entries", "entry_id")):
        like = "'%\"nomotheta/reconciliation/1\"%'"
        old = ask(f"SELECT {number}, document FROM {table} WHERE document LIKE {like}")
        for key, document in old:
            found = json.loads(document)
            results = [found] if "totals" in found else [each["reconciliation"] for each in found["tables"]]
            for result in filter(None, results):
                _renew(result)
            ask(f"UPDATE {table} SET document = ? WHERE {number} = ?", json.dumps(found), key)


def _renew(result: dict[str, Any]) -> None:
    result["format"] = "nomotheta/reconciliation/2"
    for old, new in list(_SIDES.items())[:4]:
        result[new] = result.pop(old)
    for row in result["differences"]:
        row["sort"] = _SORTS[row.pop("where")]
    for each in [*result["totals"], *(cell for row in result["differences"] for cell in row["cells"])]:
        each |= {new: each.pop(old) for old, new in _SIDES.items() if old in each}


def _chained(ask: Ask) -> None:
    """A chain begins with what is there."""
    from nomotheta.ledger.chain import seal_all

    seal_all(ask)


def _with_nights(ask: Ask) -> None:
    """The nights of the runs that are known already."""
    documents = ask("SELECT document FROM runs WHERE document IS NOT NULL ORDER BY run_id")
    if not documents:
        return
    from pydantic import TypeAdapter

    from nomotheta.ledger.history import INSERT, values_of
    from nomotheta.ledger.record import RunResult

    adapter = TypeAdapter(RunResult)
    for (document,) in documents:
        for values in values_of(adapter.validate_json(document)):
            ask(INSERT, *values)


STEPS: Sequence[Sequence[str | Callable[[Ask], None]]] = (
    (
        "CREATE TABLE IF NOT EXISTS about (key TEXT PRIMARY KEY, value TEXT NOT NULL)",
        "CREATE TABLE IF NOT EXISTS runs (run_id INTEGER PRIMARY KEY, day TEXT NOT NULL, started TEXT NOT NULL, "
        "verdict TEXT, document TEXT)",
        "CREATE TABLE IF NOT EXISTS entries (entry_id INTEGER PRIMARY KEY, what TEXT NOT NULL, run_id INTEGER, "
        "load_no INTEGER, table_name TEXT NOT NULL, place TEXT NOT NULL, day TEXT, started TEXT NOT NULL, "
        "process INTEGER, state TEXT NOT NULL, verdict TEXT NOT NULL, summary TEXT NOT NULL, document TEXT)",
        "CREATE INDEX IF NOT EXISTS entries_by_table ON entries (table_name, entry_id)",
        "CREATE TABLE IF NOT EXISTS mended (of_load INTEGER NOT NULL, load_no INTEGER NOT NULL, file TEXT NOT NULL, "
        "record INTEGER NOT NULL, PRIMARY KEY (of_load, file, record, load_no)) WITHOUT ROWID",
        "CREATE TABLE IF NOT EXISTS outbox (mail_id INTEGER PRIMARY KEY, tell TEXT NOT NULL, subject TEXT NOT NULL, "
        "text TEXT NOT NULL, html TEXT NOT NULL, created TEXT NOT NULL, sent TEXT)",
    ),
    (
        "ALTER TABLE outbox ADD COLUMN recipients TEXT",  # as JSON, those who have not got it; null for all
        "ALTER TABLE outbox ADD COLUMN holder INTEGER",  # the process that is sending it, and since when
        "ALTER TABLE outbox ADD COLUMN held TEXT",
        "ALTER TABLE outbox ADD COLUMN refused TEXT",  # why it is not tried any more
        "CREATE INDEX entries_by_load ON entries (load_no)",
    ),
    (
        "CREATE TABLE charters (version TEXT PRIMARY KEY, text TEXT NOT NULL, declared TEXT NOT NULL)",
        "CREATE TABLE closed (of_load INTEGER NOT NULL, file TEXT NOT NULL, record INTEGER NOT NULL, "
        "reason TEXT NOT NULL, closed_by TEXT NOT NULL, closed_at TEXT NOT NULL, PRIMARY KEY (of_load, file, record)) "
        "WITHOUT ROWID",
        "CREATE TABLE tried (of_load INTEGER NOT NULL, file TEXT NOT NULL, record INTEGER NOT NULL, "
        "load_no INTEGER NOT NULL, PRIMARY KEY (of_load, file, record)) WITHOUT ROWID",
    ),
    (_with_sides,),
    (
        "CREATE TABLE docket (entry_no INTEGER PRIMARY KEY, table_name TEXT NOT NULL, place TEXT NOT NULL, "
        "sort TEXT NOT NULL, name TEXT NOT NULL, open INTEGER NOT NULL, verdict TEXT NOT NULL, message TEXT NOT NULL, "
        "owners TEXT NOT NULL, episode INTEGER NOT NULL, told_size INTEGER, told_verdict TEXT NOT NULL, "
        "taken_by TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '', excused_until TEXT, "
        "excuse TEXT NOT NULL DEFAULT '', excused_by TEXT NOT NULL DEFAULT '', UNIQUE (table_name, place, sort, name))",
        "CREATE TABLE docket_nights (entry_no INTEGER NOT NULL, episode INTEGER NOT NULL, day TEXT NOT NULL, "
        "run_id INTEGER NOT NULL, size INTEGER, verdict TEXT NOT NULL, PRIMARY KEY (entry_no, episode, day)) "
        "WITHOUT ROWID",
        "CREATE TABLE docket_events (event_id INTEGER PRIMARY KEY, entry_no INTEGER NOT NULL, "
        "episode INTEGER NOT NULL, at TEXT NOT NULL, day TEXT, run_id INTEGER, what TEXT NOT NULL, size INTEGER, "
        "nights INTEGER NOT NULL, "
        "told TEXT NOT NULL, by_name TEXT NOT NULL DEFAULT '', posted INTEGER NOT NULL DEFAULT 0)",
        "CREATE INDEX docket_events_of_run ON docket_events (run_id)",
        "ALTER TABLE outbox ADD COLUMN document TEXT",
        "ALTER TABLE outbox ADD COLUMN not_before TEXT",
        "ALTER TABLE outbox ADD COLUMN files TEXT",  # that are attached, as JSON, by their names
        "CREATE TABLE nights (run_id INTEGER NOT NULL, day TEXT NOT NULL, started TEXT NOT NULL, "
        "table_name TEXT NOT NULL, verdict TEXT NOT NULL, state TEXT NOT NULL, loaded INTEGER, rejected INTEGER, "
        "repeated INTEGER, table_rows INTEGER, bytes INTEGER, seconds REAL NOT NULL, breaks TEXT NOT NULL, "
        "rules INTEGER NOT NULL, PRIMARY KEY (run_id, table_name)) WITHOUT ROWID",
        "CREATE TABLE chain (seq INTEGER PRIMARY KEY, kind TEXT NOT NULL, key INTEGER NOT NULL, digest TEXT NOT NULL, "
        "hash TEXT NOT NULL)",
        _chained,
    ),
    ("ALTER TABLE nights ADD COLUMN charter TEXT NOT NULL DEFAULT ''", _with_nights),
    (
        "CREATE TABLE prunings (pruning_no INTEGER PRIMARY KEY, at TEXT NOT NULL, before TEXT NOT NULL, "
        "by_name TEXT NOT NULL, removed TEXT NOT NULL)",
    ),
    (
        "ALTER TABLE runs ADD COLUMN holder INTEGER",  # the session that leads it
        "ALTER TABLE runs ADD COLUMN asked TEXT",  # as JSON, what others must be asked for to take part in it
        "CREATE TABLE shares (run_id INTEGER NOT NULL, name TEXT NOT NULL, holder INTEGER NOT NULL, "
        "since TEXT NOT NULL, document TEXT, PRIMARY KEY (run_id, name)) WITHOUT ROWID",
    ),
)
