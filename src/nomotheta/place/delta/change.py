"""What one transaction does to a Delta table: files written beside its others, and one commit for all.

Until the commit nobody sees any of it. A note in the table's folder says that files are being written, by whom, and
upon which version: if the program is ended there, the next load takes away what it left, unless the commit was made.
"""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import socket
import time
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import psutil
import pyarrow.parquet as pq
from deltalake import CommitProperties, Transaction
from deltalake.exceptions import DeltaError
from deltalake.transaction import AddAction, RemoveAction

from nomotheta.errors import PlaceError
from nomotheta.place.base import Mark
from nomotheta.place.delta.memory import APPLICATION, FOLDER, Memory, keep
from nomotheta.place.delta.snapshot import LakeFile, Snapshot
from nomotheta.place.delta.store import LOG, Store, reason
from nomotheta.place.delta.written import Writer, Written, now_ms, statistics

_WRITING = "writing-"
_ENDED = "ended-"
_FORGOTTEN = 7 * 86_400  # seconds after which nobody on another machine is still at work


@dataclass
class Change:
    """A table's files and marks as they are to be, from one version on."""

    snapshot: Snapshot
    memory: Memory
    ident: str = field(default_factory=lambda: secrets.token_hex(8))
    added: dict[str, Written] = field(default_factory=dict)
    removed: dict[str, LakeFile] = field(default_factory=dict)
    newest: Mark | None = None
    remembers: bool = False  # whether what is remembered has changed
    steps: int = 0
    noted: bool = False
    begun: list[str] = field(default_factory=list)
    spread: bool = False  # whether workers write too

    @property
    def store(self) -> Store:
        """Where the table's files are."""
        return self.snapshot.store

    @property
    def files(self) -> list[LakeFile]:
        """The files of the table, as it is to be."""
        stay = [file for file in self.snapshot.files if file.path not in self.removed]
        return [*stay, *(LakeFile(each.path, each.size, each.rows, ()) for each in self.added.values())]

    @property
    def made(self) -> bool:
        """Whether there is anything to commit."""
        return bool(self.added or self.removed or self.remembers)

    def remember(self, memory: Memory, newest: Mark | None = None) -> None:
        """Change what is remembered."""
        self.memory, self.newest, self.remembers = memory, newest or self.newest, True

    def add(self, batches: Iterable[Any]) -> int:
        """Write rows into new files; how many."""
        self.snapshot.check_writable(removing=False)
        self._note()
        self.steps += 1
        prefix = f"part-{self.ident}-{self.steps:03d}"
        writer = Writer(self.store, self.snapshot.folder, prefix, self.snapshot.fields)
        rows = 0
        try:
            for written in writer.write(batches):
                self.added[written.path] = written
                rows += written.rows
        finally:
            self.begun += writer.begun
        return rows

    def open_to_others(self) -> None:
        """From now on, workers may write files whose names begin with what this change is known by."""
        self.snapshot.check_writable(removing=False)
        self._note()
        self.spread = True

    def adopt(self, files: Iterable[Written]) -> int:
        """Take in files that workers wrote; how many rows are in them. What else they wrote is nobody's."""
        self.steps += 1
        rows = 0
        for written in files:
            self.added[written.path] = written
            self.begun.append(written.path)
            rows += written.rows
        return rows

    def _sweep(self, but: Collection[str] = ()) -> None:
        sweep(self.store, self.snapshot.folder, self.ident, but)

    def take_out(self, files: Iterable[LakeFile]) -> None:
        """Take files out of the table."""
        self.snapshot.check_writable(removing=True)
        self.steps += 1
        for file in files:
            if self.added.pop(file.path, None) is not None:
                if file.path in self.begun:  # and not one of an older version that came back
                    self.store.remove(f"{self.snapshot.folder}/{file.path}")
            else:
                self.removed[file.path] = file

    def go_back(self, mark: Mark) -> tuple[int, int] | None:
        """Be what the version before was, if a load has made this one: rows that go, and that come back; else None."""
        snapshot, folder = self.snapshot, self.snapshot.folder
        if not snapshot.version or made_by(snapshot, snapshot.version) != (mark.load_no, mark.workspace):
            return None
        try:
            older = {file.path: file for file in snapshot.at(snapshot.version - 1).listed}
        except PlaceError:
            return None
        newer = {file.path: file for file in snapshot.files}
        gone = [file for path, file in newer.items() if path not in older]
        back = [file for path, file in older.items() if path not in newer]
        whole = all(self.store.holds(f"{folder}/{file.path}") for file in back)  # else somebody has cleaned up
        if not whole or any(file.rows is None or file.deleted for file in (*gone, *back)):
            return None
        self.take_out(gone)
        fields = {field.name: field for field in snapshot.fields}
        reals = {name for name, field in fields.items() if field.type_name in {"double", "float"}}
        for file in back:
            with self.store.reached(), self.store.files.open_input_file(f"{folder}/{file.path}") as data:
                stats = statistics(pq.read_metadata(data), fields, reals)
            self.added[file.path] = Written(file.path, file.size, file.rows or 0, stats)
        return sum(file.rows or 0 for file in gone), sum(file.rows or 0 for file in back)

    def commit(self) -> None:
        """All of it in one act.

        Raises:
            PlaceError: somebody else has changed the table since; it is as they left it.
        """
        if self.spread:
            self._sweep(self.added)
        memory = keep(self.store, self.snapshot.folder, self.memory) if self.remembers else self.memory
        actions: list[Any] = [
            AddAction(each.path, each.size, {}, now_ms(), True, each.stats)  # noqa: FBT003
            for each in self.added.values()
        ]
        actions += [
            RemoveAction(file.path, True, now_ms(), file.size, {})  # noqa: FBT003
            for file in self.removed.values()
        ]
        told: dict[str, Any] = {"writing": self.ident}
        if self.newest is not None:
            mark = self.newest
            told |= {"load": mark.load_no, "workspace": mark.workspace, "day": mark.day.isoformat(), "rows": mark.rows}
        number = [Transaction(APPLICATION, memory.number)] if memory.number is not None and self.remembers else []
        properties = CommitProperties(
            custom_metadata={APPLICATION: told}, max_commit_retries=0, app_transactions=number or None
        )
        delta = self.snapshot.delta
        try:
            delta.create_write_transaction(actions, "append", delta.schema(), commit_properties=properties)
        except (DeltaError, OSError, ValueError) as error:
            if not self._committed_all_the_same(error):
                raise self._refused(error) from None
        self._done_with_note()

    def _committed_all_the_same(self, error: Exception) -> bool:
        """Whether the commit was made, though its answer was lost."""
        made = committed(self.snapshot, self.snapshot.version, self.ident)
        if made is None:
            told = reason(error)
            raise PlaceError(f"nobody knows whether the table was changed: {told}", where=self.snapshot.where,
                             mend="run the command again once the store answers: it looks at the marks")  # fmt: skip
        return made

    def _refused(self, error: Exception) -> PlaceError:
        if self.snapshot.newer() is not self.snapshot:
            return PlaceError("another program changed the table meanwhile", where=self.snapshot.where,
                              mend="run the command again: the table is as the other program left it")  # fmt: skip
        return PlaceError(f"the table cannot be changed: {reason(error)}", where=self.snapshot.where)

    def discard(self) -> None:
        """Take away what was written: it is not wanted."""
        for path in self.begun:
            self.store.remove(f"{self.snapshot.folder}/{path}")
        if self.spread:
            end(self.store, self.snapshot.folder, self.ident, ())
        self._done_with_note()

    # ---- the note that files are being written

    def _note(self) -> None:
        if not self.noted:
            own = psutil.Process()
            told = {"version": self.snapshot.version, "machine": socket.gethostname(), "process": own.pid,
                    "since": own.create_time(), "at": time.time()}  # fmt: skip
            self.store.write(note_of(self.snapshot.folder, self.ident), json.dumps(told).encode())
            self.noted = True

    def _done_with_note(self) -> None:
        if self.noted:
            self.store.remove(note_of(self.snapshot.folder, self.ident))
            self.noted = False


def made_by(snapshot: Snapshot, version: int) -> tuple[int, str] | None:
    """The load that has made a version, and its workspace; None where none of ours has, or the log does not say."""
    entry = snapshot.store.read(f"{snapshot.folder}/{LOG}/{version:020d}.json")
    for line in (entry or b"").splitlines():
        with contextlib.suppress(ValueError, KeyError, TypeError):
            told = json.loads(line)["commitInfo"][APPLICATION]
            return int(told["load"]), str(told["workspace"])
    return None


def committed(snapshot: Snapshot, upon: int, ident: str) -> bool | None:
    """Whether a transaction upon a version was committed; None where that cannot be found out.

    We commit upon the version that was read, or not at all: so there is one entry of the log to look at.
    """
    try:
        entry = snapshot.store.read(f"{snapshot.folder}/{LOG}/{upon + 1:020d}.json")
        newest = snapshot.newer().version
    except PlaceError:
        return None
    if entry is not None:
        return ident.encode() in entry
    return False if newest == upon else None


def note_of(folder: str, ident: str) -> str:
    """The note that files of a change are being written."""
    return f"{folder}/{FOLDER}/{_WRITING}{ident}.json"


def is_wanted(store: Store, folder: str, ident: str) -> bool:
    """Whether a change still goes on, so that what is written for it may stay: workers may outlive their driver."""
    return store.holds(note_of(folder, ident)) and not store.holds(f"{folder}/{FOLDER}/{_ENDED}{ident}")


def end(store: Store, folder: str, ident: str, but: Collection[str]) -> int:
    """Take away all files of a change but some, and its note; how many files of the table.

    That it has ended is said first: whatever a worker has written later than it is looked for, it takes away itself.
    """
    ended = f"{folder}/{FOLDER}/{_ENDED}{ident}"
    store.write(ended, b"")
    gone = sweep(store, folder, ident, but)
    store.remove(note_of(folder, ident))
    store.remove(ended)
    return gone


def sweep(store: Store, folder: str, ident: str, but: Collection[str]) -> int:
    """Take away all files of a change but some, and what was staged for it; how many files of the table."""
    gone = 0
    for file, _ in store.listed(folder):
        own = file.rpartition("/")[2]
        if own.startswith(f"part-{ident}-") and own not in but:
            store.remove(file)
            gone += 1
    staging = f"{folder}/{FOLDER}/staging-{ident}"
    if store.listed(staging):
        with contextlib.suppress(PlaceError):
            store.remove_folder(staging)
    return gone


def clear_left(snapshot: Snapshot) -> int:
    """Take away files that programs wrote which were ended before they committed; how many."""
    store, folder = snapshot.store, snapshot.folder
    gone = 0
    for path, _ in store.listed(f"{folder}/{FOLDER}"):
        name = path.rpartition("/")[2]
        if not name.startswith(_WRITING):
            continue
        told = _read(store, path)
        if told is None or _at_work(told):
            continue
        ident = name.removeprefix(_WRITING).partition(".")[0]
        made = committed(snapshot, int(told["version"]), ident)
        if made is None:
            continue
        kept = {file.path for file in snapshot.at(int(told["version"]) + 1).listed} if made else set[str]()
        gone += end(store, folder, ident, kept)
    return gone


def _read(store: Store, path: str) -> Mapping[str, Any] | None:
    with contextlib.suppress(ValueError, TypeError):
        told = json.loads(store.read(path) or b"null")
        return (
            told if isinstance(told, dict) and {"version", "machine", "process", "since", "at"} <= set(told) else None
        )
    return None


def _at_work(told: Mapping[str, Any]) -> bool:
    """Whether who wrote a note may still be at work."""
    if told["machine"] != socket.gethostname():
        return time.time() - float(told["at"]) < _FORGOTTEN
    if told["process"] == os.getpid():
        return True
    with contextlib.suppress(psutil.Error):
        return abs(psutil.Process(int(told["process"])).create_time() - float(told["since"])) < 1
    return False
