"""Values that come with a type of their own (Parquet, Arrow, sheets, JSON) as values of a kind, and as canonical text.

What has the very type of the kind is taken as it is. Everything else goes by its canonical text, so that there is one
definition of what a kind accepts, wherever a value comes from.
"""

from __future__ import annotations

import datetime
import uuid
from decimal import Decimal
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind
from nomotheta.kernel import ReadColumn
from nomotheta.kinds.cells import without
from nomotheta.kinds.moments import FIRST_DAY, FIRST_MOMENT, LAST_DAY, LAST_MOMENT
from nomotheta.kinds.plain import settled
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.kinds.show import show
from nomotheta.kinds.typed import Misfit, Typed, together
from nomotheta.layout import CANONICAL, Layout

DaysFrom = Literal["", "1900", "1904"]
_EPOCHS = {"1900": datetime.datetime(1899, 12, 30), "1904": datetime.datetime(1904, 1, 1)}
_LEAP = 60  # the 29th of February 1900, which sheets have and the calendar has not


def read_values(
    column: Any, kind: Kind, layout: Layout, zone: str = "UTC", *, days_from: DaysFrom = "", null_words: bool = False
) -> Typed:
    """Values of any type as values of `kind`.

    Args:
        column: a column that was read by `spec_of`, or an Arrow array of n values: texts, which are read by the layout;
            values of another type; or a struct of `text` and `value` (canonical text), at most one of which is not null
            in a row.
        kind: what they must be.
        layout: how texts are written.
        zone: the time zone of timestamps that name none.
        days_from: the year from which on a number in a column of days counts them, as sheets do; empty for none.
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

        return settled(column, kind, zone, read)
    if pa.types.is_string(column.type):
        reader = _with_null_words if null_words and kind.name != "text" else read_column
        return reader(column, kind, layout, zone)
    if pa.types.is_struct(column.type):
        return _mixed(column, kind, layout, zone, days_from=days_from, null_words=null_words)
    if _is_text(column.type):
        return read_column(column.cast(pa.string()), kind, layout, zone)
    if column.null_count == len(column):
        return Typed(pa.nulls(len(column), arrow_type(kind)))
    values = _cast(column, kind)
    if values is None:
        return read_column(_texts_for(column, kind), kind, CANONICAL, zone)
    far = _beyond(values, kind)
    typed = Typed(without(values, far), Misfit.all(range=far))
    return typed.accounted(lambda: column.is_null().to_numpy(zero_copy_only=False), column.null_count)


def _cast(column: Any, kind: Kind) -> Any | None:
    """Values of the kind's own sort, cast without loss; None where their canonical text has to tell."""
    have, want = column.type, arrow_type(kind)
    if kind.name in {"text", "uuid"} or not _same_sort(have, want):
        return None
    if pa.types.is_date64(have):
        days = pc.divide(column.cast(pa.int64()), _MILLISECONDS_A_DAY)
        if not pc.all(pc.equal(pc.multiply(days, _MILLISECONDS_A_DAY), column.cast(pa.int64()))).as_py():
            return None  # with a time of day, which a cast would drop
    try:
        return column.cast(want)
    except pa.ArrowException:  # some value does not fit; which one, its text will tell
        return None


def _beyond(values: Any, kind: Kind) -> Any:
    """The rows whose values the kind does not have, though the type in which they are held does."""
    if kind.name == "real":
        inside = pc.is_finite(values)
    elif kind.name == "decimal":
        most = pa.scalar(Decimal((0, (9,) * kind.digits, -kind.scale)), values.type)
        inside = pc.less_equal(pc.abs(values), most)
    elif kind.name in _BOUNDS:
        low, high = _BOUNDS[kind.name]
        numbers = values.cast(pa.int32() if kind.name == "date" else pa.int64())
        inside = pc.and_(pc.greater_equal(numbers, low), pc.less_equal(numbers, high))
    else:
        return np.zeros(0, np.int64)
    if pc.all(inside).as_py() is not False:
        return np.zeros(0, np.int64)
    return np.flatnonzero(~pc.fill_null(inside, fill_value=True).to_numpy(zero_copy_only=False))


_MILLISECONDS_A_DAY = 86_400_000
_BOUNDS = {
    "date": (FIRST_DAY, LAST_DAY), "time": (0, 86_400_000_000 - 1), "timestamp": (FIRST_MOMENT, LAST_MOMENT),
    "timestamptz": (FIRST_MOMENT, LAST_MOMENT),
}  # fmt: skip


def _texts_for(column: Any, kind: Kind) -> Any:
    """The canonical texts of values, as a kind of another sort takes them."""
    if kind.name == "uuid" and pa.types.is_fixed_size_binary(column.type) and column.type.byte_width == _UUID_BYTES:
        return pa.array([None if value is None else str(uuid.UUID(bytes=value)) for value in column.to_pylist()])
    texts = as_texts(column)
    return _without_zeros(texts) if kind.name == "integer" and not pa.types.is_integer(column.type) else texts


_UUID_BYTES = 16


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


def _mixed(column: Any, kind: Kind, layout: Layout, zone: str, *, days_from: DaysFrom, null_words: bool) -> Typed:
    """Cells of both sorts: texts by the layout, values by their canonical text."""
    texts, values = column.field("text"), column.field("value")
    notes: dict[str, int] = {}
    if days_from and kind.name in {"date", "timestamp"}:
        values, changed = _from_serial(values, days_from)
        if changed:
            notes[f"{kind.name}s stored as numbers"] = changed
    if kind.name == "integer":
        values = _without_zeros(values)
    reader = _with_null_words if null_words and kind.name != "text" else read_column
    one, other = reader(texts, kind, layout, zone), read_column(values, kind, CANONICAL, zone)
    if days_from and kind.is_number and (stored := len(texts) - texts.null_count):
        notes["numbers stored as text"] = stored
    return Typed(pc.coalesce(one.values, other.values), together(*one.misfits, *other.misfits), notes)


def as_texts(column: Any) -> Any:
    """The canonical text of each value, as a `pa.StringArray`: plain numbers, ISO 8601 moments, true and false, hex."""
    kind = column.type
    if pa.types.is_struct(kind) and kind.get_field_index("text") >= 0:
        return pc.coalesce(column.field("text"), column.field("value"))
    if pa.types.is_dictionary(kind):
        return as_texts(column.cast(kind.value_type))
    if pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        return _plain_numbers(column.cast(pa.float32()) if pa.types.is_float16(kind) else column)
    if pa.types.is_date64(kind):
        moments = column.cast(pa.timestamp("ms")).cast(pa.string())
        return pc.replace_substring(moments, " 00:00:00.000", "")
    if pa.types.is_time(kind):
        return _clocks(column)
    if pa.types.is_timestamp(kind) and kind.tz:
        in_utc = column.cast(pa.timestamp(kind.unit, "UTC")).cast(pa.timestamp(kind.unit))
        return pc.binary_join_element_wise(in_utc.cast(pa.string()), "Z", "")
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.array([None if value is None else value.hex() for value in column.to_pylist()], pa.string())
    if pa.types.is_duration(kind):
        return pc.binary_join_element_wise(column.cast(pa.int64()).cast(pa.string()), kind.unit, " ")
    try:
        return column.cast(pa.string())
    except pa.ArrowException:
        return pa.array([None if value is None else _told(value) for value in column], pa.string())


def _clocks(column: Any) -> Any:
    """Times of day as texts; what is before midnight or after it as the count of its unit."""
    unit = column.type.unit
    counts = column.cast(pa.int32() if unit in {"s", "ms"} else pa.int64()).cast(pa.int64())
    day = 86_400 * {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}[unit]
    inside = pc.and_(pc.greater_equal(counts, 0), pc.less(counts, day))
    if pc.all(inside).as_py() is not False:
        return column.cast(pa.string())
    clock = pc.if_else(inside, counts, 0).cast(counts.type)
    width = pa.int32() if unit in {"s", "ms"} else pa.int64()
    shown = clock.cast(width).cast(column.type).cast(pa.string())
    return pc.if_else(inside, shown, pc.binary_join_element_wise(counts.cast(pa.string()), unit, " "))


def plain_column(column: Any) -> Any:
    """A column as a file of typed values holds it, as one of the types that `read_values` tells apart.

    What is nested becomes its JSON, so that no struct of a file is taken for cells of both sorts.
    """
    kind = column.type
    if isinstance(kind, pa.BaseExtensionType):
        storage = column.storage
        return _texts_for(storage, _UUID_KIND) if kind == pa.uuid() else plain_column(storage)
    if pa.types.is_dictionary(kind):
        return plain_column(column.dictionary_decode())
    if pa.types.is_run_end_encoded(kind):
        return plain_column(pc.run_end_decode(column))
    if pa.types.is_nested(kind) or pa.types.is_interval(kind):
        return pa.array([None if not value.is_valid else _told(value) for value in column], pa.string())
    plainer = {pa.string_view(): pa.large_string(), pa.binary_view(): pa.large_binary()}.get(kind)
    return column if plainer is None else column.cast(plainer)


def canonical_cells(texts: Any) -> Any:
    """Canonical texts as cells whose form no layout says: the struct of `text` and `value` that `read_values` takes."""
    return pa.StructArray.from_arrays([pa.nulls(len(texts), pa.string()), texts], ["text", "value"])


_UUID_KIND = Kind("uuid")


def _told(scalar: Any) -> str:
    """A value of no kind, as JSON where it can be."""
    import json

    try:
        return json.dumps(scalar.as_py(), default=show, ensure_ascii=False)
    except (ValueError, TypeError, pa.ArrowException):
        return str(scalar)


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
    """Numbers as digits and a point."""
    return without_exponents(column.cast(pa.string()))


def without_exponents(texts: Any) -> Any:
    """Texts with every number that has a small exponent as its digits, exactly; all others as they are."""
    odd = pc.match_substring_regex(texts, r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)[eE][+-]?0*[0-9]{1,3}$")
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


def _from_serial(values: Any, days_from: DaysFrom) -> tuple[Any, int]:
    """Numbers of days as the days they are, and how many there were; what no day has stays a number."""
    numbers = pc.match_substring_regex(values, r"^[0-9]{1,7}(\.[0-9]+)?$")
    if not pc.any(numbers).as_py():
        return values, 0
    found, changed = [], 0
    for text, number in zip(values.to_pylist(), numbers.to_pylist(), strict=True):
        day = _day_of(Decimal(text), days_from) if number else None
        changed += day is not None
        found.append(text if day is None else day)
    return pa.array(found, pa.string()), changed


def _day_of(number: Decimal, days_from: DaysFrom) -> str | None:
    """The day, and the time of day, that a sheet's number of days stands for."""
    if days_from == "1900":
        if number < 1 or _LEAP <= number < _LEAP + 1:
            return None
        number += number < _LEAP
    try:
        return str(_EPOCHS[days_from] + datetime.timedelta(microseconds=round(number * 86_400_000_000)))
    except OverflowError:
        return None


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
