"""How a file is written. What of it may be declared, and what not, is said by the room `charter`."""

from __future__ import annotations

from dataclasses import field, replace
from typing import Literal

from nomotheta.formats import FORMATS, Format
from nomotheta.frozen import frozen

# what is taken off the ends of a text, and makes it blank: all characters that Unicode calls white space
WHITE_SPACE = (
    "\t\n\x0b\x0c\r \x85\xa0\u1680" + "".join(map(chr, range(0x2000, 0x200B))) + "\u2028\u2029\u202f\u205f\u3000"
)
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October",
           "November", "December")  # fmt: skip
_AS_USUAL = -1
_FORMS = ("date_forms", "time_forms", "timestamp_forms")


@frozen
class CellForm:
    """How the cells of a column are written, where that is not as the layout says: null words, and whether to trim."""

    null_words: tuple[str, ...]
    trim: bool


@frozen
class Layout:
    """How a file is written; `header` is how many lines of header it has, by default what is usual for the format."""

    format: str = "delimited"
    delimiter: str = ","
    quote: str = '"'
    escape: str = ""
    header: int = _AS_USUAL
    header_match: Literal["exact", "loose"] = "exact"
    repeated_header: Literal["reject", "skip"] = "reject"
    footer: int = 0
    comment: str = ""
    encoding: str = "utf-8"
    line_width: int | None = None
    sheet: str | int = 1
    range: str = ""
    null_words: list[str] = field(default_factory=lambda: [""])
    trim: bool = False
    decimal_sign: Literal[".", ","] = "."
    thousands_sign: Literal["", ",", ".", "'", " ", "_"] = ""
    number_prefixes: list[str] = field(default_factory=list)
    number_suffixes: list[str] = field(default_factory=list)
    date_forms: list[str] = field(default_factory=lambda: ["%Y-%m-%d"])
    time_forms: list[str] = field(default_factory=lambda: ["%H:%M:%S", "%H:%M"])
    timestamp_forms: list[str] = field(default_factory=lambda: ["%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"])
    months: list[str] = field(default_factory=lambda: [*_MONTHS])
    months_short: list[str] = field(default_factory=lambda: [name[:3] for name in _MONTHS])
    two_digit_years_from: int | None = None
    midnight_24: bool = False
    true_words: list[str] = field(default_factory=lambda: ["true"])
    false_words: list[str] = field(default_factory=lambda: ["false"])
    record_bytes: int = 4 << 20
    record_lines: int = 1000

    def __post_init__(self) -> None:
        if self.header == _AS_USUAL:
            object.__setattr__(self, "header", self.traits.header)

    def of(self, form: CellForm | None) -> Layout:
        """The layout of a column's cells."""
        return self if form is None else replace(self, null_words=[*form.null_words], trim=form.trim)

    def with_canonical_forms(self) -> Layout:
        """It with the forms, too, in which we ourselves write moments."""
        both = {name: [*getattr(self, name), *getattr(CANONICAL, name)] for name in _FORMS}
        return replace(self, **both)  # type: ignore[arg-type]

    @property
    def of_texts(self) -> Layout:
        """How cells are written once they are texts: a format with types of its own has canonical ones, too."""
        return self.with_canonical_forms() if self.traits.typed else self

    @property
    def is_text(self) -> bool:
        """Whether the format is text, which may come packed."""
        return self.traits.text

    @property
    def traits(self) -> Format:
        """What is known of its format."""
        return FORMATS[self.format]


# what we ourselves write, and what databases do
CANONICAL = Layout(
    date_forms=[
        "%Y-%m-%d", "%Y-%m-%d 00:00:00", "%Y-%m-%d 00:00:00.000", "%Y-%m-%d 00:00:00.000000",
        "%Y-%m-%d 00:00:00.000000000", "%Y-%m-%dT00:00:00",
    ],
    time_forms=["%H:%M:%S", "%H:%M:%S.%f"],
    timestamp_forms=[
        "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S.%f", "%Y-%m-%d",
    ],
)  # fmt: skip
UNTYPED = replace(CANONICAL, true_words=["1", "true", "t"], false_words=["0", "false", "f"])
