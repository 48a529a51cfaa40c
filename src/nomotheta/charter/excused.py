"""Known breaks that are excused for a time: of a rule as a whole, or of rows by a condition or by their keys."""

from __future__ import annotations

import datetime
from typing import Annotated, Any

from pydantic import Field, model_validator

from nomotheta.charter.layout import Declared
from nomotheta.conditions import Node
from nomotheta.frozen import frozen

Words = Annotated[str, Field(min_length=1)]


class Excused(Declared):
    """An excuse as a charter declares it, counted up to and on its last day."""

    rule: Words
    reason: Words
    by: Words
    until: datetime.date
    where: str | None = None
    keys: Annotated[list[Any], Field(min_length=1)] | None = None

    @model_validator(mode="after")
    def _one(self) -> Excused:
        if self.where is not None and self.keys is not None:
            raise ValueError("rows are excused by a condition or by their keys; make an excuse of each")
        return self


@frozen
class Excuse:
    """An excuse of a check: for the rows that meet `node`, or for all that breaks it where there is none."""

    reason: str
    by: str
    until: datetime.date
    node: Node | None = None

    def holds(self, day: datetime.date) -> bool:
        """Whether it still counts on a day."""
        return day <= self.until
