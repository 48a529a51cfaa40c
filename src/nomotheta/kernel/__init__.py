"""The compiled kernel of the hot path, where it is there; all that it does is done elsewhere, too, only more slowly."""

from nomotheta.kernel.cells import (
    ODD,
    TEXT,
    VALUE,
    Form,
    Read,
    ReadColumn,
    Spec,
    State,
    Survey,
    Words,
    count_byte,
    read_block,
    survey,
)

__all__ = [
    "ODD",
    "TEXT",
    "VALUE",
    "Form",
    "Read",
    "ReadColumn",
    "Spec",
    "State",
    "Survey",
    "Words",
    "count_byte",
    "read_block",
    "survey",
]
