"""A connection to a MariaDB server: its settings, its statements, and its errors as ours."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from typing import Any

import pymysql

from nomotheta.errors import PlaceError
from nomotheta.events import step
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.mariadb.bulk import ROW, BulkConnection, missing, row_of
from nomotheta.place.mariadb.sql import COLLATION, MariaFingerprint
from nomotheta.place.mariadb.url import settings_of

_MODE = (
    "ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PIPES_AS_CONCAT,STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,"
    "NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO"
)
_LOCKED = {1205: "another session has held a lock on it for too long", 1213: "another session's change met this one"}
_GONE = {2006, 2013, 2055}
_TOO_LARGE = 1153
SET_ASIDE = "change the charter, so that such a row is set aside, or the table"


class MariaSession:
    """A connection to a database of a MariaDB server."""

    hints: Sequence[str] = ()
    session: Sequence[str] = (f"SET SESSION sql_mode = '{_MODE}', time_zone = '+00:00'",)

    def __init__(self, name: str, url: str, shown: str) -> None:
        self.name, self.shown = name, shown
        self.fingerprint: Fingerprint = MariaFingerprint()
        self._settings, patience = settings_of(url, f"place {name}")
        with self._translated():
            lacking = missing()
            if not lacking:
                self._connection: Any = BulkConnection(**self._settings)
            else:
                self._connection = pymysql.Connection(**self._settings | {"local_infile": True})
                told = f"rows go in more slowly: PyMySQL {pymysql.__version__}, which is installed, has no {lacking}"
                self.hints = (told,)
            version = str(self._rows("SELECT version()")[0][0])
            self._version = version.partition("-")[0]
            if "MariaDB" not in version:
                self.close()
                raise PlaceError(f"{self.shown} is MySQL {self._version}, which differs", where=f"place {name}",
                                 mend='write url = "mysql+pymysql://…", and the rest as it is')  # fmt: skip
            self._run(f"SET NAMES utf8mb4 COLLATE {COLLATION}")
            self._run(f"SET SESSION sql_mode = '{_MODE}', time_zone = '+00:00', autocommit = 1, "
                      f"lock_wait_timeout = {patience}, innodb_lock_wait_timeout = {patience}")  # fmt: skip
            self._run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")

    # ---- statements

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        """The driver's errors as ours; the statement that is carried out is told to whoever watches."""
        try:
            with step(self.name, sql):
                yield
        except pymysql.MySQLError as error:
            raise self._error(error) from error
        except AttributeError as error:  # the driver's, when it still writes into a connection that is closed
            if self._connection.open:
                raise
            raise self._error(pymysql.OperationalError(2006, "")) from error
        except KeyboardInterrupt:
            self._stop()
            raise
        except (OSError, RuntimeError) as error:
            raise PlaceError(f"{self.shown} cannot be reached: {error}", where=f"place {self.name}",
                             mend="check the url in nomotheta.toml, and that the server runs") from error  # fmt: skip

    def _stop(self) -> None:
        """End what the server does for us: it would go on, and we would wait for its answer before all else."""
        number = self._connection.thread_id()
        self.close()
        self._kill(f"{int(number)}")

    def interrupt(self) -> None:
        """End what it is asked in another thread, by a connection of its own."""
        self._kill(f"QUERY {int(self._connection.thread_id())}")

    def _kill(self, what: str) -> None:
        with (
            contextlib.suppress(pymysql.MySQLError, OSError),
            pymysql.connect(**self._settings) as other,
            other.cursor() as cursor,
        ):
            cursor.execute(f"KILL {what}")

    def _error(self, error: pymysql.MySQLError) -> PlaceError:
        code, told = (error.args[0], str(error.args[-1])) if error.args else (0, str(error))
        where = f"place {self.name}"
        if code in _LOCKED:
            return PlaceError(f"the database says: {_LOCKED[code]}", where=where,
                              mend="load again when that session is done")  # fmt: skip
        if code in _GONE or (isinstance(error, pymysql.InterfaceError) and not told.strip("(0, ')")):
            return PlaceError(f"the connection to {self.shown} was lost", where=where,
                              mend="try again: what was not committed was rolled back")  # fmt: skip
        if code in {1044, 1045, 1049, 1698} or 2000 <= code < 3000:  # the latter are the client's own
            told = told.partition(" (")[0] if code == 2003 else told
            return PlaceError(f"{self.shown} cannot be reached: {told}", where=where,
                              mend="check the url in nomotheta.toml, and that the server runs")  # fmt: skip
        row = row_of(told)
        mend = SET_ASIDE if row else ""
        mend = "let the server take larger packets: max_allowed_packet" if code == _TOO_LARGE else mend
        return PlaceError(f"the database says: {told.partition(ROW)[0]}", where=where, mend=mend, row=row)

    def _rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        with self._translated(sql), self._connection.cursor() as cursor:
            cursor.execute(sql, parameters)
            return list(cursor.fetchall())

    def _run(self, sql: str, parameters: Sequence[Any] | None = None) -> int:
        """A statement that gives no rows; how many it touched."""
        with self._translated(sql), self._connection.cursor() as cursor:
            return int(cursor.execute(sql, parameters))

    def close(self) -> None:
        """Let go of the connection."""
        with contextlib.suppress(pymysql.MySQLError, OSError):
            self._connection.close()
