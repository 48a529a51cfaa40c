"""Rows that repeat a key: copies of the row that has it, or in conflict with it.

A row and the one whose key it repeats may lie far apart, so both are known only when all rows are in: the rows that are
in the table are fetched by their keys, and compared with those that stayed out in every column that the file holds.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Charter, Check
from nomotheta.conditions import own, quoted
from nomotheta.frozen import frozen
from nomotheta.keys import IN_TABLE, Ints
from nomotheta.kinds.show import show
from nomotheta.load.engine import Engine, part_name
from nomotheta.load.order import CollisionError
from nomotheta.place.base import Place
from nomotheta.rules.anew import as_kind
from nomotheta.rules.finding import HIDDEN

_KEPT = 32 << 20  # bytes of rows that wait in memory; more wait in a file
_AT_ONCE = 50_000  # rows that are compared at a time
_SAMPLES = 3  # pairs of rows that a finding shows
KEY, FIRST, RECORD, FILE, OTHER = (own(word) for word in ("key", "first", "record", "file", "other"))
_BY, _AT, _DIFFERS = own("by"), own("at"), own("differs")
_HERE, _THERE = own("here"), own("there")


class Waiting:
    """Rows that stay out because their key is another's, in the order in which they are told of.

    Each has the columns of the file, and: the number of the key, the record whose key it repeats, its own record (both
    counted through all files), its file, and the other row in words.
    """

    def __init__(self) -> None:
        self.count, self._size = 0, 0
        self._chunks: list[Any] = []
        self._file: IO[bytes] | None = None
        self._writer: Any = None

    def add(self, rows: Any) -> None:
        """Take in some more."""
        self.count += rows.num_rows
        self._size += rows.nbytes
        self._chunks.append(rows)
        if self._size > _KEPT:
            self._spill()

    def _spill(self) -> None:
        if self._writer is None:
            self._file = tempfile.TemporaryFile(prefix="nomotheta-")  # noqa: SIM115 - closed when all was read
            self._writer = pa.ipc.new_stream(self._file, self._chunks[0].schema)
        for chunk in self._chunks:
            self._writer.write_table(chunk)
        self._chunks, self._size = [], 0

    def tables(self) -> Iterator[Any]:
        """All of them, a part at a time."""
        if self._writer is not None and self._file is not None:
            self._spill()
            self._writer.close()
            self._file.seek(0)
            with pa.ipc.open_stream(self._file) as reader:
                for batch in reader:
                    yield pa.Table.from_batches([batch])
            self._file.close()
        elif self._chunks:
            whole = pa.concat_tables(self._chunks)
            for first in range(0, whole.num_rows, _AT_ONCE):
                yield whole.slice(first, _AT_ONCE)


@dataclass(slots=True)
class Told:
    """What came of the rows that repeat a key, in their order: why each stays out, and whose row is in its way.

    `conflicts` are the records in conflict, `undecided` those of them for which nothing says which row is right. By
    key: how many are copies, how many conflicts are decided by `keep` and how many are not, and rows to show.
    """

    reasons: list[Any] = field(default_factory=list)
    messages: list[Any] = field(default_factory=list)
    loads: list[Any] = field(default_factory=list)
    conflicts: set[int] = field(default_factory=set)
    undecided: set[int] = field(default_factory=set)
    by_file: Counter[str] = field(default_factory=Counter)
    in_the_way: Counter[int] = field(default_factory=Counter)
    copies_of: Counter[str] = field(default_factory=Counter)
    conflicts_of: Counter[str] = field(default_factory=Counter)
    decided_of: Counter[str] = field(default_factory=Counter)
    samples: dict[str, list[tuple[str, str, str]]] = field(default_factory=dict)


@dataclass(slots=True)
class _Compared:
    """Of some rows: which are in conflict, and the load whose row is in the way.

    By number, the columns that differ, and of a few the row that is in the way, as a `pa.Table` of one.
    """

    conflict: NDArray[np.bool_]
    loads: Ints
    differs: dict[int, list[str]] = field(default_factory=dict)
    others: dict[int, Any] = field(default_factory=dict)


@frozen
class Comparing:
    """Compares rows that stayed out with those in some tables of a place."""

    place: Place
    tables: Sequence[str]
    charter: Charter
    keys: Sequence[Check]
    engine: Engine

    def told(self, waiting: Waiting) -> Told:
        """What came of all of them.

        Raises:
            CollisionError: the key of one is in no table: it shares its hash with another.
        """
        found = Told()
        for rows in waiting.tables():
            self._compare(rows, found)
        return found

    @property
    def _columns(self) -> list[str]:
        """What is compared, or compared by."""
        return list(dict.fromkeys([*self.charter.file_columns(), *(name for key in self.keys for name in key.columns)]))

    def _others(self, key: Check) -> list[str]:
        """The columns of the file that are no part of a key: all, where its parts are worked out."""
        return [name for name in self.charter.file_columns() if key.parts or name not in key.columns]

    def _with_parts(self, rows: Any, key: Check) -> Any:
        """Rows with what their key is compared by, where that is worked out."""
        if not key.parts:
            return rows
        cells = self.engine.cells(rows, key)
        for name, column in zip(cells.column_names, cells.columns, strict=True):
            rows = rows.append_column(name, column)
        return rows

    @staticmethod
    def _same(key: Check) -> str:
        """That two rows have the same key."""
        names = [part_name(at) for at in range(len(key.parts))] or key.columns
        equal = "IS NOT DISTINCT FROM" if key.nulls else "="
        return " AND ".join(f"{quoted(_HERE)}.{quoted(name)} {equal} {quoted(_THERE)}.{quoted(name)}" for name in names)

    def _compare(self, rows: Any, found: Told) -> None:
        count = rows.num_rows
        compared = _Compared(np.zeros(count, np.bool_), np.zeros(count, np.int64))
        numbers, in_table = rows[KEY].to_numpy(), rows[FIRST].to_numpy() == IN_TABLE
        for number, key in enumerate(self.keys):
            own_rows = numbers == number
            at = np.flatnonzero(own_rows & ((key.keep != "none") | in_table))
            if len(at) and key.whole_row:
                self._check_there(rows.take(pa.array(at)).select(list(key.columns)))
            elif len(at):
                self._pair(rows.take(pa.array(at)), key, at, compared)
            if key.keep == "none":
                compared.conflict |= own_rows & ~in_table
        for number, key in enumerate(self.keys):
            self._count(key, numbers == number, in_table, compared, found)
        self._tell(rows, numbers, in_table, compared, found)

    def _check_there(self, cells: Any) -> None:
        """Rows that repeat another as a whole are copies; only whether the other is there has to be asked.

        Raises:
            CollisionError: it is not.
        """
        if all(self.place.missing(table, cells, nulls=True) for table in self.tables):
            raise CollisionError

    def _pair(self, rows: Any, key: Check, at: Ints, compared: _Compared) -> None:
        """Fetch the rows of the table with some keys, and compare."""
        cells = self.engine.cells(rows, key)
        there = self._there(cells.group_by(cells.column_names).aggregate([]), key)
        pairs = self._differing(rows, there, key)
        which = at[pairs.column(0).to_numpy()]
        compared.loads[which] = pairs.column(1).to_numpy()
        others = self._others(key)
        unequal = [np.asarray(pairs.column(2 + number), np.bool_) for number in range(len(others))]
        conflicts = np.flatnonzero(np.logical_or.reduce(unequal)) if others else np.zeros(0, np.int64)
        for number in conflicts[:_SAMPLES]:
            own_row = rows.slice(int(pairs.column(0)[number].as_py()), 1)
            compared.others[int(which[number])] = self._row_in_the_way(own_row, there, key)
        for number in conflicts:
            compared.conflict[which[number]] = True
            names = [name for name, column in zip(others, unequal, strict=True) if column[number]]
            compared.differs[int(which[number])] = names

    def _row_in_the_way(self, row: Any, there: Any, key: Check) -> Any:
        """The row that has the key of another."""
        sql = f"SELECT {quoted(_THERE)}.* FROM {quoted(_HERE)} JOIN {quoted(_THERE)} ON {self._same(key)} LIMIT 1"
        return self.engine.fetch(sql, **{_HERE: self._with_parts(row.select(self._columns), key), _THERE: there})

    def _there(self, cells: Any, key: Check) -> Any:
        """The rows of the tables whose keys are among some cells, by their kinds, with the load of each.

        Raises:
            CollisionError: there is none.
        """
        kinds, load = self.charter.kinds(), self.charter.load_column()
        wanted = list(dict.fromkeys([*self._columns, *([load] if load else [])]))
        found = []
        for table in self.tables:
            self.place.expect(table, kinds)
            for batch in self._batches(table, cells, wanted, key):
                columns = [as_kind(batch.column(at), kinds[name]) for at, name in enumerate(wanted)]
                by = columns[wanted.index(load)] if load else pa.repeat(pa.scalar(0, pa.int64()), batch.num_rows)
                rows = self._with_parts(pa.table([*columns[: len(self._columns)], by], [*self._columns, _BY]), key)
                found.append(self._among(rows, cells, key))
        if not found:
            raise CollisionError
        return pa.concat_tables(found)

    def _batches(self, table: str, cells: Any, wanted: Sequence[str], key: Check) -> Iterable[Any]:
        """The rows of a table that may have keys among some cells; all, where those are worked out."""
        if not key.parts:
            return self.place.matching(table, cells, wanted)
        return self.place.stream(f"SELECT {', '.join(map(quoted, wanted))} {self.place.rowset(table)}")

    def _among(self, rows: Any, cells: Any, key: Check) -> Any:
        """Those of some rows whose keys are among some cells."""
        if not key.parts:
            return rows
        sql = f"SELECT {quoted(_THERE)}.* FROM {quoted(_THERE)} SEMI JOIN {quoted(_HERE)} ON {self._same(key)}"
        return self.engine.fetch(sql, **{_HERE: cells, _THERE: rows})

    def _differing(self, rows: Any, there: Any, key: Check) -> Any:
        """A row for each: its number, the load of the row that has its key, and for each other column if they differ.

        Raises:
            CollisionError: one has no such row.
        """
        here, other = quoted(_HERE), quoted(_THERE)
        pairs = [f"({here}.{quoted(name)} IS DISTINCT FROM {other}.{quoted(name)})" for name in self._others(key)]
        many = " + ".join(f"{pair}::INT" for pair in pairs) or "0"
        numbered = self._with_parts(rows.select(self._columns), key).append_column(
            _AT, pa.array(np.arange(rows.num_rows))
        )
        found = self.engine.fetch(
            f"SELECT {', '.join([f'{here}.{quoted(_AT)}', f'coalesce({other}.{quoted(_BY)}, 0)', *pairs])} "
            f"FROM {here} JOIN {other} ON {self._same(key)} QUALIFY row_number() OVER "
            f"(PARTITION BY {here}.{quoted(_AT)} ORDER BY {many}, {other}.{quoted(_BY)}) = 1",
            **{_HERE: numbered, _THERE: there},
        )
        if found.num_rows < rows.num_rows:
            raise CollisionError
        return found

    @staticmethod
    def _count(
        key: Check, rows: NDArray[np.bool_], in_table: NDArray[np.bool_], compared: _Compared, found: Told
    ) -> None:  # fmt: skip
        """How many rows of a key are copies, and how many conflicts are decided."""
        for there in (True, False):
            own_rows = rows & (in_table == there)
            conflicts = int((own_rows & compared.conflict).sum())
            found.copies_of[key.name] += int(own_rows.sum()) - conflicts
            (found.decided_of if is_decided(key, in_table=there) else found.conflicts_of)[key.name] += conflicts

    def _tell(
        self, rows: Any, numbers: Ints, in_table: NDArray[np.bool_], compared: _Compared, found: Told
    ) -> None:  # fmt: skip
        """Why each row stays out: in a few words for all copies, one by one for what is in conflict."""
        conflict, loads = compared.conflict, np.where(in_table, compared.loads, 0)
        found.reasons.append(pa.array(np.where(conflict, "conflict", "copy"), pa.string()))
        found.loads.append(pa.array(loads))
        for load, count in zip(*np.unique(loads[in_table], return_counts=True), strict=True):
            found.in_the_way[int(load)] += int(count)
        there = {int(load): _in_table(int(load)) for load in np.unique(loads[in_table])}
        copies = pc.binary_join_element_wise("a copy of ", rows[OTHER].cast(pa.string()), "")
        if there:
            said = pa.array([there.get(load, "") for load in loads.tolist()], pa.string())
            copies = pc.if_else(pa.array(in_table), said, copies)
        if not conflict.any():
            found.messages.append(_whole(copies))
            return
        told = copies.to_pylist()
        private = self.charter.private()
        at = np.flatnonzero(conflict)
        taken = rows.take(pa.array(at))
        columns = {name: taken[name].to_pylist() for name in (RECORD, FILE, OTHER)}
        for number, row in enumerate(at.tolist()):
            key, there_already = self.keys[numbers[row]], bool(in_table[row])
            names = compared.differs.get(row, [])
            told[row] = _conflict(key, columns[OTHER][number], int(loads[row]), names, in_table=there_already)
            record = columns[RECORD][number]
            if record not in found.conflicts:
                found.conflicts.add(record)
                found.by_file[columns[FILE][number]] += 1
            if not is_decided(key, in_table=there_already):
                found.undecided.add(record)
            shown = found.samples.setdefault(key.name, [])
            if len(shown) < _SAMPLES:
                columns_shown = [*key.columns, *names]
                other = compared.others.get(row)
                stays = "–" if other is None else self._shown(other, 0, columns_shown, private)
                shown.append((self._shown(taken, number, columns_shown, private), stays, told[row]))
        found.messages.append(pa.array(told, pa.string()))

    @staticmethod
    def _shown(rows: Any, at: int, names: Sequence[str], private: frozenset[str]) -> str:
        """Some cells of a row, in words."""
        cells = [(name, HIDDEN if name in private else show(rows[name][at].as_py()) or "null") for name in names]
        return ", ".join(f"{name} = {value}" for name, value in cells)


def _whole(values: Any) -> Any:
    """An Arrow array of one piece."""
    return values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values


def is_decided(key: Check, *, in_table: bool) -> bool:
    """Whether the charter says which of two rows of a key is right: then a conflict is not a reject."""
    return key.keep_said and (key.keep == "first" or (key.keep == "last" and not in_table))


def _in_table(load: int) -> str:
    return f"row already in the table (load {load})" if load else "row already in the table"


def _conflict(key: Check, other: str, by: int, names: Sequence[str], *, in_table: bool) -> str:
    if in_table:
        load = f" (load {by})" if by else ""
        return f"key already in the table{load}, with another {_and(names)}"
    if key.keep == "none":
        return f"same key as {other}; none of them is loaded"
    return f"same key as {other}, but another {_and(names)}"


def _and(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
