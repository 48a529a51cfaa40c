"""Conditions of a charter held against its kinds; what is wrong with them points into the file."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nomotheta.charter.model import Charter
from nomotheta.charter.positions import Path
from nomotheta.charter.read import Problem, Read
from nomotheta.conditions import ConditionError, Kind, Node, always_the_same, check
from nomotheta.errors import did_you_mean


@dataclass(slots=True)
class Reader:
    """A charter that is read into checks, and what is found wrong with it."""

    read: Read
    zone: str = "UTC"
    problems: list[Problem] = field(default_factory=list)

    def complain(self, path: Path, what: str, mend: str = "", excerpt: str = "") -> None:
        """Add a problem at a key."""
        self.problems.append(self.read.source.problem(path, what, mend, excerpt))

    def condition(self, path: Path, text: str, kinds: Mapping[str, Kind], mode: str) -> Node | None:
        """The tree of a condition; None, and a problem, where it cannot be meant."""
        try:
            return check(text, kinds, mode)
        except ConditionError as error:
            position = self.read.source.position(path)
            line = position.line + self._line_within(path, text, error.start)
            excerpt = error.pointed(text)
            hint = _habit(text, error) or error.hint or _hint(error.what)
            self.problems.append(self.read.source.at(position, line, error.what, hint, excerpt))
        return None

    def _line_within(self, path: Path, text: str, at: int) -> int:
        """How many lines below its key a place in a multi-line text stands."""
        position = self.read.source.position(path)
        start = position.value
        opened_on_next = self.read.source.text_at(position)[start + 3 : start + 4] == "\n"
        return text.count("\n", 0, at) + opened_on_next if "\n" in text.strip() else 0


def sensible(reader: Reader, path: Path, text: str, kinds: Mapping[str, Kind], mode: str) -> Node | None:
    """A condition that is of use: one that has the same answer for all rows is complained of."""
    node = reader.condition(path, text, kinds, mode)
    if node is not None and (told := always_the_same(node)):
        reader.complain(path, told, "take it out, or correct it")
    return node


def known(reader: Reader, path: Path, names: Sequence[str], charter: Charter) -> bool:
    """Whether the charter has such columns; a problem where it has not."""
    unknown = [name for name in names if name not in charter.columns]
    for name in unknown:
        hint = did_you_mean(name, charter.columns, "columns: " + ", ".join(charter.columns))
        reader.complain(path, f"no column '{name}'", hint)
    return not unknown


_HABITS = {
    "ilike": "compare without case: lower(x) like 'a%'",
    "similar": "write regexp_like(x, '[A-Z]{3}')",
    "regexp": "write regexp_like(x, '[A-Z]{3}')",
    "rlike": "write regexp_like(x, '[A-Z]{3}')",
    "date_trunc": "compare parts: extract(year from x) = 2026, or a range: x >= date '2026-01-01'",
    "datediff": "subtract the days: x - y",
    "dateadd": "add days: x + 7",
    "now": "write current_timestamp",
    "getdate": "write current_date",
    "sysdate": "write current_date",
    "isnull": "write x is null, or coalesce(x, 0)",
    "nvl": "write coalesce(x, 0)",
    "ifnull": "write coalesce(x, 0)",
    "len": "write length(x)",
    "substr": "write substring(x from 1 for 3)",
    "if": "write case when … then … else … end, or: not (condition) or then",
    "iif": "write case when … then … else … end",
}  # what is written by habit, from the dialects of databases and from programs


def _habit(text: str, error: ConditionError) -> str:
    """The mend of what another dialect would have taken."""
    if re.match(r"\s*if\b", text, re.I):
        return _HABITS["if"]
    word = re.match(r'"?\w+"?', text[error.start :])
    if word is None:
        return ""
    if word[0].startswith('"') and "column" in error.what:
        return f"a text goes between apostrophes: '{word[0].strip(chr(34))}'"
    return _HABITS.get(word[0].casefold(), "")


def _hint(what: str) -> str:
    """The mend of a condition whose error has no closer one."""
    if what.startswith(("cannot compare", "the values of", "the results of")):
        return "use values of one kind, or cast one of them: cast(x as text)"
    return "see Conditions in the charter reference"
