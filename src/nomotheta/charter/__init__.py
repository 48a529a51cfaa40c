"""Charters: the model of what may be declared, TOML read with positions, and lint. No data, no database.

Proposals, schemas and CSV on the Web are asked for by their modules: few commands need them.
"""

from nomotheta.charter.check import Check, Following
from nomotheta.charter.column import FROM_PLACE, SYSTEM_COLUMNS, Column
from nomotheta.charter.compiled import Compiled
from nomotheta.charter.declared import changed_keys, declared, version_of
from nomotheta.charter.excused import Excuse
from nomotheta.charter.lint import in_order, lint, repeats_untold
from nomotheta.charter.listed import value_written
from nomotheta.charter.model import BREAK_COLUMNS, Charter, Delivery, Stated
from nomotheta.charter.read import Problem, Read, read_settings, read_source
from nomotheta.charter.read_charter import read_charter
from nomotheta.charter.settings import Settings, Tell
from nomotheta.charter.shared import Shared, is_shared, shared_of, unreadable_shared
from nomotheta.charter.tolerance import Tolerance
from nomotheta.charter.values import instant, value_of

__all__ = [
    "BREAK_COLUMNS",
    "FROM_PLACE",
    "SYSTEM_COLUMNS",
    "Charter",
    "Check",
    "Column",
    "Compiled",
    "Delivery",
    "Excuse",
    "Following",
    "Problem",
    "Read",
    "Settings",
    "Shared",
    "Stated",
    "Tell",
    "Tolerance",
    "changed_keys",
    "declared",
    "in_order",
    "instant",
    "is_shared",
    "lint",
    "read_charter",
    "read_settings",
    "read_source",
    "repeats_untold",
    "shared_of",
    "unreadable_shared",
    "value_of",
    "value_written",
    "version_of",
]
