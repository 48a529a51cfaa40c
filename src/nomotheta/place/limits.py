"""What a column of a table does to values that it does not hold as they are: held against every row before it is sent.

The catalog says it all: a column with fewer digits of a second, of single precision, padded, or of listed words. A
value that would come back as another one is told here with its row, and the load fails.
"""

from __future__ import annotations

from nomotheta.frozen import frozen


@frozen
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


_NONE = Limits()
