"""The compiled kernel of the hot path, where it is there; all that it does is done elsewhere, too, only more slowly."""

from nomotheta.kernel.cells import (
    BARE,
    FOLLOWED,
    MIXED,
    ODD,
    TEXT,
    UNCLOSED,
    VALUE,
    Form,
    Read,
    ReadColumn,
    Scan,
    Spec,
    State,
    Survey,
    Values,
    Words,
    count_byte,
    read_block,
    scan,
    survey,
)
from nomotheta.kernel.copying import HEAD as COPY_HEAD
from nomotheta.kernel.copying import TAIL as COPY_TAIL
from nomotheta.kernel.copying import can_copy, copy_rows

__all__ = [
    "BARE",
    "COPY_HEAD",
    "COPY_TAIL",
    "FOLLOWED",
    "MIXED",
    "ODD",
    "TEXT",
    "UNCLOSED",
    "VALUE",
    "Form",
    "Read",
    "ReadColumn",
    "Scan",
    "Spec",
    "State",
    "Survey",
    "Values",
    "Words",
    "can_copy",
    "copy_rows",
    "count_byte",
    "read_block",
    "scan",
    "survey",
]
