"""Values that come with a type of their own (Parquet, Arrow, sheets, JSON) as values of a kind, and as canonical text.

What has the very type of the kind is taken as it is. Everything else goes by its canonical text, so that there is one
definition of what a kind accepts, wherever a value comes from.
"""

from __future__ import annotations

import datetime
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Layout
from nomotheta.conditions import Kind
from nomotheta.kernel import ReadColumn
from nomotheta.kinds.plain import settled
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.kinds.typed import Misfit, Typed

CANONICAL = Layout(
    date_forms=["%Y-%m-%d", "%Y-%m-%d 00:00:00", "%Y-%m-%d 00:00:00.000000", "%Y-%m-%dT00:00:00"],
    time_forms=["%H:%M:%S", "%H:%M:%S.%f"],
    timestamp_forms=[
        "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S.%f", "%Y-%m-%d",
    ],
)  # fmt: skip
UNTYPED = CANONICAL.model_copy(update={"true_words": ["1", "true", "t"], "false_words": ["0", "false", "f"]})
SHEET_EPOCH = datetime.date(1899, 12, 30)


def read_values(
    column: Any, kind: Kind, layout: Layout, zone: str = "UTC", *, serial: bool = False, null_words: bool = False
) -> Typed:
    """Values of any type as values of `kind`.

    Args:
        column: a column that was read by `spec_of`, or an Arrow array of n values: texts, which are read by the layout;
            values of another type; or a struct of `text` and `value` (canonical text), at most one of which is not null
            in a row.
        kind: what they must be.
        layout: how texts are written.
        zone: the time zone of timestamps that name none.
        serial: whether a number in a column of days counts the days since 1899-12-30, as sheets do.
        null_words: whether a null word of the layout may still stand among the texts, in quotes; it is null too,
            except where the kind is text, which alone has an empty value of its own.

    Returns:
        n values, null where one does not fit, the rows that do not by reason, and what else is to be said.
    """
    if isinstance(column, ReadColumn):
        unknown = layout.quote and any(layout.quote in word for word in layout.null_words)

        def read(texts: Any) -> Typed:
            known = not unknown and len(texts) < len(column.values.state)  # the kernel left no null word among the odd
            return (read_column if known else _with_null_words)(texts, kind, layout, zone)

        return settled(column, kind, read)
    if pa.types.is_string(column.type):
        reader = _with_null_words if null_words and kind.name != "text" else read_column
        return reader(column, kind, layout, zone)
    if pa.types.is_struct(column.type):
        return _mixed(column, kind, layout, zone, serial=serial)
    if _is_text(column.type):
        return read_column(column.cast(pa.string()), kind, layout, zone)
    target = arrow_type(kind)
    if column.null_count == len(column):
        return Typed(pa.nulls(len(column), target))
    if _same_sort(column.type, target) and kind.name not in {"text", "uuid"}:
        try:
            return Typed(column.cast(target))
        except pa.ArrowInvalid:  # some value does not fit; which one, its text will tell
            pass
    texts = as_texts(column)
    if kind.name == "integer" and not pa.types.is_integer(column.type):
        texts = _without_zeros(texts)
    return read_column(texts, kind, CANONICAL, zone)


def _with_null_words(texts: Any, kind: Kind, layout: Layout, zone: str) -> Typed:
    """Texts as values, the null words among them as null."""
    words = pa.array(layout.null_words, pa.string())
    if _may_fit(kind, layout):
        texts = pc.if_else(pc.is_in(texts, words, skip_nulls=True), pa.scalar(None, pa.string()), texts)
        return read_column(texts, kind, layout, zone)
    typed = read_column(texts, kind, layout, zone)
    left = {}
    for misfit in typed.misfits:
        known = pc.is_in(texts.take(pa.array(misfit.rows)), words)
        left[misfit.reason] = misfit.rows[~known.to_numpy(zero_copy_only=False)]
    return Typed(typed.values, Misfit.all(**left), typed.notes)


def _may_fit(kind: Kind, layout: Layout) -> bool:
    """Whether some null word may be a value of the kind, too: a number or a moment has a digit."""
    if kind.name == "boolean":
        return not {*layout.true_words, *layout.false_words}.isdisjoint(layout.null_words)
    return kind.name in {"uuid", "binary"} or any(letter.isdigit() for word in layout.null_words for letter in word)


def _mixed(column: Any, kind: Kind, layout: Layout, zone: str, *, serial: bool) -> Typed:
    """Cells of both sorts: texts by the layout, values by their canonical text."""
    texts, values = column.field("text"), column.field("value")
    notes: dict[str, int] = {}
    if serial and kind.name in {"date", "timestamp"}:
        values, changed = _from_serial(values)
        if changed:
            notes[f"{kind.name}s stored as numbers"] = changed
    if kind.name == "integer":
        values = _without_zeros(values)
    one, other = read_column(texts, kind, layout, zone), read_column(values, kind, CANONICAL, zone)
    if serial and kind.is_number and (stored := len(texts) - texts.null_count):
        notes["numbers stored as text"] = stored
    misfits: dict[str, Any] = {}
    for misfit in (*one.misfits, *other.misfits):
        misfits[misfit.reason] = np.union1d(misfits.get(misfit.reason, np.zeros(0, np.int64)), misfit.rows)
    return Typed(pc.coalesce(one.values, other.values), Misfit.all(**misfits), notes)


def as_texts(column: Any) -> Any:
    """The canonical text of each value, as a `pa.StringArray`: plain numbers, ISO 8601 moments, true and false, hex."""
    kind = column.type
    if pa.types.is_struct(kind) and kind.get_field_index("text") >= 0:
        return pc.coalesce(column.field("text"), column.field("value"))
    if pa.types.is_dictionary(kind):
        return as_texts(column.cast(kind.value_type))
    if pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        return _plain_numbers(column)
    if pa.types.is_timestamp(kind) and kind.tz:
        in_utc = column.cast(pa.timestamp(kind.unit, "UTC")).cast(pa.timestamp(kind.unit))
        return pc.binary_join_element_wise(in_utc.cast(pa.string()), "Z", "")
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.array([None if value is None else value.hex() for value in column.to_pylist()], pa.string())
    if pa.types.is_nested(kind):
        import json

        return pa.array([None if v is None else json.dumps(v, default=str) for v in column.to_pylist()], pa.string())
    return column.cast(pa.string())


def in_layout(column: Any, kind: Kind, layout: Layout) -> Any:
    """Values of any type as texts that the layout's forms read back; what was text stays as it is."""
    if kind.is_number and layout.decimal_sign != ".":
        if pa.types.is_struct(column.type):
            values = pc.replace_substring(column.field("value"), ".", layout.decimal_sign)
            return pc.coalesce(column.field("text"), values)
        if not _is_text(column.type):
            return pc.replace_substring(as_texts(column), ".", layout.decimal_sign)
    return as_texts(column)


def _plain_numbers(column: Any) -> Any:
    """Numbers as digits and a point; where Arrow writes an exponent, as Python's exact decimals do without one."""
    texts = column.cast(pa.string())
    odd = pc.match_substring_regex(texts, "[eE]")
    if not pc.any(odd).as_py():
        return texts
    rows = np.flatnonzero(pc.fill_null(odd, fill_value=False).to_numpy(zero_copy_only=False))
    mask = np.zeros(len(texts), np.bool_)
    mask[rows] = True
    plain = [format(Decimal(text), "f") for text in texts.take(pa.array(rows)).to_pylist()]
    return pc.replace_with_mask(texts, pa.array(mask), pa.array(plain, pa.string()))


def _without_zeros(texts: Any) -> Any:
    """Whole numbers without the zeros behind their point: 12.0 is 12."""
    return pc.replace_substring_regex(texts, r"^([+-]?[0-9]+)\.0*$", r"\1")


def _from_serial(values: Any) -> tuple[Any, int]:
    """Numbers of days since 1899-12-30 as the days they are; how many there were."""
    numbers = pc.match_substring_regex(values, r"^[0-9]{1,7}(\.[0-9]+)?$")
    if not pc.any(numbers).as_py():
        return values, 0
    found = []
    for text, number in zip(values.to_pylist(), numbers.to_pylist(), strict=True):
        if number and float(text) < 2_958_466:  # 9999-12-31
            micros = round(Decimal(text) * 86_400_000_000)
            midnight = datetime.datetime.combine(SHEET_EPOCH, datetime.time())
            found.append(str(midnight + datetime.timedelta(microseconds=micros)))
        else:
            found.append(text)
    return pa.array(found, pa.string()), int(pc.sum(numbers).as_py())


def _is_text(kind: Any) -> bool:
    if pa.types.is_dictionary(kind):
        return _is_text(kind.value_type)
    return any(test(kind) for test in (pa.types.is_string, pa.types.is_large_string, pa.types.is_string_view))


def _same_sort(have: Any, want: Any) -> bool:
    """Whether values of one Arrow type are of the other's sort, so that a safe cast loses nothing or refuses."""
    tests = (pa.types.is_integer, pa.types.is_floating, pa.types.is_boolean, pa.types.is_date, pa.types.is_time)
    if any(test(have) and test(want) for test in tests):
        return True
    if pa.types.is_decimal(want):
        return bool(pa.types.is_decimal(have) or pa.types.is_integer(have))
    if pa.types.is_timestamp(have) and pa.types.is_timestamp(want):
        return bool(have.tz) == bool(want.tz)
    return bool(pa.types.is_binary(want) and (pa.types.is_binary(have) or pa.types.is_large_binary(have)))
