"""Apache Spark as an engine, through Spark Connect: it shares tasks out, repeats what fails, and groups hashes."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import nomotheta
from nomotheta.cluster.parts import TOGETHER, Result, Shared, Task, tasks_at
from nomotheta.place.spark.session import Session

_LOCAL = "spark:"
_HASHES = (
    "task bigint, key bigint, hash bigint, record bigint, file string, line bigint, by bigint, low bigint"
)  # fmt: skip
_FEW = 10_000  # groups that are sent to every worker


class Spark:
    """A session with an engine."""

    def __init__(self, name: str, url: str) -> None:
        self.name = name
        if url.startswith(_LOCAL):
            from nomotheta.cluster.local import start

            url = start(name, url.removeprefix(_LOCAL))
        self.session = Session(f"engine {name}", url)
        self.url, self.version, self._spark = url, self.session.version, self.session.spark

    def _batches(self, work: Any, schema: str, tasks: int, told: Callable[[int], None]) -> Iterator[Any]:
        """What tasks yield, as Arrow tables: those of the first as soon as they are there, then those of the next."""

        def heard(stages: Any, *_: Any, **__: Any) -> None:
            told(min(sum(stage.num_completed_tasks for stage in stages or ()), tasks))

        with self.session.translated():
            self._spark.registerProgressHandler(heard)
            try:
                rows = self._spark.range(0, tasks, 1, tasks).mapInArrow(work, schema)
                yield from self.session.batches(rows)
            except BaseException:
                self.session.interrupt()
                raise
            finally:
                self._spark.removeProgressHandler(heard)

    def carry_out(self, shared: Shared, tasks: Sequence[Task], told: Callable[[int], None]) -> Iterator[Result]:
        """What came of each task."""
        blob, store, staging = pickle.dumps(shared), shared.target.store(), shared.target.staging
        for first in range(0, len(tasks), TOGETHER):
            store.write(tasks_at(staging, first), pickle.dumps(list(tasks[first : first + TOGETHER])))

        def work(batches: Iterator[Any]) -> Iterator[Any]:
            from nomotheta.cluster.worker import served

            return served(batches, blob, version)

        version = nomotheta.__version__
        for batch in self._batches(work, "result binary", len(tasks), told):
            for each in batch.column("result"):
                result: Result = pickle.loads(each.as_py())  # noqa: S301 - what our own tasks have made
                if result.other_version:
                    told_of = f"its workers have nomotheta {result.other_version}, and this is {version}"
                    raise self.session.without(told_of)
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

        with self.session.translated():
            numbers = self._spark.range(0, len(paths), 1, len(paths))
            bare = numbers.mapInArrow(read_bare, "task bigint, key bigint, hash bigint")
            own = f.max(f.when(f.col("task") >= 0, 1).otherwise(0))
            grouped = bare.groupBy("key", "hash").agg(f.count(f.lit(1)).alias("rows"), own.alias("own"))
            several = grouped.where("rows > 1 AND own = 1").select("key", "hash")
            few = several.limit(_FEW + 1).toArrow()
            if not few.num_rows:
                return
            if few.num_rows <= _FEW:
                several = f.broadcast(self._spark.createDataFrame(few))
            hashes = numbers.mapInArrow(read, _HASHES)
            yield (
                hashes.join(several, ["key", "hash"], "left_semi")
                .select("task", "key", "hash", "record", "file", "line", "by", "low")
                .toArrow()
            )

    def close(self) -> None:
        """End the session."""
        self.session.close()
