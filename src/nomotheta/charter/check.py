"""One thing that is judged, as it follows from a charter."""

from __future__ import annotations

from typing import Any, Literal

from nomotheta.charter.column import Drift
from nomotheta.charter.excused import Excuse
from nomotheta.charter.positions import Path
from nomotheta.charter.rule import Equals, Usual
from nomotheta.charter.tolerance import ALL, NONE, Otherwise, Tolerance
from nomotheta.conditions import Kind, Node
from nomotheta.frozen import frozen

Sort = Literal[
    "kind", "text_length", "blank", "between", "among", "pattern", "case", "trimmed", "length", "slice", "key",
    "reference", "each", "whole", "groups", "equals", "gaps", "usual", "drift", "offenders",
]  # fmt: skip


ON_ROWS: frozenset[str] = frozenset(
    {"text_length", "blank", "between", "among", "pattern", "case", "trimmed", "length", "slice", "each"}
)


@frozen
class Following:
    """How the values of a column follow each other: by `step` of `unit` (day, month, microsecond, or none).

    `said` is the step as it was written. `first` and `last` are those that must be there: a value, or so many days
    after the day of the run; None where any will do.
    """

    column: str
    kind: Kind
    step: int
    unit: str
    said: str
    first: Any = None
    last: Any = None


@frozen
class Check:
    """One thing that is judged. `path` is its key in the file.

    `node` is its condition, for the sorts that have one; `where` is the one on the rows that it is about, where not
    all are: a row outside meets `node`. `parts` of a key are its expressions, as written and as trees; with `nulls` two
    nulls are the same. A reference is to a table, of a `place` of its own where one is named, or to `listed` values, by
    columns. A value that is held against another has its `text`, too.
    """

    name: str
    sort: Sort
    columns: tuple[str, ...]
    otherwise: Otherwise
    path: Path = ()
    tolerate: Tolerance = NONE
    node: Node | None = None
    because: str = ""
    over: Literal["load", "table"] | None = None
    listed_in: tuple[str, tuple[str, ...]] | None = None
    listed: tuple[tuple[Any, ...], ...] | None = None
    place: str | None = None
    query: str = ""
    whole_row: bool = False
    parts: tuple[tuple[str, Node], ...] = ()
    nulls: bool = False
    keep: Literal["first", "last", "none"] = "first"
    keep_said: bool = False
    by: str | None = None
    copies: Tolerance = ALL
    where: Node | None = None
    groups: tuple[str, ...] = ()
    follows: Following | None = None
    equals: Equals | None = None
    text: str = ""
    usual: Usual | None = None
    drift: Drift | None = None
    owners: tuple[str, ...] = ()
    excuses: tuple[Excuse, ...] = ()

    @property
    def on_rows(self) -> bool:
        """Whether it is a condition that each row meets or not."""
        return self.sort in ON_ROWS
