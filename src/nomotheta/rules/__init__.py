"""Rules: declared checks held against a table, and what came of each."""

from nomotheta.rules.finding import HIDDEN, Finding, Samples, Verdict, gravest, worst
from nomotheta.rules.judge import Scope, existing, holds, judge

__all__ = ["HIDDEN", "Finding", "Samples", "Scope", "Verdict", "existing", "gravest", "holds", "judge", "worst"]
