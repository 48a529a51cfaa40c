"""Columns that the compiled kernel reads as values of a kind; what is not written plainly is read as kinds define."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind
from nomotheta.kernel import LOCAL, ODD, TEXT, Form, ReadColumn, Spec, Words
from nomotheta.kinds.cells import without
from nomotheta.kinds.moments import Form as WrittenForm
from nomotheta.kinds.moments import lower, to_utc
from nomotheta.kinds.typed import Misfit, Typed, together
from nomotheta.layout import Layout

_MANY = 0.25  # of the cells: with more that are odd, all of them are better read together


def spec_of(kind: Kind, layout: Layout) -> Spec:
    """How the kernel reads cells that are to be of a kind: as text, where it knows nothing better."""
    if kind.name == "integer":
        return Spec("integer")
    if kind.name == "decimal":
        return Spec("decimal", kind.digits, kind.scale, layout.decimal_sign)
    if kind.name == "boolean":
        return Spec("word", len(layout.true_words), words=(*layout.true_words, *layout.false_words))
    if kind.name in {"date", "time", "timestamp", "timestamptz"}:
        forms = _forms(kind, layout)
        if forms:
            return Spec("zoned" if kind.name == "timestamptz" else "moment", forms=forms, clock=kind.name != "date")
    return TEXT


_MOST_FORMS = 64


def _forms(kind: Kind, layout: Layout) -> tuple[Form, ...]:
    """The declared forms as far as the kernel can read them: one behind another that it cannot must not come first."""
    declared = {"date": layout.date_forms, "time": layout.time_forms}.get(kind.name, layout.timestamp_forms)
    months, short = (Words([lower(name).decode() for name in names]) for names in (layout.months, layout.months_short))
    found: list[Form] = []
    for text in declared:
        written = [
            Form(form.width, form.fields, form.literals, months, short, layout.two_digit_years_from or 0)
            for form in WrittenForm.all_of(text, layout)
        ]
        if not all(form.known for form in written) or len(found) + len(written) > _MOST_FORMS:
            break
        found += written
    # where a zone may follow, all forms are tried without one first
    return tuple(found) if kind.name != "timestamptz" or len(found) == _count(declared, layout) else ()


def _count(declared: Sequence[str], layout: Layout) -> int:
    return sum(len(WrittenForm.all_of(text, layout)) for text in declared)


def settled(column: ReadColumn, kind: Kind, zone: str, read_texts: Callable[[Any], Typed]) -> Typed:
    """A column that the kernel read, with what it found odd read from the texts, the exact way."""
    found = column.values
    count = len(found.state)
    if found.odd > _MANY * count:
        return read_texts(column.texts())
    bits = pa.py_buffer(found.valid) if found.missing else None
    values = pa.Array.from_buffers(_type(kind), count, [bits, pa.py_buffer(found.buffer)], found.missing)
    misfits: tuple[Misfit, ...] = ()
    if kind.name == "timestamptz":
        local = np.flatnonzero(found.state == LOCAL)
        misfits = to_utc(found.buffer.view(np.int64)[:count], local, zone)
        values = without(values, np.concatenate([*(misfit.rows for misfit in misfits), local[:0]]))
    if found.odd:
        mask = found.state == ODD
        odd = np.flatnonzero(mask)
        rest = read_texts(column.taken(odd))
        if rest.values.null_count < len(odd):
            values = pc.replace_with_mask(values, pa.array(mask), rest.values)
        misfits = together(*misfits, *(Misfit(misfit.reason, odd[misfit.rows]) for misfit in rest.misfits))
    return Typed(values, misfits)


def _type(kind: Kind) -> Any:
    """The Arrow type of what the kernel reads."""
    if kind.name == "decimal":
        return pa.decimal128(kind.size, kind.scale)
    return {
        "integer": pa.int64(), "date": pa.date32(), "time": pa.time64("us"), "boolean": pa.bool_(),
        "timestamp": pa.timestamp("us"), "timestamptz": pa.timestamp("us", "UTC"),
    }[kind.name]  # fmt: skip
