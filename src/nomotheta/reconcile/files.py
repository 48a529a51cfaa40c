"""The files that some loads loaded, read again as they were read then, less the rows that were set aside."""

from __future__ import annotations

import contextlib
import datetime
import functools
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from nomotheta.charter import Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError, GoneError
from nomotheta.events import Listener, Progress
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance
from nomotheta.load.blocks import worked_files
from nomotheta.load.engine import Engine
from nomotheta.load.imprint import Imprint
from nomotheta.load.mended import open_mended
from nomotheta.load.rejects import left_out
from nomotheta.load.work import Plan, Worked, constants
from nomotheta.place.render import Now
from nomotheta.reconcile.side import FILE, LINE
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile, arrived, literal
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns
from nomotheta.source.stated import StatementTold

_FIRST = 5  # rows that cannot be read, of which is told


@frozen
class LoadedFiles:
    """A load that is in the table: its number, day, files, what was set aside, and the charter that reads them.

    `kept` is the workspace's own copy of a file of mended rows, `imprint` what was recorded while it was
    loaded, `stated` what the sender said of its files. `away` says where files may be that were put away since.
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
    imprint: Imprint | None = None
    stated: tuple[StatementTold, ...] = ()
    away: Mapping[str, Sequence[Path]] = field(default_factory=dict)


class Files:
    """What some loads loaded, by the charter of the table and the kinds of the columns that are compared."""

    def __init__(
        self, compiled: Compiled, loads: Sequence[LoadedFiles], kinds: Mapping[str, Kind], zone: str, listener: Listener
    ) -> None:
        self.compiled, self.loads, self.kinds, self.zone, self.listener = compiled, loads, kinds, zone, listener
        self.of_loads = [(load, file) for load in loads for file in _still_there(load)]
        self.files = [file for _, file in self.of_loads]
        self.unread, self.told, self.extra = 0, list[str](), ()

    def columns(self) -> dict[str, Kind]:
        """The columns that they hold."""
        return dict(self.kinds)

    def batches(self, schema: Any, *, origin: bool = False) -> Iterator[Any]:
        """The rows that the files hold, less those that were set aside; with their files and lines, if wanted."""
        with _progress(self.compiled, self.files, self.listener) as told:
            for load, pairs in itertools.groupby(self.of_loads, lambda pair: pair[0]):
                if load.balance.rejected + load.balance.repeated and not load.rejects.exists():
                    raise GoneError(f"which rows load {load.load_no} set aside is not known here",
                                    where=load.rejects.name, mend="reconcile where it was loaded")  # fmt: skip
                aside, before = left_out(load.rejects), 0
                files = [file for _, file in pairs]
                for piece in worked_files(files, functools.partial(self._opened, load), join=not load.mended):
                    worked = piece.worked
                    if worked is None:
                        before = 0
                        continue
                    rows = _rows(worked, schema, origin=origin)
                    keep = ~worked.among(worked.records, before, aside)
                    yield from (rows if keep.all() else rows.filter(pa.array(keep))).to_batches()
                    before += worked.batch.count
                    told(worked.size)

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


class OtherFiles:
    """Files that no load of ours brought, read by a charter.

    `unread` counts their rows that cannot be read, of which the first are `told`; `extra` are columns that the charter
    does not know.

    Raises:
        DeliveryError: a file is not there, cannot be read, or is not what the charter expects.
    """

    def __init__(
        self, compiled: Compiled, files: Sequence[ArrivedFile], zone: str, at: Now, listener: Listener
    ) -> None:
        self.compiled, self.files, self.zone, self.at, self.listener = compiled, files, zone, at, listener
        self.unread, self.told = 0, list[str]()
        self.extra = tuple(dict.fromkeys(name for file in files for name in self._extra(file)))

    def columns(self) -> dict[str, Kind]:
        """The columns that the files hold."""
        kinds = self.compiled.charter.kinds()
        return {name: kinds[name] for name in self.compiled.charter.file_columns()}

    def batches(self, schema: Any, *, origin: bool = False) -> Iterator[Any]:
        """The rows that can be read; with their files and lines, if wanted."""
        self.unread, self.told = 0, []
        with _progress(self.compiled, self.files, self.listener) as told:
            before = 0
            for piece in worked_files(self.files, self._opened, join=False):
                worked = piece.worked
                if worked is None:
                    before = 0
                    continue
                self._take(worked, before)
                before += worked.batch.count
                yield from _rows(worked, schema, origin=origin).to_batches()
                told(worked.size)

    def _take(self, worked: Worked, before: int) -> None:
        """Tell of the rows that cannot be read."""
        aside = worked.set_aside
        self.unread += len(aside.records)
        if len(aside.records) and len(self.told) < _FIRST:
            (first, *_) = aside.tables(before, _FIRST)
            for row in first.to_pylist()[: _FIRST - len(self.told)]:
                self.told.append(f"{row['file']}:{row['line']}: {row['message']}")

    def _opened(self, file: ArrivedFile) -> tuple[Plan, SourceFile]:
        compiled = self.compiled
        source = open_file(file.path, file.name, compiled.layout, compiled.charter)
        shape = match_columns(source, compiled.charter)
        fixed = constants(compiled.charter, 0, self.at.moment, self.at.day, self.zone)
        return Plan(
            compiled, file.name, shape.positions, shape.width, fixed | dict.fromkeys(shape.absent), [],
            Engine([], self.at), self.zone, 0,
        ), source  # fmt: skip

    def _extra(self, file: ArrivedFile) -> list[str]:
        """The names of columns that the charter does not know."""
        charter = self.compiled.charter
        source = open_file(file.path, file.name, self.compiled.layout, charter)
        header = source.read_header() or []
        known = {match_columns(source, charter).positions[name] for name in charter.file_columns()}
        return [name for at, name in enumerate(header) if at not in known]


def _rows(worked: Worked, schema: Any, *, origin: bool) -> Any:
    """The good rows of a block, with the columns of a schema; with their files and lines, if wanted."""
    rows = worked.good.select(schema.names)
    if origin:
        files, lines = worked.origins(worked.records)
        rows = rows.append_column(FILE, files).append_column(LINE, pa.array(lines, pa.int64()))
    return rows


@contextlib.contextmanager
def _progress(compiled: Compiled, files: Sequence[ArrivedFile], listener: Listener) -> Iterator[Callable[[int], None]]:
    """Tell how much of some files is read, in bytes."""
    total, done = sum(file.survey.bytes_of_content for file in files), 0
    table = compiled.charter.table
    told = f"reading the files of {table}"

    def more(size: int) -> None:
        nonlocal done
        done += size
        listener(Progress(told, done, total, "bytes", table=table))

    yield more
    listener(Progress(told, total, total, "bytes", ended=True, table=table))


def _found(load: LoadedFiles, name: str, content: str) -> ArrivedFile:
    """A file where it was loaded from, or where it was put away: the first that holds what was loaded."""
    here = [load.root / name] if (load.root / name).is_file() else []
    for path in (*here, *load.away.get(name, ())):
        (found,) = arrived(load.root, [literal(str(path))], load.compiled.layout)
        if found.survey.content == content:
            return replace(found, name=name)
    (found,) = arrived(load.root, [literal(name)], load.compiled.layout)
    return found


def _still_there(load: LoadedFiles) -> list[ArrivedFile]:
    """The files of a load, if they still are what was loaded."""
    if load.kept is not None:
        (kept,) = arrived(load.root, [literal(str(load.kept))], load.compiled.layout)
        found = [replace(kept, name=load.balance.files[0].file)]
    elif not load.away:
        names = [file.file for file in load.balance.files]
        found = arrived(load.root, [literal(name) for name in names], load.compiled.layout)
    else:
        found = [_found(load, file.file, file.content) for file in load.balance.files]
    for file, loaded in zip(found, load.balance.files, strict=True):
        if file.survey.content != loaded.content:
            raise DeliveryError(
                f"the file is not what load {load.load_no} loaded: it has changed since",
                where=file.name,
                mend="put the loaded file back, or reconcile after loading the new one",
            )
    return found
