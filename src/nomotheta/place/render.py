"""A checked condition as SQL. Every part stands for itself, and errors inside a scan are rendered away.

`Renderer` speaks DuckDB, the embedded engine; another database's renderer overrides what it says differently. The
meaning is one: division is by double and null by zero, text is compared by code point, length counts characters,
trim knows all Unicode white space, round goes half away from zero, and today is the day of the run.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

from nomotheta.conditions import Kind, Node, as_glob, quoted, render_pattern
from nomotheta.conditions.build import constant
from nomotheta.frozen import frozen
from nomotheta.layout import WHITE_SPACE

PRINTABLE = (33, 126)
_NEVER_SPACE = (PRINTABLE, (161, 5759), (12289, 1114111))  # code points with no white space among them
_COMPARISONS = ("=", "<>", "<", ">", "<=", ">=")


@frozen
class Now:
    """What a run fixes once: its moment, the day it is about, and the load it judges."""

    moment: datetime.datetime
    day: datetime.date
    load_no: int | None = None
    last: Mapping[str, Any] = field(default_factory=dict)  # values of the load before, by the names of conditions


NOWHERE = Now(
    datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC), datetime.date(1970, 1, 1)
)  # for what asks of no moment


@dataclass(slots=True)
class Renderer:
    """Renders conditions for one run."""

    wide_decimals: ClassVar[bool] = False  # whether the database's decimals have digits enough as they are
    now: Now
    prefix: str = ""
    _by_op: dict[str, Callable[[Node], str]] = field(init=False)

    def __post_init__(self) -> None:
        self._by_op = {
            "group": lambda node: self.render(node.args[0]),
            "column": self.column, "number": self.number, "string": lambda node: text_literal(node.value),
            "null": lambda _: "NULL", "true": lambda _: "TRUE", "false": lambda _: "FALSE",
            "current_date": lambda _: self.moment(self.now.moment.date()),
            "current_timestamp": self.present, "at zone": self.at_zone, "span": self.span,
            "literal": self.literal, "parameter": self.parameter, "last": self.last,
            "promote": self.promote, "and": self.joined, "or": self.joined,
            "not": lambda node: f"(NOT {self.render(node.args[0])})",
            "is null": lambda node: f"({self.render(node.args[0])} IS NULL)",
            "is true": lambda node: f"({self.render(node.args[0])} IS TRUE)",
            "is false": lambda node: f"({self.render(node.args[0])} IS FALSE)",
            "is distinct": lambda node: f"({self.render(node.args[0])} IS DISTINCT FROM {self.render(node.args[1])})",
            "between": self.between, "in": self.within, "like": self.like, "match": self.match,
            "||": lambda node: f"({self.render(node.args[0])} || {self.render(node.args[1])})",
            "not blank": self.not_blank, "negative": self.negative,
            "shift": self.shift, "days": self.days, "case": self.case, "cast": self.cast,
            "later": self.later, "unhex": self.unhex, "chop": self.chop,
            "end": lambda node: f"right({self.render(node.args[0])}, {node.value})",
            "extract": lambda node: f"extract({node.value} FROM {self.render(node.args[0])})",
            "call": self.call, "aggregate": self.aggregate,
            "quickly": lambda node: self.render(node.args[1]),  # the first is for where the second is slow
            "behind": lambda node: self.render(node.args[1]),  # which tells of a local time in the first
            **dict.fromkeys(_COMPARISONS, self.compared),
            **dict.fromkeys(("+", "-", "*", "/", "%"), self.arithmetic),
        }  # fmt: skip

    def render(self, node: Node) -> str:
        """The SQL of a node."""
        return self._by_op[node.op](node)

    def column(self, node: Node) -> str:
        """A column of the table."""
        return self.prefix + quoted(node.value)

    def number(self, node: Node) -> str:
        """A number as it was written; a real is marked as one."""
        text = "0" + node.value if node.value.startswith(".") else node.value
        return self.real(text) if node.kind.name == "real" else text

    def real(self, sql: str) -> str:
        """As a double."""
        return f"CAST({sql} AS DOUBLE)"

    def whole(self, sql: str) -> str:
        """As a whole number of 64 bits."""
        return f"CAST({sql} AS BIGINT)"

    def moment(self, value: Any) -> str:
        """A date, time, timestamp or uuid as a literal."""
        if isinstance(value, datetime.datetime):
            zone = " WITH TIME ZONE" if value.tzinfo else ""
            return f"CAST('{value.isoformat(' ')}' AS TIMESTAMP{zone})"
        name = {datetime.date: "DATE", datetime.time: "TIME"}.get(type(value), "UUID")
        return f"CAST('{value}' AS {name})"

    def present(self, node: Node) -> str:
        """The moment of the run: an instant, or a local time of the workspace's zone."""
        return self.moment(self.now.moment if node.kind.name == "timestamptz" else self.now.moment.replace(tzinfo=None))

    def literal(self, node: Node) -> str:
        """A written moment; an instant without an offset is a local time of the workspace's zone."""
        value = node.value
        if node.kind.name == "timestamptz":
            value = value if value.tzinfo else value.replace(tzinfo=self.now.moment.tzinfo)
            value = value.astimezone(datetime.UTC)
        return self.moment(value)

    def zone_of(self, node: Node) -> str:
        """The time zone of an `at time zone`: that of the workspace, where none is named."""
        return str(node.value) if node.value else getattr(self.now.moment.tzinfo, "key", "UTC")

    def at_zone(self, node: Node) -> str:
        """The local time of an instant."""
        return f"({self.render(node.args[0])} AT TIME ZONE {text_literal(self.zone_of(node))})"

    def span(self, node: Node) -> str:
        """The microseconds from the right moment to the left."""
        return f"date_diff('microsecond', {self.render(node.args[1])}, {self.render(node.args[0])})"

    def parameter(self, node: Node) -> str:
        """A value that the run fills in."""
        if node.value == "day":
            return self.moment(self.now.day)
        return "NULL" if self.now.load_no is None else str(int(self.now.load_no))

    def last(self, node: Node) -> str:
        """What an aggregate came to in the load before; null where there was none."""
        value = self.now.last.get(node.value)
        if value is None:
            return f"CAST(NULL AS {self.type_name(node.kind)})"
        return self.render(constant(value, node.kind))

    def promote(self, node: Node) -> str:
        """A narrower kind as a wider one."""
        inner, kind = self.render(node.args[0]), node.kind
        if kind.name == "real":
            return inner if node.args[0].kind.name == "real" else self.real(inner)
        return f"CAST({inner} AS {self.type_name(_widened(node.args[0].kind, kind))})"

    def type_name(self, kind: Kind) -> str:
        """The database's name for a kind."""
        return duckdb_type(kind)

    def joined(self, node: Node) -> str:
        """Parts of an and or an or."""
        return "(" + f" {node.op.upper()} ".join(self.render(arg) for arg in node.args) + ")"

    def compared(self, node: Node) -> str:
        """One comparison."""
        return f"({self.render(node.args[0])} {node.op} {self.render(node.args[1])})"

    def between(self, node: Node) -> str:
        """Within both bounds, the bounds included."""
        value, low, high = map(self.render, node.args)
        return f"({value} BETWEEN {low} AND {high})"

    def within(self, node: Node) -> str:
        """One of a list."""
        value, *listed = map(self.render, node.args)
        return f"({value} IN ({', '.join(listed)}))"

    def like(self, node: Node) -> str:
        """LIKE with one escape character everywhere."""
        pattern, escape, out, at = node.args[1].value, node.value, "", 0
        while at < len(pattern):
            literal = bool(escape) and pattern[at] == escape and at + 1 < len(pattern)
            at += literal
            escaped = pattern[at] == "!" or (literal and pattern[at] in "%_")
            out += ("!" if escaped else "") + pattern[at]
            at += 1
        return f"({self.render(node.args[0])} LIKE {text_literal(out)} ESCAPE '!')"

    def match(self, node: Node) -> str:
        """A regular expression."""
        part, full = node.value
        glob = as_glob(part) if full else None
        if glob is not None:  # of a column that repeats a few texts, each is looked at once; patterns see every row
            return f"({self.render(node.args[0])} GLOB {text_literal(glob)})"
        pattern = text_literal(render_pattern(part, "re2", full=False))
        return f"regexp_{'full_match' if full else 'matches'}({self.render(node.args[0])}, {pattern})"

    def arithmetic(self, node: Node) -> str:
        """Plus, minus, times, divided by, modulo."""
        left, right = (self.render(arg) for arg in node.args)
        if node.op == "/":
            return f"({left} / NULLIF({right}, {self.real('0')}))"
        if node.kind.name in {"integer", "duration"}:
            left, right = self.whole(left), self.whole(right)
        elif node.kind.name == "decimal" and not self.wide_decimals:
            left, right = (
                f"CAST({sql} AS {self.type_name(Kind('decimal', arg.kind.digits, arg.kind.scale))})"
                for sql, arg in zip((left, right), node.args, strict=True)
            )
        return f"({left} % NULLIF({right}, 0))" if node.op == "%" else f"({left} {node.op} {right})"

    def negative(self, node: Node) -> str:
        """The negative of a number."""
        inner = self.render(node.args[0])
        if node.args[0].op == "number" and node.kind.name == "integer":
            return self.whole(f"-{inner}")  # the least whole number has no positive counterpart
        return f"(- {self.whole(inner) if node.kind.name in {'integer', 'duration'} else inner})"

    def shift(self, node: Node) -> str:
        """A date or timestamp moved by days or by an interval."""
        moment, by = node.args
        start = self.render(moment)
        if by.kind.name == "integer":
            return f"({start} {node.value} CAST({self.render(by)} AS INTEGER))"
        amount, unit = by.value
        moved = f"({start} + INTERVAL '{amount if node.value == '+' else -amount} {unit}')"
        return f"CAST({moved} AS DATE)" if node.kind.name == "date" else moved

    def later(self, node: Node) -> str:
        """A moment so many seconds later."""
        return f"({self.render(node.args[0])} + to_seconds({self.render(node.args[1])}))"

    def unhex(self, node: Node) -> str:
        """The bytes that a text of hexadecimal digits spells."""
        return f"unhex({self.render(node.args[0])})"

    def chop(self, node: Node) -> str:
        """A text without its last letters, of which it has so many."""
        return f"left({self.render(node.args[0])}, -{node.value})"

    def days(self, node: Node) -> str:
        """The days from the right date to the left."""
        return f"date_diff('day', {self.render(node.args[1])}, {self.render(node.args[0])})"

    def case(self, node: Node) -> str:
        """CASE WHEN."""
        pairs = len(node.args) // 2 * 2
        whens = [
            f"WHEN {self.render(node.args[at])} THEN {self.render(node.args[at + 1])}" for at in range(0, pairs, 2)
        ]
        rest = [f"ELSE {self.render(node.args[-1])}"] if pairs < len(node.args) else []
        return f"CASE {' '.join(whens + rest)} END"

    def cast(self, node: Node) -> str:
        """A cast; text that is not a number becomes null, not an error."""
        of, kind = node.args[0], node.value
        inner = self.render(of)
        if of.kind.name == "text" and kind.name in {"integer", "decimal"}:
            shaped = f"CASE WHEN regexp_matches({inner}, '{number_shape(kind)}') THEN {inner} END"
            return f"TRY_CAST({shaped} AS {self.type_name(kind)})"
        if of.kind.name == "decimal" and kind.name == "integer":
            return self.whole(f"round({inner})")
        return f"CAST({inner} AS {self.type_name(kind)})"

    def call(self, node: Node) -> str:
        """A function."""
        special = {"round": self.round, "trim": self.trim, "position": self.position, "char_length": self.length}
        if node.value in special:
            return special[node.value](node)
        args = [self.render(arg) for arg in node.args]
        if node.value in {"floor", "ceil"} and node.kind.name == "integer":
            return args[0]
        if node.value == "abs" and node.kind.name == "integer":
            args = [self.whole(args[0])]
        return f"{node.value}({', '.join(args)})"

    def length(self, node: Node) -> str:
        """Characters of a text."""
        return f"length({self.render(node.args[0])})"

    def position(self, node: Node) -> str:
        """Where a text is in another, from 1; 0 where it is not."""
        needle, text = map(self.render, node.args)
        return f"strpos({text}, {needle})"

    def round(self, node: Node) -> str:
        """Rounded half away from zero."""
        value = self.render(node.args[0])
        places = int(node.args[1].value) if len(node.args) == 2 else 0
        if node.kind.name == "integer":
            return value
        if node.kind.name != "real":
            return f"round({value}, {min(places, node.args[0].kind.scale)})"
        scale, half = self.real(f"1e{places}"), self.real("0.5")
        up = f"floor(abs({value}) * {scale} + {half}) / {scale}"
        return f"(CASE WHEN {value} >= 0 THEN {up} ELSE - ({up}) END)"

    def trim(self, node: Node) -> str:
        """Without white space at either end; only texts that may have some are touched, which is ten times faster."""
        value, spaces = self.render(node.args[0]), text_literal(WHITE_SPACE)
        low, high = PRINTABLE
        plain = f"unicode({value}) BETWEEN {low} AND {high} AND unicode(({value})[-1]) BETWEEN {low} AND {high}"
        return f"(CASE WHEN {plain} THEN {value} ELSE trim({value}, {spaces}) END)"

    def not_blank(self, node: Node) -> str:
        """Neither null, nor empty, nor only white space; the first character decides for nearly every text."""
        value = self.render(node.args[0])
        first = f"unicode({value})"
        seen = " ".join(f"WHEN {first} BETWEEN {low} AND {high} THEN TRUE" for low, high in _NEVER_SPACE)
        empty = f"WHEN {value} IS NULL OR {value} = '' THEN FALSE"
        return f"(CASE {seen} {empty} ELSE trim({value}, {text_literal(WHITE_SPACE)}) <> '' END)"

    def several(self, values: Sequence[str], which: str) -> str:
        """Values that are counted together: the rows that have all of them."""
        there = " AND ".join([f"{value} IS NOT NULL" for value in values] + [which] * bool(which))
        return f"CASE WHEN {there} THEN ROW({', '.join(values)}) END"

    def aggregate(self, node: Node) -> str:
        """An aggregate over all rows."""
        name, distinct = node.value.name, node.value.distinct
        args = node.args[:-1] if node.value.filtered else node.args
        which = self.render(node.args[-1]) if node.value.filtered else ""
        if len(args) > 1:
            return f"count(DISTINCT {self.several([self.render(arg) for arg in args], which)})"
        value = self.render(args[0]) if args else "1"
        if which:
            value = f"CASE WHEN {which} THEN {value} END"
        if name == "median" or node.value.share:
            return self.percentile("percentile_cont" if name == "median" else name, node.value.share or "0.5", value)
        if name == "count":
            return f"count({'DISTINCT ' if distinct else ''}{value})"
        inner = f"{'DISTINCT ' if distinct else ''}{value}"
        if name == "avg":
            return f"({self.real(f'sum({inner})')} / NULLIF(count({inner}), 0))"
        found = f"{name}({inner})"
        return (
            f"CAST({found} AS {self.type_name(node.kind)})" if name == "sum" and node.kind.name == "decimal" else found
        )

    @staticmethod
    def quantiles(column: str, shares: Sequence[float]) -> str:
        """The values of a column below which shares of all lie, as a list."""
        return f"quantile_disc({column}, [{', '.join(map(str, shares))}])"

    def percentile(self, name: str, share: str, value: str) -> str:
        """The value below which a share of all lies."""
        return f"{name}({share}) WITHIN GROUP (ORDER BY {value})"


def case_of(node: Node) -> Sequence[str] | None:
    """The columns of texts whose letters a condition changes to capitals or small ones; None where it does not."""
    calls = [each for each in node.walk() if each.op == "call" and each.value in {"lower", "upper"}]
    columns = {each.value for call in calls for each in call.walk() if each.op == "column" and each.kind.name == "text"}
    return sorted(columns) if calls else None


def identifiers(sql: str) -> list[str]:
    """The quoted names in a statement that was made here, in order: what stands between apostrophes is none."""
    return [found[1].replace('""', '"') for found in _TOKENS.finditer(sql) if found[1] is not None]


_TOKENS = re.compile("'(?:[^']|'')*'|\"((?:[^\"]|\"\")*)\"")


def quoted_table(table: str) -> str:
    """A table's name, with its schema where one is given."""
    return ".".join(quoted(part) for part in table.split("."))


def text_literal(text: str) -> str:
    """A text as SQL: the one place where texts of a charter are quoted."""
    return "'" + text.replace("'", "''") + "'"


def duckdb_type(kind: Kind) -> str:
    """DuckDB's name for a kind."""
    if kind.name == "decimal":
        return f"DECIMAL({kind.size},{kind.scale})"
    return {
        "text": "VARCHAR", "integer": "BIGINT", "real": "DOUBLE", "timestamptz": "TIMESTAMP WITH TIME ZONE",
        "binary": "BLOB",
    }.get(kind.name, kind.name.upper())  # fmt: skip


def _widened(have: Kind, want: Kind) -> Kind:
    """A whole number needs 19 digits before the mark to be held as a decimal."""
    if have.name == "integer" and want.name == "decimal":
        return Kind("decimal", min(38, max(want.digits, 19 + want.scale)), want.scale)
    return want


def number_shape(kind: Kind) -> str:
    """The pattern of a text that is written as a number of a kind is, however large it may be; it ends in $."""
    if kind.name == "integer":
        return "^[+-]?[0-9]+$"
    places = f"[.][0-9]{{1,{kind.scale}}}0*" if kind.scale else "[.]0+"  # what is beyond the scale is zero
    return f"^[+-]?([0-9]+({places})?|{places})$"


def number_bounds(kind: Kind) -> str:
    """The lowest and the highest number of a kind, as BETWEEN has them."""
    if kind.name == "integer":
        return f"{-(2**63)} AND {2**63 - 1}"
    most = f"{'9' * (kind.digits - kind.scale) or '0'}.{'9' * kind.scale}0"
    return f"-{most} AND {most}"
