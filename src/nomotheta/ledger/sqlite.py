"""The ledger's file: SQLite, for a workspace of one machine.

The standard library's driver is used as it is: a general database layer would take longer to import than a small load
takes to run.
"""

from __future__ import annotations

import contextlib
import datetime
import itertools
import os
import sqlite3
import weakref
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from nomotheta.errors import NomothetaError
from nomotheta.ledger.database import Database, newer, stored
from nomotheta.ledger.steps import STEPS

_PATIENCE = 20  # seconds that a command waits for another one's writing
_NUMBERS = itertools.count()
_PROCESS = 1 << 32  # below it, a holder is the number of a process; above, which ledger it is that the process has open
_OPEN: weakref.WeakValueDictionary[int, SqliteLedger] = weakref.WeakValueDictionary()


class SqliteLedger(Database):
    """The file, opened and brought to the version of this program; made where it is not there.

    Raises:
        NomothetaError: it cannot be opened, or is of a newer version.
    """

    shared, greatest = False, "max"
    listed = numbers = "SELECT value FROM json_each(?)"
    each_row, row = "FROM json_each(?) AS files, json_each(files.value) AS records", "records.value"

    def __init__(self, path: Path) -> None:
        self.path, self.where = path, str(path)
        self.holder = os.getpid() + next(_NUMBERS) * _PROCESS
        _OPEN[self.holder] = self
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self.connection = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None)
            self.connection.row_factory = sqlite3.Row
            self.connection.execute("PRAGMA journal_mode = WAL")
            if self._version() != len(STEPS):
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
            if version > len(STEPS):
                raise newer(version, len(STEPS), self.where)
            for step in STEPS[version:]:
                for statement in step:
                    if isinstance(statement, str):
                        self.connection.execute(statement)
                    else:
                        statement(self.rows)
            self.connection.execute(f"PRAGMA user_version = {len(STEPS)}")
            self.connection.execute("COMMIT")
        except BaseException:
            self.connection.execute("ROLLBACK")
            raise

    def _error(self, error: Exception) -> NomothetaError:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        return NomothetaError(
            f"the ledger cannot be used: {reason}", where=self.where,
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

    def of(self, path: str, document: str = "document", *, number: bool = False) -> str:  # noqa: ARG002
        """By its functions of JSON, which know numbers from texts."""
        return f"json_extract({document}, '$.{path}')"

    def items(self, path: str, document: str = "document") -> str:
        """By the same."""
        return f"json_each({document}, '$.{path}') AS item"

    def item(self, name: str) -> str:
        """By the same."""
        return f"json_extract(item.value, '$.{name}')" if name else "item.value"

    def at_work(self, holder: int | None, since: str | None) -> bool:
        """Whether its process is there, and has that ledger open: numbers of processes are given to new ones again."""
        if not holder or holder == self.holder or not since:
            return False
        process = holder % _PROCESS
        if process == os.getpid():
            return holder in _OPEN
        import psutil

        try:
            began = psutil.Process(process).create_time()
        except psutil.NoSuchProcess:
            return False
        except psutil.Error:  # it is there, and will not be looked at
            return True
        return bool(began <= datetime.datetime.fromisoformat(since).timestamp() + 1)

    def alone(self) -> contextlib.AbstractContextManager[bool]:
        """Other runs of the same machine are known by a file of the workspace."""
        return contextlib.nullcontext(enter_result=True)

    def size(self) -> int | None:
        """Of the file, with what is still to be written into it."""
        files = (self.path, self.path.with_name(self.path.name + "-wal"))
        return sum(file.stat().st_size for file in files if file.exists())

    def compact(self) -> None:
        """Write the file anew."""
        self.rows("VACUUM")
        self.rows("PRAGMA wal_checkpoint(TRUNCATE)")

    def close(self) -> None:
        """Let go of the file."""
        _OPEN.pop(self.holder, None)
        self.connection.close()
