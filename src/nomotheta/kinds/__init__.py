"""Kinds: text into typed values, a column at a time, strictly; Arrow arrays in, Arrow arrays and misfits out."""

from nomotheta.kinds.cells import Cells
from nomotheta.kinds.native import (
    CANONICAL,
    UNTYPED,
    DaysFrom,
    as_texts,
    canonical_cells,
    in_layout,
    plain_column,
    read_values,
    without_exponents,
)
from nomotheta.kinds.plain import spec_of
from nomotheta.kinds.read import arrow_type, explain, explain_all, read_column
from nomotheta.kinds.show import show
from nomotheta.kinds.typed import Misfit, Reason, Typed

__all__ = [
    "CANONICAL",
    "UNTYPED",
    "Cells",
    "DaysFrom",
    "Misfit",
    "Reason",
    "Typed",
    "arrow_type",
    "as_texts",
    "canonical_cells",
    "explain",
    "explain_all",
    "in_layout",
    "plain_column",
    "read_column",
    "read_values",
    "show",
    "spec_of",
    "without_exponents",
]
