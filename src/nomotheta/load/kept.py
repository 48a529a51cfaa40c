"""Values that a column of a table would not give back as they are, held against its limits before they are sent."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.place.limits import Limits

_EXACT_DIGITS = 15  # decimal digits that a double holds, whatever they are
_EXACT_WHOLE = 2**53  # the whole numbers that a double holds, each of them


def broken(limits: Limits, column: Any) -> tuple[int, str] | None:
    """The first row of an Arrow column whose value would not come back, and why; None where there is none."""
    for wrong, why in _tests(limits, column):
        if pc.any(wrong).as_py():
            return int(np.flatnonzero(pc.fill_null(wrong, fill_value=False).to_numpy(zero_copy_only=False))[0]), why
    return None


def _tests(limits: Limits, column: Any) -> Any:
    of = column.type
    if not limits.nulls and column.null_count:
        yield pc.is_null(column), "it may not be null"
    if limits.second_digits < 6 and (pa.types.is_timestamp(of) or pa.types.is_time(of)):
        yield _finer(column, limits.second_digits), _digits_told(limits.second_digits)
    if limits.single and pa.types.is_floating(of):
        rounded = pc.cast(pc.cast(column, pa.float32(), safe=False), pa.float64())
        yield pc.not_equal(rounded, column), "it holds reals of 32 bits, which round this one"
    if limits.bounds and pa.types.is_integer(of):
        low, high = limits.bounds
        yield pc.or_(pc.less(column, low), pc.greater(column, high)), f"it holds {low:,} to {high:,}"
    if limits.doubles and pa.types.is_integer(of):
        beyond = pc.or_(pc.less(column, -_EXACT_WHOLE), pc.greater(column, _EXACT_WHOLE))
        yield beyond, "it keeps numbers as doubles, which have 53 bits"
    if limits.doubles and pa.types.is_decimal(of) and of.precision > _EXACT_DIGITS:
        most = pa.scalar(Decimal((0, (9,) * _EXACT_DIGITS, -of.scale)), of)
        yield pc.greater(pc.abs(column), most), f"it keeps numbers as doubles, which hold {_EXACT_DIGITS} digits"
    if limits.padded and pa.types.is_string(of):
        yield pc.ends_with(column, " "), "it does not keep spaces at the end of a text"
    if limits.octets is not None and pa.types.is_binary(of):
        yield pc.not_equal(pc.binary_length(column), limits.octets), f"it pads values to {limits.octets} bytes"
    if limits.listed is not None and pa.types.is_string(of):
        yield (
            pc.invert(pc.is_in(column, pa.array(limits.listed, pa.string()), skip_nulls=True)),
            (f"it holds {', '.join(limits.listed[:6])}{', …' if len(limits.listed) > 6 else ''}"),
        )


def _finer(column: Any, digits: int) -> Any:
    """Which moments have a finer fraction of a second."""
    unit = 10 ** (6 - digits)
    number = column.cast(pa.int64())
    return pc.not_equal(number, pc.multiply(pc.divide(number, unit), unit))


def _digits_told(digits: int) -> str:
    if not digits:
        return "it holds whole seconds"
    return f"it holds {digits} digit{'s' if digits > 1 else ''} of a second"
