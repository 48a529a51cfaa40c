"""Text into values, a column at a time, strictly as each kind is defined."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind
from nomotheta.kernel import looks
from nomotheta.kinds.cells import Cells, Ints, compact, without
from nomotheta.kinds.moments import read_date, read_time, read_timestamp, read_timestamptz
from nomotheta.kinds.numbers import read_decimal, read_integer, read_real
from nomotheta.kinds.typed import Misfit, Reason, Typed
from nomotheta.layout import Layout

_UUID = r"^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$"
_HEX = r"^([0-9a-fA-F]{2})*$"


def read_column(texts: Any, kind: Kind, layout: Layout, zone: str = "UTC") -> Typed:
    """Texts as values of `kind`.

    Args:
        texts: a `pa.StringArray` of n texts; null stays null.
        kind: what they must be.
        layout: the number and date forms, and the words for true and false.
        zone: the time zone of timestamps that name none.

    Returns:
        n values, null where a text does not fit, and the rows that do not, by reason.
    """
    texts = compact(texts)
    reader = _READERS[kind.name]
    typed = read_timestamptz(texts, kind, layout, zone) if reader is None else reader(texts, kind, layout)
    return typed.accounted(lambda: texts.is_null().to_numpy(zero_copy_only=False), texts.null_count)


def arrow_type(kind: Kind) -> Any:
    """The Arrow type in which values of a kind are held; a uuid is its text."""
    if kind.name == "decimal":
        return pa.decimal128(kind.size, kind.scale)
    return {
        "integer": pa.int64(), "real": pa.float64(), "boolean": pa.bool_(), "date": pa.date32(),
        "time": pa.time64("us"), "timestamp": pa.timestamp("us"), "timestamptz": pa.timestamp("us", "UTC"),
        "binary": pa.binary(),
    }.get(kind.name, pa.string())  # fmt: skip


def _read_text(texts: Any, kind: Kind, _layout: Layout) -> Typed:
    longest = looks.longest(texts)
    if longest is not None and 0 <= longest <= (kind.size or longest):
        return Typed(texts)
    data = Cells.of(texts).data
    if len(data) and not data.min():
        nul = _refused(texts, pc.invert(pc.match_substring(texts, "\0")))
        rest = _read_text(without(texts, nul), kind, _layout) if len(nul) else None
        if rest is not None:
            return Typed(rest.values, (*Misfit.all(kind=nul), *rest.misfits))
    if kind.size is None or not len(texts) or int(Cells.of(texts).lengths.max()) <= kind.size:
        return Typed(texts)
    long = np.flatnonzero(pc.fill_null(pc.greater(pc.utf8_length(texts), kind.size), fill_value=False))
    return Typed(without(texts, long), Misfit.all(text_length=long))


def _read_boolean(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    words = [*layout.true_words, *layout.false_words]
    which = pc.index_in(texts, pa.array(words, pa.string()), skip_nulls=True)
    values = pc.less(which, len(layout.true_words))
    if values.null_count == texts.null_count:
        return Typed(values)
    return Typed(values, Misfit.all(kind=_refused(texts, pc.is_valid(which))))


def _read_uuid(texts: Any, _kind: Kind, _layout: Layout) -> Typed:
    wrong = _refused(texts, pc.match_substring_regex(texts, _UUID))
    return Typed(pc.utf8_lower(without(texts, wrong)), Misfit.all(kind=wrong))


def _read_binary(texts: Any, _kind: Kind, _layout: Layout) -> Typed:
    wrong = _refused(texts, pc.match_substring_regex(texts, _HEX))
    clean = pa.concat_arrays([without(texts, wrong)])
    cells = Cells.of(clean)
    data = bytes.fromhex("".join(pc.fill_null(clean, "").to_pylist()))
    edges = np.concatenate([[0], np.cumsum(np.where(cells.valid, cells.lengths // 2, 0))]).astype(np.int32)
    validity = pa.array(cells.valid).buffers()[1]
    values = pa.Array.from_buffers(pa.binary(), len(clean), [validity, pa.py_buffer(edges), pa.py_buffer(data)])
    return Typed(values, Misfit.all(kind=wrong))


def _refused(texts: Any, known: Any) -> Ints:
    refused = pc.and_(texts.is_valid(), pc.invert(pc.fill_null(known, fill_value=False)))
    return np.flatnonzero(refused.to_numpy(zero_copy_only=False))


_READERS: dict[str, Callable[[Any, Kind, Layout], Typed] | None] = {
    "text": _read_text,
    "integer": read_integer,
    "decimal": read_decimal,
    "real": read_real,
    "boolean": _read_boolean,
    "date": read_date,
    "time": read_time,
    "timestamp": read_timestamp,
    "timestamptz": None,  # which needs a zone, too
    "uuid": _read_uuid,
    "binary": _read_binary,
}


_RANGES = {
    "real": "a finite number of 64 bits, and zero only where it is written so",
    "date": "0001-01-01 to 9999-12-31",
    "time": "00:00:00 to 23:59:59.999999",
    "timestamp": "years 0001 to 9999",
    "timestamptz": "years 0001 to 9999 in UTC",
}


def explain(kind: Kind, reason: Reason, value: str, layout: Layout) -> str:
    """In words, why `value` does not fit `kind`; starts with a verb."""
    if reason == "text_length":
        return f"has {len(value)} characters; {kind} holds {kind.size}"
    if reason == "range":
        if kind.name == "decimal":
            return f"has more digits than {kind} holds"
        if kind.name in _RANGES:
            return f"is outside the range of {kind}: {_RANGES[kind.name]}"
        digits = sum(letter.isdigit() for letter in value)
        wider = f" (64 bits); decimal({digits},0) would hold it" if kind.name == "integer" and digits <= 38 else ""
        return f"is outside the range of {kind}{wider}"
    forms: dict[str, Sequence[str]] = {
        "date": layout.date_forms, "time": layout.time_forms, "timestamp": layout.timestamp_forms,
        "timestamptz": layout.timestamp_forms, "boolean": [*layout.true_words, *layout.false_words],
    }  # fmt: skip
    if kind.name == "text":
        return "contains a NUL character, which SQL texts cannot hold"
    if kind.name == "boolean":
        return f"is not one of {', '.join(forms['boolean'])}"
    if kind.name in forms:
        return f"is not a {kind} in the form {' or '.join(forms[kind.name])}"
    if kind.is_number:
        return f"is not {_article(kind)} {kind}{_number_hint(value, layout)}"
    return f"is not {_article(kind)} {kind}"


def explain_all(kind: Kind, reason: Reason, values: Any, layout: Layout) -> Any:
    """The same of n texts (a `pa.StringArray`), as another; texts that differ in nothing that is told share one."""
    if reason == "text_length":
        sorts = pc.utf8_length(values).to_numpy(zero_copy_only=False)
    elif reason == "range" and kind.name == "integer":
        sorts = pc.utf8_length(pc.replace_substring_regex(values, "[^0-9]", "")).to_numpy(zero_copy_only=False)
    elif reason == "kind" and kind.is_number:
        other = pc.match_substring(values, "." if layout.decimal_sign == "," else ",")
        spaced = pc.not_equal(pc.utf8_trim_whitespace(values), values)
        sorts = sum(
            2**at * each.to_numpy(zero_copy_only=False).astype(np.int64) for at, each in enumerate((other, spaced))
        )
    else:
        sorts = np.zeros(len(values), np.int64)
    _, first, which = np.unique(sorts, return_index=True, return_inverse=True)
    told = [explain(kind, reason, values[int(at)].as_py(), layout) for at in first]
    return pa.array(told, pa.string()).take(pa.array(which.ravel()))


def _article(kind: Kind) -> str:
    return "an" if kind.name == "integer" else "a"


def _number_hint(value: str, layout: Layout) -> str:
    other = "." if layout.decimal_sign == "," else ","
    if value.strip() != value:
        return "; it has white space around it, and the layout does not say trim = true"
    if other in value and layout.thousands_sign != other:
        return f"; it contains '{other}', but the layout's decimal sign is '{layout.decimal_sign}'"
    return ""
