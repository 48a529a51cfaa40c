"""Whether the rows of a load can be told from others, as far as its charter says."""

from __future__ import annotations

from nomotheta.charter import Compiled
from nomotheta.load.balance import How


def told_apart(compiled: Compiled, how: How) -> str:
    """Why a load cannot be taken out again; empty where it can."""
    charter = compiled.charter
    if how == "merge":
        return "a merge gives rows other values, and what they were is not kept"
    if how == "append" and not charter.load_column():
        return "its rows cannot be told from others: no column is filled from @load.no"
    if how == "overwrite" and not charter.load.keep_previous:
        return "the rows that it replaced were not kept: keep_previous is not declared"
    return ""
