"""Checked trees made by the program itself, for the rules that a column declares in a word."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nomotheta.conditions.kind import BOOLEAN, INTEGER, TEXT, Kind, decimal
from nomotheta.conditions.pattern import Part
from nomotheta.conditions.promote import common_kind, promoted
from nomotheta.conditions.tree import Node


def column(name: str, kind: Kind) -> Node:
    """A column; a text's length plays no part in a condition."""
    return Node("column", value=name, kind=TEXT if kind.name == "text" else kind)


def constant(value: Any, kind: Kind) -> Node:
    """A value of a kind, as `kinds` holds it: str, int, Decimal, float, bool, date, time, datetime or UUID."""
    if kind.name == "text":
        return Node("string", value=value, kind=TEXT)
    if kind.name == "boolean":
        return Node("true" if value else "false", kind=BOOLEAN)
    if kind.is_number:
        return _number(value, kind)
    return Node("literal", value=value, kind=kind)


def _number(value: Any, kind: Kind) -> Node:
    text = format(abs(value), "f") if kind.name == "decimal" else repr(abs(value))
    if kind.name == "real" and "e" not in text:
        text += "e0"
    node = Node("number", value=text, kind=kind)
    if kind.name == "decimal":
        node.kind = decimal(max(len(text.replace(".", "")), kind.scale), len(text.partition(".")[2]))
    return Node("negative", [node], kind=node.kind) if value < 0 else node


def not_blank(name: str, kind: Kind) -> Node:
    """`name` is neither null nor, for a text, empty or white space."""
    present = Node("not", [Node("is null", [column(name, kind)], kind=BOOLEAN)], kind=BOOLEAN)
    if kind.name != "text":
        return present
    return Node("not blank", [column(name, kind)], kind=BOOLEAN)


def at_most(name: str, kind: Kind) -> Node:
    """The text `name` has at most the declared number of characters."""
    length = Node("call", [column(name, kind)], value="char_length", kind=INTEGER)
    return Node("<=", [length, Node("number", value=str(kind.size), kind=INTEGER)], kind=BOOLEAN)


def between(name: str, kind: Kind, low: Any, high: Any) -> Node:
    """`name` is within both bounds; None is not a bound."""
    sides = [(">=", low), ("<=", high)]
    parts = [_compared(op, name, kind, value) for op, value in sides if value is not None]
    return parts[0] if len(parts) == 1 else Node("and", parts, kind=BOOLEAN)


def _compared(op: str, name: str, kind: Kind, value: Any) -> Node:
    return _unified(op, [column(name, kind), constant(value, kind)])


def among(name: str, kind: Kind, values: Sequence[Any]) -> Node:
    """`name` is one of `values`."""
    return _unified("in", [column(name, kind), *(constant(value, kind) for value in values)])


def is_one_of_rows(columns: Sequence[tuple[str, Kind]], rows: Sequence[Sequence[Any]]) -> Node:
    """Some columns together are one of `rows`."""
    if len(columns) == 1:
        return among(*columns[0], [row[0] for row in rows])
    each = [
        Node("and", [_compared("=", *column, value) for column, value in zip(columns, row, strict=True)], kind=BOOLEAN)
        for row in rows
    ]
    return each[0] if len(each) == 1 else Node("or", each, kind=BOOLEAN)


def excused(condition: Node, excuses: Sequence[Node]) -> Node:
    """The condition, met as well by the rows that one of `excuses` is true for."""
    return Node("or", [*(Node("is true", [each], kind=BOOLEAN) for each in excuses), condition], kind=BOOLEAN)


def matches(name: str, pattern: Part) -> Node:
    """The whole text `name` matches `pattern`."""
    return Node("match", [column(name, TEXT)], value=(pattern, True), kind=BOOLEAN)


def _unified(op: str, nodes: list[Node]) -> Node:
    kind = nodes[0].kind
    for node in nodes[1:]:
        kind = common_kind(kind, node.kind) or kind
    return Node(op, [promoted(node, kind) for node in nodes], kind=BOOLEAN)
