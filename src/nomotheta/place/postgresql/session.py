"""A session with PostgreSQL: its settings, its errors in our words, and statements that are carried out in it."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Sequence
from typing import Any

import psycopg
from psycopg.conninfo import make_conninfo
from psycopg.rows import dict_row

from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.postgresql.sql import PostgresFingerprint

_SESSION = {
    "TimeZone": "UTC", "DateStyle": "ISO, YMD", "standard_conforming_strings": "on", "extra_float_digits": "1",
    "synchronize_seqscans": "off", "application_name": "nomotheta", "client_min_messages": "warning",
}  # fmt: skip
_PATIENCE = 10  # seconds until a server that does not answer is given up
_LOCK_PATIENCE = 30  # seconds until a lock that somebody else holds is given up, where the url says nothing else


class PostgresSession:
    """A connection to a PostgreSQL database."""

    def __init__(self, name: str, url: str, shown: str) -> None:
        self.name, self.shown = name, shown
        self.fingerprint: Fingerprint = PostgresFingerprint()
        self._before: dict[str, tuple[int, int]] = {}
        with self._translated():
            patient = url if "connect_timeout" in url else make_conninfo(url, connect_timeout=_PATIENCE)
            self._connection = psycopg.connect(patient, autocommit=True, row_factory=dict_row, prepare_threshold=None)
        listed = ", ".join(f"set_config('{setting}', '{value}', false)" for setting, value in _SESSION.items())
        found = self._rows(
            f"SELECT current_setting('server_encoding') AS e, current_setting('lock_timeout') AS waits, {listed}"
        )[0]
        if found["waits"] == "0":
            self._run(f"SET lock_timeout = '{_LOCK_PATIENCE}s'")
        encoding = found["e"]
        if encoding != "UTF8":
            self.close()
            raise PlaceError(
                f"the database's encoding is {encoding}, which does not hold every text", where=f"place {name}",
                mend="use a database that was created with ENCODING 'UTF8'",
            )  # fmt: skip

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except psycopg.Error as error:
            raise self._error(error) from error

    def _error(self, error: psycopg.Error) -> PlaceError:
        where, diagnosis = f"place {self.name}", error.diag
        if diagnosis.message_primary is None:
            if isinstance(error, psycopg.DataError):
                return PlaceError(f"it holds a value that cannot be read: {error}", where=where)
            told = str(error).strip().partition("\n")[0].rpartition("failed: ")[2].removeprefix("FATAL: ").strip()
            return PlaceError(f"{self.shown} cannot be reached: {told}", where=where,
                              mend="check the url in nomotheta.toml, and that the server runs")  # fmt: skip
        if isinstance(error, psycopg.errors.LockNotAvailable):
            return PlaceError("the database says: another session has held a lock on it for too long", where=where,
                              mend="load again when that session is done")  # fmt: skip
        told = diagnosis.message_primary
        detail = diagnosis.message_detail or ""
        told += f": {detail.rstrip('.')}" if detail and not detail.startswith("Failing row") else ""
        context = re.search(r"COPY \S+, line (\d+)(?:, column (.*))?", diagnosis.context or "")
        told += f", column {context[2]}" if context and context[2] else ""
        row = int(context[1]) if context else None
        return PlaceError(f"the database says: {told}", where=where, row=row)

    def _rows(self, sql: str, parameters: Sequence[Any] = ()) -> list[dict[str, Any]]:
        with self._translated(sql):
            return list(self._connection.execute(sql, parameters or None))

    def _run(self, sql: str) -> None:
        """A statement that gives no rows."""
        with self._translated(sql):
            self._connection.execute(sql)

    def interrupt(self) -> None:
        """Have the server end what it is asked in another thread."""
        with contextlib.suppress(psycopg.Error):
            self._connection.cancel()

    def close(self) -> None:
        """Let go of the connection."""
        self._connection.close()
