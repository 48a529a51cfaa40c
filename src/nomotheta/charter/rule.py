"""What a rule may declare: a condition on each row, on the whole, on each group, or what a query finds."""

from __future__ import annotations

import datetime
import re
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, ValidationInfo, field_validator, model_validator

from nomotheta.charter.layout import Declared
from nomotheta.charter.listed import text_of
from nomotheta.charter.tolerance import NONE, Otherwise, Tolerated
from nomotheta.conditions import UNITS

SORTS = ("each", "whole", "without_gaps", "usual", "offenders")


def _within(value: Any) -> Any:
    """How far two values may be apart: a number, or a share of the other one."""
    if isinstance(value, str):
        share = re.fullmatch(r"(\d+(?:\.\d+)?)\s*%", value, re.ASCII)
        if share is None:
            raise ValueError('write a number, or a share such as "0.5%"')
        return value
    if isinstance(value, int | Decimal) and not isinstance(value, bool) and value >= 0:
        return value
    raise ValueError('write a number from 0, or a share such as "0.5%"')


class Equals(Declared):
    """A value of another table, or one that a query gives, in this place or another, to which a `whole` is equal.

    `within` is how far apart they may be: a number, or a share of the other value; None where they must be the same.
    """

    table: str | None = None
    whole: str | None = None
    query: str | None = None
    place: str | None = None
    within: Annotated[Any, BeforeValidator(_within, json_schema_input_type=str | float)] = None

    @model_validator(mode="after")
    def _one(self) -> Equals:
        if (self.table is None) == (self.query is None):
            raise ValueError("it is equal to a value of a table or of a query; name one of them")
        if self.query is not None and self.whole is not None:
            raise ValueError("the query gives the value itself; take 'whole' out")
        return self

    @property
    def share(self) -> Decimal | None:
        """How far they may be apart as a share of the other value."""
        return Decimal(self.within.rstrip("% ")).scaleb(-2) if isinstance(self.within, str) else None


class Gaps(Declared):
    """A column whose values follow each other by one step; `first` and `last` are those that must be there.

    A step is a whole number, or a time such as "1 day", "15 minutes" or "1 month".
    """

    column: str
    step: int | str
    first: int | str | datetime.date | datetime.datetime | None = None
    last: int | str | datetime.date | datetime.datetime | None = None

    @field_validator("step")
    @classmethod
    def _steps(cls, value: int | str) -> int | str:
        units = ", ".join(f'"1 {unit}"' for unit in UNITS)
        if isinstance(value, bool) or (isinstance(value, int) and value < 1):
            raise ValueError(f"a step is at least 1; write 1, or one of {units}")
        if isinstance(value, str):
            found = re.fullmatch(r"([1-9]\d{0,5}) ([a-z]+?)s?", value, re.ASCII)
            if found is None or found[2] not in UNITS:
                raise ValueError(f"'{value}' is not a step; write 1, or one of {units}")
        return value

    @property
    def counted(self) -> tuple[int, str]:
        """The step as a number and its unit; a number of nothing but itself has no unit."""
        if isinstance(self.step, int):
            return self.step, ""
        amount, unit = self.step.split(" ")
        return int(amount), unit.removesuffix("s")


class Usual(Declared):
    """A value of the whole that is held against those of earlier loads, of which there must be so many."""

    of: str
    least: Annotated[int, Field(ge=5, le=100)] = 8


def _usual(value: Any) -> Any:
    return {"of": value} if isinstance(value, str) else value


def _query(value: Any, info: ValidationInfo) -> Any:
    """A query may be kept in a file of its own."""
    if not isinstance(value, dict):
        return value
    if set(value) != {"file"} or not isinstance(value["file"], str):
        raise ValueError('a query is a text, or kept in a file; write offenders = { file = "sql/NAME.sql" }')
    return text_of(Path((info.context or {}).get("folder", ".")), value["file"], "the query").strip().rstrip(";")


class QueryFile(Declared):
    """A query in a file that is kept with the charters."""

    file: str


class Rule(Declared):
    """One declared condition: on `each` row, on the `whole` or each group of it, or what `offenders` a query finds."""

    name: str
    each: str | None = None
    where: str | None = None
    whole: str | None = None
    by: Annotated[list[str], Field(min_length=1)] | None = None
    equals: Equals | None = None
    without_gaps: Gaps | None = None
    usual: Annotated[Usual | None, BeforeValidator(_usual, json_schema_input_type=Usual | str)] = None
    offenders: Annotated[str | None, BeforeValidator(_query, json_schema_input_type=str | QueryFile)] = None
    over: Literal["load", "table"] | None = None
    otherwise: Otherwise = "fail"
    tolerate: Tolerated = NONE
    because: str = ""
    owners: list[str] = Field(default=[])

    @property
    def sort(self) -> str:
        """Which of the sorts it is."""
        return next(sort for sort in SORTS if getattr(self, sort) is not None)

    @model_validator(mode="after")
    def _one(self) -> Rule:
        given = [sort for sort in SORTS if getattr(self, sort) is not None]
        if len(given) != 1:
            raise ValueError(f"a rule holds exactly one of {', '.join(SORTS)}; make a rule of each")
        sort = given[0]
        if self.where is not None and sort != "each":
            raise ValueError(f"'where' narrows the rows of an 'each'; write it into the {sort} itself")
        if self.by is not None and sort not in {"whole", "without_gaps"}:
            raise ValueError(f"'by' makes groups of a 'whole' or of 'without_gaps'; take it out of '{sort}'")
        if self.equals is not None and (sort != "whole" or self.by is not None):
            raise ValueError("'equals' compares the value of a 'whole' without groups; write it beside one")
        if self.otherwise == "reject" and sort != "each":
            raise ValueError(f"'reject' sets single rows aside, which only 'each' can; '{sort}' can fail or warn")
        if sort in {"whole", "usual"} and self.by is None and self.tolerate != NONE:
            raise ValueError(f"'tolerate' counts rows, and a '{sort}' has none; take it out")
        if sort == "usual" and self.over == "table":
            raise ValueError("what is usual is told by earlier loads; take 'over' out")
        return self
