"""Texts that a spreadsheet would take for formulas."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.kinds.cells import Cells


def bytes_of(letters: str) -> Any:
    """Of each byte, whether it is one of some letters."""
    found = np.zeros(256, np.bool_)
    found[list(letters.encode())] = True
    return found


_FORMULA = bytes_of("=+-@\t\r'")
_NUMBER = r"^[+-]?[0-9][0-9.,]*$"


def safe_cells(values: Any) -> Any:
    """Texts that no spreadsheet takes for a formula; plain numbers stay as they are."""
    cells = Cells.of(values)
    filled = np.flatnonzero(cells.valid & (cells.lengths > 0))
    likely = filled[_FORMULA[cells.data[cells.starts[filled]]]]
    if not len(likely):
        return values
    numbers = pc.match_substring_regex(values.take(pa.array(likely)), _NUMBER).to_numpy(zero_copy_only=False)
    marks = np.zeros(len(values), np.bool_)
    marks[likely[~numbers]] = True
    return pc.if_else(pa.array(marks), pc.binary_join_element_wise("'", values, ""), values)


def safe_text(text: str) -> str:
    """A text that no spreadsheet takes for a formula; plain numbers stay as they are."""
    return f"'{text}" if text[:1] in set("=+-@\t\r'") and not re.match(_NUMBER, text) else text
