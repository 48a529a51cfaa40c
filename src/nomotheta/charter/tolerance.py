"""How much may break, and what follows where more does."""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from nomotheta.errors import counted

Otherwise = Literal["reject", "fail", "warn"]


class Tolerance(BaseModel):
    """How much may break: a number of rows, or a share of them from 0 to 1; both None is everything."""

    model_config = ConfigDict(frozen=True)
    rows: int | None = None
    share: Decimal | None = None

    def allows(self, broken: int, of: int) -> bool:
        """Whether `broken` of `of` rows stay within it."""
        if self.rows is not None:
            return broken <= self.rows
        return self.share is None or broken <= Fraction(self.share) * of

    def __str__(self) -> str:
        if self.rows is not None:
            return "none" if self.rows == 0 else counted(self.rows, "row")
        return "all" if self.share is None else f"{(self.share * 100).normalize():f}%"


NONE, ALL = Tolerance(rows=0), Tolerance()


def _tolerance(value: Any) -> Tolerance:
    if isinstance(value, Tolerance):
        return value
    if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        return Tolerance(rows=value)
    if value in ("none", "all"):
        return NONE if value == "none" else Tolerance()
    percent = re.fullmatch(r"(\d+(?:\.\d+)?)\s*%", value, re.A) if isinstance(value, str) else None
    if percent and Decimal(percent[1]) <= 100:
        return Tolerance(share=Decimal(percent[1]).scaleb(-2))
    raise ValueError('this is not a tolerance; write "none", a number of rows, a share such as "0.5%", or "all"')


_WRITTEN = Annotated[str, Field(pattern=r"^(none|all|[0-9]+(\.[0-9]+)? *%)$")] | Annotated[int, Field(ge=0)]
Tolerated = Annotated[Tolerance, BeforeValidator(_tolerance, json_schema_input_type=_WRITTEN)]
