"""The tables of a lake as they are seen: each at one version, known to the embedded engine as a view of its files."""

from __future__ import annotations

import contextlib
import json
import os
import re
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import deltalake
import pyarrow as pa
from deltalake import DeltaTable
from deltalake.exceptions import DeltaError

from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.place.base import Facts, Guarantees, PlaceColumn
from nomotheta.place.delta.change import Change
from nomotheta.place.delta.footers import Footers
from nomotheta.place.delta.memory import Kept, Memory, files_of, remembered
from nomotheta.place.delta.snapshot import LakeFile, Snapshot
from nomotheta.place.delta.store import Store, reason
from nomotheta.place.delta.types import schema_of
from nomotheta.place.embedded.duckdb import DuckPlace
from nomotheta.place.marks import FILES, marks_ddl
from nomotheta.place.render import duckdb_type, quoted_table, text_literal
from nomotheta.place.staging import STAGE

_DELETED = own("deleted rows")
_KEPT = r"_before_\d+"  # what the name of rows that a load replaced ends in


class LakeTables(DuckPlace):
    """The tables of a folder, or of a part of an object store, as they are asked."""

    takes: frozenset[str] = frozenset()
    drops_temporary = ""
    session: Sequence[str] = ()
    keeps_versions = apart_tables = True

    def __init__(
        self, name: str, root: Path | str, *, shown: str = "", create: bool = True,
        options: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        if isinstance(root, Path):
            _check_folder(root, name, shown, create=create)
        self._tables: dict[str, Snapshot | None] = {}
        self._listed: list[str] | None = None
        self._memories: dict[str, Memory] = {}
        self._viewed: dict[str, tuple[Any, ...]] = {}
        self._footers = Footers(self._run)
        self._filed: dict[str, int | None] = {}
        self._changes: dict[str, Change] | None = None
        self._owner_now, self._told = "", list[str]()
        self._preparing = self._pinned = False
        self._locating = ""
        super().__init__(name, None, shown=shown)
        self._run(f"SET temp_directory = {text_literal(tempfile.gettempdir())}")
        self._run(marks_ddl(duckdb_type)[FILES])
        self._store = Store(name, root, options or {})
        self._store.known_to(self._connection)

    def facts(self) -> Facts:
        """The folder must be one that we may write in; of a store that is not known before it is tried."""
        version = f"Delta tables (deltalake {deltalake.__version__})"
        if self._store.local is None:
            self._store.folders()
            return Facts(version, may_create=None, may_write=None)
        may = os.access(self._store.root, os.W_OK)
        return Facts(version, may_create=may, may_write=may)

    @property
    def hints(self) -> Sequence[str]:  # type: ignore[override]
        """Which version of the table the newest load has made, or will have made once it is committed."""
        made = [change for change in (self._changes or {}).values() if change.made]
        if made:
            return [f"version {change.snapshot.version + 1} of the Delta table" for change in made]
        return [] if self._changes else self._told

    # ---- the tables

    def _folder(self, table: str) -> str | None:
        """The folder of a table; None where a name can be none."""
        parts = table.split(".")
        odd = any(not part or part[0] in "_." or re.search(r"[/\\]", part) for part in parts)
        return None if odd or len(parts) > 2 else "/".join(parts)

    def _snapshot(self, table: str) -> Snapshot | None:
        """A table as it was last looked at; None where there is none."""
        if table not in self._tables:
            folder = self._folder(table)
            there = folder is not None and table not in {FILES, STAGE} and self._store.has_log(folder)
            self._tables[table] = Snapshot(self._store, table, folder) if there and folder is not None else None
        return self._tables[table]

    def _look_again(self, *tables: str) -> None:
        """See tables as they are now; within a transaction, and while a moment is kept to, as they were."""
        if self._changes is not None or self._pinned:
            return
        for table in tables:
            snapshot = self._tables.pop(table, None)
            if snapshot is None:
                self._listed = None  # it may have been made since
            elif self._store.local is None or self._store.has_log(snapshot.folder):
                self._tables[table] = snapshot.newer()

    def _there(self, table: str) -> Snapshot:
        found = self._snapshot(table)
        if found is None:
            raise PlaceError("there is no such table", where=f"{table} in place {self.name}")
        return found

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table, or of rows that are kept; None where there are none such."""
        self._look_again(table)
        snapshot = self._snapshot(table)
        if snapshot is not None:
            snapshot.check_readable()
            return [field.column() for field in snapshot.fields]
        kept = self._kept(table)
        if kept is not None:
            owner, of = kept
            there = {field.name: field.column() for field in self._there(owner).at(of.version).fields}
            return [there[name] for name in of.columns]
        return super().columns(table)

    def tables(self) -> list[str]:
        """All tables; those of a folder within the lake have its name as their schema.

        Raises:
            PlaceError: two differ in nothing but their case, which the engine does not tell apart.
        """
        if self._listed is None:
            found = []
            for folder in self._store.folders():
                if self._store.has_log(folder):
                    found.append(folder)
                else:
                    found += [
                        each.replace("/", ".") for each in self._store.folders(folder) if self._store.has_log(each)
                    ]
            names: dict[str, str] = {}
            for table in found:
                other = names.setdefault(
                    table.casefold().removeprefix("main."), table
                )  # which the engine calls its own
                if other != table:
                    raise PlaceError(f"two tables are called alike but for upper and lower case: {other}, {table}",
                                     where=f"place {self.name}", mend="rename the folder of one")  # fmt: skip
            self._listed = found
        return self._listed

    def changes_rows(self, _table: str) -> bool:
        """Rows lie in files as they were put there."""
        return False

    def guarantees(self, _table: str) -> Guarantees:
        """Whoever writes files may put anything into them."""
        return Guarantees()

    def stored(self, table: str) -> list[str]:
        """All columns but those that another engine works out."""
        kept = self._kept(table)
        if kept is not None:
            return list(kept[1].columns)
        return [field.name for field in self._there(table).fields if not field.generated]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table."""
        self._create(table, schema_of(columns))

    def make_like(self, name: str, table: str, columns: Sequence[str]) -> None:
        """Create an empty table with some columns of another."""
        every = json.loads(self._there(table).delta.schema().to_json())["fields"]
        own_fields = [each for wanted in columns for each in every if each["name"] == wanted]
        self._create(name, json.dumps({"type": "struct", "fields": own_fields}))

    def _create(self, table: str, schema: str) -> None:
        folder = self._folder(table)
        if folder is None:
            raise PlaceError("a table of a lake cannot have this name", where=f"{table} in place {self.name}",
                             mend="use letters, digits and _; it becomes the name of a folder")  # fmt: skip
        self._listed = None
        other = next((each for each in self.tables() if each.casefold() == table.casefold() and each != table), None)
        if other is not None:
            raise PlaceError(f"there is a table {other}, which differs only by upper and lower case",
                             where=f"{table} in place {self.name}", mend="give it another name")  # fmt: skip
        with self._store.reached():
            if self._store.local is not None:
                (self._store.local / folder).mkdir(parents=True, exist_ok=True)
        try:
            made = deltalake.Schema.from_json(schema)
            DeltaTable.create(self._store.uri(folder), made, mode="error", storage_options=self._store.options or None)
        except (DeltaError, OSError, ValueError) as error:
            raise PlaceError(f"the table cannot be created: {reason(error)}", where=f"{table} in place {self.name}",
                             mend="see that you may write there") from None  # fmt: skip
        self._tables.pop(table, None)
        self._listed = None

    def drop(self, table: str) -> None:
        """Drop a table, with its folder."""
        folder = self._folder(table)
        if self._snapshot(table) is None or folder is None:
            return  # rows that are kept are those of an older version
        with self._translated():
            self._run(f"DROP VIEW IF EXISTS {quoted_table(table)}")
        self._store.remove_folder(folder)
        self._tables.pop(table, None)
        self._viewed.pop(table, None)
        self._listed = None

    # ---- asking: the engine knows a table as a view of its files

    @contextlib.contextmanager
    def _translated(self, sql: object = "") -> Iterator[None]:
        if isinstance(sql, str) and sql and not self._preparing and hasattr(self, "_store"):
            self._prepare(sql)
        with super()._translated(sql):
            yield

    def _prepare(self, sql: str) -> None:
        """Have the engine know the tables that a statement may name."""
        self._preparing = True
        try:
            for table in self.named_in(sql):
                self._look_again(table)
                self._view(table)
            if FILES in sql.casefold():
                self._file_away()
        finally:
            self._preparing = False

    def named_in(self, sql: str) -> list[str]:
        """The tables that a statement may name, and rows that are kept."""
        low, known = sql.casefold(), [*self._tables, *self.tables()]
        if re.search(_KEPT, low):
            known += [name for name, _ in self._all_kept()]
        bare = {table: table.rpartition(".")[2].casefold().replace('"', '""') for table in known}
        return [table for table, word in bare.items() if re.search(rf"(?<!\w){re.escape(word)}(?!\w)", low)]

    def shown_as(self, table: str) -> tuple[Snapshot, tuple[str, Kept] | None] | None:
        """The version of a table that is seen, and if it is rows that are kept, whose they were and which."""
        snapshot = self._snapshot(table)
        if snapshot is not None:
            return snapshot, None
        kept = self._kept(table)
        return None if kept is None else (self._there(kept[0]).at(kept[1].version), kept)

    def checked_files(self, snapshot: Snapshot) -> list[LakeFile]:
        """The files of a version, whose sizes and types are as its log says.

        Raises:
            PlaceError: those of one are not.
        """
        with super()._translated():
            self._footers.absent(snapshot, snapshot.files)
        return snapshot.files

    def seen_by_workers(self, folder: str) -> str:
        """A folder of a table as workers of Spark name it."""
        at = self._store.uri(folder)
        return f"file://{at}" if self._store.local is not None else at.replace("s3://", "s3a://", 1)

    def _view(self, table: str) -> None:
        """Make the view of a table, unless it shows it already as it is to be."""
        shown = self.shown_as(table)
        if shown is None:
            return
        snapshot, kept = shown
        change = (self._changes or {}).get(table)
        located = self._locating == table
        key = (snapshot.version, change.steps if change else 0, located, bool(change))
        if self._viewed.get(table) == key:
            return
        files = change.files if change is not None else snapshot.files
        for file in files:
            if file.deleted:
                self._know_deleted(snapshot, file.path)
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.partition('.')[0])}")
        rows = snapshot.rows(files, self._footers.absent, located=located, deleted=quoted(_DELETED))
        if kept is not None:
            listed = ", ".join(map(quoted, kept[1].columns))
            where = f" WHERE {kept[1].where}" if kept[1].where else ""
            rows = f"SELECT {listed} FROM ({rows}) AS {quoted(kept[0].rpartition('.')[2])}{where}"
        self._run(f"CREATE OR REPLACE VIEW {quoted_table(table)} AS {rows}")
        self._viewed[table] = key

    def _know_deleted(self, snapshot: Snapshot, path: str) -> None:
        """Tell the engine which rows of a file are deleted."""
        name = quoted(_DELETED)
        self._run(f"CREATE TABLE IF NOT EXISTS {name} (file VARCHAR, row BIGINT)")
        self._run(f"DELETE FROM {name} WHERE file = {text_literal(path)}")
        rows = snapshot.deleted[path]
        incoming = pa.table([pa.repeat(path, len(rows)), rows], names=["file", "row"])
        self.know({"nomotheta_deleted": incoming})
        self._run(f"INSERT INTO {name} SELECT file, row FROM nomotheta_deleted")
        self.forget({"nomotheta_deleted": incoming})

    @contextlib.contextmanager
    def _located(self, table: str) -> Iterator[None]:
        """For as long as it lasts, each row of a table has the file that it is in."""
        self._locating = table
        try:
            yield
        finally:
            self._locating = ""

    def one_view(self, others: Sequence[Any], tables: Sequence[str]) -> contextlib.AbstractContextManager[bool]:
        """All keep to the versions of this moment."""
        return self._one_version(others, tables)

    @contextlib.contextmanager
    def _one_version(self, others: Sequence[LakeTables], tables: Sequence[str]) -> Iterator[bool]:
        self._look_again(*tables)
        seen = {table: self._snapshot(table) for table in tables}
        everyone = [self, *others]
        for place in everyone:
            place._tables.update(seen)
            place._pinned = True
        try:
            yield True
        finally:
            for place in everyone:
                place._pinned = False

    # ---- what is remembered of loads

    def _memory(self, table: str) -> Memory:
        change = (self._changes or {}).get(table)
        if change is not None:
            return change.memory
        snapshot = self._snapshot(table)
        if snapshot is None:
            return Memory()
        held = self._memories.get(table)
        if held is None or held.number != snapshot.number:
            held = self._memories[table] = remembered(self._store, snapshot.folder, snapshot.number)
        return held

    def _owner(self, table: str) -> str:
        """The table that keeps the marks of one: itself, or the one beside which it lies."""
        now = self._owner_now if self._changes is not None else ""
        if now and self._snapshot(now) is not None and self._memory(now).of(table):
            return now
        if self._snapshot(table) is not None and self._memory(table).of(table):
            return table
        if re.search(r"_(before|staging)_\d+", table):
            for other in self.tables():
                if self._memory(other).of(table):
                    return other
        return table

    def _kept(self, table: str) -> tuple[str, Kept] | None:
        """The rows that are kept under a name, and the table whose they were."""
        if not re.search(f"{_KEPT}$", table):
            return None
        return next(((owner, kept) for name, (owner, kept) in self._all_kept() if name == table), None)

    def _all_kept(self) -> list[tuple[str, tuple[str, Kept]]]:
        owners = [table for table, snapshot in self._tables.items() if snapshot is not None]
        if not owners:
            owners = self.tables()
        return [(name, (owner, kept)) for owner in owners for name, kept in self._memory(owner).kept.items()]

    def _file_away(self) -> None:
        """Have the engine know the files of the tables that were looked at."""
        for table in [table for table, each in self._tables.items() if each is not None]:
            memory = self._memory(table)
            if self._filed.get(table, -1) == memory.number:
                continue
            self._filed[table] = memory.number
            before, self._preparing = self._preparing, True
            try:
                self._run(f"DELETE FROM {FILES} WHERE table_name = {text_literal(table)}")
                for name in memory.listed.values():
                    self.know({"nomotheta_listed": files_of(self._store, self._there(table).folder, name)})
                    self._run(f"INSERT INTO {FILES} SELECT * FROM nomotheta_listed")
                    self._connection.unregister("nomotheta_listed")
            finally:
                self._preparing = before


def _check_folder(root: Path, name: str, shown: str, *, create: bool) -> None:
    """Whether a lake's folder is there, or may be made.

    Raises:
        PlaceError: it is not, or is no folder.
    """
    if root.is_dir():
        return
    where = f"place {name}"
    if root.exists():
        raise PlaceError(f"{shown} is not a folder", where=where, mend="correct the url in nomotheta.toml")
    if not create:
        raise PlaceError(f"the folder {shown} is not there", where=where,
                         mend="load a table with --create, or correct the url in nomotheta.toml")  # fmt: skip
    try:
        root.mkdir()
    except OSError as error:
        raise PlaceError(f"the folder {shown} cannot be made: {error.strerror}", where=where,
                         mend="correct the url in nomotheta.toml") from None  # fmt: skip
