"""A lake as a place: its tables are Delta tables, and the embedded engine asks their files.

In a transaction, rows go into new files, and the engine sees the table as it is to be; one commit at the end says all
of it. Rows are replaced by writing anew the files that hold them. A transaction changes one table: Delta knows no act
that changes two.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import deltalake
import duckdb
import pyarrow as pa
from deltalake import DeltaTable
from deltalake.exceptions import DeltaError

from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.place.base import Facts, Guarantees, Mark, PlaceColumn
from nomotheta.place.delta.change import Change, clear_left
from nomotheta.place.delta.locks import locked
from nomotheta.place.delta.memory import FOLDER, Kept, Memory, files_of, keep_files, remembered
from nomotheta.place.delta.snapshot import FILE, LakeFile, Snapshot
from nomotheta.place.delta.store import Store, reason
from nomotheta.place.delta.types import Field, schema_of
from nomotheta.place.delta.written import Placed
from nomotheta.place.embedded.duckdb import DuckPlace
from nomotheta.place.marks import FILES, marks_ddl
from nomotheta.place.render import duckdb_type, quoted_table, text_literal
from nomotheta.place.staging import FROM_STAGE, STAGE, TABLE_ALIAS, Merge

_FILES_AT_ONCE = 16  # of a table that a worker reads
_HIGHEST = f"{FOLDER}/highest.json"
_HIT, _DELETED = own("hit"), own("deleted rows")
_KEPT = r"_before_\d+"  # what the name of rows that a load replaced ends in
_STAGED = FROM_STAGE.partition(" AS ")[2]


class DeltaPlace(DuckPlace):
    """A folder, or a part of an object store, with Delta tables."""

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
            low = sql.casefold()
            known = [*self._tables, *self.tables()]
            if re.search(_KEPT, low):
                known += [name for name, _ in self._all_kept()]
            for table in dict.fromkeys(known):
                if table.rpartition(".")[2].casefold().replace('"', '""') in low:
                    self._look_again(table)
                    self._view(table)
            if FILES in low:
                self._file_away()
        finally:
            self._preparing = False

    def _view(self, table: str) -> None:
        """Make the view of a table, unless it shows it already as it is to be."""
        snapshot, kept = self._snapshot(table), None
        if snapshot is None:
            kept = self._kept(table)
            if kept is None:
                return
            snapshot = self._there(kept[0]).at(kept[1].version)
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
        rows = snapshot.rows(files, located=located, deleted=quoted(_DELETED), look=self._lacks(snapshot, files))
        if kept is not None:
            listed = ", ".join(map(quoted, kept[1].columns))
            where = f" WHERE {kept[1].where}" if kept[1].where else ""
            rows = f"SELECT {listed} FROM ({rows}) AS {quoted(kept[0].rpartition('.')[2])}{where}"
        self._run(f"CREATE OR REPLACE VIEW {quoted_table(table)} AS {rows}")
        self._viewed[table] = key

    def _lacks(self, snapshot: Snapshot, files: Sequence[LakeFile]) -> bool:
        """Whether some column may be in none of the files; the engine would not say which."""
        select = snapshot.rows(files, deleted="(SELECT '' AS file, 0 AS row)")
        try:
            self._connection.execute(f"EXPLAIN {select}")
        except duckdb.BinderException:
            return True
        except duckdb.Error:
            return False  # what is wrong is said where it is asked
        return False

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
    def _one_version(self, others: Sequence[DeltaPlace], tables: Sequence[str]) -> Iterator[bool]:
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

    # ---- loading

    @contextlib.contextmanager
    def transaction(self, *tables: str) -> Iterator[None]:
        """One commit at the end, or none where an exception leaves it."""
        self._listed = None
        self._look_again(*tables, *self._tables)
        self._owner_now = tables[0] if tables else ""
        for snapshot in filter(None, map(self._snapshot, tables)):
            clear_left(snapshot)
        self._changes, self._told = {}, []
        try:
            with locked(self._store, tables), super().transaction(*tables):
                yield
                self._commit()
        except BaseException:
            self._told = []
            for change in self._changes.values():
                with contextlib.suppress(PlaceError):
                    change.discard()
            raise
        finally:
            self._changes = None
            self._viewed.clear()
            self._filed.clear()
            self._memories.clear()

    def _commit(self) -> None:
        for table, change in (self._changes or {}).items():
            self._keep_files(table, change)
        made = [change for change in (self._changes or {}).values() if change.made]
        if len(made) > 1:
            names = " and ".join(change.snapshot.table for change in made)
            raise PlaceError(f"{names} cannot be changed in one act: each is a Delta table of its own",
                             where=f"place {self.name}", mend="change one at a time")  # fmt: skip
        for change in made:
            self._told = list(self.hints)
            change.commit()
            change.begun.clear()
            if change.newest is not None:
                self._note_number(change.newest.load_no)

    @contextlib.contextmanager
    def _changing(self, table: str) -> Iterator[Change]:
        """The change of a table in the transaction; outside of one, it is one of its own."""
        if self._changes is None:
            with self.transaction(table):
                yield self._changed_table(table)
        else:
            yield self._changed_table(table)

    def _changed_table(self, table: str) -> Change:
        assert self._changes is not None  # noqa: S101 - asked within a transaction alone
        if table not in self._changes:
            self._changes[table] = Change(self._there(table), self._memory(table))
        return self._changes[table]

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches, as new files."""
        if table == FILES:
            return self._append_files(columns, batches, schema)
        if self._snapshot(table) is None:
            return super().append(table, columns, batches, schema)
        with self._changing(table) as change:
            return change.adopt(batches.files) if isinstance(batches, Placed) else change.add(batches)

    def target(self, table: str) -> tuple[str, str, bool, Mapping[str, str], str, str, Sequence[Field]]:
        """Where workers may write files of a table until its transaction ends.

        The lake's name, its root, whether that is a folder, how it is reached, the table's folder, what the names of
        files begin with after `part-`, and the columns.
        """
        change, store = self._changed_table(table), self._store
        change.open_to_others()
        folder = change.snapshot.folder
        local = store.local is not None
        return self.name, store.root, local, store.options, folder, change.ident, change.snapshot.fields

    def selects(self, table: str, where: str | None) -> list[str]:
        """The rows of a table that meet a condition, or all, as SELECTs over some of its files each."""
        snapshot = self._changed_table(table).snapshot
        files = snapshot.files
        if any(file.deleted for file in files):
            raise PlaceError("rows are deleted from its files, which workers do not look for", where=snapshot.where,
                             mend="have the files rewritten by the engine that deleted them")  # fmt: skip
        found = []
        for at in range(0, len(files), _FILES_AT_ONCE):
            some = files[at : at + _FILES_AT_ONCE]
            rows = snapshot.rows(some, look=self._lacks(snapshot, some))
            found.append(
                f"SELECT * FROM ({rows}) AS {quoted(table.rpartition('.')[2])}" + (f" WHERE {where}" if where else "")
            )
        return found

    def names_rows(self, _table: str) -> bool:
        """A file is written whole."""
        return False

    def insert_from(self, table: str, columns: Sequence[str], select: str, *, as_given: bool = True) -> int:
        """Add the rows of a SELECT."""
        if self._snapshot(table) is None:
            return super().insert_from(table, columns, select, as_given=as_given)
        with self._changing(table) as change:
            return change.add(self.stream(select))

    def delete(self, table: str, where: str | None) -> int:
        """Delete rows: files that hold others too are written anew without them."""
        if self._snapshot(table) is None:
            if table == FILES:
                self._file_away()
                change = self._changed_table(self._owner_now)
                change.remember(change.memory)
            return super().delete(table, where)
        with self._changing(table) as change:
            if where is None:
                count = self.count(table)
                change.take_out(change.files)
                return count
            listed = ", ".join(quoted(field.name) for field in change.snapshot.fields)
            with self._located(table):
                found = self._run(f"SELECT {quoted(FILE)}, count(*) {self.rowset(table, where)} GROUP BY 1")
                hit = dict(found)
                if hit:
                    rest = f"{quoted(FILE)} IN ({_texts(hit)}) AND NOT coalesce(({where}), FALSE)"
                    change.add(self.stream(f"SELECT {listed} {self.rowset(table, rest)}"))
            change.take_out([file for file in change.files if file.path in hit])
            return sum(hit.values())

    def copy(self, source: str, target: str, columns: Sequence[str], where: str | None) -> int:
        """Add the rows of one table to another; those that a load replaces stay where they are, in an older version."""
        if self._snapshot(target) is None and self._snapshot(source) is not None and target not in self.tables():
            change = self._changed_table(source)
            kept = Kept(change.snapshot.version, tuple(field.name for field in change.snapshot.fields), where)
            marks = tuple(mark for mark in change.memory.marks if mark.table not in change.memory.kept)
            change.remember(replace(change.memory, kept={target: kept}, marks=marks))
            return self.count(source, where)
        return super().copy(source, target, columns, where)

    def _updated(self, table: str, how: Merge, same: str) -> int:
        """Give rows the values of the staged rows of their keys: the files that hold such are written anew."""
        if self._snapshot(table) is None or not how.compared:
            return super()._updated(table, how, same)
        differs = " OR ".join(self.distinct(*sides) for sides in self._sides(table, how.compared, self.natively))
        named, hit = quoted_table(table), f"{_STAGED}.{quoted(_HIT)}"
        with self._changing(table) as change, self._located(table):
            file = f"{TABLE_ALIAS}.{quoted(FILE)}"
            on = f"{named} AS {TABLE_ALIAS} JOIN {FROM_STAGE} ON {same}"
            found = dict(self._run(f"SELECT {file}, count(*) FROM {on} WHERE {differs} GROUP BY 1"))
            if not found:
                return 0
            taken = frozenset(how.columns) - frozenset(how.key)
            cells = [
                f"CASE WHEN {hit} THEN {_STAGED}.{quoted(name)} ELSE {TABLE_ALIAS}.{quoted(name)} END AS {quoted(name)}"
                if name in taken else f"{TABLE_ALIAS}.{quoted(name)}"
                for name in (field.name for field in change.snapshot.fields)
            ]  # fmt: skip
            staged = f"(SELECT *, TRUE AS {quoted(_HIT)} FROM {quoted(STAGE)}) AS {_STAGED}"
            change.add(self.stream(
                f"SELECT {', '.join(cells)} FROM {named} AS {TABLE_ALIAS} LEFT JOIN {staged} "
                f"ON {same} AND ({differs}) WHERE {file} IN ({_texts(found)})"
            ))  # fmt: skip
            change.take_out([each for each in change.files if each.path in found])
        return sum(found.values())

    # ---- marks

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

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table."""
        self._look_again(table)
        return self._memory(self._owner(table)).of(table)

    def mark(self, mark: Mark) -> bool:
        """Leave a mark, unless its content came before."""
        owner = mark.table if self._snapshot(mark.table) is not None else self._owner_now or mark.table
        with self._changing(owner) as change:
            if any(each.table == mark.table and each.once == mark.once for each in change.memory.marks):
                return False
            change.remember(change.memory.with_mark(mark), mark if mark.table == owner else None)
        return True

    def take_back(self, mark: Mark) -> tuple[int, int] | None:
        """Make a table what it was in the version before a load, if that load has made its newest."""
        change = self._changed_table(mark.table)
        return None if change.made else change.go_back(mark)

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away, and with it what was kept under its name."""
        with self._changing(self._owner(mark.table)) as change:
            memory = change.memory.without(mark)
            change.remember(
                replace(memory, kept={name: each for name, each in memory.kept.items() if name != mark.table})
            )

    def make_ready(self) -> bool:
        """Loads of different tables have nothing in common."""
        return True

    def next_load_no(self) -> int:
        """One more than the highest number so far: it is noted in the lake, and with each table."""
        noted = self._noted_number()
        if noted is not None:
            return noted + 1
        self._look_again(*self._tables)
        return 1 + max((self._memory(table).highest for table in self.tables()), default=0)

    def _noted_number(self) -> int | None:
        data = self._store.read(_HIGHEST)
        with contextlib.suppress(ValueError, TypeError, KeyError):
            return None if data is None else int(json.loads(data)["highest"])
        return None

    def _note_number(self, load_no: int) -> None:
        if (self._noted_number() or 0) < load_no:
            self._store.write(_HIGHEST, json.dumps({"highest": load_no}).encode())

    # ---- the files that loads brought: in the engine's own memory for as long as they are asked for

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

    def _append_files(self, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Note which files a load brought, for the commit to keep."""
        self._file_away()
        rows = pa.Table.from_batches(list(batches), schema)
        for each in rows.group_by(["table_name", "load_no"]).aggregate([]).to_pylist():
            change = self._changed_table(each["table_name"])
            listed = {load: name for load, name in change.memory.listed.items() if load != each["load_no"]}
            change.remember(replace(change.memory, listed=listed))
        return super().append(FILES, columns, iter(rows.to_batches()), schema)

    def _keep_files(self, table: str, change: Change) -> None:
        """Write which files the loads of a change brought, and forget those of loads that it takes out."""
        if not change.remembers:
            return
        of = f"FROM {FILES} WHERE table_name = {text_literal(table)}"
        if self._filed.get(table, -1) != change.memory.number and change.memory.listed:
            return  # nobody has asked for them, so nobody has changed them
        there = {int(load) for (load,) in self._run(f"SELECT DISTINCT load_no {of}")}
        listed = {load: name for load, name in change.memory.listed.items() if load in there}
        for load in sorted(there - listed.keys()):
            rows = self.fetch(f"SELECT * {of} AND load_no = {load}")
            listed[load] = keep_files(self._store, change.snapshot.folder, load, rows)
        change.memory = replace(change.memory, listed=listed)


def _texts(names: Mapping[str, int]) -> str:
    return ", ".join(map(text_literal, names))


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
