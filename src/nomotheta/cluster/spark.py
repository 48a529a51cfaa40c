"""Apache Spark as an engine, through Spark Connect: it shares tasks out, repeats what fails, and groups hashes."""

from __future__ import annotations

import atexit
import contextlib
import pickle
import socket
import warnings
from collections.abc import Callable, Iterator, Sequence
from typing import Any
from urllib.parse import urlsplit

import nomotheta
from nomotheta.cluster.parts import TOGETHER, Result, Shared, Task, tasks_at
from nomotheta.errors import DeclarationError, PlaceError
from nomotheta.secrets import masked
from nomotheta.start import with_pandas

_LOCAL = "spark:"
_PORT, _PATIENCE = 15_002, 10  # of Spark Connect; seconds until it answers
_HASHES = (
    "task bigint, key bigint, hash bigint, record bigint, file string, line bigint, by bigint, low bigint"
)  # fmt: skip
_FEW = 10_000  # groups that are sent to every worker


class Spark:
    """A session with an engine."""

    def __init__(self, name: str, url: str) -> None:
        self.name = name
        with_pandas()
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                from pyspark.sql.connect.session import SparkSession
        except (ImportError, AttributeError) as error:
            missing = getattr(error, "name", None) or "pyspark"
            raise DeclarationError(f"an engine needs a package that is not installed: {missing}",
                                   where=f"engine {name}", mend="pip install 'nomotheta[spark]'") from None  # fmt: skip
        if url.startswith(_LOCAL):
            from nomotheta.cluster.local import start

            url = start(name, url.removeprefix(_LOCAL))
        self._check_there(url)
        with self._translated(), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            self._session = SparkSession.builder.remote(url).create()
            self.version = str(self._session.version)
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
            raise PlaceError(told, where=f"engine {self.name}",
                             mend="see that it runs, and that its address is right") from None  # fmt: skip

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        """What the engine says, as ours: in one line, and with what to do."""
        from pyspark.errors import PySparkException

        try:
            yield
        except (PySparkException, OSError) as error:
            raise self._error(str(error)) from None
        except Exception as error:
            if type(error).__module__.partition(".")[0] != "grpc":
                raise
            raise self._error(str(error)) from None

    def _error(self, told: str) -> PlaceError:
        if "No module named 'nomotheta'" in told:
            return self._without("nomotheta is not installed on its workers")
        lost = "UNAVAILABLE" in told or "failed to connect" in told.lower()
        lines = [line.strip() for line in told.splitlines() if line.strip()]
        first = masked(
            next((line for line in lines if "Error" in line and "Traceback" not in line), lines[0] if lines else "")
        )
        what = "the engine cannot be reached" if lost else f"the engine says: {first}"
        mend = "see that it runs, and that its address is right" if lost else "see its log"
        return PlaceError(what, where=f"engine {self.name}", mend=mend)

    def _without(self, told: str) -> PlaceError:
        mend = (
            f"install nomotheta {nomotheta.__version__} with the extra [delta] on every worker, or add its wheel to "
            "the session where the cluster allows it: spark.addArtifacts"
        )  # fmt: skip
        return PlaceError(told, where=f"engine {self.name}", mend=mend)

    def _rows(self, work: Any, schema: str, tasks: int, told: Callable[[int, int], None]) -> Any:
        """What tasks yield, as a `pa.Table`."""

        def heard(stages: Any, *_: Any, **__: Any) -> None:
            done = sum(stage.num_completed_tasks for stage in stages or ())
            told(min(done, tasks), tasks)

        with self._translated(), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            self._session.registerProgressHandler(heard)
            try:
                return self._session.range(0, tasks, 1, tasks).mapInArrow(work, schema).toArrow()
            except BaseException:
                with contextlib.suppress(Exception):
                    self._session.interruptAll()
                raise
            finally:
                self._session.removeProgressHandler(heard)

    def carry_out(self, shared: Shared, tasks: Sequence[Task], told: Callable[[int, int], None]) -> Iterator[Result]:
        """What came of each task."""
        blob, store, staging = pickle.dumps(shared), shared.target.store(), shared.target.staging
        for first in range(0, len(tasks), TOGETHER):
            store.write(tasks_at(staging, first), pickle.dumps(list(tasks[first : first + TOGETHER])))

        def work(batches: Iterator[Any]) -> Iterator[Any]:
            from nomotheta.cluster.worker import served

            return served(batches, blob, version)

        version = nomotheta.__version__
        found = self._rows(work, "result binary", len(tasks), told)
        for each in found.column("result"):
            result: Result = pickle.loads(each.as_py())  # noqa: S301 - what our own tasks have made
            if result.other_version:
                raise self._without(f"its workers have nomotheta {result.other_version}, and this is {version}")
            yield result

    def repeated(self, shared: Shared, paths: Sequence[str]) -> Iterator[Any]:
        """Of all keys in some staged files, those that two rows have, and one of them a file's; as tables of HASHES."""
        blob = pickle.dumps((shared.target, list(paths)))

        def read(batches: Iterator[Any]) -> Iterator[Any]:
            from nomotheta.cluster.worker import read_hashes

            return read_hashes(batches, blob)

        def read_bare(batches: Iterator[Any]) -> Iterator[Any]:
            from nomotheta.cluster.worker import read_hashes

            return read_hashes(batches, blob, ["task", "key", "hash"])

        from pyspark.sql.connect import functions as f

        with self._translated(), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            numbers = self._session.range(0, len(paths), 1, len(paths))
            bare = numbers.mapInArrow(read_bare, "task bigint, key bigint, hash bigint")
            own = f.max(f.when(f.col("task") >= 0, 1).otherwise(0))
            grouped = bare.groupBy("key", "hash").agg(f.count(f.lit(1)).alias("rows"), own.alias("own"))
            several = grouped.where("rows > 1 AND own = 1").select("key", "hash")
            few = several.limit(_FEW + 1).toArrow()
            if not few.num_rows:
                return
            if few.num_rows <= _FEW:
                several = f.broadcast(self._session.createDataFrame(few))
            hashes = numbers.mapInArrow(read, _HASHES)
            yield (
                hashes.join(several, ["key", "hash"], "left_semi")
                .select("task", "key", "hash", "record", "file", "line", "by", "low")
                .toArrow()
            )

    def close(self) -> None:
        """End the session; an engine that is gone is not waited for."""
        atexit.unregister(self.close)
        client = self._session.client
        with contextlib.suppress(Exception):
            client.set_retry_policies([])
            client.release_session()
        with contextlib.suppress(Exception):
            client._channel.close()
