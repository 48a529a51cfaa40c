"""What a column of a table does to values that it does not hold as they are: held against every row before it is sent.

The catalog says it all: a column with fewer digits of a second, of single precision, padded, or of listed words. A
value that would come back as another one is told here with its row, and the load fails.
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_EXACT_DIGITS = 15  # decimal digits that a double holds, whatever they are
_EXACT_WHOLE = 2**53  # the whole numbers that a double holds, each of them


@dataclass(frozen=True, slots=True)
class Limits:
    """What a column takes and gives back as it is, as far as its kind does not say so.

    `nulls`: null stays null. `second_digits`: of a second's fraction. `single`: reals of 32 bits. `bounds`: the least
    and the greatest whole number. `doubles`: numbers are kept as doubles, of 53 bits, or of 15 decimal digits.
    `padded`: spaces at the end of a text are lost. `octets`: as many bytes as a binary value must have. `listed`: the
    only texts.
    """

    nulls: bool = True
    second_digits: int = 6
    single: bool = False
    bounds: tuple[int, int] | None = None
    doubles: bool = False
    padded: bool = False
    octets: int | None = None
    listed: tuple[str, ...] | None = None

    @property
    def any(self) -> bool:
        """Whether there is anything that it does not give back."""
        return self != _NONE

    def broken(self, column: Any) -> tuple[int, str] | None:
        """The first row of an Arrow column whose value would not come back, and why; None where there is none."""
        for wrong, why in self._tests(column):
            if pc.any(wrong).as_py():
                return int(np.flatnonzero(pc.fill_null(wrong, fill_value=False).to_numpy(zero_copy_only=False))[0]), why
        return None

    def _tests(self, column: Any) -> Any:
        of = column.type
        if not self.nulls and column.null_count:
            yield pc.is_null(column), "it may not be null"
        if self.second_digits < 6 and (pa.types.is_timestamp(of) or pa.types.is_time(of)):
            yield _finer(column, self.second_digits), _digits_told(self.second_digits)
        if self.single and pa.types.is_floating(of):
            rounded = pc.cast(pc.cast(column, pa.float32(), safe=False), pa.float64())
            yield pc.not_equal(rounded, column), "it holds reals of 32 bits, which round this one"
        if self.bounds and pa.types.is_integer(of):
            low, high = self.bounds
            yield pc.or_(pc.less(column, low), pc.greater(column, high)), f"it holds {low:,} to {high:,}"
        if self.doubles and pa.types.is_integer(of):
            beyond = pc.or_(pc.less(column, -_EXACT_WHOLE), pc.greater(column, _EXACT_WHOLE))
            yield beyond, "it keeps numbers as doubles, which have 53 bits"
        if self.doubles and pa.types.is_decimal(of) and of.precision > _EXACT_DIGITS:
            most = pa.scalar(Decimal((0, (9,) * _EXACT_DIGITS, -of.scale)), of)
            yield pc.greater(pc.abs(column), most), f"it keeps numbers as doubles, which hold {_EXACT_DIGITS} digits"
        if self.padded and pa.types.is_string(of):
            yield pc.ends_with(column, " "), "it does not keep spaces at the end of a text"
        if self.octets is not None and pa.types.is_binary(of):
            yield pc.not_equal(pc.binary_length(column), self.octets), f"it pads values to {self.octets} bytes"
        if self.listed is not None and pa.types.is_string(of):
            yield (
                pc.invert(pc.is_in(column, pa.array(self.listed, pa.string()), skip_nulls=True)),
                (f"it holds {', '.join(self.listed[:6])}{', …' if len(self.listed) > 6 else ''}"),
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


_NONE = Limits()
