"""A session with Apache Spark through Spark Connect: what it is asked, what it answers, and what it says as ours."""

from __future__ import annotations

import atexit
import contextlib
import logging
import re
import socket
import warnings
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

import nomotheta
from nomotheta.errors import DeclarationError, PlaceError
from nomotheta.secrets import masked
from nomotheta.start import with_pandas

_PORT, _PATIENCE = 15_002, 10  # of Spark Connect; seconds until it answers
_OLDEST = 4  # in whose literals '' is an apostrophe
_LOGGER = "SQLQueryContextLogger"  # which writes every error to the terminal, with the stack of a server
_SAID = re.compile(r"^(?:\([\w.]+\) )?\[(?P<what>[\w.]+)\]\s*(?P<told>.+?)(?:\s*SQLSTATE: \w+.*)?$")


class Session:
    """A session with a server of Spark Connect.

    Args:
        where: as messages call it, such as `engine cluster`.
        url: the connection string, such as `sc://host:15002/;token=…`.
        settings: of the session.

    Raises:
        DeclarationError: its package is not installed.
        PlaceError: it cannot be reached.
    """

    def __init__(self, where: str, url: str, settings: Mapping[str, str] | None = None) -> None:
        self.where = where
        with_pandas()
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                from pyspark.sql.connect.session import SparkSession
        except (ImportError, AttributeError) as error:
            missing = getattr(error, "name", None) or "pyspark"
            raise DeclarationError(f"Apache Spark needs a package that is not installed: {missing}",
                                   where=where, mend="pip install 'nomotheta[spark]'") from None  # fmt: skip
        logging.getLogger(_LOGGER).setLevel(logging.CRITICAL + 1)
        self._check_there(url)
        with self.translated():
            self.spark = SparkSession.builder.remote(url).create()
            self.version = str(self.spark.version)
            for name, value in (settings or {}).items():
                self.spark.conf.set(name, value)
        if int(self.version.partition(".")[0]) < _OLDEST:
            raise PlaceError(f"Apache Spark {self.version} is too old", where=where, mend=f"use {_OLDEST}.0 or newer")
        atexit.register(self.close)

    def _check_there(self, url: str) -> None:
        """Whether anybody answers: Spark's client would go on trying for minutes.

        Raises:
            PlaceError: nobody does.
        """
        at = urlsplit(url.partition(";")[0])
        try:
            with socket.create_connection((at.hostname or "", at.port or _PORT), _PATIENCE):
                return
        except OSError as error:
            told = f"the engine cannot be reached: {error.strerror or error}"
            raise PlaceError(told, where=self.where,
                             mend="see that it runs, and that its address is right") from None  # fmt: skip

    @contextlib.contextmanager
    def translated(self) -> Iterator[None]:
        """What the engine says, as ours: in one line, and with what to do."""
        from pyspark.errors import PySparkException

        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                yield
        except (PySparkException, OSError) as error:
            raise self.error(str(error)) from None
        except Exception as error:
            if type(error).__module__.partition(".")[0] != "grpc":
                raise
            raise self.error(str(error)) from None

    def error(self, told: str) -> PlaceError:
        """What is said, in one line."""
        if "No module named 'nomotheta'" in told:
            return self.without("nomotheta is not installed on its workers")
        lost = "UNAVAILABLE" in told or "failed to connect" in told.lower()
        lines = [line.strip() for line in told.splitlines() if line.strip()]
        first = next((line for line in lines if "Error" in line and "Traceback" not in line), lines[0] if lines else "")
        said = _SAID.match(lines[0] if lines and "Traceback" not in told else "")
        first = masked(said["told"] if said else first)
        what = "the engine cannot be reached" if lost else f"the engine says: {first}"
        mend = "see that it runs, and that its address is right" if lost else "see its log"
        return PlaceError(what, where=self.where, mend=mend)

    def without(self, told: str) -> PlaceError:
        """That its workers lack what they need."""
        mend = (
            f"install nomotheta {nomotheta.__version__} with the extra [delta] on every worker, or add its wheel to "
            "the session where the cluster allows it: spark.addArtifacts"
        )  # fmt: skip
        return PlaceError(told, where=self.where, mend=mend)

    def table(self, rows: Any) -> Any:
        """Rows (a data frame of Spark's) as a `pa.Table`."""
        with self.translated():
            return rows.toArrow()

    def batches(self, rows: Any) -> Iterator[Any]:
        """The same as record batches, as they come."""
        with self.translated():
            plan = rows._plan.to_proto(self.spark.client)  # as its own iterator of rows does
            for each in self.spark.client.to_table_as_iterator(plan, {}):
                if hasattr(each, "to_batches"):
                    yield from each.to_batches()

    def interrupt(self) -> None:
        """End what it is asked."""
        with contextlib.suppress(Exception):
            self.spark.interruptAll()

    def close(self) -> None:
        """End the session; an engine that is gone is not waited for."""
        atexit.unregister(self.close)
        client = self.spark.client
        with contextlib.suppress(Exception):
            client.set_retry_policies([])
            client.release_session()
        with contextlib.suppress(Exception):
            client._channel.close()
