"""What a block sets aside: why, in little room, until it is told in full while it is written."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.native import in_layout
from nomotheta.layout import Layout
from nomotheta.load.rejects import SCHEMA
from nomotheta.source.base import Batch, Odd
from nomotheta.source.joined import Parts

Ints = NDArray[np.int64]
_PART, _FEW = 20_000, 2_000  # faults that are told at a time, and that are told at once


@frozen
class Fault:
    """Why a record of the block does not go in."""

    record: int
    column: str
    value: str | None
    reason: str
    rule: str
    message: str


_WORDS = pa.dictionary(pa.int32(), pa.string())  # texts that many faults share, which wait as numbers
_TOLD = [each.name for each in fields(Fault)]
_FAULTS = pa.schema([(name, {"record": pa.int64(), "value": pa.string()}.get(name, _WORDS)) for name in _TOLD])


@functools.cache
def _no_faults() -> Any:
    """Made once, and not before: Arrow looks for pandas when it makes its first array."""
    return _FAULTS.empty_table()


def as_table(faults: Sequence[Fault]) -> Any:
    """Faults as a `pa.Table`, a column for each field; what many share is held once."""
    made = [pa.array([getattr(fault, name) for fault in faults], _FAULTS.field(name).type) for name in _TOLD]
    return pa.table(made, _FAULTS)


def table_of(records: Ints, column: str, values: Any, reason: str, rule: str, messages: Any) -> Any:
    """Faults of one sort; `messages` are n texts, or one for all."""
    count = len(records)
    words = {"column": column, "reason": reason, "rule": rule}
    made: dict[str, Any] = {name: _alike(text, count) for name, text in words.items()}
    made["message"] = _alike(messages, count) if isinstance(messages, str) else messages.dictionary_encode()
    made |= {"record": pa.array(records, pa.int64()), "value": values}
    return pa.table([made[name] for name in _TOLD], _FAULTS)


def _alike(text: str, count: int) -> Any:
    """A text so many times."""
    return pa.DictionaryArray.from_arrays(pa.array(np.zeros(count, np.int32)), pa.array([text], pa.string()))


@frozen
class Teller:
    """What is needed to tell of a block's faults in full.

    `headers` are the file's names of the charter's columns, `positions` their places among the fields of a record.
    """

    batch: Batch
    file: str
    parts: Parts | None
    headers: Mapping[str, str]
    positions: Mapping[str, int]
    kinds: Mapping[str, Kind]
    layout: Layout

    def tell(self, faults: Any, before: int) -> Any:
        """Some faults, in the order of their records, as a table of SCHEMA; so many records come before the block."""
        records = faults["record"].to_numpy()
        new = _new(records)
        first, at = np.flatnonzero(new), pa.array(np.cumsum(new) - 1)
        rows = records[first]
        made = {name: faults[name].cast(pa.string()).combine_chunks() for name in _TOLD if name != "record"}
        lines, offsets, numbers = self.batch.line_numbers(rows), self.batch.offsets(rows), rows + (before + 1)
        made["file"] = pa.repeat(self.file, len(records))
        if self.parts is not None:
            lines, offsets, numbers = self.parts.places(rows, lines, offsets)
            made["file"] = self.parts.files(rows).take(at)
        for name, values in (("line", lines), ("offset", offsets), ("record", numbers)):
            made[name] = pa.array(values, pa.int64()).take(at)
        columns = made["column"].dictionary_encode()
        named = pa.array([self.headers.get(name, "") for name in columns.dictionary.to_pylist()], pa.string())
        made["header"] = named.take(columns.indices)
        originals = pa.array(self.batch.originals(rows), pa.string())
        cells = self._cells(rows, originals, made["reason"].take(pa.array(first)))
        made |= {"original": originals.take(at), "cells": cells.take(at)}
        made["load"] = pa.array(np.zeros(len(records), np.int64))
        return pa.table([made[name] for name in SCHEMA.names], SCHEMA)

    def _cells(self, records: Ints, originals: Any, reasons: Any) -> Any:
        """The values of records by the charter's columns, as lists of texts; as far as they go, where one is odd."""
        batch = self.batch
        rows = np.zeros(0, np.int64)
        fitting = np.zeros(len(records), np.bool_)
        if len(batch.records):
            found = np.minimum(np.searchsorted(batch.records, records), len(batch.records) - 1)
            fitting = batch.records[found] == records
            rows = found[fitting]
        names = list(self.headers)
        places = [self.positions[name] for name in names if name in self.positions]
        taken = dict(zip(places, batch.taken_together(places, rows), strict=True))
        ragged = None
        if len(rows) < len(records):
            others = pa.array(~fitting)
            ragged = batch.fields(originals.filter(others), reasons.filter(others))
        columns = []
        for name in names:
            at = self.positions.get(name, -1)
            own = in_layout(taken[at], self.kinds[name], self.layout) if at >= 0 else pa.nulls(len(rows), pa.string())
            columns += [own] if ragged is None else [own, _field(ragged, at)]
        width, count = len(names), len(records)
        order = np.empty(count, np.int64)  # those that fit come first in the columns
        order[np.concatenate([np.flatnonzero(fitting), np.flatnonzero(~fitting)])] = np.arange(count)
        flat = pa.concat_arrays([*columns, pa.array([], pa.string())])
        cells = flat.take(pa.array((order[:, None] + np.arange(width) * count).ravel()))
        return pa.ListArray.from_arrays(pa.array(np.arange(count + 1) * width, pa.int32()), cells)


def _new(records: Ints) -> NDArray[np.bool_]:
    """Of records in order, which is another than the one before."""
    new = np.ones(len(records), np.bool_)
    new[1:] = records[1:] != records[:-1]
    return new


def _field(ragged: Any, at: int) -> Any:
    """A field, by number, of each of some lists of them; null where there is no such."""
    if at < 0:
        return pa.nulls(len(ragged), pa.string())
    edges = ragged.offsets.to_numpy()
    there = np.diff(edges) > at
    return ragged.values.take(pa.array(np.where(there, edges[:-1] + at, 0), mask=~there))


@frozen
class Aside:
    """The faults of a block, as `as_table` makes them, in the order of their `records`, each of which is named once."""

    faults: Any
    records: Ints
    teller: Teller
    told: Any = None

    @classmethod
    def of(cls, faults: Sequence[Any], odd: Sequence[Odd], teller: Teller) -> Aside:
        """From tables of faults, and records without a place in the columns."""
        strange = [Fault(each.record, "", None, each.reason, "", each.message) for each in odd]
        tables = [*([as_table(strange)] if strange else []), *faults]
        if not tables:
            return cls(_no_faults(), np.zeros(0, np.int64), teller)
        found = cls._in_order(tables, teller)
        if found.faults.num_rows > _FEW:
            return found
        return replace(found, told=teller.tell(found.faults, 0))  # a few take no room, and are told beside the loading

    @classmethod
    def _in_order(cls, tables: Sequence[Any], teller: Teller) -> Aside:
        whole = pa.concat_tables(tables).unify_dictionaries()
        records = whole["record"].to_numpy()
        order = np.argsort(records, kind="stable")
        return cls(whole.take(pa.array(order)).combine_chunks(), records[order][_new(records[order])], teller)

    @property
    def size(self) -> int:
        """How many bytes it takes in memory, about."""
        return int(self.faults.nbytes)

    def with_more(self, faults: Any) -> Aside:
        """The same with further ones."""
        return self._in_order([self.faults, faults], self.teller)

    def tables(self, before: int, size: int = _PART) -> Iterator[Any]:
        """All of it as tables of SCHEMA, of at most so many faults; so many records are in the file before it."""
        if self.told is not None and self.told.num_rows <= size:
            at = SCHEMA.get_field_index("record")
            moved = before and self.teller.parts is None
            numbers = pc.add(self.told["record"], before) if moved else self.told["record"]
            yield self.told.set_column(at, SCHEMA.field(at), numbers)
            return
        for first in range(0, self.faults.num_rows, size):
            yield self.teller.tell(self.faults.slice(first, size), before)
