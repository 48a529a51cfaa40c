"""The tree of a condition, and the error that points into its text."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from nomotheta.conditions.kind import NULL, Kind


@dataclass(slots=True)
class Node:
    """One operation. `start` and `end` bound its text, `mark` the text of its operator; the checker fills `kind`."""

    op: str
    args: list[Node] = field(default_factory=list)
    start: int = 0
    end: int = 0
    value: Any = None
    kind: Kind = NULL
    mark: tuple[int, int] | None = None

    def walk(self) -> Iterator[Node]:
        """The node and all below it."""
        yield self
        for arg in self.args:
            yield from arg.walk()

    def columns(self) -> list[str]:
        """The columns it speaks of, each once, in order."""
        return list(dict.fromkeys(str(node.value) for node in self.walk() if node.op == "column"))


@dataclass(frozen=True, slots=True)
class Aggregate:
    """What is worked out of many rows. With `filtered`, the last argument says of which; `share` is a percentile's."""

    name: str
    distinct: bool = False
    filtered: bool = False
    share: str = ""


class ConditionError(ValueError):
    """A condition that cannot be meant: what, the span of the text it is about, and a hint."""

    def __init__(self, what: str, start: int, end: int, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.start, self.end, self.hint = what, start, max(end, start + 1), hint

    def pointed(self, text: str) -> str:
        """The line of `text` it is about, with carets under the span."""
        first = text.rfind("\n", 0, self.start) + 1
        last = text.find("\n", self.start)
        last = len(text) if last < 0 else last
        width = max(1, min(self.end, last) - self.start)
        return f"{text[first:last]}\n{' ' * (self.start - first)}{'^' * width}"
