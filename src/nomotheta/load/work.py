"""One block: its records as text, typed, checked, and what does not fit set aside. Blocks are worked side by side."""

from __future__ import annotations

import datetime
import zoneinfo
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import FROM_PLACE, Charter, Check, Compiled, value_of
from nomotheta.conditions import Kind
from nomotheta.kinds import arrow_type, as_texts, explain, in_layout, read_values, show
from nomotheta.load.engine import Engine
from nomotheta.load.keys import Ascending
from nomotheta.load.rejects import SCHEMA
from nomotheta.rules import HIDDEN
from nomotheta.source import Batch, Odd, SourceFile

Ints = NDArray[np.int64]


_STRETCH = 256  # rows: shorter ones are dearer to hand on than to copy


@dataclass(frozen=True)
class Plan:
    """What is the same for every block of a file.

    `positions` says where each column of the charter stands among the `width` fields of a record; `constants` are the
    values of the columns that the file does not hold; `keys` those that set repeated rows aside. `ascending` says that
    whole numbers in their order may be left as they are: there is one such key, of one column, and nothing before them.
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

    `good` rows are a `pa.Table`, with the record of each; then the faults, also as a table of rejects whose records are
    counted in the block, the hashes of each key, notes by column, and for each column of which a total is stated, its
    sum and how many values could not be read.
    """

    batch: Batch
    first_line: int
    size: int
    good: Any
    records: Ints
    faults: list[Fault]
    set_aside: Any
    hashes: list[tuple[NDArray[np.uint64], Ints] | Ascending]
    notes: Mapping[tuple[str, str], int]
    totals: Mapping[str, tuple[Decimal, int]]

    def rejects(self, plan: Plan, faults: Sequence[Fault], odd: Sequence[Odd], before: int) -> Any:
        """What is set aside as it is kept, a `pa.Table` of rejects in the order of the file.

        `odd` are records without a place in the columns; `before` records stand in the file before the block.
        """
        if not faults and not odd:
            return SCHEMA.empty_table()
        records = np.array([*[each.record for each in odd], *[fault.record for fault in faults]])
        order = np.argsort(records, kind="stable")
        unique, at = np.unique(records, return_inverse=True)
        headers, none = plan.charter.file_columns(), [""] * len(odd)
        texts: dict[str, list[str | None]] = {
            "file": [plan.file] * len(records), "column": [*none, *[fault.column for fault in faults]],
            "header": [*none, *[headers.get(fault.column, "") for fault in faults]],
            "value": [*[None] * len(odd), *[fault.value for fault in faults]],
            "reason": [*[each.reason for each in odd], *[fault.reason for fault in faults]],
            "rule": [*none, *[fault.rule for fault in faults]],
            "message": [*[each.message for each in odd], *[fault.message for fault in faults]],
        }  # fmt: skip
        made: dict[str, Any] = {name: pa.array(values, pa.string()) for name, values in texts.items()}
        made["line"], made["offset"] = self.batch.line_numbers(records), self.batch.offsets(records)
        made["record"] = records + (before + 1)
        originals = pa.array(self.batch.originals(unique), pa.string())
        reasons = made["reason"].take(pa.array(np.unique(records, return_index=True)[1]))
        made["original"] = originals.take(pa.array(at))
        made["cells"] = self.cells(plan, unique, originals, reasons).take(pa.array(at))
        return pa.table([made[name] for name in SCHEMA.names], SCHEMA).take(pa.array(order))

    def cells(self, plan: Plan, records: Ints, originals: Any, reasons: Any) -> Any:
        """The values of records by the charter's columns, as lists of texts; as far as they go, where one is odd."""
        batch, kinds, layout = self.batch, plan.kinds, plan.compiled.layout
        rows = np.zeros(0, np.int64)
        fitting = np.zeros(len(records), np.bool_)
        if len(batch.records):
            found = np.minimum(np.searchsorted(batch.records, records), len(batch.records) - 1)
            fitting = batch.records[found] == records
            rows = found[fitting]
        names = list(plan.charter.file_columns())
        places = [plan.positions[name] for name in names if name in plan.positions]
        taken = dict(zip(places, batch.taken_together(places, rows), strict=True))
        ragged = None
        if len(rows) < len(records):
            others = pa.array(~fitting)
            ragged = batch.fields(originals.filter(others), reasons.filter(others))
        columns = []
        for name in names:
            at = plan.positions.get(name, -1)
            own = in_layout(taken[at], kinds[name], layout) if at >= 0 else pa.nulls(len(rows), pa.string())
            columns += [own] if ragged is None else [own, _field(ragged, at)]
        width, count = len(names), len(records)
        order = np.empty(count, np.int64)  # those that fit come first in the columns
        order[np.concatenate([np.flatnonzero(fitting), np.flatnonzero(~fitting)])] = np.arange(count)
        flat = pa.concat_arrays([*columns, pa.array([], pa.string())])
        cells = flat.take(pa.array((order[:, None] + np.arange(width) * count).ravel()))
        return pa.ListArray.from_arrays(pa.array(np.arange(count + 1) * width, pa.int32()), cells)


def _field(ragged: Any, at: int) -> Any:
    """A field, by number, of each of some lists of them; null where there is no such."""
    if at < 0:
        return pa.nulls(len(ragged), pa.string())
    edges = ragged.offsets.to_numpy()
    there = np.diff(edges) > at
    return ragged.values.take(pa.array(np.where(there, edges[:-1] + at, 0), mask=~there))


def work(source: SourceFile, block: Any, plan: Plan) -> Worked:
    """Carry out the charter on a block."""
    load = plan.charter.load
    batch = source.read(block, plan.width, fill=load.short_rows == "fill", cut=load.long_rows == "cut")
    faults: list[Fault] = []
    notes: dict[tuple[str, str], int] = {}
    columns, bad = _typed(batch, plan, faults, notes)
    totals = {name: _total(columns[name], batch, faults, name) for name in plan.charter.stated_totals()}
    table = pa.table([columns[name] for name in plan.columns], plan.schema)
    bad = bad | _checked(table, batch, plan, faults, bad)
    records = batch.records
    if bad.any():
        table, records = _left(table, bad), records[~bad]
    hashes = [_keyed(table, key, plan) for key in plan.keys]
    worked = Worked(batch, block.line, block.size, table, records, faults, None, hashes, notes, totals)
    worked.set_aside = worked.rejects(plan, faults, batch.odd, 0)
    return worked


def _keyed(table: Any, key: Check, plan: Plan) -> tuple[NDArray[np.uint64], Ints] | Ascending:
    """The keys of a block's rows: hashed, or as they are where they come in order."""
    if plan.ascending and table.num_rows:
        column = table.column(key.columns[0])
        if pa.types.is_int64(column.type) and not column.null_count:
            values = np.concatenate([np.zeros(0, np.int64), *(chunk.to_numpy() for chunk in column.chunks)])
            if (values[1:] > values[:-1]).all():
                return Ascending(values)
    return plan.engine.hashes(table, key.columns, plan.seed, whole_row=key.whole_row)


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
    batch: Batch, plan: Plan, faults: list[Fault], notes: dict[tuple[str, str], int]
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
        typed = read_values(batch.values(at), kind, layout, plan.zone, days_from=batch.days_from, null_words=quotes)
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
    return pa.repeat(pa.scalar(show(value) if kind.name == "uuid" else value, arrow_type(kind)), count)


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


def constants(
    charter: Charter, load_no: int, at: datetime.datetime, day: datetime.date, file: str, zone: str
) -> dict[str, Any]:
    """The values of the columns that the file does not hold; `@file.line` is filled block by block.

    A moment without a zone is a local time of `zone`.
    """
    given = {
        "@load.no": load_no,
        "@load.time": at,
        "@delivery.day": day,
        "@file.name": file,
        "@file.line": "@file.line",
    }
    found: dict[str, Any] = {}
    for name, column in charter.columns.items():
        if column.value is not None:
            value = value_of(charter.kinds()[name], column.value)
            local = (
                isinstance(value, datetime.datetime)
                and charter.kinds()[name].name == "timestamptz"
                and not value.tzinfo
            )
            found[name] = value.replace(tzinfo=zoneinfo.ZoneInfo(zone)) if local else value
        elif column.filled and column.filled != FROM_PLACE:
            found[name] = given[column.filled]
    return found
