"""A condition held against the declared kinds, before any data is read."""

from __future__ import annotations

import datetime
import re
import uuid
import zoneinfo
from collections.abc import Callable, Mapping
from typing import NoReturn

from nomotheta.conditions.functions import DEVIATIONS, EXACT, PARAMETERS
from nomotheta.conditions.kind import (
    BOOLEAN,
    DATE,
    DURATION,
    INTEGER,
    INTERVAL,
    MOST_DIGITS,
    NULL,
    REAL,
    TEXT,
    TIME,
    TIMESTAMP,
    TIMESTAMPTZ,
    Kind,
    decimal,
)
from nomotheta.conditions.parse import COMPARISONS, NO_LIST, parse
from nomotheta.conditions.pattern import PatternError, in_any_case, parse_pattern
from nomotheta.conditions.promote import as_decimal, as_instant, common_kind, instant, local, plain, promoted
from nomotheta.conditions.tree import ConditionError, Node
from nomotheta.errors import did_you_mean

_UNORDERED = {"uuid", "boolean", "binary"}
_MOMENTS = {"date", "time", "timestamp", "timestamptz"}
_CASTS = {
    ("integer", "decimal"), ("integer", "real"), ("decimal", "real"), ("decimal", "integer"), ("integer", "text"),
    ("decimal", "text"), ("date", "text"), ("date", "timestamp"), ("timestamp", "date"), ("text", "integer"),
    ("text", "decimal"), ("boolean", "integer"), ("timestamptz", "date"), ("timestamptz", "timestamp"),
}  # fmt: skip
_INSTEAD_OF_CAST = {
    ("real", "integer"): "write floor(x), ceil(x) or round(x)",
    ("text", "date"): "declare the column as date: then values that are not dates are found without a condition",
    (
        "text",
        "timestamp",
    ): "declare the column as timestamp: then values that are not timestamps are found without a condition",
}
_LITERALS = {
    "date": r"\d{4}-\d\d-\d\d",
    "time": r"\d\d:\d\d(:\d\d(\.\d{1,6})?)?",
    "timestamp": r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d{1,6})?)?",
    "timestamptz": r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z|[+-]\d\d(:?\d\d)?)?",
    "uuid": r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}",
}


def check(text: str, columns: Mapping[str, Kind], mode: str = "each") -> Node:
    """The tree of a condition with the kind of every part.

    Args:
        text: the condition.
        columns: the kinds of the columns it may speak of.
        mode: `each` for a condition on a row, `whole` for one on all rows; `row value` and `whole value` for a value
            of any kind that is worked out of a row, or of all.

    Raises:
        ConditionError: it does not parse, names what is not there, or mixes kinds.
    """
    return _Checker(text, columns, mode).run()


class _Checker:
    def __init__(self, text: str, columns: Mapping[str, Kind], mode: str) -> None:
        self.text, self.mode, self.inside = text, mode, False
        self.columns = {name: plain(kind) for name, kind in columns.items()}
        self.lower = {name.lower(): name for name in columns}
        self.steps: dict[str, Callable[[Node], Kind]] = {
            "group": lambda node: node.args[0].kind, "row": self.row,
            "and": self.logic, "or": self.logic, "not": self.logic,
            "is null": lambda _: BOOLEAN, "is true": self.logic, "is false": self.logic,
            "between": self.compare, "in": self.compare, "is distinct": self.compare,
            **dict.fromkeys(COMPARISONS, self.compare),
            "like": self.like, "match": self.match, "||": self.join,
            **dict.fromkeys(("+", "-", "*", "/", "%"), self.arithmetic),
            "negative": self.negative, "case": self.case, "cast": self.cast, "extract": self.extract,
            "at zone": self.at_zone,
            "call": self.call, "column": self.column, "number": self.number, "string": lambda _: TEXT,
            "null": lambda _: NULL, "true": lambda _: BOOLEAN, "false": lambda _: BOOLEAN,
            "current_date": lambda _: DATE, "current_timestamp": lambda _: TIMESTAMP,
            "last": lambda node: node.args[0].kind, "interval": lambda _: INTERVAL, "literal": self.literal,
            "parameter": lambda node: Kind(PARAMETERS[node.value]),
        }  # fmt: skip

    def run(self) -> Node:
        node = self.visit(parse(self.text))
        for each in node.walk():
            if each.op != "shift":  # elsewhere an interval is not counted by the calendar, but lasts some time
                each.args = [promoted(arg, DURATION) if arg.op == "interval" else arg for arg in each.args]
        if node.kind.name not in {"boolean", "null"} and not self.mode.endswith("value"):
            self.fail(f"a condition is true or false, but this is {node.kind}", node)
        if self.mode.startswith("whole") and not any(each.op == "aggregate" for each in node.walk()):
            hint = "for a condition on each row, write it under 'each'"
            self.fail("a 'whole' condition needs an aggregate such as count(*) or sum(...)", node, hint)
        return node

    def visit(self, node: Node) -> Node:
        if node.op == "aggregate":
            node.kind = self.aggregate(node)
            return node
        node.args = [self.visit(arg) for arg in node.args]
        node.kind = self.steps[node.op](node)
        return node

    def fail(self, what: str, node: Node, hint: str = "", *, at_mark: bool = False) -> NoReturn:
        start, end = node.mark if at_mark and node.mark else (node.start, node.end)
        raise ConditionError(what, start, end, hint)

    def written(self, node: Node) -> str:
        return self.text[node.start : node.end]

    def need(self, node: Node, names: tuple[str, ...], what: str) -> None:
        if node.kind.name not in {*names, "null"}:
            self.fail(f"{what} needs {' or '.join(names)}, but {self.written(node)} is {node.kind}", node)

    def need_number(self, node: Node, what: str) -> None:
        self.need(node, ("integer", "decimal", "real"), what)

    def unify(self, nodes: list[Node], what: str) -> Kind:
        """The kind that all of `nodes` can be promoted to; fails at the first that does not fit."""
        first, kind = nodes[0], nodes[0].kind
        for other in nodes[1:]:
            common = common_kind(kind, other.kind)
            if common is None:
                parts = f"{self.written(first)} is {kind}, {self.written(other)} is {other.kind}"
                self.fail(f"{what}: {parts}", other, _quote_hint(first, other))
            first, kind = (first if common == kind else other), common
        return kind

    # ---- one method an operation

    def column(self, node: Node) -> Kind:
        name = node.value if node.value in self.columns else self.lower.get(node.value.lower())
        if name is None:
            hint = did_you_mean(node.value, self.columns, "columns: " + ", ".join(self.columns))
            self.fail(f"no column '{node.value}'", node, hint)
        if self.mode.startswith("whole") and not self.inside:
            hint = f"write max({name}), count(distinct {name}), ... or use 'each'"
            self.fail(f"'{name}' is used outside an aggregate; a 'whole' is about all rows together", node, hint)
        node.value = name
        return self.columns[name]

    def aggregate(self, node: Node) -> Kind:
        name, filtered = node.value.name, node.value.filtered
        if not self.mode.startswith("whole"):
            self.fail(f"{name}(...) is an aggregate; 'each' looks at one row at a time", node,
                      "write it under 'whole'", at_mark=True)  # fmt: skip
        if self.inside:
            self.fail("an aggregate cannot hold another", node, at_mark=True)
        self.inside = True
        node.args = [self.visit(arg) for arg in node.args]
        self.inside = False
        if filtered:
            self.need(node.args[-1], ("boolean",), "'filter (where ...)'")
        if name == "count":
            return INTEGER
        of = node.args[0]
        if name in {"median", "percentile_cont", *DEVIATIONS}:
            self.need_number(of, name)
            node.args[0] = promoted(of, REAL)
            return REAL
        if name in {"sum", "avg"}:
            self.need_number(of, name)
            if name == "avg" or of.kind.name == "real":
                return REAL
            return (
                INTEGER if of.kind.name != "decimal" else decimal(min(MOST_DIGITS, of.kind.digits + 12), of.kind.scale)
            )
        if of.kind.name in _UNORDERED:
            self.fail(f"{name} has no meaning for {of.kind}", of)
        return of.kind

    def row(self, node: Node) -> Kind:
        self.fail(NO_LIST, node)

    def logic(self, node: Node) -> Kind:
        for arg in node.args:
            self.need(arg, ("boolean",), f"'{node.op}'")
        return BOOLEAN

    def compare(self, node: Node) -> Kind:
        for arg in node.args:
            if arg.op == "null" and node.op != "is distinct":
                self.fail("a comparison with null is never true", arg, "write is null")
        if all(arg.kind == INTERVAL for arg in node.args):
            self.fail("two intervals are always the same", node, "write arrived - departed > interval '90' minute")
        if any(arg.kind == TIMESTAMPTZ for arg in node.args):
            node.args = [as_instant(arg) for arg in node.args]
        kind = self.unify(node.args, "cannot compare")
        if kind.name in _UNORDERED and node.op not in {"=", "<>", "in", "is distinct"}:
            self.fail(f"{kind} has no order", node, at_mark=True)
        node.args = [promoted(arg, kind) for arg in node.args]
        return BOOLEAN

    def like(self, node: Node) -> Kind:
        self.need(node.args[0], ("text",), "like")
        if node.args[1].op != "string":
            self.fail("the pattern of 'like' is a text in quotes", node.args[1])
        return BOOLEAN

    def match(self, node: Node) -> Kind:
        self.need(node.args[0], ("text",), "a pattern")
        pattern = node.args[1]
        if pattern.op != "string":
            self.fail("a pattern is a text in quotes", pattern)
        try:
            part = parse_pattern(pattern.value)
        except PatternError as error:
            at = pattern.start + 1 + error.position
            raise ConditionError(f"this pattern {error}", at, at + 1) from None
        if len(node.args) > 2 and (node.args[2].op != "string" or node.args[2].value not in {"i", "c"}):
            self.fail("behind the pattern comes 'i', for letters in any case", node.args[2])
        node.value = (in_any_case(part) if len(node.args) > 2 and node.args[2].value == "i" else part, False)
        node.op, node.args = "match", [node.args[0]]
        return BOOLEAN

    def join(self, node: Node) -> Kind:
        for arg in node.args:
            self.need(arg, ("text",), "'||'")
        return TEXT

    def arithmetic(self, node: Node) -> Kind:
        if DURATION in {arg.kind for arg in node.args} or all(arg.kind == INTERVAL for arg in node.args):
            return self.durations(node)
        if node.op in "+-" and any(arg.kind.name in {*_MOMENTS, "interval"} for arg in node.args):
            return self.moments(node)
        for arg in node.args:
            self.need_number(arg, f"'{node.op}'")
        kinds = [arg.kind for arg in node.args]
        if node.op == "/":
            node.args = [promoted(arg, REAL) for arg in node.args]
            return REAL
        if NULL in kinds:
            return next((kind for kind in kinds if kind != NULL), NULL)
        if REAL in kinds:
            if node.op == "%":
                self.fail("'%' needs whole or decimal numbers", node, at_mark=True)
            node.args = [promoted(arg, REAL) for arg in node.args]
            return REAL
        return INTEGER if kinds == [INTEGER, INTEGER] else self.decimals(node)

    def decimals(self, node: Node) -> Kind:
        left, right = (as_decimal(arg) for arg in node.args)
        if node.op == "*":
            kind = decimal(left.digits + right.digits, left.scale + right.scale)
        else:
            scale = max(left.scale, right.scale)
            whole = max(left.digits - left.scale, right.digits - right.scale)
            kind = decimal(whole + scale + (node.op != "%"), scale)
            node.args = [
                promoted(arg, decimal(min(MOST_DIGITS, of.digits - of.scale + scale), scale))
                for arg, of in zip(node.args, (left, right), strict=True)
            ]
        if kind.digits > MOST_DIGITS:
            hint = "cast one side to real, or to fewer digits"
            self.fail(f"this needs {kind.digits} digits; {MOST_DIGITS} is the most", node, hint, at_mark=True)
        return kind

    def durations(self, node: Node) -> Kind:
        """Spans are added, taken from each other, multiplied, and divided by an interval: how many of it they are."""
        left, right = node.args
        both = {left.kind, right.kind} <= {DURATION, INTERVAL}
        if both and node.op in "+-/":
            node.args = [promoted(arg, DURATION) for arg in node.args]
            if node.op != "/":
                return DURATION
            node.args = [promoted(arg, REAL) for arg in node.args]
            return REAL
        if node.op == "*" and {left.kind, right.kind} == {DURATION, INTEGER}:
            return DURATION
        hint = "write (arrived - departed) / interval '1' minute for a number"
        self.fail(f"'{node.op}' has no meaning between {left.kind} and {right.kind}", node, hint, at_mark=True)

    def moments(self, node: Node) -> Kind:
        if any(arg.kind == TIMESTAMPTZ for arg in node.args):
            node.args = [as_instant(arg) for arg in node.args]
        left, right = node.args
        names = {left.kind.name, right.kind.name}
        op, node.op = node.op, "shift"
        node.value = op
        if right.kind == INTERVAL and left.kind == TIMESTAMPTZ:
            if right.value[1] not in EXACT:
                hint = "add months to a local time: (x at time zone 'Atlantic/Faroe') + interval '1' month"
                self.fail("a month of an instant depends on the time zone", right, hint)
            return TIMESTAMPTZ
        if right.kind == INTERVAL and left.kind.name in {"date", "timestamp"}:
            if left.kind == DATE and right.value[1] in {"hour", "minute", "second"}:
                node.args[0] = promoted(left, TIMESTAMP)
                return TIMESTAMP
            return left.kind
        if left.kind == DATE and right.kind == INTEGER:
            return DATE
        if op == "-" and names == {"date"}:
            node.op = "days"
            return INTEGER
        if op == "-" and (names <= {"date", "timestamp"} or left.kind == right.kind in (TIME, TIMESTAMPTZ)):
            node.op = "span"
            node.args = [promoted(arg, TIMESTAMP) if arg.kind == DATE else arg for arg in node.args]
            return DURATION
        verb = "add" if op == "+" else "subtract"
        parts = f"{self.written(left)} is {left.kind}, {self.written(right)} is {right.kind}"
        self.fail(f"cannot {verb}: {parts}", right)

    def at_zone(self, node: Node) -> Kind:
        """The local time that the clocks of a zone show at an instant; the other way round it may be two instants."""
        of = node.args[0] = as_instant(node.args[0])
        if of.kind.name not in {"timestamptz", "null"}:
            hint = "declare the column as timestamptz: then local times in files are read as instants"
            self.fail(f"'at time zone' needs timestamptz, but {self.written(of)} is {of.kind}", of, hint)
        if node.value not in zoneinfo.available_timezones():
            self.fail(
                f"'{node.value}' is not a time zone", node, "write one such as Atlantic/Faroe or UTC", at_mark=True
            )
        return TIMESTAMP

    def negative(self, node: Node) -> Kind:
        if node.args[0].kind != DURATION:
            self.need_number(node.args[0], "'-'")
        return node.args[0].kind

    def number(self, node: Node) -> Kind:
        text = node.value
        if "e" in text.lower():
            return REAL
        whole, _, fraction = text.partition(".")
        digits = max(1, len(whole.lstrip("0"))) + len(fraction)
        if digits > MOST_DIGITS:
            self.fail(f"{digits} digits; {MOST_DIGITS} is the most", node)
        return decimal(digits, len(fraction)) if "." in text or digits > 18 else INTEGER

    def literal(self, node: Node) -> Kind:
        name, text = node.value
        hint = {"date": "write date '2026-12-31'", "timestamp": "write timestamp '2026-12-31 23:59:59'"}.get(name, "")
        read: dict[str, Callable[[str], object]] = {
            "date": datetime.date.fromisoformat, "time": datetime.time.fromisoformat,
            "timestamp": datetime.datetime.fromisoformat, "uuid": uuid.UUID, "timestamptz": instant,
        }  # fmt: skip
        if name == "timestamp" and re.search(r"(Z|[+-]\d\d(:?\d\d)?)$", text[10:], re.A):
            name = "timestamptz"  # as the standard tells the two apart
        try:
            if not re.fullmatch(_LITERALS[name], text, re.A):
                self.fail(f"'{text}' is not a {name}", node, hint)
            node.value = read[name](text)
        except ConditionError:
            raise
        except ValueError:
            self.fail(f"'{text}' is not a {name}", node, hint)
        return Kind(name)

    def case(self, node: Node) -> Kind:
        pairs = len(node.args) // 2 * 2
        for when in node.args[0:pairs:2]:
            self.need(when, ("boolean",), "'when'")
        results = [*range(1, pairs, 2), *range(pairs, len(node.args))]
        kind = self.unify([node.args[at] for at in results], "the results of 'case' differ in kind")
        for at in results:
            node.args[at] = promoted(node.args[at], kind)
        return kind

    def cast(self, node: Node) -> Kind:
        have, want = node.args[0].kind, node.value
        if have.name not in {want.name, "null"} and (have.name, want.name) not in _CASTS:
            hint = _INSTEAD_OF_CAST.get((have.name, want.name), "")
            self.fail(f"{have} cannot be cast to {want}", node, hint, at_mark=True)
        if have == TIMESTAMPTZ:
            node.args = [local(node.args[0])]
        return plain(want)

    def extract(self, node: Node) -> Kind:
        clock = node.value in {"hour", "minute", "second"}
        of = ("timestamp", "timestamptz", "time") if clock else ("date", "timestamp", "timestamptz")
        if node.args[0].kind == TIMESTAMPTZ:
            node.args = [local(node.args[0])]
        self.need(node.args[0], of, f"extract({node.value} from ...)")
        return INTEGER

    def call(self, node: Node) -> Kind:
        name, args = node.value, node.args
        if name == "coalesce":
            kind = self.unify(args, "the values of coalesce differ in kind")
            node.args = [promoted(arg, kind) for arg in args]
            return kind
        if name == "nullif":
            kind = self.unify(args, "cannot compare")
            node.args = [promoted(arg, kind) for arg in args]
            return kind
        if name == "regexp_like":
            return self.match(node)
        if name == "mod":
            node.op = "%"
            return self.arithmetic(node)
        if name in {"abs", "floor", "ceil", "round"}:
            return self.rounding(node)
        return self.text_call(node)

    def rounding(self, node: Node) -> Kind:
        of = node.args[0]
        if node.value == "abs" and of.kind == DURATION:
            return DURATION
        self.need_number(of, node.value)
        places = 0
        if len(node.args) == 2:
            places = self.count_literal(node.args[1], 0, 10, "the places of round are a whole number from 0 to 10")
        if node.value == "abs" or of.kind.name in {"real", "integer", "null"}:
            return of.kind
        scale = min(places, of.kind.scale)
        return decimal(min(MOST_DIGITS, of.kind.digits - of.kind.scale + 1 + scale), scale)

    def count_literal(self, node: Node, low: int, high: int, what: str) -> int:
        if node.op != "number" or not node.value.isdigit() or not low <= int(node.value) <= high:
            self.fail(what, node)
        return int(node.value)

    def text_call(self, node: Node) -> Kind:
        name, args = node.value, node.args
        counts = args[1:] if name in {"substring", "left", "right"} else []
        for arg in args[: len(args) - len(counts)]:
            self.need(arg, ("text",), name)
        for at, arg in enumerate(counts):
            low = 1 if name == "substring" and at == 0 else 0
            self.count_literal(arg, low, 1_000_000, f"{name} counts with a whole number, from {low}")
        return INTEGER if name in {"char_length", "position"} else TEXT


def _quote_hint(first: Node, second: Node) -> str:
    for text, other in ((first, second), (second, first)):
        if text.op == "string" and other.kind.name in _MOMENTS:
            return f"write {other.kind.name} '{text.value}'"
        if text.op == "string" and other.kind.is_number and re.fullmatch(r"-?\d+(\.\d+)?", text.value, re.A):
            return f"write {text.value} without quotes"
        if text.op == "number" and other.kind == BOOLEAN:
            return "write true or false"
        if text.op == "number" and other.kind == DURATION:
            return f"write an interval: interval '{text.value}' day"
        if {text.kind, other.kind} == {TIMESTAMP, TIMESTAMPTZ} and other.kind == TIMESTAMPTZ:
            return "write cast(x as timestamp) for the local time of an instant in the workspace's zone"
    return ""
