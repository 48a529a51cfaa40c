"""Tokens into a tree: precedence climbing, one method a level of SQL's operators.

From loosest to tightest: or, and, not, is, comparison, between / in / like / ~, ||, + -, * / %, sign, value.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from copy import deepcopy
from typing import NoReturn

from nomotheta.conditions.functions import (
    AGGREGATES,
    DEVIATIONS,
    FIELDS,
    FUNCTIONS,
    INSTEAD_OF,
    PARAMETERS,
    PERCENTILES,
    SAME_AS,
    UNITS,
)
from nomotheta.conditions.kind import Kind, parse_kind
from nomotheta.conditions.tokens import Token, tokens
from nomotheta.conditions.tree import Aggregate, ConditionError, Node
from nomotheta.errors import counted, did_you_mean

COMPARISONS = ("=", "<>", "!=", "<", ">", "<=", ">=")
_DEEPEST = 60
NO_LIST = "a list of values is not expected here"
_CASTABLE = ("text", "integer", "decimal", "real", "date", "timestamp")


def parse(text: str) -> Node:
    """The tree of one condition, its kinds not yet known.

    Raises:
        ConditionError: it is not in the subset; with the span and a hint.
    """
    return _Parser(text).whole()


class _Parser:
    def __init__(self, text: str) -> None:
        self.text, self.tokens, self.at, self.depth = text, tokens(text), 0, 0

    # ---- tokens

    @property
    def here(self) -> Token:
        return self.tokens[self.at]

    def take(self) -> Token:
        token = self.here
        if token.sort != "end":
            self.at += 1
        return token

    def is_keyword(self, *words: str) -> bool:
        return self.here.sort == "keyword" and self.here.value in words

    def is_op(self, *signs: str) -> bool:
        return self.here.sort == "op" and self.here.value in signs

    def accept(self, value: str) -> Token | None:
        return self.take() if self.here.sort in {"op", "keyword"} and self.here.value == value else None

    def want(self, value: str, of: str = "") -> Token:
        token = self.accept(value)
        return token or self.fail(f"expected '{value}'{of}, {self.found()}")

    def found(self) -> str:
        here = self.here
        return "but the condition ends here" if here.sort == "end" else f"found '{self.text[here.start : here.end]}'"

    def fail(self, what: str, token: Token | None = None, hint: str = "") -> NoReturn:
        token = token or self.here
        raise ConditionError(what, token.start, token.end, hint)

    def nested(self, level: Callable[[], Node]) -> Node:
        self.depth += 1
        if self.depth > _DEEPEST:
            self.fail("nested too deeply")
        node = level()
        self.depth -= 1
        return node

    # ---- levels

    def whole(self) -> Node:
        if self.here.sort == "end":
            raise ConditionError("the condition is empty", 0, 1)
        node = self.either()
        if self.here.sort != "end":
            self.no_query()
            self.fail(f"expected the condition to end here, {self.found()}", hint="join conditions with and / or")
        return node

    def no_query(self) -> None:
        if self.is_keyword("select", "exists", "any", "all"):
            self.fail("a condition cannot hold a query", hint="a query is written under 'offenders'")

    def either(self) -> Node:
        return self.nested(lambda: self.chain("or", self.both))

    def both(self) -> Node:
        return self.chain("and", self.negated)

    def chain(self, word: str, level: Callable[[], Node]) -> Node:
        first = level()
        parts, mark = [first], None
        while self.is_keyword(word):
            token = self.take()
            mark = mark or (token.start, token.end)
            parts.append(level())
        return first if mark is None else Node(word, parts, first.start, parts[-1].end, mark=mark)

    def negated(self) -> Node:
        if not self.is_keyword("not"):
            return self.tested()
        token = self.take()
        return _not(self.nested(self.negated), token)

    def tested(self) -> Node:
        node = self.compared()
        while self.is_keyword("is"):
            token = self.take()
            negative = self.accept("not")
            node = self.test(node, token)
            node = _not(node, token) if negative else node
        return node

    def test(self, node: Node, token: Token) -> Node:
        mark = (token.start, token.end)
        if self.is_keyword("null", "true", "false"):
            word = self.take()
            return Node(f"is {word.value}", [node], node.start, word.end, mark=mark)
        if self.accept("distinct"):
            self.want("from")
            other = self.compared()
            return Node("is distinct", [node, other], node.start, other.end, mark=mark)
        self.fail("after 'is' comes null, true, false or distinct from")

    def compared(self) -> Node:
        node = self.matched()
        if self.is_op(*COMPARISONS):
            token = self.take()
            node = _binary("<>" if token.value == "!=" else token.value, token, node, self.matched())
            if self.is_op(*COMPARISONS):
                self.fail("comparisons do not chain", hint="write a < b and b < c")
        return node

    def matched(self) -> Node:
        node = self.joined()
        following = self.tokens[min(self.at + 1, len(self.tokens) - 1)]
        negative = None
        if node.op == "row" and not self.is_keyword("in", "not"):
            self.fail(NO_LIST)
        if self.is_keyword("not") and following.sort == "keyword" and following.value in {"between", "in", "like"}:
            negative = self.take()
        if self.is_keyword("between"):
            node = self.between(node)
        elif self.is_keyword("in"):
            node = self.within(node)
        elif self.is_keyword("like"):
            node = self.like(node)
        elif self.is_op("~", "!~"):
            token = self.take()
            node = _binary("match", token, node, self.joined())
            negative = token if token.value == "!~" else None
        return _not(node, negative) if negative else node

    def between(self, node: Node) -> Node:
        token = self.take()
        low = self.joined()
        self.want("and", " of 'between'")
        high = self.joined()
        return Node("between", [node, low, high], node.start, high.end, mark=(token.start, token.end))

    def within(self, node: Node) -> Node:
        token = self.take()
        self.want("(")
        self.no_query()
        if node.op == "row":
            return self.rows(node, token)
        listed = self.listed()
        return Node("in", [node, *listed], node.start, self.want(")").end, mark=(token.start, token.end))

    def rows(self, node: Node, token: Token) -> Node:
        """Several values in a list of such: as the standard has it, those of one row are equal, each to each."""
        found, mark = [], (token.start, token.end)
        while True:
            start = self.want("(", " of a row in the list")
            row = self.listed()
            end = self.want(")").end
            if len(row) != len(node.args):
                told = f"each row of this list must have {counted(len(node.args), 'value')}"
                raise ConditionError(told, start.start, end)
            pairs = zip(node.args, row, strict=True)
            same = [Node("=", [deepcopy(own), other], own.start, other.end, mark=mark) for own, other in pairs]
            found.append(Node("and", same, node.start, end, mark=mark))
            if not self.accept(","):
                return Node("or", found, node.start, self.want(")").end, mark=mark)

    def listed(self) -> list[Node]:
        found = [self.either()]
        while self.accept(","):
            found.append(self.either())
        return found

    def like(self, node: Node) -> Node:
        token = self.take()
        pattern, escape = self.joined(), None
        if self.accept("escape"):
            escape = self.take()
            if escape.sort != "string" or len(escape.value) != 1:
                self.fail("escape is one character in quotes", escape)
        end = escape.end if escape else pattern.end
        mark = (token.start, token.end)
        return Node("like", [node, pattern], node.start, end, value=escape and escape.value, mark=mark)

    def joined(self) -> Node:
        return self.left(("||",), self.added)

    def added(self) -> Node:
        return self.left(("+", "-"), self.multiplied)

    def multiplied(self) -> Node:
        return self.left(("*", "/", "%"), self.signed)

    def left(self, signs: tuple[str, ...], level: Callable[[], Node]) -> Node:
        node = level()
        while self.is_op(*signs):
            token = self.take()
            node = _binary(token.value, token, node, level())
        return node

    def signed(self) -> Node:
        if not self.is_op("-", "+"):
            return self.zoned()
        token = self.take()
        node = self.nested(self.signed)
        if token.value == "+":
            return node
        return Node("negative", [node], token.start, node.end, mark=(token.start, token.end))

    def are_words(self, *words: str) -> bool:
        """Whether these come next, which are words only together."""
        coming = self.tokens[self.at : self.at + len(words)]
        return [token.value.lower() for token in coming if token.sort == "name"] == list(words)

    def zoned(self) -> Node:
        node = self.value()
        while self.are_words("at", "time", "zone"):
            token = self.take()
            self.at += 2
            zone = self.take()
            if zone.sort != "string":
                self.fail("a time zone is a name in quotes", zone, "write at time zone 'Atlantic/Faroe'")
            node = Node("at zone", [node], node.start, zone.end, zone.value, mark=(token.start, zone.end))
        return node

    # ---- values

    def value(self) -> Node:
        token = self.here
        if token.sort in {"number", "string", "parameter"}:
            return self.literal(self.take())
        if token.sort == "quoted":
            self.take()
            return Node("column", [], token.start, token.end, value=token.value)
        if token.sort == "name":
            return self.named(self.take())
        if self.is_op("("):
            return self.parenthesis(self.take())
        if token.sort == "keyword":
            return self.word(token)
        if token.sort == "end":
            self.fail("a value is missing at the end")
        self.fail(f"expected a value, {self.found()}")

    def literal(self, token: Token) -> Node:
        if token.sort == "parameter" and token.value.startswith("last."):
            return self.last(token)
        if token.sort == "parameter" and token.value not in PARAMETERS:
            hint = did_you_mean(token.value, PARAMETERS, "known: " + ", ".join(f":{name}" for name in PARAMETERS))
            self.fail(f"no parameter ':{token.value}'", token, hint)
        return Node(token.sort, [], token.start, token.end, value=token.value)

    def last(self, token: Token) -> Node:
        """What an aggregate came to in the load before: `:last.count`, or `:last.sum.fare`."""
        _, name, *of = token.value.split(".")
        if name not in {"count", "sum", "avg", "min", "max"} or (not of and name != "count"):
            self.fail(
                f"':{token.value}' is not a value of the load before", token, "write :last.count or :last.sum.fare"
            )
        args = [Node("column", [], token.start, token.end, value=column) for column in of]
        value = Aggregate(name)
        before = Node("aggregate", args, token.start, token.end, value=value, mark=(token.start, token.end))
        return Node("last", [before], token.start, token.end, value=token.value)

    def named(self, token: Token) -> Node:
        name, following = token.value.lower(), self.here
        if name == "timestamp" and self.are_words("with", "time", "zone"):
            self.at += 3
            name, following = "timestamptz", self.here
            if following.sort != "string":
                self.fail(
                    "a moment in quotes is missing", following, "write timestamp with time zone '2026-12-31 23:59Z'"
                )
        if name in {"date", "time", "timestamp", "timestamptz", "uuid"} and following.sort == "string":
            self.take()
            return Node("literal", [], token.start, following.end, value=(name, following.value))
        if self.is_op("("):
            return self.call(token)
        if name == "localtimestamp":
            return Node("current_timestamp", [], token.start, token.end)
        return Node("column", [], token.start, token.end, value=token.value)

    def parenthesis(self, token: Token) -> Node:
        self.no_query()
        inner = self.either()
        if self.accept(","):
            parts = [inner, *self.listed()]
            return Node("row", parts, token.start, self.want(")").end)
        end = self.want(")").end
        return Node("group", [inner], token.start, end)

    def word(self, token: Token) -> Node:
        special = {"case": self.case, "cast": self.cast, "extract": self.extract, "interval": self.interval}
        if token.value in special:
            return special[token.value](self.take())
        if token.value in {"null", "true", "false", "current_date", "current_timestamp"}:
            self.take()
            return Node(token.value, [], token.start, token.end)
        self.no_query()
        self.fail(f"expected a value, {self.found()}")

    def interval(self, token: Token) -> Node:
        amount, unit = self.take(), self.take()
        if amount.sort not in {"string", "number"} or not re.fullmatch(r"-?\d{1,6}", amount.value, re.A):
            self.fail("an interval holds a whole number", amount, "write interval '3' day")
        name = unit.value.lower().removesuffix("s")
        if name not in UNITS:
            self.fail("an interval counts " + ", ".join(f"{u}s" for u in UNITS), unit, "write interval '3' day")
        return Node("interval", [], token.start, unit.end, value=(int(amount.value), name))

    def case(self, token: Token) -> Node:
        base = None if self.is_keyword("when") else self.either()
        parts: list[Node] = []
        while self.accept("when"):
            when = self.either()
            if base is not None:
                when = Node("=", [base, when], when.start, when.end, mark=(when.start, when.end))
            self.want("then")
            parts += [when, self.either()]
        if not parts:
            self.fail("a case needs 'when'")
        if self.accept("else"):
            parts.append(self.either())
        end = self.want("end").end
        return Node("case", parts, token.start, end)

    def cast(self, token: Token) -> Node:
        self.want("(")
        inner = self.either()
        self.want("as")
        start = self.here
        while not self.is_op(")") or self.tokens[self.at - 1].sort == "number":
            last = self.take()
            if last.sort == "end":
                self.want(")")
            if last.value == ")":
                break
        written = self.text[start.start : self.tokens[self.at - 1].end]
        kind = self.cast_kind(written, start)
        return Node("cast", [inner], token.start, self.want(")").end, value=kind, mark=(start.start, start.end))

    def cast_kind(self, written: str, token: Token) -> Kind:
        try:
            kind = parse_kind(written)
        except ValueError as error:
            self.fail(str(error), token)
        if kind.name not in _CASTABLE or (kind.name == "text" and kind.size):
            self.fail(
                f"'{written}' is not a kind to cast to", token, "text, integer, decimal(p,s), real, date, timestamp"
            )
        return kind

    def extract(self, token: Token) -> Node:
        self.want("(")
        part = self.take()
        if part.value.lower() not in FIELDS:
            self.fail("extract knows " + ", ".join(FIELDS), part)
        self.want("from")
        inner = self.either()
        end = self.want(")").end
        mark = (part.start, part.end)
        return Node("extract", [inner], token.start, end, value=part.value.lower(), mark=mark)

    def call(self, token: Token) -> Node:
        name = SAME_AS.get(token.value.lower(), token.value.lower())
        self.take()
        if name in AGGREGATES:
            return self.aggregate(name, token)
        if name not in FUNCTIONS:
            known = [*FUNCTIONS, *AGGREGATES, *SAME_AS]
            hint = INSTEAD_OF.get(name) or did_you_mean(name, known, "known: " + ", ".join(sorted(known)))
            self.fail(f"no function '{token.value}'", token, hint)
        args = self.arguments(name)
        end = self.want(")").end
        fewest, most = FUNCTIONS[name]
        if not fewest <= len(args) <= most:
            takes = counted(fewest, "value") if fewest == most else f"{fewest} to {most} values"
            self.fail(f"{name} takes {takes}, not {len(args)}", token)
        return Node("call", args, token.start, end, value=name, mark=(token.start, token.end))

    def arguments(self, name: str) -> list[Node]:
        if self.is_op(")"):
            return []
        if name == "position":
            needle = self.joined()
            self.want("in", " of 'position'")
            return [needle, self.either()]
        args = [self.either()]
        while self.accept(",") or (name == "substring" and (self.accept("from") or self.accept("for"))):
            args.append(self.either())
        return args

    def aggregate(self, name: str, token: Token) -> Node:
        args: list[Node] = []
        distinct, share = None, ""
        if name in PERCENTILES:
            args, share = self.percentile(name)
        elif not (name == "count" and self.accept("*")):
            distinct = self.accept("distinct")
            if distinct and name in {"median", *DEVIATIONS}:
                self.fail(f"{name} is of all values, not of the different ones", distinct, "take 'distinct' out")
            args = self.listed() if name == "count" and distinct else [self.either()]
        end = self.want(")").end
        filtered: Node | None = None
        if self.accept("filter"):
            self.want("(")
            self.want("where")
            filtered = self.either()
            args.append(filtered)
            end = self.want(")").end
        value = Aggregate(name, distinct is not None, filtered is not None, share)
        return Node("aggregate", args, token.start, end, value=value, mark=(token.start, token.end))

    def percentile(self, name: str) -> tuple[list[Node], str]:
        """By the standard: which share of the values lies below, and of what, up to the last parenthesis."""
        share, form = self.take(), f"write {name}(0.95) within group (order by x)"
        if share.sort != "number" or not re.fullmatch(r"0?\.\d{1,6}|[01](\.0+)?", share.value):
            self.fail(f"{name} takes a share from 0 to 1", share, form)
        self.want(")")
        for word in ("within", "group", "(", "order", "by"):
            if self.here.value.lower() != word:
                self.fail(f"expected '{word}', {self.found()}", hint=form)
            self.take()
        return [self.either()], share.value


def _binary(op: str, token: Token, left: Node, right: Node) -> Node:
    return Node(op, [left, right], left.start, right.end, mark=(token.start, token.end))


def _not(node: Node, token: Token) -> Node:
    return Node("not", [node], min(node.start, token.start), node.end, mark=(token.start, token.end))
