"""One block: its records as text, typed, checked, and what does not fit set aside. Blocks are worked side by side."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import FROM_PLACE, Charter, Check, Compiled, instant, value_of
from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.keys import Ascending, Keys
from nomotheta.kinds.cells import trimmed as without_edges
from nomotheta.kinds.landed import landed_cells
from nomotheta.kinds.native import as_texts, read_values
from nomotheta.kinds.read import arrow_type, explain_all, read_column
from nomotheta.kinds.show import show
from nomotheta.kinds.typed import Typed
from nomotheta.layout import Layout
from nomotheta.load.aside import Aside, Teller, table_of
from nomotheta.load.engine import Engine
from nomotheta.load.flight import Flight, Seen
from nomotheta.load.imprint import Imprinting, Made
from nomotheta.rules.finding import HIDDEN
from nomotheta.source.base import Batch, SourceFile
from nomotheta.source.joined import Joining, Parts

Ints = NDArray[np.int64]


FILE_NAME, FILE_LINE = object(), object()  # what stands for a value that the rows of a block do not share
_STRETCH = 256  # rows: shorter ones are dearer to hand on than to copy


@dataclass(frozen=True)
class Plan:
    """What is the same for every block of a file.

    `positions` says in which of the `width` fields of a record each column of the charter is; `constants` are the
    values of the columns that the file does not hold; `keys` those that set repeated rows aside. `ascending` says that
    whole numbers in their order may be left as they are: there is one such key, of one column, and nothing before them.
    `flight` judges the good rows, `imprinting` records what they come to.
    """

    compiled: Compiled
    file: str
    positions: Mapping[str, int]
    width: int
    constants: Mapping[str, Any]
    keys: Sequence[Check]
    engine: Engine
    zone: str
    seed: int
    ascending: bool = False
    flight: Flight | None = None
    imprinting: Imprinting | None = None

    @property
    def charter(self) -> Charter:
        """The charter that is carried out."""
        return self.compiled.charter

    @cached_property
    def kinds(self) -> Mapping[str, Kind]:
        """The kind of every column."""
        return self.charter.kinds()

    @cached_property
    def layouts(self) -> Mapping[str, Layout]:
        """How the cells of each column are written."""
        usual, forms = self.compiled.layout, self.charter.cell_forms(self.compiled.layout)
        return {name: usual.of(forms.get(name)) for name in self.kinds}

    @cached_property
    def columns(self) -> Sequence[str]:
        """The columns that are loaded, in the order of the charter."""
        return list(self.schema.names)

    @property
    def complete(self) -> bool:
        """Whether the file has all columns that the charter expects of it."""
        return self.positions.keys() >= self.charter.file_columns().keys()

    @cached_property
    def schema(self) -> Any:
        """The Arrow schema of what is loaded."""
        return loaded_schema(self.charter)


def loaded_schema(charter: Charter) -> Any:
    """The Arrow schema of the columns that are loaded, in the order of the charter."""
    kinds = charter.kinds()
    return pa.schema(
        [(name, arrow_type(kinds[name])) for name, each in charter.columns.items() if each.from_ != FROM_PLACE]
    )


@frozen
class Summed:
    """The sum of a column's values, how many could not be read, and the first of those: its line, and what it is."""

    total: Decimal = Decimal(0)
    unread: int = 0
    first: tuple[int, str] | None = None


@dataclass(slots=True)
class Worked:
    """A block of `size` bytes after work.

    `good` rows are a `pa.Table`, with the record of each; then what is set aside, its records counted in the block, the
    hashes of each key, notes by column, and for each column of which a total is stated, its sum and how many values
    could not be read. The block is of one `file`, or of several that are its `parts`; `misshapen` says what is wrong
    with the shape of its rows, where it is the same with all; `seen` what was seen of rules in the good ones, `imprint`
    what they come to.
    """

    batch: Batch
    first_line: int
    size: int
    good: Any
    records: Ints
    set_aside: Aside
    hashes: list[Keys | Ascending]
    notes: Mapping[tuple[str, str], int]
    totals: Mapping[str, Summed]
    file: str
    parts: Parts | None = None
    skipped: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    misshapen: str = ""
    seen: Seen | None = None
    imprint: Made | None = None

    @property
    def altered(self) -> Mapping[str, tuple[Ints, Ints]]:
        """Records that were not taken as they came, by what was done to them, and how often."""
        return self.batch.altered

    @property
    def weight(self) -> int:
        """How many bytes it holds besides its rows."""
        keys = (each.values if isinstance(each, Ascending) else each for each in self.hashes)
        return self.set_aside.size + sum(each.nbytes for each in keys)

    def files_of(self, records: Ints) -> list[str]:
        """The file of each of some records."""
        return [self.file] * len(records) if self.parts is None else self.parts.files(records).to_pylist()

    def place_of(self, record: int) -> tuple[str, int]:
        """The file of a record, and the line on which it begins."""
        line = int(self.batch.line_numbers(np.array([record]))[0])
        return (self.file, line) if self.parts is None else self.parts.line(record, line)

    def origins(self, records: Ints) -> tuple[Any, Ints]:
        """The files of some records, as an Arrow array, and the lines on which they begin."""
        lines = self.batch.line_numbers(records)
        if self.parts is None:
            return pa.array([self.file], pa.string()).take(pa.array(np.zeros(len(records), np.int64))), lines
        return self.parts.files(records), self.parts.places(records, lines, lines)[0]

    def among(self, records: Ints, before: int, chosen: Mapping[str, Ints]) -> NDArray[np.bool_]:
        """Which of some records are among the chosen ones, by file and number from 1; so many come before them."""
        if self.parts is None:
            own = chosen.get(self.file)
            return np.isin(records + before + 1, own) if own is not None else np.zeros(len(records), np.bool_)
        found, at = np.zeros(len(records), np.bool_), self.parts.of(records)
        for number in np.unique(at).tolist() if chosen else ():
            own = chosen.get(self.parts.names[number])
            if own is not None:
                mine = at == number
                found[mine] = np.isin(records[mine] - self.parts.records[number] + 1, own)
        return found


def work(source: SourceFile, block: Any, plan: Plan) -> Worked:
    """Carry out the charter on a block."""
    return _work(_read(source, block, plan), block, plan, None)


def work_joined(joining: Joining, plan: Plan) -> Worked | None:
    """Carry it out on files that are read as one; None where they have to be read one by one."""
    block = joining.block()
    batch = _read(joining.source, block, plan) if block is not None else None
    parts = joining.parts(batch) if batch is not None else None
    if batch is None or parts is None:
        return None
    worked = _work(batch, block, plan, parts)
    if worked.notes or "nulled" in worked.altered:  # of which file they speak is not known
        return None
    return worked


def _read(source: SourceFile, block: Any, plan: Plan) -> Batch:
    load = plan.charter.load
    return source.read(block, plan.width, fill=load.short_rows == "fill", cut=load.long_rows == "cut")


def _work(batch: Batch, block: Any, plan: Plan, parts: Parts | None) -> Worked:
    notes: dict[tuple[str, str], int] = {}
    columns, misfits, told = _typed(batch, plan, parts, notes)
    totals = {
        name: _total(name, *_summed(name, columns[name], misfits.get(name), plan), batch, plan)
        for name in plan.charter.stated_totals()
    }
    table = pa.table([columns[name] for name in plan.columns], plan.schema)
    bad = np.zeros(len(batch.records), np.bool_)
    for rows in misfits.values():
        bad |= rows
    blank, skipped = _blank_rows(columns, batch, plan, misfits), np.zeros(0, np.int64)
    policy = plan.charter.load.all_blank_rows
    if len(blank) and policy == "reject":
        bad[blank] = True
        words = pa.nulls(len(blank), pa.string())
        told.append(table_of(batch.records[blank], "", words, "all_blank", "a row holds a value", "holds no value"))
    else:
        batch.alter("blank", batch.records[blank])
        skipped = batch.records[blank] if policy == "skip" else skipped
    told += _checked(table, batch, plan, misfits, bad, blank if policy != "load" else blank[:0])
    bad[blank if policy == "skip" else blank[:0]] = True
    records = batch.records
    if bad.any():
        table, records = _left(table, bad), records[~bad]
    hashes = [_keyed(table, key, plan) for key in plan.keys]
    layout, headers = plan.compiled.layout, plan.charter.file_columns()
    teller = Teller(batch, plan.file, parts, headers, plan.positions, plan.kinds, layout)
    set_aside = Aside.of(told, batch.odd, teller)
    return Worked(
        batch, block.line, block.size, table, records, set_aside, hashes, notes, totals, plan.file, parts, skipped,
        _misshapen(batch), None if plan.flight is None else plan.flight.look(table),
        None if plan.imprinting is None else plan.imprinting.look(table),
    )  # fmt: skip


def _keyed(table: Any, key: Check, plan: Plan) -> Keys | Ascending:
    """The keys of a block's rows: hashed, or as they are where they come in order."""
    if plan.ascending and table.num_rows:
        column = table.column(key.columns[0])
        if pa.types.is_int64(column.type) and not column.null_count:
            values = np.concatenate([np.zeros(0, np.int64), *(chunk.to_numpy() for chunk in column.chunks)])
            if (values[1:] > values[:-1]).all():
                return Ascending(values)
    return Keys.of(*plan.engine.keyed(table, key, plan.seed))


def _left(table: Any, gone: NDArray[np.bool_]) -> Any:
    """The rows that stay: the stretches between the others, not copied, where a filter would pick row by row."""
    rows = np.flatnonzero(gone)
    if len(rows) * _STRETCH > len(gone):
        return table.filter(pa.array(~gone))
    starts, ends = [0, *(rows + 1).tolist()], [*rows.tolist(), len(gone)]
    whole = table.combine_chunks().to_batches()[0]  # every column is one chunk as it is
    stretches = [whole.slice(start, end - start) for start, end in zip(starts, ends, strict=True) if end > start]
    return pa.Table.from_batches(stretches, table.schema)


def _typed(
    batch: Batch, plan: Plan, parts: Parts | None, notes: dict[tuple[str, str], int]
) -> tuple[dict[str, Any], dict[str, NDArray[np.bool_]], list[Any]]:
    """The columns as values; by column, which rows have a misfit in it; and tables of faults that tell of them."""
    columns: dict[str, Any] = {}
    misfits: dict[str, NDArray[np.bool_]] = {}
    told = []
    kinds = plan.kinds
    quotes = batch.with_quotes()
    for name in plan.columns:
        kind = kinds[name]
        if name not in plan.positions:
            columns[name] = _constant(plan.constants[name], kind, batch, plan.file, parts)
            continue
        at, layout = plan.positions[name], plan.layouts[name]
        cells = batch.values(at)
        typed = read_values(
            cells, kind, layout, plan.zone, days_from=batch.days_from, null_words=quotes
        )  # fmt: skip
        notes |= {(name, note): count for note, count in typed.notes.items()}
        columns[name] = typed.values
        _count_nulled(batch, cells, typed)
        for misfit in typed.misfits:
            misfits.setdefault(name, np.zeros(len(batch.records), np.bool_))[misfit.rows] = True
            values = as_texts(batch.taken(at, misfit.rows))
            long = misfit.reason == "text_length"
            rule = f"{name} has at most {kind.size} characters" if long else f"{name} is {kind}"
            why = explain_all(kind, misfit.reason, values, layout)
            messages = pc.binary_join_element_wise(pa.scalar(name), why, " ")
            told.append(table_of(batch.records[misfit.rows], name, values, misfit.reason, rule, messages))
    return columns, misfits, told


_SHAPES = frozenset({"too_few_fields", "too_many_fields"})


def _misshapen(batch: Batch) -> str:
    """What is wrong with the shape of all rows alike; empty where some fit, or not all are wrong in the same way."""
    told = {odd.message if odd.reason in _SHAPES else "" for odd in batch.odd}
    return told.pop() if len(told) == 1 and len(batch.odd) == batch.count - batch.headings else ""


def _blank_rows(
    columns: Mapping[str, Any], batch: Batch, plan: Plan, misfits: Mapping[str, NDArray[np.bool_]]
) -> Ints:  # fmt: skip
    """The rows of which no column of the file holds a value, as of lines that are all separators."""
    names = [name for name in plan.columns if name in plan.positions and name not in plan.compiled.carried]
    rows = np.arange(len(batch.records) if len(names) > 1 else 0)  # of one column, a blank row is a null
    for name in sorted(names, key=lambda name: pa.types.is_string(columns[name].type)):  # numbers are told at once
        if not len(rows):
            break
        if name in misfits:
            rows = rows[~misfits[name][rows]]
        rows = rows[_is_blank(columns[name], rows)]
    return rows


_SPACE, _ASCII = 0x20, 0x7F  # no text that begins with a letter between these is white space alone


def _is_blank(column: Any, rows: Ints) -> NDArray[np.bool_]:
    """Which of some rows of a column hold nothing, or only white space."""
    if not pa.types.is_string(column.type):
        if not column.null_count:
            return np.zeros(len(rows), np.bool_)
        return np.asarray(column.is_null().to_numpy(zero_copy_only=False)[rows], np.bool_)
    cells = column if len(rows) == len(column) else column.take(pa.array(rows))
    cells = cells.combine_chunks() if isinstance(cells, pa.ChunkedArray) else cells
    edges = np.frombuffer(cells.buffers()[1], np.int32)[cells.offset : cells.offset + len(cells) + 1]
    data = cells.buffers()[2]
    letters = np.frombuffer(data, np.uint8) if data is not None and data.size else np.zeros(1, np.uint8)
    first = letters[np.minimum(edges[:-1], len(letters) - 1)]
    found = (np.diff(edges) == 0) | (first <= _SPACE) | (first >= _ASCII)
    if cells.null_count:
        found |= cells.is_null().to_numpy(zero_copy_only=False)
    unsure = np.flatnonzero(found)
    if len(unsure):
        trimmed = without_edges(cells.take(pa.array(unsure)))
        found[unsure] = pc.equal(pc.fill_null(pc.binary_length(trimmed), 0), 0).to_numpy(zero_copy_only=False)
    return np.asarray(found, np.bool_)


def _count_nulled(batch: Batch, cells: Any, typed: Typed) -> None:
    """Count the texts that are null as values though they were not as texts: null words in quotes."""
    if not hasattr(cells, "type") or not pa.types.is_string(cells.type):
        return
    if typed.values.null_count > cells.null_count + sum(len(misfit.rows) for misfit in typed.misfits):
        became = typed.values.is_null().to_numpy(zero_copy_only=False) & ~cells.is_null().to_numpy(zero_copy_only=False)
        for misfit in typed.misfits:
            became[misfit.rows] = False
        batch.alter("nulled", batch.records[np.flatnonzero(became)])


def _summed(
    name: str, values: Any, misfits: NDArray[np.bool_] | None, plan: Plan
) -> tuple[Any, NDArray[np.bool_] | None]:
    """A column as numbers, and which rows have a misfit in it, where it is landed as text, too."""
    kind = plan.compiled.meant.get(name)
    if kind is None:
        return values, misfits
    layout = plan.compiled.layout.of_texts.of(plan.compiled.forms.get(name))
    typed = read_column(landed_cells(values.combine_chunks(), kind, layout).texts, kind, layout, plan.zone)
    found = np.zeros(len(values), np.bool_)
    for misfit in typed.misfits:
        found[misfit.rows] = True
    return typed.values, found


def _total(name: str, values: Any, misfits: NDArray[np.bool_] | None, batch: Batch, plan: Plan) -> Summed:
    """The sum of a column, and what of it could not be read."""
    exact = values.cast(pa.decimal128(38, getattr(values.type, "scale", 0)))
    total = Decimal(pc.sum(exact).as_py() or 0)
    rows = np.flatnonzero(misfits) if misfits is not None else np.zeros(0, np.int64)
    if not len(rows) and not batch.odd:
        return Summed(total)
    found = []
    if len(rows):
        text = as_texts(batch.taken(plan.positions[name], rows[:1]))[0].as_py()
        found.append((int(batch.records[rows[0]]), HIDDEN if name in plan.charter.private() else f"'{text}'"))
    if batch.odd:
        found.append((batch.odd[0].record, batch.odd[0].message))
    record, told = min(found)
    line = int(batch.line_numbers(np.array([record]))[0])
    return Summed(total, len(rows) + len(batch.odd), (line, told))


def _constant(value: Any, kind: Kind, batch: Batch, file: str, parts: Parts | None) -> Any:
    """A column that the file does not hold."""
    count = len(batch.records)
    if value is FILE_LINE:
        lines = batch.line_numbers(batch.records) if count else np.zeros(0, np.int64)
        return pa.array(lines if parts is None else parts.places(batch.records, lines, lines)[0], pa.int64())
    if value is FILE_NAME:
        return pa.repeat(pa.scalar(file), count) if parts is None else parts.files(batch.records)
    return pa.repeat(pa.scalar(show(value) if kind.name == "uuid" else value, arrow_type(kind)), count)


def _checked(
    table: Any, batch: Batch, plan: Plan, misfits: Mapping[str, NDArray[np.bool_]], bad: NDArray[np.bool_], blank: Ints
) -> list[Any]:
    """Mark the rows that break a check which sets rows aside, and tell of them in tables of faults.

    A cell that has no value of its kind is not told of twice, nor anything more of a row that is `blank`.
    """
    told = []
    private = plan.charter.private()
    for at, broken in plan.engine.broken(table).items():
        check, rows = plan.engine.checks[at], broken
        for name in check.columns:
            if name in misfits:
                rows = rows[~misfits[name][rows]]
        if len(blank):
            rows = rows[~np.isin(rows, blank)]
        if not len(rows):
            continue
        bad[rows] = True
        column = check.columns[0] if len(check.columns) == 1 else ""
        values = shown_column(table[column], rows) if column else shown_rows(table, check.columns, rows, private)
        message = _told(check.name, check.sort)
        told.append(table_of(batch.records[rows], column, values, _reason(check.sort), check.name, message))
    return told


def shown_column(column: Any, rows: Ints) -> Any:
    """The values of a column in some rows, as texts."""
    cells = column.combine_chunks().take(pa.array(rows))
    if pa.types.is_string(cells.type):
        return cells
    return pa.array([show(value) for value in cells.to_pylist()], pa.string())


def shown_rows(table: Any, columns: Sequence[str], rows: Ints, private: frozenset[str]) -> Any:
    """The values of several columns in some rows, as texts."""
    cells = table.select(list(columns)).take(pa.array(rows)).to_pylist()
    return pa.array([_together(values, private) for values in cells], pa.string())


def _together(values: Mapping[str, Any], private: frozenset[str]) -> str:
    """Several values by their names, the private ones hidden."""
    pairs = ((name, HIDDEN if name in private else show(value) or "null") for name, value in values.items())
    return ", ".join(f"{name} = {value}" for name, value in pairs)


def _reason(sort: str) -> str:
    return {"each": "rule", "slice": "outside_slice"}.get(sort, sort)


_CONTRARY = {
    "blank": (" is never blank", " is blank"),
    "between": (" is ", " is not "),
    "among": (" is one of ", " is not one of "),
    "pattern": (" matches ", " does not match "),
    "case": (" is in ", " is not in "),
    "trimmed": (" has no white space ", " has white space "),
    "length": (" has ", " does not have "),
    "reference": (" is listed in ", " is not listed in "),
}


def _told(name: str, sort: str) -> str:
    """What is wrong with a row that breaks a check of this name."""
    if sort == "slice":
        return f"is not {name}"
    if sort not in _CONTRARY:
        return f"breaks the rule '{name}'"
    met, broken = _CONTRARY[sort]
    return name.replace(met, broken, 1)


def constants(charter: Charter, load_no: int, at: datetime.datetime, day: datetime.date, zone: str) -> dict[str, Any]:
    """The values of the columns that the file does not hold; FILE_NAME and FILE_LINE are filled block by block.

    A moment without a zone is a local time of `zone`.
    """
    given = {
        "@load.no": load_no,
        "@load.time": at,
        "@delivery.day": day,
        "@file.name": FILE_NAME,
        "@file.line": FILE_LINE,
    }
    found: dict[str, Any] = {}
    for name, column in charter.columns.items():
        if column.value is not None:
            kind = charter.kinds()[name]
            found[name] = instant(kind, value_of(kind, column.value), zone)
        elif column.filled and column.filled != FROM_PLACE:
            found[name] = given[column.filled]
    return found
