"""The files that some loads loaded, read again as they were read then, less the rows that were set aside."""

from __future__ import annotations

import datetime
import functools
import itertools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from nomotheta.charter import Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError
from nomotheta.events import Listener, Progress
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance
from nomotheta.load.blocks import worked_files
from nomotheta.load.engine import Engine
from nomotheta.load.mended import open_mended
from nomotheta.load.rejects import left_out
from nomotheta.load.work import Plan, constants
from nomotheta.place.render import Now
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile, arrived, literal
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns


@frozen
class LoadedFiles:
    """A load that is in the table: its number, day, files, what was set aside, and the charter that reads them.

    `kept` is the workspace's own copy of a file of mended rows.
    """

    load_no: int
    day: datetime.date
    at: datetime.datetime
    root: Path
    balance: Balance
    rejects: Path
    compiled: Compiled
    mended: bool = False
    kept: Path | None = None


class Files:
    """What some loads loaded, by the charter of the table and the kinds of the columns that are compared."""

    def __init__(
        self, compiled: Compiled, loads: Sequence[LoadedFiles], kinds: Mapping[str, Kind], zone: str, listener: Listener
    ) -> None:
        self.compiled, self.kinds, self.zone, self.listener = compiled, kinds, zone, listener
        self.files = [(load, file) for load in loads for file in _still_there(load)]

    def batches(self, schema: Any) -> Iterator[Any]:
        """The rows that the files hold, less those that were set aside."""
        total = sum(file.survey.bytes_of_content for _, file in self.files)
        told, done = f"reading the files of {self.compiled.charter.table}", 0
        for load, pairs in itertools.groupby(self.files, lambda pair: pair[0]):
            aside, before = left_out(load.rejects), 0
            files = [file for _, file in pairs]
            for piece in worked_files(files, functools.partial(self._opened, load), join=not load.mended):
                worked = piece.worked
                if worked is None:
                    before = 0
                    continue
                rows = worked.good.select(schema.names)
                keep = ~worked.among(worked.records, before, aside)
                yield from (rows if keep.all() else rows.filter(pa.array(keep))).to_batches()
                before += worked.batch.count
                done += worked.size
                self.listener(Progress(told, done, total, "bytes"))
        self.listener(Progress(told, total, total, "bytes", ended=True))

    def _opened(self, load: LoadedFiles, file: ArrivedFile) -> tuple[Plan, SourceFile]:
        """A file of a load, to be read as the load read it."""
        compiled = load.compiled
        source = (
            open_mended(file, compiled)
            if load.mended
            else open_file(file.path, file.name, compiled.layout, compiled.charter)
        )
        shape = match_columns(source, compiled.charter)
        fixed = constants(compiled.charter, load.load_no, load.at, load.day, self.zone)
        engine = Engine([], Now(load.at, load.day, load.load_no))
        return Plan(
            self.compiled, file.name, shape.positions, shape.width, fixed | dict.fromkeys(shape.absent), [], engine,
            self.zone, 0,
        ), source  # fmt: skip


def _still_there(load: LoadedFiles) -> list[ArrivedFile]:
    """The files of a load, if they still are what was loaded."""
    names = [file.file for file in load.balance.files]
    if load.kept is not None:
        (kept,) = arrived(load.root, [literal(str(load.kept))], load.compiled.layout)
        found = [replace(kept, name=names[0])]
    else:
        found = arrived(load.root, [literal(name) for name in names], load.compiled.layout)
    for file, loaded in zip(found, load.balance.files, strict=True):
        if file.survey.content != loaded.content:
            raise DeliveryError(
                f"the file is not what load {load.load_no} loaded: it has changed since",
                where=file.name,
                mend="put the loaded file back, or reconcile after loading the new one",
            )
    return found
