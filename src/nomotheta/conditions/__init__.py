"""Conditions: a written subset of SQL, parsed, held against the declared kinds, and kept as a tree.

Pure: no data, no database. `place/` renders the trees for each database.
"""

from nomotheta.conditions import build
from nomotheta.conditions.check import check
from nomotheta.conditions.functions import EXACT, PARAMETERS, UNITS
from nomotheta.conditions.kind import NAMES as KIND_NAMES
from nomotheta.conditions.kind import Kind, decimal, parse_kind
from nomotheta.conditions.own import own, own_names, quoted
from nomotheta.conditions.pattern import (
    Part,
    PatternError,
    as_glob,
    fixed_runs,
    in_any_case,
    parse_pattern,
    render_pattern,
    solid,
    span,
)
from nomotheta.conditions.promote import common_kind
from nomotheta.conditions.sense import always_the_same
from nomotheta.conditions.tree import Aggregate, ConditionError, Node

__all__ = [
    "EXACT",
    "KIND_NAMES",
    "PARAMETERS",
    "UNITS",
    "Aggregate",
    "ConditionError",
    "Kind",
    "Node",
    "Part",
    "PatternError",
    "always_the_same",
    "as_glob",
    "build",
    "check",
    "common_kind",
    "decimal",
    "fixed_runs",
    "in_any_case",
    "own",
    "own_names",
    "parse_kind",
    "parse_pattern",
    "quoted",
    "render_pattern",
    "solid",
    "span",
]
