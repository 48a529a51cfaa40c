"""A lake as a place: its tables are Delta tables, and the embedded engine asks their files.

In a transaction, rows go into new files, and the engine sees the table as it is to be; one commit at the end says all
of it. Rows are replaced by writing anew the files that hold them. A transaction changes one table: Delta knows no act
that changes two.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa

from nomotheta.conditions import own, quoted
from nomotheta.errors import PlaceError
from nomotheta.place.base import Mark
from nomotheta.place.delta.change import Change, clear_left
from nomotheta.place.delta.locks import locked
from nomotheta.place.delta.memory import FOLDER, Kept, keep_files
from nomotheta.place.delta.snapshot import FILE
from nomotheta.place.delta.tables import LakeTables
from nomotheta.place.delta.types import Field
from nomotheta.place.delta.written import Placed
from nomotheta.place.marks import FILES
from nomotheta.place.render import quoted_table, text_literal
from nomotheta.place.staging import FROM_STAGE, STAGE, TABLE_ALIAS, Merge

_FILES_AT_ONCE = 16  # of a table that a worker reads
_HIGHEST = f"{FOLDER}/highest.json"
_HIT = own("hit")
_STAGED = FROM_STAGE.partition(" AS ")[2]


class DeltaPlace(LakeTables):
    """A folder, or a part of an object store, with Delta tables, and what loads change in them."""

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
            rows = snapshot.rows(some, self._footers.absent)
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

    # ---- the files that loads brought

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
