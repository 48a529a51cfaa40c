"""One block: its records as text, typed, checked, and what does not fit set aside. Blocks are worked side by side."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import FROM_PLACE, Charter, Compiled, value_of
from nomotheta.conditions import Kind
from nomotheta.kinds import arrow_type, as_texts, explain, in_layout, read_values, show
from nomotheta.load.engine import Engine
from nomotheta.load.rejects import Reject
from nomotheta.rules import HIDDEN
from nomotheta.source import Batch, SourceFile

Ints = NDArray[np.int64]


_STRETCH = 256  # rows: shorter ones are dearer to hand on than to copy


@dataclass(frozen=True)
class Plan:
    """What is the same for every block of a file.

    `positions` says where each column of the charter stands among the `width` fields of a record; `constants` are the
    values of the columns that the file does not hold; `keys` the columns of the keys that set repeated rows aside.
    """

    compiled: Compiled
    file: str
    positions: Mapping[str, int]
    width: int
    constants: Mapping[str, Any]
    keys: Sequence[tuple[str, ...]]
    engine: Engine
    zone: str
    seed: int

    @property
    def charter(self) -> Charter:
        """The charter that is carried out."""
        return self.compiled.charter

    @cached_property
    def kinds(self) -> Mapping[str, Kind]:
        """The kind of every column."""
        return self.charter.kinds()

    @cached_property
    def columns(self) -> Sequence[str]:
        """The columns that are loaded, in the order of the charter."""
        return [name for name, column in self.charter.columns.items() if column.from_ != FROM_PLACE]

    @cached_property
    def schema(self) -> Any:
        """The Arrow schema of what is loaded."""
        return pa.schema([(name, arrow_type(self.kinds[name])) for name in self.columns])


@dataclass(frozen=True, slots=True)
class Fault:
    """Why a record of the block does not go in."""

    record: int
    column: str
    value: str | None
    reason: str
    rule: str
    message: str


@dataclass(slots=True)
class Worked:
    """A block of `size` bytes after work.

    `good` rows are a `pa.Table`, with the record of each; then the faults, also as rejects whose records are counted in
    the block, the hashes of each key, notes by column, and for each column of which a total is stated, its sum and how
    many values could not be read.
    """

    batch: Batch
    first_line: int
    size: int
    good: Any
    records: Ints
    faults: list[Fault]
    set_aside: list[Reject]
    hashes: list[tuple[NDArray[np.uint64], Ints]]
    notes: Mapping[tuple[str, str], int]
    totals: Mapping[str, tuple[Decimal, int]]

    def rejects(self, plan: Plan, faults: Sequence[Fault], before: int) -> list[Reject]:
        """Faults as they are kept; `before` records stand in the file before the block."""
        if not faults:
            return []
        records = np.array([fault.record for fault in faults])
        lines = self.batch.line_numbers(records).tolist()
        offsets = self.batch.offsets(records).tolist()
        headers = plan.charter.file_columns()
        unique = np.unique(records)
        originals = dict(zip(unique.tolist(), self.batch.originals(unique), strict=True))
        cells = self.cells(plan, unique)
        return [
            Reject(
                plan.file, line, before + fault.record + 1, offset, fault.column, headers.get(fault.column, ""),
                fault.value, fault.reason, fault.rule, fault.message, originals[fault.record],
                cells[fault.record],
            )
            for fault, line, offset in zip(faults, lines, offsets, strict=True)
        ]  # fmt: skip

    def cells(self, plan: Plan, records: Ints) -> dict[int, tuple[str | None, ...]]:
        """The values of records by the charter's columns, as texts; as far as they go, where a record is odd."""
        batch, kinds, layout = self.batch, plan.kinds, plan.compiled.layout
        if not len(batch.records):
            rows = np.zeros(0, np.int64)
        else:
            rows = np.searchsorted(batch.records, records)
            rows = rows[batch.records[np.minimum(rows, len(batch.records) - 1)] == records]
        names = list(plan.charter.file_columns())
        texts = [
            in_layout(batch.taken(plan.positions[name], rows), kinds[name], layout).to_pylist()
            if name in plan.positions
            else [None] * len(rows)
            for name in names
        ]
        found = dict(zip(batch.records[rows].tolist(), zip(*texts, strict=True), strict=True))
        for record in records.tolist():
            if record not in found:
                fields = dict(enumerate(batch.fields(record)))
                found[record] = tuple(fields.get(plan.positions.get(name, -1)) for name in names)
        return found


def work(source: SourceFile, block: Any, plan: Plan) -> Worked:
    """Carry out the charter on a block."""
    load = plan.charter.load
    batch = source.read(block, plan.width, fill=load.short_rows == "fill", cut=load.long_rows == "cut")
    faults = [Fault(odd.record, "", None, odd.reason, "", odd.message) for odd in batch.odd]
    notes: dict[tuple[str, str], int] = {}
    columns, bad = _typed(batch, plan, faults, notes, serial=source.layout.format == "sheet")
    totals = {name: _total(columns[name], batch, faults, name) for name in plan.charter.stated_totals()}
    table = pa.table([columns[name] for name in plan.columns], plan.schema)
    bad = bad | _checked(table, batch, plan, faults, bad)
    records = batch.records
    if bad.any():
        table, records = _left(table, bad), records[~bad]
    hashes = [plan.engine.hashes(table, key, plan.seed) for key in plan.keys]
    worked = Worked(batch, block.line, block.size, table, records, faults, [], hashes, notes, totals)
    worked.set_aside = worked.rejects(plan, faults, 0)
    return worked


def _left(table: Any, gone: NDArray[np.bool_]) -> Any:
    """The rows that stay: the stretches between the others, not copied, where a filter would pick row by row."""
    rows = np.flatnonzero(gone)
    if len(rows) * _STRETCH > len(gone):
        return table.filter(pa.array(~gone))
    starts, ends = [0, *(rows + 1).tolist()], [*rows.tolist(), len(gone)]
    stretches = [table.slice(start, end - start) for start, end in zip(starts, ends, strict=True) if end > start]
    return pa.concat_tables([table.slice(0, 0), *stretches])


def _typed(
    batch: Batch, plan: Plan, faults: list[Fault], notes: dict[tuple[str, str], int], *, serial: bool
) -> tuple[dict[str, Any], NDArray[np.bool_]]:
    """The columns as values; rows with a misfit are marked and told of."""
    count = len(batch.records)
    bad = np.zeros(count, np.bool_)
    columns: dict[str, Any] = {}
    kinds, layout = plan.kinds, plan.compiled.layout
    quotes = batch.with_quotes()
    for name in plan.columns:
        kind = kinds[name]
        if name not in plan.positions:
            columns[name] = _constant(plan.constants[name], kind, batch)
            continue
        at = plan.positions[name]
        typed = read_values(batch.values(at), kind, layout, plan.zone, serial=serial, null_words=quotes)
        notes |= {(name, told): count for told, count in typed.notes.items()}
        columns[name] = typed.values
        for misfit in typed.misfits:
            bad[misfit.rows] = True
            values = as_texts(batch.taken(at, misfit.rows)).to_pylist()
            records = batch.records[misfit.rows].tolist()
            long = misfit.reason == "text_length"
            rule = f"{name} has at most {kind.size} characters" if long else f"{name} is {kind}"
            faults += [
                Fault(record, name, value, misfit.reason, rule, f"{name} {explain(kind, misfit.reason, value, layout)}")
                for record, value in zip(records, values, strict=True)
            ]
    return columns, bad


def _total(values: Any, batch: Batch, faults: Sequence[Fault], name: str) -> tuple[Decimal, int]:
    """The sum of a column, and how many records have no readable value in it."""
    unread = sum(fault.column == name for fault in faults) + len(batch.odd)
    exact = values.cast(pa.decimal128(38, getattr(values.type, "scale", 0)))
    return Decimal(pc.sum(exact).as_py() or 0), unread


def _constant(value: Any, kind: Kind, batch: Batch) -> Any:
    count = len(batch.records)
    if value == "@file.line":
        lines = batch.line_numbers(batch.records) if count else np.zeros(0, np.int64)
        return pa.array(lines, pa.int64())
    return pa.repeat(pa.scalar(value, arrow_type(kind)), count)


def _checked(
    table: Any, batch: Batch, plan: Plan, faults: list[Fault], misfits: NDArray[np.bool_]
) -> NDArray[np.bool_]:
    """The rows that break a check which sets rows aside. A cell that has no value of its kind is not told of twice."""
    bad = np.zeros(table.num_rows, np.bool_)
    told = {(fault.record, fault.column) for fault in faults}
    private = plan.charter.private()
    for at, rows in plan.engine.broken(table).items():
        check = plan.engine.checks[at]
        cells = table.select(check.columns).take(pa.array(rows)).to_pylist()
        column = check.columns[0] if len(check.columns) == 1 else ""
        for row, record, values in zip(rows.tolist(), batch.records[rows].tolist(), cells, strict=True):
            if misfits[row] and any((record, name) in told for name in check.columns):
                continue
            bad[row] = True
            value = shown_values(check.columns, list(values.values()), private)
            faults.append(Fault(record, column, value, _reason(check.sort), check.name, _told(check.name, check.sort)))
    faults.sort(key=lambda fault: fault.record)
    return bad


def shown_values(columns: Sequence[str], values: Sequence[Any], private: frozenset[str]) -> str | None:
    """One value as it is; several by their names, the private ones hidden."""
    if len(columns) == 1:
        return show(values[0])
    pairs = zip(columns, values, strict=True)
    return ", ".join(f"{name} = {HIDDEN if name in private else show(value) or 'null'}" for name, value in pairs)


def _reason(sort: str) -> str:
    return "rule" if sort == "each" else sort


_CONTRARY = {
    "blank": (" is never blank", " is blank"),
    "between": (" is ", " is not "),
    "among": (" is one of ", " is none of "),
    "pattern": (" matches ", " does not match "),
}


def _told(name: str, sort: str) -> str:
    """What is wrong with a row that breaks a check of this name."""
    if sort not in _CONTRARY:
        return f"breaks the rule '{name}'"
    met, broken = _CONTRARY[sort]
    return name.replace(met, broken, 1)


def constants(charter: Charter, load_id: int, at: datetime.datetime, day: datetime.date, file: str) -> dict[str, Any]:
    """The values of the columns that the file does not hold; `@file.line` is filled block by block."""
    given = {
        "@load.id": load_id,
        "@load.time": at,
        "@delivery.day": day,
        "@file.name": file,
        "@file.line": "@file.line",
    }
    found: dict[str, Any] = {}
    for name, column in charter.columns.items():
        if column.value is not None:
            found[name] = value_of(charter.kinds()[name], column.value)
        elif column.filled and column.filled != FROM_PLACE:
            found[name] = given[column.filled]
    return found
