"""Columns that the compiled kernel reads as values of a kind; what is not written plainly is read as kinds define."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Layout
from nomotheta.conditions import Kind
from nomotheta.kernel import ODD, TEXT, Form, ReadColumn, Spec
from nomotheta.kinds.moments import Form as WrittenForm
from nomotheta.kinds.typed import Misfit, Typed

_MANY = 0.25  # of the cells: with more that are odd, all of them are better read together


def spec_of(kind: Kind, layout: Layout) -> Spec:
    """How the kernel reads cells that are to be of a kind: as text, where it knows nothing better."""
    if kind.name == "integer":
        return Spec("integer")
    if kind.name == "decimal":
        return Spec("decimal", kind.digits, kind.scale, layout.decimal_sign)
    if kind.name == "boolean":
        return Spec("word", len(layout.true_words), words=(*layout.true_words, *layout.false_words))
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


def settled(column: ReadColumn, kind: Kind, read_texts: Callable[[Any], Typed]) -> Typed:
    """A column that the kernel read, with what it found odd read from the texts, the exact way."""
    found = column.values
    count = len(found.state)
    if found.odd > _MANY * count:
        return read_texts(column.texts())
    bits = pa.py_buffer(found.valid) if found.missing else None
    values = pa.Array.from_buffers(_type(kind), count, [bits, pa.py_buffer(found.buffer)], found.missing)
    if not found.odd:
        return Typed(values)
    mask = found.state == ODD
    odd = np.flatnonzero(mask)
    rest = read_texts(column.taken(odd))
    if rest.values.null_count < len(odd):
        values = pc.replace_with_mask(values, pa.array(mask), rest.values)
    return Typed(values, tuple(Misfit(misfit.reason, odd[misfit.rows]) for misfit in rest.misfits), rest.notes)


def _type(kind: Kind) -> Any:
    """The Arrow type of what the kernel reads."""
    if kind.name == "decimal":
        return pa.decimal128(kind.size, kind.scale)
    return {
        "integer": pa.int64(), "date": pa.date32(), "time": pa.time64("us"), "boolean": pa.bool_(),
        "timestamp": pa.timestamp("us"),
    }[kind.name]  # fmt: skip
