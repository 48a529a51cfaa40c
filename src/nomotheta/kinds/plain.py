"""Columns that the compiled kernel reads as values of a kind; what is not written plainly is read as kinds define."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Layout
from nomotheta.conditions import Kind
from nomotheta.kernel import ODD, TEXT, VALUE, Form, ReadColumn, Spec, State
from nomotheta.kinds.moments import Form as WrittenForm
from nomotheta.kinds.typed import Misfit, Typed

_MANY = 0.25  # of the cells: with more that are odd, all of them are better read together


def spec_of(kind: Kind, layout: Layout) -> Spec:
    """How the kernel reads cells that are to be of a kind: as text, where it knows nothing better."""
    if kind.name == "integer":
        return Spec("integer")
    if kind.name == "decimal":
        return Spec("decimal", kind.digits, kind.scale, layout.decimal_mark)
    if kind.name == "boolean":
        return Spec("word", words=(*layout.true_words, *layout.false_words))
    if kind.name in {"date", "time", "timestamp"}:
        declared = {"date": layout.date_forms, "time": layout.time_forms}.get(kind.name, layout.timestamp_forms)
        forms: list[Form] = []
        for text in declared:
            written = [Form(form.width, form.fields, form.literals) for form in WrittenForm.all_of(text, layout)]
            if not all(form.known for form in written):
                break  # a form behind it must not be tried before it
            forms += written
        if forms:
            return Spec("moment", forms=tuple(forms), clock=kind.name != "date")
    return TEXT


def settled(column: ReadColumn, kind: Kind, layout: Layout, read_texts: Callable[[Any], Typed]) -> Typed:
    """A column that the kernel read, with what it found odd read from the texts, the exact way."""
    odd = np.flatnonzero(column.state == ODD)
    if len(odd) > _MANY * len(column.state):
        return read_texts(column.texts())
    values = _array(column.values, column.state, kind, layout)
    if not len(odd):
        return Typed(values)
    rest = read_texts(column.taken(odd))
    if rest.values.null_count < len(odd):
        mask = np.zeros(len(column.state), np.bool_)
        mask[odd] = True
        values = pc.replace_with_mask(values, pa.array(mask), rest.values)
    return Typed(values, tuple(Misfit(misfit.reason, odd[misfit.rows]) for misfit in rest.misfits), rest.notes)


def _array(values: Any, state: State, kind: Kind, layout: Layout) -> Any:
    """Values as an Arrow array, null where the state is not that of a value."""
    target: Any = {"integer": pa.int64(), "date": pa.date32(), "time": pa.time64("us"), "boolean": pa.bool_()}.get(
        kind.name, pa.timestamp("us")
    )
    if kind.name == "decimal":
        target = pa.decimal128(kind.size, kind.scale)
    elif kind.name == "date":
        values = values.astype(np.int32)
    elif kind.name == "boolean":
        values = np.packbits(values < len(layout.true_words), bitorder="little")
    valid = state == VALUE
    bits = None if valid.all() else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(target, len(state), [bits, pa.py_buffer(values)])
