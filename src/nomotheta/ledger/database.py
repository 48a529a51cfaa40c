"""What a ledger asks of the database that it is kept in: one file of SQLite, or a schema of PostgreSQL for a team.

Statements are written as SQLite takes them, with `?` for a value; what the databases say differently is said by each.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

KEYS = {"runs": "run_id", "entries": "entry_id", "outbox": "mail_id", "docket": "entry_no", "docket_events": "event_id",
        "prunings": "pruning_no"}  # fmt: skip


class Database(Protocol):
    """A ledger's tables, of this program's version. `holder` is what tells this session from any other at work.

    Every method raises NomothetaError where the database cannot be used.
    """

    holder: int
    shared: bool  # whether it is one that several machines may have
    where: str  # as messages name it
    greatest: str  # the function of several values
    listed: str  # a SELECT of the texts in a JSON list that is a value
    numbers: str  # the same of numbers
    each_row: str  # FROM a JSON object that is a value, with a list of numbers for each name: files.key, {row}
    row: str

    def rows(self, sql: str, *values: Any) -> Sequence[Any]:
        """One statement, committed by itself, and its rows, of which values are known by name and by position."""

    def together(self) -> AbstractContextManager[None]:
        """Several statements, all of them or none, while nobody else writes; within others they are part of these."""

    def seal(self, kind: str, key: int) -> None:
        """Add a record of what was written to the chain; within the same transaction."""
        from nomotheta.ledger.chain import seal  # only now: most commands write nothing

        seal(self.rows, kind, key)

    def add(self, table: str, **values: Any) -> int:
        """A new row; its number."""
        names, marks = ", ".join(values), ", ".join("?" * len(values))
        sql = f"INSERT INTO {table} ({names}) VALUES ({marks}) RETURNING {KEYS[table]}"
        return int(self.rows(sql, *values.values())[0][0])

    def of(self, path: str, document: str = "document", *, number: bool = False) -> str:
        """What is at a path, such as `balance.after`, in a column that holds JSON: as text, or as a number."""

    def items(self, path: str, document: str = "document") -> str:
        """What may stand in FROM, for `item.value` to be each of a list in a column that holds JSON."""

    def item(self, name: str) -> str:
        """A member of `item.value`, as text; the value itself, as text, where the name is empty."""

    def at_work(self, holder: int | None, since: str | None) -> bool:
        """Whether another session that held something since a moment is still there."""

    def alone(self) -> AbstractContextManager[bool]:
        """Whether nobody else carries out a run with this ledger, on whatever machine; nobody may meanwhile."""

    def size(self) -> int | None:
        """How many bytes the ledger takes, where that is known."""

    def compact(self) -> None:
        """Give back the room of what was removed."""

    def close(self) -> None:
        """Let go of it."""


def stored(value: Any) -> Any:
    """Moments as ISO 8601 text, in UTC."""
    if isinstance(value, datetime.datetime):
        return value.astimezone(datetime.UTC).isoformat()
    return value.isoformat() if isinstance(value, datetime.date) else value


def newer(found: int, known: int, where: str) -> Exception:
    """What is said of a ledger of a newer program."""
    from nomotheta.errors import NomothetaError

    return NomothetaError(
        f"the ledger was written by a newer version of Nomotheta: its tables have version {found}, this "
        f"program knows {known}", where=where, mend="install the newer version here, too",
    )  # fmt: skip
