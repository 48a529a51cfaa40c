"""The checks of a charter's rules."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from nomotheta.charter.check import Check, Following, Sort
from nomotheta.charter.model import Charter
from nomotheta.charter.positions import Path
from nomotheta.charter.reader import Reader, known, sensible
from nomotheta.charter.rule import Gaps, Rule
from nomotheta.charter.values import EXAMPLES, instant, value_of
from nomotheta.conditions import EXACT, Kind, Node, check

_CALENDAR = {"day": (1, "day"), "week": (7, "day"), "month": (1, "month"), "year": (12, "month")}
_MOMENTS = ("timestamp", "timestamptz")
_STEPS = {
    "integer": "write step = 1",
    "date": 'write step = "1 day"',
    **dict.fromkeys(_MOMENTS, 'write step = "1 hour"'),
}


def rule_checks(reader: Reader, charter: Charter) -> Iterator[Check]:
    """The check of each rule."""
    names: dict[str, int] = {}
    texts: dict[tuple[str, ...], str] = {}
    shared = Counter(rule.name for rule in charter.rules)
    for at, rule in enumerate(charter.rules):
        base: Path = ("rules", at)
        where = " ".join((rule.where or "").split())
        name = f"{rule.name} where {where}" if where and shared[rule.name] > 1 else rule.name
        if name in names:
            first = reader.read.source.position(("rules", names[name], "name")).line
            told = f"the rule '{name}' is declared twice, first in line {first}"
            reader.complain((*base, "name"), told, "rename one, or give each a 'where' of its own")
        names.setdefault(name, at)
        over = "load" if rule.usual is not None else rule.over
        if over == "load" and not charter.load_column() and charter.load.how != "overwrite":
            mend = 'add a column with from = "@load.no"'
            key = "over" if rule.over else "usual"
            reader.complain((*base, key), "the rows of one load cannot be told apart in this table", mend)
        made = _Maker(reader, charter, rule, name, base).made()
        if made is None:
            continue
        if made.sort in {"each", "whole"}:
            text = " ".join(str(getattr(rule, rule.sort)).split())
            said = (text, where, str(over), rule.otherwise, str(rule.tolerate))
            if said in texts:
                reader.complain((*base, rule.sort), f"the rule '{texts[said]}' says the same", "take one of them out")
            texts.setdefault(said, name)
        yield made


@dataclass(slots=True)
class _Maker:
    """Makes the check of one rule; None, and a problem, where it cannot be meant."""

    reader: Reader
    charter: Charter
    rule: Rule
    name: str
    base: Path

    @property
    def path(self) -> Path:
        return (*self.base, self.rule.sort)

    def of(self, sort: Sort, columns: tuple[str, ...], node: Node | None = None, **more: Any) -> Check:
        rule = self.rule
        return Check(
            self.name, sort, columns, rule.otherwise, self.path, rule.tolerate, node, rule.because, rule.over,
            owners=tuple(rule.owners), **more,
        )  # fmt: skip

    def made(self) -> Check | None:
        if self.rule.by is not None and not known(self.reader, (*self.base, "by"), self.rule.by, self.charter):
            return None
        by_sort: dict[str, Callable[[], Check | None]] = {
            "each": self.each, "whole": self.whole, "without_gaps": self.gaps, "usual": self.usual,
            "offenders": self.offenders,
        }  # fmt: skip
        return by_sort[self.rule.sort]()

    def each(self) -> Check | None:
        rule, kinds = self.rule, self.charter.kinds()
        node = sensible(self.reader, self.path, str(rule.each), kinds, "each")
        if rule.where is None:
            return None if node is None else self.of("each", tuple(node.columns()), node)
        narrowed = sensible(self.reader, (*self.base, "where"), rule.where, kinds, "each")
        if node is None or narrowed is None:
            return None
        node = check(f"({rule.where}\n) is not true or ({rule.each}\n)", kinds)
        return self.of("each", tuple(node.columns()), node, where=narrowed)

    def whole(self) -> Check | None:
        if self.rule.equals is not None:
            return self.equal()
        node = sensible(self.reader, self.path, str(self.rule.whole), self.charter.kinds(), "whole")
        if node is None or self.rule.by is None:
            return None if node is None else self.of("whole", tuple(node.columns()), node)
        by = tuple(self.rule.by)
        return self.of("groups", tuple(dict.fromkeys([*by, *node.columns()])), node, groups=by)

    def equal(self) -> Check | None:
        equals, text = self.rule.equals, str(self.rule.whole)
        node = self.reader.condition(self.path, text, self.charter.kinds(), "whole value")
        if node is None or equals is None:
            return None
        of = (*self.base, "equals")
        if node.kind.name in {"boolean", "null"}:
            told = "'equals' needs a value, such as count(*), and this is true or false"
            self.reader.complain(self.path, told, "write the value alone")
        elif node.kind.name == "real" and equals.within is None:
            told = "two real numbers are never sure to be the same"
            self.reader.complain(of, told, 'write within = "0.01%" beside it')
        elif equals.within is not None and not node.kind.is_number:
            self.reader.complain(of, f"'within' is of numbers, and this is {node.kind}", "take 'within' out")
        else:
            return self.of("equals", tuple(node.columns()), node, equals=equals, text=" ".join(text.split()))
        return None

    def usual(self) -> Check | None:
        usual = self.rule.usual
        node = usual and self.reader.condition(self.path, usual.of, self.charter.kinds(), "whole value")
        if not node or usual is None:
            return None
        hidden = [name for name in node.columns() if self.charter.columns[name].private]
        if hidden and not (node.op == "aggregate" and node.value.name == "count"):
            told = f"values of earlier loads would be kept, and they are private: column '{hidden[0]}'"
            self.reader.complain(self.path, told, "count its values, or take the rule out")
            return None
        if not node.kind.is_number:
            told = f"usual works on numbers, and this is {node.kind}"
            self.reader.complain(self.path, told, "write count(*), sum(…) or avg(…)")
            return None
        made = self.of("usual", tuple(node.columns()), node, usual=usual, text=" ".join(usual.of.split()))
        return replace(made, over="load")

    def offenders(self) -> Check | None:
        query = str(self.rule.offenders)
        if not re.match(r"\s*(select|with)\b", query, re.I) or ";" in query:
            mend = "write select … from … where …, and nothing behind it"
            self.reader.complain(self.path, "offenders is one SELECT, without a semicolon", mend)
            return None
        return self.of("offenders", (), query=query)

    def gaps(self) -> Check | None:
        gaps, by = self.rule.without_gaps, tuple(self.rule.by or ())
        if gaps is None or not known(self.reader, self.path, [gaps.column], self.charter):
            return None
        kind = self.charter.kinds().get(gaps.column)
        amount, unit = gaps.counted
        name = kind.name if kind else ""
        fits = {"integer": not unit, "date": unit in _CALENDAR}.get(name, name in _MOMENTS and unit in EXACT)
        if kind is None or not fits:
            told = f"the values of {gaps.column}, which is {kind}, do not follow each other by {gaps.step}"
            self.reader.complain(self.path, told, _STEPS.get(name, "name a column of whole numbers, days or moments"))
            return None
        if by and (gaps.first is not None or gaps.last is not None):
            told = "'first' and 'last' are of the whole column, not of each group"
            self.reader.complain(self.path, told, "take them or 'by' out")
            return None
        try:
            ends = [self.end(kind, gaps, key) for key in ("first", "last")]
        except ValueError:
            return None
        times, base = {"date": _CALENDAR.get(unit), "integer": (1, "")}.get(name) or (EXACT[unit], "microsecond")
        following = Following(gaps.column, kind, amount * times, base, str(gaps.step), *ends)
        return self.of("gaps", (*by, gaps.column), groups=by, follows=following)

    def end(self, kind: Kind, gaps: Gaps, key: str) -> Any:
        """The first or the last value; so many days after that of the run, where it is said so."""
        raw = getattr(gaps, key)
        if isinstance(raw, str) and kind.name == "date" and re.fullmatch(r":day( *[+-] *\d{1,4})?", raw, re.ASCII):
            return int(raw.removeprefix(":day").replace(" ", "") or 0)
        try:
            return None if raw is None else instant(kind, value_of(kind, raw), self.reader.zone)
        except ValueError as error:
            also = ', ":day" or ":day - 1"' * (kind.name == "date")
            self.reader.complain((*self.path, key), str(error), f"write a value such as {EXAMPLES[kind.name]}{also}")
            raise
