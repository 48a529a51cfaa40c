"""A load's stream of rows, carried out by an engine: the driver plans, puts together what came of it, and decides."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from nomotheta.cluster.parts import Ints, Result, Shared, Target, Task
from nomotheta.cluster.stretches import divisible, numbered, stretches
from nomotheta.cluster.suspects import decided, of_task, repeated_here
from nomotheta.cluster.worker import IN_TABLE_TASK
from nomotheta.events import Progress
from nomotheta.load.account import Account
from nomotheta.load.known import InTable
from nomotheta.load.rejects import RejectFile
from nomotheta.load.repeats import Repeats
from nomotheta.load.stream import Stream
from nomotheta.load.work import loaded_schema
from nomotheta.place.delta.place import DeltaPlace
from nomotheta.place.delta.written import Placed
from nomotheta.source.base import Stretch
from nomotheta.source.delivery import ArrivedFile
from nomotheta.unpack import let_go

_AT_ONCE = 64 << 20  # bytes of small files that make a task
_MOST_FILES = 2_000  # of a task
_FEW_KEYS = 10_000_000  # that the driver groups by itself: an engine takes longer to begin
_READ = 20_000  # rows of a staged file at a time

Told = Callable[[int], None]  # how many tasks are done


class Runs(Protocol):
    """An engine: carries out tasks wherever it does; `url` is the connection string by which it is reached."""

    url: str

    def carry_out(self, shared: Shared, tasks: Sequence[Task], told: Told) -> Iterator[Result]:
        """What came of each task, in any order."""

    def repeated(self, shared: Shared, paths: Sequence[str]) -> Iterator[Any]:
        """Of all keys in some staged files, those that two rows have, and one of them a file's; tables of HASHES."""


class Spread(Stream):
    """The rows of one delivery, written by workers."""

    runs: Runs
    plan: list[tuple[Sequence[ArrivedFile], Stretch | None]]

    @classmethod
    def over(cls, runs: Runs) -> Callable[..., Stream]:
        """What makes such a stream for each load; an ordinary one where there is nothing to share out."""

        def made(*given: Any) -> Stream:
            stream = cls(*given)
            order = stream.order
            if order.staging or order.opened is not None or order.inside is not None:
                told = "loaded by this machine, since the rows do not come from files alone"
                alone = Stream(*given)
                alone.notes.append(told)
                return alone
            stream.runs = runs
            return stream

        return made

    def incoming(self, rejects: RejectFile, before: int) -> tuple[Iterator[Any], Any]:
        """The rows that go into a table that has so many, in files that are written already."""
        assert isinstance(self.place, DeltaPlace)  # noqa: S101 - an engine is only given to a lake
        target = Target(*self.place.target(self.compiled.charter.table))
        for file in self.order.files:
            let_go(file.survey)
        flight = self.flight
        bare = replace(
            self.order, files=(), around=None, still=_nothing, steps=(), opened=None, inside=None, streams=None
        )  # fmt: skip
        shared = Shared(
            self.compiled, bare, self.now, self.there, self.seed, self.listed, flight.checks if flight else (), target
        )  # fmt: skip
        self.plan = self._planned(shared)
        results = self._first(shared)
        starts = np.cumsum([0, *(each.records for each in results[:-1])])
        if self.keys:
            results = self._again(shared, results, starts, before)
        self._put_together(target, results, rejects)
        written = [file for each in results for file in each.written]
        pa.default_memory_pool().release_unused()  # what follows is of another kind, and as large
        return Placed(target.store(), target.folder, written), loaded_schema(self.compiled.charter)

    def _planned(self, shared: Shared) -> list[tuple[Sequence[ArrivedFile], Stretch | None]]:
        """What each task is to read: large files alone, small ones together, and stretches of very large ones."""
        groups = _shared_out(self.order.files)
        layout = self.compiled.layout
        large = [group[0] for group in groups if len(group) == 1 and divisible(group[0], layout)]
        trials = [(file, stretch) for file in large for stretch in stretches(file, _AT_ONCE)]
        tasks = [Task(number, [file], tried=stretch) for number, (file, stretch) in enumerate(trials)]
        doing = f"looking for the records of {self.compiled.charter.table}"
        found: dict[str, list[tuple[Stretch, int | None]]] = {}
        for (file, stretch), result in zip(
            trials, self._carried_out(shared, tasks, doing) if tasks else (), strict=True
        ):
            found.setdefault(file.name, []).append((stretch, result.feeds))
        plan: list[tuple[Sequence[ArrivedFile], Stretch | None]] = []
        for group in groups:
            of = numbered(found.get(group[0].name, ()))
            plan += [(group, stretch) for stretch in of] if of else [(group, None)]
        return plan

    def _first(self, shared: Shared) -> list[Result]:
        """All files read once."""
        tasks = [Task(number, files, stretch=stretch) for number, (files, stretch) in enumerate(self.plan)]
        return self._carried_out(shared, tasks, f"loading {self.compiled.charter.table}")

    def _carried_out(self, shared: Shared, tasks: Sequence[Task], doing: str) -> list[Result]:
        found = list[Result]()
        done = rows = 0

        def told(now: int) -> None:
            nonlocal done
            done = max(done, now)
            ended = done == len(found) == len(tasks)
            self.listener(Progress(doing, done, len(tasks), "tasks", ended=ended, rows=rows,
                                   table=self.compiled.charter.table))  # fmt: skip

        for result in self.runs.carry_out(shared, tasks, told):
            found.append(result)
            rows += result.records
            told(len(found))
        found.sort(key=lambda each: each.number)
        for each in found:
            if each.error is not None:
                raise each.error
        return found

    def _again(self, shared: Shared, results: list[Result], starts: Ints, before: int) -> list[Result]:
        """Tasks of which rows stay out for the sake of others are done once more, without these rows."""
        paths = [each.hashes for each in results if each.hashes]
        there = self._there() if before and paths else []
        tasks = [Task(IN_TABLE_TASK - at, (), there=rows) for at, rows in enumerate(there)]
        looking = f"looking for keys that are in {self.compiled.charter.table}"
        known = self._carried_out(shared, tasks, looking) if tasks else []
        paths += [each.hashes for each in known if each.hashes]
        if sum(each.hashed for each in (*results, *known)) <= _FEW_KEYS:
            groups = repeated_here(shared.target.store(), paths)
        else:
            groups = list(self.runs.repeated(shared, paths))
        if not any(each.num_rows for each in groups):
            return results
        out, origins = decided(self.keys, groups, starts)
        tasks = list[Task]()
        for result, start in zip(results, starts.tolist(), strict=True):
            own = of_task(out, start, result.records)
            if any(len(each.records) for each in own):
                files, stretch = self.plan[result.number]
                tasks.append(Task(result.number, files, start, own, origins, stretch=stretch))
        again = self._carried_out(shared, tasks, f"leaving repeated rows out of {self.compiled.charter.table}")
        newer = {each.number: each for each in again}
        return [newer.get(each.number, each) for each in results]

    def _there(self) -> list[str]:
        """The rows of the table that stay in it, as SELECTs that can be asked side by side."""
        assert isinstance(self.place, DeltaPlace)  # noqa: S101
        removal = self.order.removal
        if self.compiled.charter.load.how == "merge" or (removal is not None and removal.where is None):
            return []
        staying = InTable(self.place, self.compiled, self.order, self.now, self.engine, self.seed).staying
        return self.place.selects(self.compiled.charter.table, staying)

    def _put_together(self, target: Target, results: Sequence[Result], rejects: RejectFile) -> None:
        """The account of all tasks, in the order of the files."""
        store = target.store()
        account = self.account = Account(self.order.files)
        repeats = self.repeats = Repeats(self.keys, (), self.engine.cells)
        before = 0
        for result in results:
            files, stretch = self.plan[result.number]
            goes_on = stretch is not None and not stretch.first
            before = before if goes_on else 0
            result.account.counts = [  # of many files, their names and hashes are in memory once
                replace(count, file=file.name, content=file.survey.content)
                for count, file in zip(result.account.counts, files, strict=True)
            ]
            records, in_file = result.records, before
            account.join(result.account, goes_on=goes_on)
            before += records if stretch is not None else 0
            result.account = Account(())
            self.notes += [note for note in result.notes if note not in self.notes]
            self.set_aside.reasons.update(result.reasons)
            self.set_aside.by_check.update(result.by_check)
            repeats.in_table += result.in_table
            repeats.apart += result.apart
            if self.flight is not None:
                self.flight.join(result.flight)
            if self.imprinting is not None and result.imprint is not None:
                self.imprinting.made.join(result.imprint)
            for table in _staged(store, result.rejects):
                rejects.add([_later(table, in_file)])
            for table in _staged(store, result.waiting):
                repeats.waiting.add(table)
        self.notes += account.notes
        self.note_overlap()


def _later(rejects: Any, before: int) -> Any:
    """Rejects of a stretch before which so many records are in the file."""
    if not before:
        return rejects
    at = rejects.schema.get_field_index("record")
    return rejects.set_column(at, rejects.schema.field(at), pc.add(rejects["record"], before))


def _staged(store: Any, path: str) -> Iterator[Any]:
    """A staged file, a part at a time."""
    if path:
        with store.files.open_input_file(path) as file:
            for batch in pq.ParquetFile(file).iter_batches(_READ, use_threads=False):
                yield pa.Table.from_batches([batch])


def _shared_out(files: Sequence[ArrivedFile]) -> list[list[ArrivedFile]]:
    """Files as tasks, in their order: large ones alone, small ones together."""
    found: list[list[ArrivedFile]] = []
    size = _AT_ONCE
    for file in files:
        own = file.survey.bytes_of_content
        if not found or size + own > _AT_ONCE or len(found[-1]) >= _MOST_FILES:
            found.append([])
            size = 0
        found[-1].append(file)
        size += own
    return found


def _nothing() -> None:
    """What is asked of a delivery's files is asked by the driver."""
