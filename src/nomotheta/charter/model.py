"""What a workspace and its charters may declare.

Read from outside, so these are pydantic models; every key that is not listed here is refused.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    GetPydanticSchema,
    ValidationInfo,
    field_validator,
    model_validator,
)  # fmt: skip
from pydantic_core import core_schema

from nomotheta.charter.layout import Declared, DeclaredLayout
from nomotheta.charter.listed import listed
from nomotheta.conditions import Kind, parse_kind
from nomotheta.errors import counted
from nomotheta.layout import CellForm, Layout

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
Tolerated = Annotated[Tolerance, BeforeValidator(_tolerance)]


def _placeholders(value: str, names: str) -> str:
    """A file pattern whose braces are known."""
    left = re.sub(r"\{day(:[^{}]*)?\}" + (r"|\{file\}" if "file" in names else ""), "", value)
    if "{" in left or "}" in left:
        raise ValueError(f"'{value}' holds braces that are not known; write {names}")
    for form in re.findall(r"\{day:([^{}]*)\}", value):
        datetime.date(2026, 1, 1).strftime(form)
    return value


class Stated(Declared):
    """Row counts and totals that the sender states: in the footer, in the lines above the header, or in a file."""

    in_: Annotated[str, Field(alias="in")]
    pattern: str

    @field_validator("in_")
    @classmethod
    def _where(cls, value: str) -> str:
        return value if value in {"header", "footer"} else _placeholders(value, "{file}, {day} or {day:%d%m%Y}")

    @field_validator("pattern")
    @classmethod
    def _groups(cls, value: str) -> str:
        try:
            names = re.compile(value).groupindex
        except re.error as error:
            raise ValueError(f"'{value}' is not a regular expression: {error}") from None
        if not names:
            raise ValueError("the pattern names nothing; write (?P<rows>[0-9]+), or (?P<COLUMN>…) for a total")
        return value


class Delivery(Declared):
    """Where the files of a table come from."""

    files: str | list[str]
    layout: str | DeclaredLayout = Layout()
    checksums: str | None = None
    stated: Stated | None = None
    parts: Annotated[int, Field(ge=2)] | None = None
    optional: bool = False
    on_bad_file: Literal["refuse", "leave out"] = "refuse"

    @property
    def patterns(self) -> list[str]:
        """The declared file patterns, always as a list."""
        return [self.files] if isinstance(self.files, str) else self.files

    @property
    def daily(self) -> bool:
        """Whether the files are those of one day; otherwise they are a standing list."""
        return any("{day" in pattern for pattern in self.patterns)

    @property
    def read_alone(self) -> bool:
        """Whether each of its files must be read by itself, because something is stated of it."""
        return self.stated is not None

    @property
    def several(self) -> bool:
        """Whether a pattern stands for more than one file."""
        return isinstance(self.files, list) or any(sign in self.files for sign in "*?[")

    @field_validator("files")
    @classmethod
    def _day(cls, value: str | list[str]) -> str | list[str]:
        for pattern in [value] if isinstance(value, str) else value:
            _placeholders(pattern, "{day} or {day:%d%m%Y}")
        return value

    @field_validator("checksums")
    @classmethod
    def _sums(cls, value: str | None) -> str | None:
        return value and _placeholders(value, "{file}, {day} or {day:%d%m%Y}")


class Staging(Declared):
    """A load that is gathered beside the table, committed whenever so many rows have come."""

    rows: Annotated[int, Field(ge=1000)]


class RejectsTable(Declared):
    """A table beside the one that is loaded, which takes what was set aside."""

    table: Annotated[str, Field(min_length=1)]


class Load(Declared):
    """How a delivery goes into the table."""

    how: Literal["append", "overwrite", "merge"] = "append"
    slice: str | None = None
    same_day: Literal["refuse", "add", "replace"] | None = None
    tolerate: Tolerated = NONE
    short_rows: Literal["reject", "fill"] = "reject"
    long_rows: Literal["reject", "cut"] = "reject"
    all_blank_rows: Literal["reject", "skip", "load"] = "reject"
    extra_columns: Literal["refuse", "ignore"] = "refuse"
    missing_columns: Literal["refuse", "null"] = "refuse"
    empty: Literal["refuse", "accept"] = "refuse"
    after_fail: Literal["undo", "keep"] = "undo"
    keep_previous: bool = False
    rejects: RejectsTable | None = None
    staging: Staging | None = None

    @model_validator(mode="after")
    def _sliced(self) -> Load:
        if self.staging and self.how == "merge":
            raise ValueError("a merge has a staging table of its own, inside its transaction; take staging out")
        if self.keep_previous and self.how != "overwrite":
            raise ValueError('keep_previous keeps what is replaced; it belongs to how = "overwrite"')
        if self.slice and self.how != "overwrite":
            raise ValueError('slice belongs to how = "overwrite"; add that, or take slice out')
        if self.same_day and self.how != "append":
            does = "takes the place of its rows" if self.how == "overwrite" else "updates the rows of its keys"
            told = f'same_day belongs to how = "append": with "{self.how}" a further delivery for a day {does}'
            raise ValueError(f"{told}; take same_day out")
        return self


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


class Among(CellRule):
    """The only values that may be in a column; those of a `file` kept with the charters become `values`."""

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


def _flag(value: Any) -> Any:
    """Let true or false stand for a check that has nothing else to say."""
    return {"value": value} if isinstance(value, bool) else value


def _one_length(value: Any) -> Any:
    """Let a number stand for a length, and a list for its bounds."""
    if isinstance(value, int) and not isinstance(value, bool):
        return {"values": [value, value]}
    return {"values": value} if isinstance(value, list) else value


def _short(key: str) -> BeforeValidator:
    """Let `key = X` stand for `key = { value = X }`, and a list for `{ values = [...] }`."""

    def widen(value: Any) -> Any:
        return {key: value} if isinstance(value, str | list) else value

    return BeforeValidator(widen)


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
    blank: Annotated[Blank, _short("value")] = Blank(value="allowed")
    between: Annotated[Between | None, _short("values")] = None
    among: Annotated[Among | None, _short("values")] = None
    pattern: Annotated[Pattern | None, _short("value")] = None
    case: Annotated[Case | None, _short("value")] = None
    trimmed: Annotated[Trimmed | None, BeforeValidator(_flag)] = None
    length: Annotated[Length | None, BeforeValidator(_one_length)] = None
    distinct: Distinct | None = None
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


class Key(Declared):
    """Columns whose values together may be in the table only once; "*" is the whole row, as it came in the file.

    Of rows that repeat a key when they are loaded, one stays: the first, or the last (by a column, if one is named), or
    none. Those that equal it are copies, of which so many are allowed; the others are in conflict with it, and count as
    rejected, unless `keep` is written and says which is right.
    """

    columns: Annotated[list[str], Field(min_length=1)]
    otherwise: Otherwise = "reject"
    keep: Literal["first", "last", "none"] | None = None
    by: str | None = None
    copies: Tolerated = ALL
    tolerate: Tolerated = NONE

    @property
    def whole_row(self) -> bool:
        """Whether it stands for all that came in the file."""
        return self.columns == ["*"]

    @model_validator(mode="after")
    def _kept(self) -> Key:
        if self.by and self.keep != "last":
            raise ValueError("'by' says which row is the last; add keep = \"last\", or take it out")
        if self.keep not in {None, "first"} and self.otherwise != "reject":
            raise ValueError(f"keep chooses among rows that are set aside, which '{self.otherwise}' does not do")
        if "*" in self.columns and not self.whole_row:
            raise ValueError('"*" is the whole row; name columns, or write columns = ["*"]')
        if self.copies != ALL and self.otherwise != "reject":
            raise ValueError(f"copies counts rows that are set aside, which '{self.otherwise}' does not do")
        if self.whole_row and self.by:
            raise ValueError("rows that are the same throughout have no last one; take 'by' out")
        return self


class Reference(Declared):
    """Columns whose values must be listed in another table."""

    columns: Annotated[list[str], Field(min_length=1)]
    listed_in: str
    otherwise: Literal["fail", "warn"] = "fail"
    tolerate: Tolerated = NONE

    @field_validator("listed_in")
    @classmethod
    def _form(cls, value: str) -> str:
        if not re.fullmatch(r"[^()]+\([^()]+\)", value):
            raise ValueError("this names no table and columns; write them as in sailings(code)")
        return value

    @property
    def table(self) -> str:
        """The table that lists the values."""
        return self.listed_in.split("(")[0].strip()

    @property
    def listed(self) -> list[str]:
        """Its columns, in the order of `columns`."""
        return [name.strip() for name in self.listed_in.split("(")[1].rstrip(") ").split(",")]

    @model_validator(mode="after")
    def _pairs(self) -> Reference:
        if len(self.listed) != len(self.columns):
            raise ValueError(
                f"{len(self.columns)} columns cannot be listed in {len(self.listed)}; name as many on both sides"
            )
        return self


class Rule(Declared):
    """One declared condition: `each` row, the `whole`, or the `offenders` that a query finds."""

    name: str
    each: str | None = None
    where: str | None = None
    whole: str | None = None
    offenders: str | None = None
    over: Literal["load", "table"] | None = None
    otherwise: Otherwise = "fail"
    tolerate: Tolerated = NONE
    because: str = ""

    @model_validator(mode="after")
    def _one(self) -> Rule:
        given = [key for key in ("each", "whole", "offenders") if getattr(self, key) is not None]
        if len(given) != 1:
            raise ValueError("a rule holds exactly one of each, whole and offenders; make a rule of each")
        if self.where is not None and not self.each:
            raise ValueError(f"'where' narrows the rows of an 'each'; write it into the {given[0]} itself")
        if self.otherwise == "reject" and not self.each:
            raise ValueError(f"'reject' sets single rows aside, which only 'each' can; '{given[0]}' can fail or warn")
        if self.whole and self.tolerate != NONE:
            raise ValueError("'tolerate' counts rows, and a 'whole' has none; take it out")
        return self


class Charter(Declared):
    """What one table must be."""

    table: str
    place: str | None = None
    about: str = ""
    owners: list[str] = Field(default=[])
    delivery: Delivery | None = None
    load: Load = Load()
    columns: dict[str, Column]
    keys: list[Key] = Field(default=[])
    references: list[Reference] = Field(default=[])
    rules: list[Rule] = Field(default=[])

    def real_keys(self) -> list[Key]:
        """The keys that name columns."""
        return [key for key in self.keys if not key.whole_row]

    def kinds(self) -> dict[str, Kind]:
        """The kind of every column that has one."""
        return {name: column.real_kind for name, column in self.columns.items() if column.real_kind is not None}

    def private(self) -> frozenset[str]:
        """The columns whose values are never shown."""
        return frozenset(name for name, column in self.columns.items() if column.private)

    def reads_private(self, sql: str) -> list[str]:
        """The private columns that a statement names."""
        said = {word.casefold() for word in re.findall(r"\w+", sql)}
        return sorted(name for name in self.private() if {*re.findall(r"\w+", name.casefold())} <= said)

    def stated_totals(self) -> tuple[str, ...]:
        """The columns whose totals the sender states."""
        stated = self.delivery.stated if self.delivery else None
        return tuple(name for name in re.compile(stated.pattern).groupindex if name != "rows") if stated else ()

    def cell_forms(self, layout: Layout) -> dict[str, CellForm]:
        """How the cells of columns are written, of those that do not go by the layout."""
        found = {}
        for name, column in self.columns.items():
            words = layout.null_words if column.null_words is None else column.null_words
            trim = layout.trim if column.trim is None else column.trim
            if (list(words), trim) != (layout.null_words, layout.trim):
                found[name] = CellForm(tuple(words), trim)
        return found

    def load_column(self) -> str | None:
        """The column that holds the load's number, if one does."""
        return next((name for name, column in self.columns.items() if column.from_ == "@load.no"), None)

    def day_column(self) -> str | None:
        """The column that holds the delivery's day, if one does."""
        return next((name for name, column in self.columns.items() if column.from_ == "@delivery.day"), None)

    def file_columns(self) -> dict[str, str]:
        """Column name → header name, for the columns that come from the file."""
        return {
            name: name if column.from_ is None else column.from_
            for name, column in self.columns.items()
            if not column.filled and column.value is None
        }

    def names_of(self, column: str) -> tuple[str, ...]:
        """The names that the header may have for a column of the file."""
        declared = self.columns[column]
        return (declared.from_ or column, *declared.further)


class Place(Declared):
    """A database, by its URL; secrets are in it as ${ENV_NAME}."""

    url: str

    @field_validator("url")
    @classmethod
    def _no_secret(cls, value: str) -> str:
        written = re.search(r"://[^:/@]*:([^@]*)@|[?&][a-z]*password=([^&]*)", value)
        if written and not re.fullmatch(r"(\$\{\w+\})?", written[1] or written[2] or "", re.ASCII):
            raise ValueError("the url contains a password; keep it in the environment, and write ${ENV_NAME} for it")
        return value


_PORTS = 65_535


class Tell(Declared):
    """Who is told of failing loads, and through which mail server."""

    server: str
    sender: Annotated[str, Field(alias="from")]
    to: Annotated[list[str], Field(min_length=1)]
    on: list[Literal["fail", "warn", "pass"]] = Field(default=["fail"])

    @field_validator("server")
    @classmethod
    def _scheme(cls, value: str) -> str:
        if not re.match(r"smtps?(\+starttls)?://|folder:.", value):
            raise ValueError("write smtp://host:25, smtp+starttls://host:587, smtps://host:465 or folder:mails")
        host = value.rpartition("@")[2] if value.startswith("smtp") else ""
        port = re.search(r":([^:/\]]*)/?$", host.partition("://")[2] or host)
        if port and not (port[1].isdecimal() and 0 < int(port[1]) <= _PORTS):
            raise ValueError(f"'{port[1]}' is not a port: write a number from 1 to {_PORTS}, as in smtp://host:25")
        return value

    @field_validator("sender", "to")
    @classmethod
    def _address(cls, value: str | list[str]) -> str | list[str]:
        for each in [value] if isinstance(value, str) else value:
            if not re.fullmatch(r"[^\s@<>,;:]+@[^\s@<>,;:]+|[^@<>,;:\r\n]*<[^\s@<>,;:]+@[^\s@<>,;:]+>", each):
                raise ValueError(f"'{each}' is not a mail address: write one such as desk@line.example")
        return value


class Settings(Declared):
    """`nomotheta.toml`."""

    name: str
    time_zone: str = "UTC"
    places: dict[str, Place]
    layouts: dict[str, DeclaredLayout] = Field(default={})
    tell: dict[str, Tell] = Field(default={})

    @field_validator("time_zone")
    @classmethod
    def _zone(cls, value: str) -> str:
        import zoneinfo

        if value not in zoneinfo.available_timezones():
            raise ValueError(f"'{value}' is not a time zone; write one such as Atlantic/Faroe or UTC")
        return value

    @field_validator("places")
    @classmethod
    def _some(cls, value: dict[str, Place]) -> dict[str, Place]:
        if not value:
            raise ValueError('at least one place is needed: [places.warehouse] url = "duckdb:///warehouse.duckdb"')
        return value


def fields_of(model: type[BaseModel]) -> Sequence[str]:
    """The keys that a model knows, as a file writes them."""
    return [field.alias or name for name, field in model.model_fields.items()]
