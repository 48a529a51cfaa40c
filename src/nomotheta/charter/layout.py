"""What may be declared of a layout; and the base of all that is declared."""

from __future__ import annotations

import re
from dataclasses import asdict, fields
from typing import Annotated, Any, get_type_hints

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Field,
    GetPydanticSchema,
    create_model,
    field_validator,
    model_validator,
)
from pydantic_core import core_schema

from nomotheta.errors import did_you_mean
from nomotheta.formats import FORMATS
from nomotheta.layout import Layout


def _one_character(value: str) -> str:
    if len(value) != 1 or value in "\r\n" or not value.isascii():
        raise ValueError('must be one ASCII character, and no line end; write one such as "\'", or "" for none')
    return value


def _no_line_end(value: str) -> str:
    if len(value) > 8 or set(value) & set("\r\n\0"):
        raise ValueError('must be at most 8 characters, and no line end among them; write one such as ";"')
    return value


def _character_or_none(value: str) -> str:
    return value and _one_character(value)


Character = Annotated[str, AfterValidator(_character_or_none)]
Position = Annotated[int, Field(ge=1, le=1 << 20)]
Mark = Annotated[str, AfterValidator(_no_line_end)]


class Declared(BaseModel):
    """The base of all that is declared: unknown keys are refused, nothing changes after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)


Affix = Annotated[str, Field(min_length=1, max_length=16)]
_TWELVE = Annotated[list[Affix], Field(min_length=12, max_length=12)]
_LIMITS = {
    "delimiter": Annotated[Mark, Field(min_length=1)],
    "quote": Character,
    "escape": Character,
    "header": Annotated[int, Field(ge=0, le=1000)],
    "footer": Annotated[int, Field(ge=0, le=1000)],
    "comment": Mark,
    "line_width": Annotated[int | None, Field(ge=1, le=1 << 20)],
    "number_prefixes": list[Affix],
    "number_suffixes": list[Affix],
    "months": _TWELVE,
    "months_short": _TWELVE,
    "two_digit_years_from": Annotated[int | None, Field(ge=1, le=9900)],
    "record_bytes": Annotated[int, Field(ge=64, le=256 << 20)],
    "record_lines": Annotated[int, Field(ge=1)],
}


class _Checks(Declared):
    """What is wrong with a layout, beyond the types of its keys."""

    @model_validator(mode="before")
    @classmethod
    def _usual_header(cls, values: Any) -> Any:
        """A format that has no header of its own has none unless one is declared."""
        usual = FORMATS.get(values.get("format", "delimited")) if isinstance(values, dict) else None
        return {"header": usual.header, **values} if usual and usual.header != 1 else values

    @field_validator("format", check_fields=False)
    @classmethod
    def _listed(cls, value: str) -> str:
        if value not in FORMATS:
            hint = did_you_mean(value, FORMATS, "write one of " + ", ".join(FORMATS))
            raise ValueError(f"'{value}' is not known here; {hint}")
        return value

    @field_validator("encoding", check_fields=False)
    @classmethod
    def _known(cls, value: str) -> str:
        try:
            return ("".encode(value) and value) or value
        except LookupError:
            raise ValueError(f"'{value}' is not an encoding; write utf-8, utf-16, latin-1 or cp1252") from None

    @field_validator("date_forms", "time_forms", "timestamp_forms", check_fields=False)
    @classmethod
    def _forms(cls, value: list[str]) -> list[str]:
        for form in value:
            unknown = re.sub(r"%([YmdHMSfybBIp%]|-[dmHI])", "", form).find("%")
            if unknown >= 0:
                known = "%Y %y %m %-m %b %B %d %-d %H %-H %I %-I %p %M %S %f"
                raise ValueError(f"'{form}' uses a sign that is not known; known: {known}")
        if not value:
            raise ValueError("must hold at least one form; leave it out for the usual ones")
        return value

    @field_validator("range", check_fields=False)
    @classmethod
    def _cells(cls, value: str) -> str:
        if value and not re.fullmatch(r"[A-Za-z]{1,3}[1-9][0-9]{0,6}:[A-Za-z]{1,3}([1-9][0-9]{0,6})?", value):
            raise ValueError(f"'{value}' is not a range of cells; write one such as 'B3:H200', or 'B3:H' to the end")
        return value

    @model_validator(mode="after")
    def _century(self: Any) -> Any:
        short = [form for form in (*self.date_forms, *self.timestamp_forms) if "%y" in form]
        if short and self.two_digit_years_from is None:
            raise ValueError(f"'{short[0]}' has years of two digits; say which: two_digit_years_from = 1950")
        return self

    @model_validator(mode="after")
    def _apart(self: Any) -> Any:
        if self.quote and self.quote in {*self.delimiter, self.escape}:
            raise ValueError("quote must differ from the delimiter and from escape; a doubled quote needs no escape")
        if self.escape and self.escape in self.delimiter:
            raise ValueError("delimiter and escape must differ; leave escape out if there is none")
        if self.thousands_sign and self.thousands_sign == self.decimal_sign:
            raise ValueError("thousands_sign and decimal_sign must differ; leave thousands_sign out if there is none")
        return self


_TYPES = get_type_hints(Layout) | _LIMITS
_FIELDS: dict[str, Any] = {each.name: (_TYPES[each.name], getattr(Layout(), each.name)) for each in fields(Layout)}
LayoutKeys: type[_Checks] = create_model("LayoutKeys", __base__=_Checks, **_FIELDS)


def _layout(value: Any, read: core_schema.ValidatorFunctionWrapHandler) -> Layout:
    return value if isinstance(value, Layout) else Layout(**dict(read(value)))


DeclaredLayout = Annotated[
    Layout,
    GetPydanticSchema(
        lambda _source, handler: core_schema.no_info_wrap_validator_function(
            _layout,
            handler.generate_schema(LayoutKeys),
            serialization=core_schema.plain_serializer_function_ser_schema(asdict),
        )
    ),
]
