"""How the columns of a source become those of a target, and how far they may be apart."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Any

from pydantic import Field, field_validator

from nomotheta.charter.layout import Declared
from nomotheta.conditions import quoted

_MOST_PLACES = 18
Name = Annotated[str, Field(min_length=1)]


class MayDiffer(Declared):
    """How a column of the source became one of the target, and how far they may be apart.

    What is declared is done to the source's values, which must then be the target's: they are worked out by `from`,
    trimmed, put into upper or lower case, replaced by a list, multiplied, rounded. With `zone`, an instant of one side
    is the local time of the other. `empty_is_null` holds on both sides. `within` (in the column's unit) and
    `within_share` (of the source's value) are how far numbers may be apart.
    """

    target: Name | None = None
    from_: Annotated[Name | None, Field(alias="from")] = None
    trimmed: bool = False
    case: Annotated[str | None, Field(pattern="^(upper|lower)$")] = None
    mapped: dict[str, str] | None = None
    times: Decimal | None = None
    rounded: Annotated[int | None, Field(ge=0, le=_MOST_PLACES)] = None
    zone: Name | None = None
    empty_is_null: bool = False
    within: Annotated[Decimal | None, Field(gt=0)] = None
    within_share: Annotated[Decimal | None, Field(gt=0, lt=1)] = None

    @field_validator("times", "within", "within_share", mode="before")
    @classmethod
    def _number(cls, value: Any) -> Any:
        if isinstance(value, bool) or not isinstance(value, int | Decimal | None):
            raise ValueError(f"{value!r} is not a number; write one such as 0.01")
        return value

    @field_validator("zone")
    @classmethod
    def _known(cls, value: str) -> str:
        import zoneinfo

        if value not in zoneinfo.available_timezones():
            raise ValueError(f"'{value}' is not a time zone; write one such as Atlantic/Faroe or UTC")
        return value

    @property
    def tolerant(self) -> bool:
        """Whether values may be apart."""
        return self.within is not None or self.within_share is not None

    @property
    def changes(self) -> bool:
        """Whether the source's values are changed on the way."""
        return bool(self.from_ or self.trimmed or self.case or self.mapped or self.times is not None) or (
            self.rounded is not None
        )

    def of_source(self, name: str) -> str:
        """The source's value as the target should hold it, as a condition's value."""
        text = f"({self.from_}\n)" if self.from_ else quoted(name)
        text = f"trim({text})" if self.trimmed else text
        text = f"{self.case}({text})" if self.case else text
        if self.mapped:
            when = " ".join(f"when {_literal(old)} then {_literal(new)}" for old, new in self.mapped.items())
            text = f"case {text} {when} else {text} end"
        text = f"{text} * {self.times:f}" if self.times is not None else text
        text = f"round({text}, {self.rounded})" if self.rounded is not None else text
        return f"nullif({text}, '')" if self.empty_is_null else text

    def of_target(self, name: str) -> str:
        """The target's value as it is compared, as a condition's value."""
        return f"nullif({quoted(name)}, '')" if self.empty_is_null else quoted(name)


def _literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


class ReconcileKeys(Declared):
    """What is left out of a comparison, by which columns rows are told apart, and what may differ in a column.

    Of the columns in `distinct`, different values are counted too; `fingerprints` tells that of each column.
    """

    key: list[Name] = Field(default=[])
    leave_out: list[Name] = Field(default=[])
    distinct: list[Name] = Field(default=[])
    fingerprints: bool = False
    columns: dict[str, MayDiffer] = Field(default={})
