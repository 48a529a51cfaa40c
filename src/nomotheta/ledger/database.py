"""The ledger's file: SQLite, with a version of its tables, and the steps that bring older ones to it.

The standard library's driver is used as it is: a general database layer would take longer to import than a small load
takes to run.
"""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from nomotheta.errors import NomothetaError

_PATIENCE = 20  # seconds that a command waits for another one's writing
_SIDES = {"files_rows": "source_rows", "table_rows": "target_rows", "files_fingerprint": "source_fingerprint",
          "table_fingerprint": "target_fingerprint", "files_count": "source_count", "table_count": "target_count",
          "files": "source", "table": "target"}  # fmt: skip
_SORTS = {"differs": "changed", "only in files": "missing", "only in table": "unexpected"}


def _with_sides(connection: sqlite3.Connection) -> None:
    """Reconciliations of format 1 become those of format 2, whose sides are a source and a target."""
    for table, number in (("runs", "run_id"), ("entries", "entry_id")):
        old = connection.execute(
            f"SELECT {number}, document FROM {table} WHERE instr(document, '\"nomotheta/reconciliation/1\"')"
        ).fetchall()
        for key, document in old:
            found = json.loads(document)
            results = [found] if "totals" in found else [each["reconciliation"] for each in found["tables"]]
            for result in filter(None, results):
                _renew(result)
            connection.execute(f"UPDATE {table} SET document = ? WHERE {number} = ?", (json.dumps(found), key))


def _renew(result: dict[str, Any]) -> None:
    result["format"] = "nomotheta/reconciliation/2"
    for old, new in list(_SIDES.items())[:4]:
        result[new] = result.pop(old)
    for row in result["differences"]:
        row["sort"] = _SORTS[row.pop("where")]
    for each in [*result["totals"], *(cell for row in result["differences"] for cell in row["cells"])]:
        each |= {new: each.pop(old) for old, new in _SIDES.items() if old in each}


def _chained(connection: sqlite3.Connection) -> None:
    """A chain begins with what is there."""
    from nomotheta.ledger.chain import seal_all

    seal_all(lambda sql, *values: connection.execute(sql, values).fetchall())


def _with_nights(connection: sqlite3.Connection) -> None:
    """The nights of the runs that are known already."""
    documents = connection.execute("SELECT document FROM runs WHERE document IS NOT NULL ORDER BY run_id").fetchall()
    if not documents:
        return
    from pydantic import TypeAdapter

    from nomotheta.ledger.history import INSERT, values_of
    from nomotheta.ledger.record import RunResult

    adapter = TypeAdapter(RunResult)
    for (document,) in documents:
        for values in values_of(adapter.validate_json(document)):
            connection.execute(INSERT, [stored(value) for value in values])


_STEPS: Sequence[Sequence[str | Callable[[sqlite3.Connection], None]]] = (
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
)


class Database:
    """The file, opened and brought to the version of this program; made where it is not there.

    Raises:
        NomothetaError: it cannot be opened, or is of a newer version.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self.connection = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None)
            self.connection.row_factory = sqlite3.Row
            self.connection.execute("PRAGMA journal_mode = WAL")
            if self._version() != len(_STEPS):
                self._brought_up_to_date()
        except (OSError, sqlite3.Error) as error:
            raise self._error(error) from None

    def _version(self) -> int:
        return int(self.connection.execute("PRAGMA user_version").fetchone()[0])

    def _brought_up_to_date(self) -> None:
        """All steps that are missing, or none."""
        self.connection.execute("BEGIN IMMEDIATE")  # another process may be at it, too
        try:
            version = self._version()
            if version > len(_STEPS):
                raise NomothetaError(
                    f"the ledger was written by a newer version of Nomotheta: its tables have version {version}, this "
                    f"program knows {len(_STEPS)}", where=str(self.path), mend="install the newer version here, too",
                )  # fmt: skip
            for step in _STEPS[version:]:
                for statement in step:
                    if isinstance(statement, str):
                        self.connection.execute(statement)
                    else:
                        statement(self.connection)
            self.connection.execute(f"PRAGMA user_version = {len(_STEPS)}")
            self.connection.execute("COMMIT")
        except BaseException:
            self.connection.execute("ROLLBACK")
            raise

    def _error(self, error: Exception) -> NomothetaError:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        return NomothetaError(
            f"the ledger cannot be used: {reason}", where=str(self.path),
            mend="check the rights and the free space of the workspace's .nomotheta folder",
        )  # fmt: skip

    def rows(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        """One statement, committed by itself, and its rows."""
        try:
            with contextlib.closing(self.connection.execute(sql, [stored(value) for value in values])) as cursor:
                return cursor.fetchall()
        except sqlite3.Error as error:
            raise self._error(error) from None

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Several statements, all of them or none; within others that are so, they are a part of these."""
        if self.connection.in_transaction:
            yield
            return
        self.rows("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._roll_back()
            raise
        try:
            self.rows("COMMIT")
        except BaseException:
            self._roll_back()
            raise

    def _roll_back(self) -> None:
        """Undo what was begun; on a full disk SQLite has done so by itself."""
        if self.connection.in_transaction:
            with contextlib.suppress(sqlite3.Error):
                self.connection.execute("ROLLBACK")

    def seal(self, kind: str, key: int) -> None:
        """Add a record of what was written to the chain; within the same transaction."""
        from nomotheta.ledger.chain import seal  # only now: most commands write nothing

        seal(self.rows, kind, key)

    def add(self, table: str, **values: Any) -> int:
        """A new row; its number."""
        names = ", ".join(values)
        marks = ", ".join("?" * len(values))
        return int(self.rows(f"INSERT INTO {table} ({names}) VALUES ({marks}) RETURNING rowid", *values.values())[0][0])

    def close(self) -> None:
        """Let go of the file."""
        self.connection.close()


def stored(value: Any) -> Any:
    """Moments as ISO 8601 text, in UTC."""
    if isinstance(value, datetime.datetime):
        return value.astimezone(datetime.UTC).isoformat()
    return value.isoformat() if isinstance(value, datetime.date) else value


def at_work(process: int | None, since: str | None) -> bool:
    """Whether another process that held something at a moment is still there: numbers are given to new ones again."""
    if not process or process == os.getpid() or not since:
        return False
    import psutil

    try:
        return bool(psutil.Process(process).create_time() <= datetime.datetime.fromisoformat(since).timestamp() + 1)
    except psutil.NoSuchProcess:
        return False
    except psutil.Error:  # it is there, and will not be looked at
        return True
