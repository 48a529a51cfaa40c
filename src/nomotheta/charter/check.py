"""One thing that is judged, as it follows from a charter."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from nomotheta.charter.positions import Path
from nomotheta.charter.tolerance import ALL, NONE, Otherwise, Tolerance
from nomotheta.conditions import Node

Sort = Literal[
    "kind", "text_length", "blank", "between", "among", "pattern", "case", "trimmed", "length", "slice", "key",
    "reference", "each", "whole", "offenders",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that is judged. `path` is its key in the file.

    `node` is its condition, for the sorts that have one; `where` is the one on the rows that it is about, where not
    all are: a row outside meets `node`.
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
    query: str = ""
    whole_row: bool = False
    keep: Literal["first", "last", "none"] = "first"
    keep_said: bool = False
    by: str | None = None
    copies: Tolerance = ALL
    where: Node | None = None

    @property
    def on_rows(self) -> bool:
        """Whether it is a condition that each row meets or not."""
        return self.node is not None and self.sort != "whole"
