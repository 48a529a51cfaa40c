"""What a charter may declare of a table.

Read from outside, so these are pydantic models; every key that is not listed here is refused.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Container, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationInfo, field_validator, model_validator

from nomotheta.charter.column import Column
from nomotheta.charter.differ import ReconcileKeys
from nomotheta.charter.excused import Excused
from nomotheta.charter.layout import Declared, DeclaredLayout
from nomotheta.charter.listed import listed_rows
from nomotheta.charter.rule import Rule
from nomotheta.charter.tolerance import ALL, NONE, Otherwise, Tolerated
from nomotheta.conditions import Kind
from nomotheta.layout import CellForm, Layout
from nomotheta.urls import local_name


def _placeholders(value: str, names: str) -> str:
    """A file pattern whose braces are known."""
    known = [r"\{day(:[^{}]*)?\}", *(rf"\{{{each}\}}" for each in ("file", "number") if f"{{{each}}}" in names)]
    left = re.sub("|".join(known), "", value)
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
        if value in {"header", "footer"}:
            return value
        return local_name(_placeholders(value, "{file}, {day} or {day:%d%m%Y}"))

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


Weekday = Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
WEEKDAYS: tuple[Weekday, ...] = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_DUE = r"^(next day )?([01][0-9]|2[0-3]):[0-5][0-9]$"
_UNITS = {"s": 1, "min": 60, "h": 3600}
_BYTES = {"": 1, "B": 1, "kB": 1000, "MB": 1000**2, "GB": 1000**3, "TB": 1000**4}  # as ISO 80000 has them


def _seconds(value: Any) -> Any:
    """A span of time, as it is written: `30 s`, `5 min`, `1 h`."""
    if value is None:
        return None
    found = re.fullmatch(r"(\d+(?:\.\d+)?) ?(s|min|h)", value) if isinstance(value, str) else None
    if found is None:
        raise ValueError('a span of time is written as "30 s", "5 min" or "1 h"')
    return float(found[1]) * _UNITS[found[2]]


def _sizes(value: Any) -> Any:
    """The least and the greatest size; an empty text leaves a side open."""
    if value is None:
        return None
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError('write the least and the greatest size, as in ["1 kB", "2 GB"]')
    sides = tuple(map(_bytes, value))
    if None not in sides and sides[0] > sides[1]:
        raise ValueError("no file has such a size: the least is greater than the greatest")
    return sides


def _bytes(value: Any) -> Any:
    if value == "":
        return None
    found = re.fullmatch(r"(\d+(?:\.\d+)?) ?(|B|kB|MB|GB|TB)", str(value))
    if isinstance(value, bool) or found is None:
        raise ValueError(f"'{value}' is not a size; write a number of bytes, or such as \"20 MB\"")
    return int(float(found[1]) * _BYTES[found[2]])


class Delivery(Declared):
    """Where the files of a table come from, and when they are there as a whole.

    `due` is when they must be: `06:30` of their day, or `next day 06:30`. `weekdays` are the days on which files are
    expected. A file has arrived when nothing has written to it for as long as `steady` says (`30 s`, `5 min`), and when
    the file `ready` is there. `size` is the least and the greatest plausible number of bytes. Where the pattern has a
    `{number}`, `numbered` says whether it begins anew `each day` or runs `throughout`. `archive` says whether its files
    are put away once they are loaded, as `nomotheta.toml` says; those of a day are, and standing lists are not.
    """

    files: str | list[str]
    layout: str | DeclaredLayout = Layout()
    checksums: str | None = None
    stated: Stated | None = None
    parts: Annotated[int, Field(ge=1)] | None = None
    optional: bool = False
    due: Annotated[str | None, Field(pattern=_DUE)] = None
    weekdays: Annotated[list[Weekday], Field(min_length=1)] = Field(default=[*WEEKDAYS])
    steady: Annotated[float | None, BeforeValidator(_seconds, json_schema_input_type=str)] = None
    ready: str | None = None
    size: Annotated[
        tuple[int | None, int | None] | None, BeforeValidator(_sizes, json_schema_input_type=list[int | str])
    ] = None
    numbered: Literal["each day", "throughout"] | None = None
    archive: bool | None = None
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
        return isinstance(self.files, list) or any(sign in self.files for sign in ("*", "?", "[", "{number}"))

    @field_validator("files")
    @classmethod
    def _day(cls, value: str | list[str]) -> str | list[str]:
        for pattern in [value] if isinstance(value, str) else value:
            _placeholders(pattern, "{day}, {day:%d%m%Y} or {number}")
        return local_name(value) if isinstance(value, str) else [local_name(each) for each in value]

    @field_validator("checksums", "ready")
    @classmethod
    def _sums(cls, value: str | None) -> str | None:
        return value and local_name(_placeholders(value, "{file}, {day} or {day:%d%m%Y}"))

    @model_validator(mode="after")
    def _told_apart(self) -> Delivery:
        has = any("{number}" in pattern for pattern in self.patterns)
        if self.numbered and not has:
            raise ValueError("numbered speaks of {number} in the pattern of the files; write it there")
        if has and not self.numbered:
            raise ValueError('the pattern has a {number}; write numbered = "each day" or "throughout"')
        if not self.daily:
            of_days = {"due": self.due, "numbered": self.numbered, "parts": self.parts}
            told = next((name for name, value in of_days.items() if value), None)
            if told or self.weekdays != list(WEEKDAYS):
                raise ValueError(f"{told or 'weekdays'} speaks of days; write {{day}} in the pattern of the files")
        return self

    @property
    def beside(self) -> list[str]:
        """The patterns of the files that come with those of the delivery, and are none of them."""
        stated = self.stated.in_ if self.stated is not None and self.stated.in_ not in {"header", "footer"} else None
        return [pattern for pattern in (self.checksums, self.ready, stated) if pattern]

    def expected_on(self, day: datetime.date) -> bool:
        """Whether files are expected for a day."""
        return WEEKDAYS[day.weekday()] in self.weekdays

    def due_at(self, day: datetime.date, zone: datetime.tzinfo) -> datetime.datetime | None:
        """The moment at which the files of a day must be there."""
        if self.due is None:
            return None
        at = datetime.time.fromisoformat(self.due[-5:])
        later = datetime.timedelta(days=self.due.startswith("next day"))
        return datetime.datetime.combine(day + later, at, zone)


class Staging(Declared):
    """A load that is gathered beside the table, committed whenever so many rows have come."""

    rows: Annotated[int, Field(ge=1000)]


BREAK_COLUMNS = ("rule_name", "looked_at", "judged_at")  # what a table of breaks says of each row


class Beside(Declared):
    """A table beside the one that is loaded or judged, which takes rows that were set aside, or that break rules."""

    table: Annotated[str, Field(min_length=1)]


class Into(Declared):
    """The table into which the rows of a landing table are moved, as values; how, if not as the files come."""

    typed: Annotated[str, Field(min_length=1)]
    how: Literal["append", "overwrite", "merge"] | None = None
    rejects: Beside | None = None


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
    rejects: Beside | None = None
    staging: Staging | None = None
    into: Into | None = None

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


class Key(Declared):
    """Columns whose values together may be in the table only once; "*" is the whole row, as it came in the file.

    A column may be an expression, such as `lower(code)`; `nulls` says, in the words of the SQL standard, whether two
    nulls are the same.

    Of rows that repeat a key when they are loaded, one stays: the first, or the last (by a column, if one is named), or
    none. Those that equal it are copies, of which so many are allowed; the others are in conflict with it, and count as
    rejected, unless `keep` is written and says which is right.
    """

    columns: Annotated[list[str], Field(min_length=1)]
    otherwise: Otherwise = "reject"
    nulls: Literal["distinct", "not distinct"] = "distinct"
    keep: Literal["first", "last", "none"] | None = None
    by: str | None = None
    copies: Tolerated = ALL
    tolerate: Tolerated = NONE

    @property
    def whole_row(self) -> bool:
        """Whether it stands for all that came in the file."""
        return self.columns == ["*"]

    @property
    def sets_aside(self) -> bool:
        """Whether rows that repeat it are set aside when they are loaded."""
        return self.otherwise == "reject"

    def is_worked_out(self, columns: Container[str]) -> bool:
        """Whether it is more than the values of some columns, a null being no value."""
        return not self.whole_row and (self.nulls != "distinct" or any(name not in columns for name in self.columns))

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


class ListFile(Declared):
    """A list in a file that is kept with the charters; what it holds becomes `values`, a row for each entry."""

    model_config = ConfigDict(json_schema_extra=lambda schema: schema["properties"].pop("values", None))
    file: str
    columns: Annotated[
        list[str] | None,
        BeforeValidator(
            lambda given: [given] if isinstance(given, str) else given, json_schema_input_type=str | list[str]
        ),
    ] = None
    values: list[list[str]] = Field(default=[])

    @model_validator(mode="before")
    @classmethod
    def _read(cls, given: Any, info: ValidationInfo) -> Any:
        if not isinstance(given, Mapping) or not isinstance(given.get("file"), str):
            return given  # which is told by its types
        if "values" in given:
            raise ValueError("the values of a list are in its file; take 'values' out")
        columns = given.get("columns")
        if isinstance(columns, str):
            columns = [columns]
        if not isinstance(columns, list | None):
            return given
        folder = Path((info.context or {}).get("folder", "."))
        rows = [list(row) for row in listed_rows(folder, given["file"], columns)]
        return {**given, "columns": columns, "values": rows}


class StepOf(Declared):
    """SQL of the team's own around a load: before its rows go in, after they are judged, or once it is committed."""

    sql: Annotated[str, Field(min_length=1)]
    when: Literal["before", "after", "after commit"] = "after"


class Reference(Declared):
    """Columns whose values must be listed: in another table, of this place or another, or in a file."""

    columns: Annotated[list[str], Field(min_length=1)]
    listed_in: str | ListFile
    place: str | None = None
    otherwise: Otherwise = "fail"
    tolerate: Tolerated = NONE

    @field_validator("listed_in")
    @classmethod
    def _form(cls, value: str | ListFile) -> str | ListFile:
        if isinstance(value, str) and not re.fullmatch(r"[^()]+\([^()]+\)", value):
            raise ValueError("this names no table and columns; write them as in sailings(code)")
        return value

    @property
    def table(self) -> str:
        """The table that lists the values; empty where a file does."""
        return self.listed_in.split("(")[0].strip() if isinstance(self.listed_in, str) else ""

    @property
    def listed(self) -> list[str]:
        """Its columns, in the order of `columns`."""
        if isinstance(self.listed_in, ListFile):
            return self.listed_in.columns or [self.listed_in.file]
        return [name.strip() for name in self.listed_in.split("(")[1].rstrip(") ").split(",")]

    @property
    def told(self) -> str:
        """Where they are listed, in words."""
        where = self.listed_in if isinstance(self.listed_in, str) else self.listed_in.file
        return where + (f" in {self.place}" if self.place else "")

    @model_validator(mode="after")
    def _pairs(self) -> Reference:
        if len(self.listed) != len(self.columns):
            raise ValueError(
                f"{len(self.columns)} columns cannot be listed in {len(self.listed)}; name as many on both sides"
            )
        if self.place is not None and not self.table:
            raise ValueError("a list in a file is in no place; take 'place' out")
        return self


class Charter(Declared):
    """What one table must be."""

    table: str
    use: list[str] = Field(default=[])
    place: str | None = None
    stored: Literal["typed", "text"] = "typed"
    about: str = ""
    owners: list[str] = Field(default=[])
    after: list[str] = Field(default=[])
    delivery: Delivery | None = None
    load: Load = Load()
    breaks: Beside | None = None
    columns: dict[str, Column]
    keys: list[Key] = Field(default=[])
    references: list[Reference] = Field(default=[])
    rules: list[Rule] = Field(default=[])
    steps: list[StepOf] = Field(default=[])
    excused: list[Excused] = Field(default=[])
    reconcile: ReconcileKeys = ReconcileKeys()

    def real_keys(self) -> list[Key]:
        """The keys that name columns."""
        return [key for key in self.keys if not key.whole_row and not key.is_worked_out(self.columns)]

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

    def origin(self) -> dict[str, str]:
        """The columns that hold the file a row came from, and its line there, by what they are filled with."""
        return {each.filled: name for name, each in self.columns.items() if each.filled in {"@file.name", "@file.line"}}

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


def fields_of(model: type[BaseModel]) -> Sequence[str]:
    """The keys that a model knows, as a file writes them."""
    return [field.alias or name for name, field in model.model_fields.items()]
