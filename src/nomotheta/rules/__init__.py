"""Rules: declared checks held against a table, and what came of each."""

from nomotheta.rules.anew import as_kind
from nomotheta.rules.finding import HIDDEN, Finding, Samples, Verdict, gravest, worst
from nomotheta.rules.judge import Scope, check_spelled, existing, holds, judge

__all__ = [
    "HIDDEN",
    "Finding",
    "Samples",
    "Scope",
    "Verdict",
    "as_kind",
    "check_spelled",
    "existing",
    "gravest",
    "holds",
    "judge",
    "worst",
]
