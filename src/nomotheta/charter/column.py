"""What may be declared of a column: its kind, where its values come from, and the checks that a word declares."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    BeforeValidator,
    ConfigDict,
    Field,
    GetPydanticSchema,
    ValidationInfo,
    field_validator,
    model_validator,
)
from pydantic_core import core_schema

from nomotheta.charter.layout import Declared
from nomotheta.charter.listed import listed
from nomotheta.charter.tolerance import NONE, Otherwise, Tolerated
from nomotheta.conditions import Kind, parse_kind


def _kind(value: Any) -> Kind:
    if isinstance(value, Kind):
        return value
    if not isinstance(value, str):
        raise ValueError("a kind is a text; write one such as 'text(9)' or 'decimal(8,2)'")
    return parse_kind(value)


_KIND_SCHEMA = GetPydanticSchema(
    lambda _source, _handler: core_schema.no_info_plain_validator_function(
        _kind, serialization=core_schema.to_string_ser_schema()
    ),
    lambda _schema, _handler: {"type": "string", "examples": ["text(9)", "integer", "decimal(8,2)"]},
)
KindField = Annotated[Kind, _KIND_SCHEMA]


class CellRule(Declared):
    """What follows when a value of a column does not meet a check."""

    otherwise: Otherwise = "reject"
    tolerate: Tolerated = NONE


class Blank(CellRule):
    """Whether blanks may be in a column, and how many."""

    value: Literal["never", "allowed"] = "never"
    at_most: Tolerated | None = None

    @model_validator(mode="before")
    @classmethod
    def _some(cls, given: Any) -> Any:
        if isinstance(given, Mapping) and "at_most" in given:
            if "value" in given:
                raise ValueError("'at_most' allows some, so that 'value' says nothing; take one of them out")
            return {**given, "value": "allowed"}
        return given

    @model_validator(mode="after")
    def _counted(self) -> Blank:
        if self.at_most is not None and {"otherwise"} & self.model_fields_set and self.otherwise == "reject":
            raise ValueError('a number of blanks can fail or warn, and sets no row aside; write otherwise = "fail"')
        return self


class Between(CellRule):
    """The lowest and the highest value; an empty text "" leaves a side open."""

    values: Annotated[list[Any], Field(min_length=2, max_length=2)]


def _from_file(schema: dict[str, Any]) -> None:
    """Values are written, or are in a file."""
    schema["anyOf"] = [{"required": [key]} for key in ("values", "file")]
    schema.pop("required", None)


class Among(CellRule):
    """The only values that may be in a column; those of a `file` kept with the charters become `values`."""

    model_config = ConfigDict(json_schema_extra=_from_file)
    values: Annotated[list[Any], Field(min_length=1)]
    file: str | None = None
    column: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _listed(cls, given: Any, info: ValidationInfo) -> Any:
        if not isinstance(given, Mapping) or "file" not in given:
            if isinstance(given, Mapping) and "column" in given:
                raise ValueError("'column' names a column of a list; write file = \"lists/NAME.csv\" beside it")
            return given
        if "values" in given:
            raise ValueError("the values are listed here and in a file; take one of them out")
        file, column = given["file"], given.get("column")
        if not isinstance(file, str) or not isinstance(column, str | None):
            return given  # which is told by their types
        return {**given, "values": listed(Path((info.context or {}).get("folder", ".")), file, column)}


class Pattern(CellRule):
    """A regular expression that the whole value must match; `case` says whether that of letters matters."""

    value: str
    case: Literal["exact", "ignore"] = "exact"


class Case(CellRule):
    """Letters are of one case."""

    value: Literal["upper", "lower"]


class Trimmed(CellRule):
    """No white space is at the ends of a text."""

    value: bool


class Length(CellRule):
    """The least and the greatest number of characters; an empty text "" leaves a side open."""

    values: Annotated[list[int | Literal[""]], Field(min_length=2, max_length=2)]


class Distinct(CellRule):
    """How many different values a column has: a number, or a share of its values."""

    at_least: Tolerated | None = None
    at_most: Tolerated | None = None
    otherwise: Literal["fail", "warn"] = "fail"
    over: Literal["load", "table"] | None = None


class Drift(CellRule):
    """Whether the distribution of a column's values is that of earlier loads, of which there must be so many."""

    least: Annotated[int, Field(ge=5, le=28)] = 7
    otherwise: Literal["fail", "warn"] = "warn"


def _drift(value: Any) -> Any:
    """Let true stand for a check that has nothing else to say, and false for none."""
    return ({} if value else None) if isinstance(value, bool) else value


def _flag(value: Any) -> Any:
    """Let true or false stand for a check that has nothing else to say."""
    return {"value": value} if isinstance(value, bool) else value


def _one_length(value: Any) -> Any:
    """Let a number stand for a length, and a list for its bounds."""
    if isinstance(value, int) and not isinstance(value, bool):
        return {"values": [value, value]}
    return {"values": value} if isinstance(value, list) else value


def _short(key: str, of: type[CellRule], form: Any) -> BeforeValidator:
    """Let `key = X` stand for `key = { value = X }`, and a list for `{ values = [...] }`; `form` is the type of X."""

    def widen(value: Any) -> Any:
        return {key: value} if isinstance(value, str | list) else value

    return BeforeValidator(widen, json_schema_input_type=of | form)


SYSTEM_COLUMNS = {
    "@load.no": Kind("integer"),
    "@load.time": Kind("timestamptz"),
    "@file.name": Kind("text"),
    "@file.line": Kind("integer"),
    "@delivery.day": Kind("date"),
}
FROM_PLACE = "@place"


def _scalar(value: Any) -> Any:
    """What may be a constant; its value is checked against the column's kind."""
    if value is None or isinstance(value, str | int | float | Decimal | datetime.date | datetime.time):
        return value
    raise ValueError("a constant is one text, number, date or time, or true or false")


class Column(Declared):
    """One column of the table."""

    kind: KindField | None = None
    origin: Annotated[str | Annotated[list[str], Field(min_length=1)] | None, Field(alias="from")] = None
    at: (
        Annotated[int, Field(ge=1)]
        | Annotated[list[Annotated[int, Field(ge=1)]], Field(min_length=2, max_length=2)]
        | None
    ) = None
    value: Annotated[Any, BeforeValidator(_scalar)] = None
    blank: Annotated[Blank, _short("value", Blank, Literal["never", "allowed"])] = Blank(value="allowed")
    between: Annotated[Between | None, _short("values", Between, list[Any])] = None
    among: Annotated[Among | None, _short("values", Among, list[Any])] = None
    pattern: Annotated[Pattern | None, _short("value", Pattern, str)] = None
    case: Annotated[Case | None, _short("value", Case, Literal["upper", "lower"])] = None
    trimmed: Annotated[Trimmed | None, BeforeValidator(_flag, json_schema_input_type=Trimmed | bool)] = None
    length: Annotated[
        Length | None, BeforeValidator(_one_length, json_schema_input_type=Length | int | list[int | str])
    ] = None
    distinct: Distinct | None = None
    drift: Annotated[Drift | None, BeforeValidator(_drift, json_schema_input_type=Drift | bool)] = None
    null_words: list[str] | None = None
    trim: bool | None = None
    private: bool = False
    about: str = ""

    @field_validator("at")
    @classmethod
    def _span(cls, value: int | list[int] | None) -> int | list[int] | None:
        if isinstance(value, list) and value[1] < value[0]:
            raise ValueError("the last character is before the first; write at = [FIRST, LAST]")
        return value

    @model_validator(mode="after")
    def _source(self) -> Column:
        source = self.from_ or ""
        if isinstance(self.origin, list) and any(name.startswith("@") for name in self.origin):
            raise ValueError("of several names after 'from' each is a header's; write a word with @ alone")
        if source.startswith("@") and source not in {*SYSTEM_COLUMNS, FROM_PLACE}:
            known = ", ".join([*SYSTEM_COLUMNS, FROM_PLACE])
            raise ValueError(f"'{source}' is not known; after 'from' comes a header's name or one of {known}")
        if self.value is not None and self.from_:
            raise ValueError("a column has either 'from' or a constant 'value'; take one out")
        if (self.null_words is not None or self.trim is not None) and (self.filled or self.value is not None):
            raise ValueError("null_words and trim are of cells of the file, and this column holds none; take them out")
        if self.kind is None and not source.startswith("@") and self.value is None:
            raise ValueError('the column needs a kind; write one such as kind = "text(9)"')
        return self

    @property
    def from_(self) -> str | None:
        """The header's name, the first of several, or the `@…` word; None where the header has the column's own."""
        return self.origin[0] if isinstance(self.origin, list) else self.origin

    @property
    def further(self) -> tuple[str, ...]:
        """Other names that the header may have for it, as of older files."""
        return tuple(self.origin[1:]) if isinstance(self.origin, list) else ()

    @property
    def filled(self) -> str | None:
        """The `@…` word that fills it, if one does."""
        return self.from_ if self.from_ and self.from_.startswith("@") else None

    @property
    def real_kind(self) -> Kind | None:
        """The declared kind, or the one that follows from what fills it; None where the place alone knows."""
        if self.kind is not None:
            return self.kind
        return Kind("text") if self.value is not None else SYSTEM_COLUMNS.get(self.from_ or "")
