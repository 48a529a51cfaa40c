"""What a worker does: it works some files by the same steps as a load on one machine, and writes what comes of it."""

from __future__ import annotations

import contextlib
import pickle
import secrets
from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import nomotheta
from nomotheta.cluster.parts import TOGETHER, Ints, Origins, Out, Result, Shared, Target, Task, tasks_at
from nomotheta.conditions import quoted
from nomotheta.errors import NomothetaError, PlaceError
from nomotheta.events import nobody
from nomotheta.keys import Ascending, Hashes
from nomotheta.load.copies import Waiting
from nomotheta.load.flight import Flight
from nomotheta.load.known import hashed_rows
from nomotheta.load.rejects import RejectFile
from nomotheta.load.repeats import Owners, Repeats, sortable
from nomotheta.load.stream import Stream
from nomotheta.load.work import Plan, Worked
from nomotheta.place.delta.change import is_wanted
from nomotheta.place.delta.store import Store
from nomotheta.place.delta.written import Writer
from nomotheta.place.embedded.duckdb import DuckPlace
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.formats import open_file
from nomotheta.source.formats.delimited import DelimitedFile

HASHES = pa.schema(
    [("task", pa.int64()), ("key", pa.int64()), ("hash", pa.int64()), ("record", pa.int64()), ("file", pa.string()),
     ("line", pa.int64()), ("by", pa.int64()), ("low", pa.int64())]
)  # fmt: skip
IN_TABLE_TASK = -1  # as whose the keys are told that are in the table already


class Staged:
    """A file of the staging folder that is begun with the first rows; without any, there is none."""

    def __init__(self, store: Store, path: str) -> None:
        self._store, self._path = store, path
        self._stream: Any = None
        self._writer: Any = None
        self.rows = 0

    @property
    def path(self) -> str:
        """Where it is; empty if there is nothing."""
        return self._path if self._writer is not None else ""

    def add(self, table: Any) -> None:
        """Write some rows."""
        if not table.num_rows:
            return
        if self._writer is None:
            self._store.make_folder(self._path.rpartition("/")[0])
            self._stream = self._store.files.open_output_stream(self._path)
            few = [field.name for field in table.schema if pa.types.is_string(field.type)]
            self._writer = pq.ParquetWriter(self._stream, table.schema, write_statistics=False, use_dictionary=few)
        self._writer.write_table(table)
        self.rows += table.num_rows

    def close(self) -> None:
        """It is whole."""
        if self._writer is not None:
            self._writer.close()
            self._stream.close()


class _Rejects:
    """Takes what is set aside, as a file of rejects does."""

    def __init__(self, staged: Staged) -> None:
        self._staged = staged

    def add(self, tables: Iterator[Any]) -> None:
        for table in tables:
            self._staged.add(table)


class _Elsewhere(Owners):
    """On which lines records of other tasks began."""

    def __init__(self, origins: Origins) -> None:
        super().__init__()
        self._origins = origins

    def told(self, records: Ints, files: Any) -> Any:
        """Each of n records as a line, with its file where that is another than the one given; empty for none."""
        known = self._origins
        at = np.minimum(np.searchsorted(known.records, records), max(len(known.records) - 1, 0))
        if not len(known.records):
            return pa.array([""] * len(records), pa.string())
        lines = pa.array(known.lines[at]).cast(pa.string())
        own = pa.array(known.files, pa.string()).take(pa.array(at))
        line = pc.binary_join_element_wise("line ", lines, "")
        told = pc.if_else(pc.equal(own, pa.array(files, pa.string())), line,
                          pc.binary_join_element_wise(line, own, " of "))  # fmt: skip
        return pc.if_else(pa.array(records > 0), told, "")


class _Told(Repeats):
    """Rows that stay out, as the driver says."""

    out: tuple[Out, ...] = ()

    def found(self, _worked: Worked, records: Ints) -> list[tuple[Ints, Ints, Hashes]]:
        """Of a block, the rows that stay out for the sake of each key, for which record, and those keys."""
        found = []
        for out in self.out:
            at = np.minimum(np.searchsorted(out.records, records), max(len(out.records) - 1, 0))
            rows = np.flatnonzero(out.records[at] == records) if len(out.records) else np.zeros(0, np.int64)
            found.append((rows, out.firsts[at[rows]], out.hashes[at[rows]]))
        return found


class Part(Stream):
    """The rows of a task."""

    shared: Shared
    task: Task
    hashes: Staged

    @classmethod
    def of(cls, shared: Shared, task: Task, hashes: Staged) -> Part:
        """A task's, before its first row."""
        order = replace(shared.order, files=task.files)
        part = cls(None, shared.compiled, order, shared.now, shared.there, nobody, shared.seed)  # type: ignore[arg-type]
        part.shared, part.task, part.hashes = shared, task, hashes
        if task.out is not None and task.origins is not None:
            columns = list(shared.compiled.charter.file_columns())
            told = _Told(part.keys, (), part.engine.cells, columns, owners=_Elsewhere(task.origins))
            told.out = tuple(task.out)
            part.repeats = told
        return part

    @cached_property
    def flight(self) -> Flight | None:
        """Judges the same rules as on one machine."""
        checks = self.shared.flight
        return Flight(self.compiled, checks, self.now) if checks else None

    @property
    def listed(self) -> Any:
        """The lists that the driver has asked for."""
        return self.shared.listed

    def _plan(self, file: ArrivedFile) -> tuple[Plan, SourceFile]:
        plan, source = super()._plan(file)
        source.stretch = self.task.stretch  # only now: the header is that of the file
        return plan, source

    def before(self) -> int:
        """How many records of the delivery come before the block in hand."""
        return self.task.before + self.account.in_all

    def _without_repeats(self, worked: Worked, plan: Plan, rejects: RejectFile) -> tuple[Any, Any, Any]:
        if self.task.out is None:
            self._keep_hashes(worked)
        return super()._without_repeats(worked, plan, rejects)

    def _keep_hashes(self, worked: Worked) -> None:
        for number, (key, own) in enumerate(zip(self.keys, worked.hashes, strict=True)):
            assert not isinstance(own, Ascending)  # noqa: S101 - asked for only where one machine sees all keys
            records = worked.records[own.rows]
            files, lines = worked.origins(records)
            by, low = np.zeros(len(records), np.int64), np.zeros(len(records), np.uint64)
            if key.by:
                by, low = sortable(worked.good[key.by].combine_chunks().take(pa.array(own.rows)))
            made = [
                np.full(len(records), self.task.number), np.full(len(records), number), own.hashes.view(np.int64),
                records + self.account.in_all + 1, files, lines, by, low.view(np.int64),
            ]  # fmt: skip
            self.hashes.add(pa.table([pa.array(each) for each in made], HASHES))

    def rows(self, rejects: _Rejects) -> Iterator[Any]:
        """The rows that go in."""
        return self._accepted(rejects, named=False)  # type: ignore[arg-type]


def carried_out(shared: Shared, task: Task) -> Result:
    """Carry out a task; what goes wrong on purpose is part of what comes of it.

    It may be carried out again, and beside itself: its files have names of their own each time, and those that are not
    named in the end are nobody's.
    """
    target = shared.target
    store = target.store()
    token = secrets.token_hex(4)
    aside, keys, left = (
        Staged(store, f"{target.staging}/{what}-{task.number:06d}-{token}.parquet")
        for what in ("rejects", "hashes", "waiting")
    )
    result = Result(task.number)
    if not is_wanted(store, target.folder, target.ident):  # the driver is gone, and what it began is taken away
        result.error = NomothetaError("the load was given up", where=shared.compiled.charter.table)
        return result
    try:
        if task.tried is not None:
            result.feeds = _feeds(shared, task)
            return result
        if task.there:
            _hash_table(shared, task, keys)
            result.hashes, result.hashed = keys.path, keys.rows
            return result
        part = Part.of(shared, task, keys)
        writer = Writer(store, target.folder, f"part-{target.ident}-{task.number:06d}-{token}", target.fields)
        result.written = list(writer.write(part.rows(_Rejects(aside))))
        for staged in (aside, keys):
            staged.close()
        _take_waiting(part.repeats.waiting, left)
        said = set(part.account.notes)
        result.notes = [note for note in part.notes if note not in said]
        result.account = part.account
        part.account.files = ()
        result.reasons, result.by_check = part.set_aside.reasons, part.set_aside.by_check
        result.rejects, result.hashes, result.waiting = aside.path, keys.path, left.path
        result.hashed = keys.rows
        result.in_table = part.repeats.in_table
        result.apart = part.repeats.apart
        result.flight = part.flight.state() if part.flight is not None else None
        result.imprint = part.imprinting.made if part.imprinting is not None else None
    except NomothetaError as error:
        result.error = error
    if not is_wanted(store, target.folder, target.ident):
        _withdraw(store, target, result)
    return result


def _feeds(shared: Shared, task: Task) -> int | None:
    """How many line ends are in a stretch, if it ends with a record."""
    (file,) = task.files
    source = open_file(file.path, file.name, shared.compiled.layout, shared.compiled.charter)
    if not isinstance(source, DelimitedFile) or task.tried is None:
        return None
    try:
        return source.feeds_of(task.tried)
    except NomothetaError:  # what is wrong is told when it is read as a whole
        return None


def _withdraw(store: Store, target: Target, result: Result) -> None:
    """Take away what was written after the load had ended."""
    for path in (
        *(f"{target.folder}/{each.path}" for each in result.written),
        result.rejects,
        result.hashes,
        result.waiting,
    ):
        if path:
            store.remove(path)
    if not store.listed(target.staging):
        with contextlib.suppress(PlaceError):
            store.remove_folder(target.staging)


def _take_waiting(waiting: Waiting, staged: Staged) -> None:
    for table in waiting.tables():
        staged.add(table)
    staged.close()


def _hash_table(shared: Shared, task: Task, staged: Staged) -> None:
    """Keep the keys of rows that are in the table."""
    part, kinds = Part.of(shared, task, staged), shared.compiled.charter.kinds()
    with contextlib.closing(DuckPlace("worker", None)) as engine:
        shared.target.store().known_to(engine.connection)
        for number, key in enumerate(part.keys):
            listed = ", ".join(map(quoted, key.columns))
            for batch in engine.stream(f"SELECT {listed} FROM ({task.there})"):
                hashes, _ = hashed_rows(part.engine, batch, key, kinds, shared.seed)
                count = len(hashes)
                none = np.zeros(count, np.int64)
                made = [np.full(count, IN_TABLE_TASK), np.full(count, number), hashes.view(np.int64), none,
                        pa.array([""] * count, pa.string()), none, none, none]  # fmt: skip
                staged.add(pa.table([pa.array(each) for each in made], HASHES))
    staged.close()


# ---- as an engine calls it


def served(batches: Iterator[Any], blob: bytes, version: str) -> Iterator[Any]:
    """Carry out the tasks whose numbers come in, as they lie in the staging folder; a row with what came of each.

    Nothing is touched where the driver is of another version.
    """
    if version != nomotheta.__version__:
        told = pickle.dumps(Result(0, other_version=nomotheta.__version__))
        for batch in batches:
            yield pa.record_batch([pa.array([told] * batch.num_rows, pa.binary())], names=["result"])
        return
    shared = pickle.loads(blob)  # noqa: S301 - what our own driver has made
    store = shared.target.store()
    for batch in batches:
        for number in batch.column(0).to_pylist():
            tasks = pickle.loads(store.read(tasks_at(shared.target.staging, number)) or b"")  # noqa: S301
            told = pickle.dumps(carried_out(shared, tasks[number % TOGETHER]))
            yield pa.record_batch([pa.array([told], pa.binary())], names=["result"])


def read_hashes(batches: Iterator[Any], blob: bytes, columns: list[str] | None = None) -> Iterator[Any]:
    """The rows of the staged files whose numbers come in."""
    target, paths = pickle.loads(blob)  # noqa: S301 - what our own driver has made
    store = target.store()
    for batch in batches:
        for number in batch.column(0).to_pylist():
            with store.files.open_input_file(paths[number]) as file:
                yield from pq.ParquetFile(file).iter_batches(200_000, columns=columns)
