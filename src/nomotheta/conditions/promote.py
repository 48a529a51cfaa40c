"""Values of one kind taken as values of another, so that both can be compared or reckoned with."""

from __future__ import annotations

import datetime

from nomotheta.conditions.functions import EXACT
from nomotheta.conditions.kind import (
    DATE,
    DURATION,
    INTERVAL,
    MOST_DIGITS,
    NULL,
    REAL,
    TEXT,
    TIMESTAMP,
    TIMESTAMPTZ,
    Kind,
    decimal,
)
from nomotheta.conditions.tree import ConditionError, Node


def common_kind(left: Kind, right: Kind) -> Kind | None:
    """The kind that values of both can be compared as, or None."""
    if right in {left, NULL}:
        return left
    if left == NULL:
        return right
    if left.is_number and right.is_number:
        if REAL in {left, right}:
            return REAL
        scale = max(left.scale, right.scale)
        whole = max(left.digits - left.scale, right.digits - right.scale)
        return decimal(min(MOST_DIGITS, whole + scale), scale)
    if {left, right} == {DURATION, INTERVAL}:
        return DURATION
    return TIMESTAMP if {left, right} == {DATE, TIMESTAMP} else None


def promoted(node: Node, kind: Kind) -> Node:
    """The node with its promotion to `kind` made explicit."""
    if node.kind == INTERVAL:
        return _exact(node)
    if node.kind in {kind, NULL} or kind.name in {"text", "boolean"}:
        return node
    return Node("promote", [node], node.start, node.end, value=kind, kind=kind)


def _exact(node: Node) -> Node:
    """A written interval as the microseconds that it lasts."""
    amount, unit = node.value
    if unit not in EXACT:
        raise ConditionError(f"a {unit} has no fixed length", node.start, node.end, "write it in days")
    number = Node("number", [], node.start, node.end, value=str(abs(amount) * EXACT[unit]), kind=DURATION)
    return Node("negative", [number], node.start, node.end, kind=DURATION) if amount < 0 else number


def instant(text: str) -> datetime.datetime:
    """A moment as it is written; without an offset it is one of the workspace's zone."""
    value = datetime.datetime.fromisoformat(text)
    for hours in (-15, 15):
        value + datetime.timedelta(hours=hours)  # wherever it is, it has to be a moment in UTC
    return value


def as_instant(node: Node) -> Node:
    """A moment that is written, and is of no column, as an instant: a local time is one of the workspace's zone."""
    written = [each for each in node.walk() if not each.args]
    fixed = all(each.op in {"current_timestamp", "literal", "interval"} for each in written)
    if node.kind != TIMESTAMP or not fixed or any(each.kind not in {TIMESTAMP, INTERVAL} for each in node.walk()):
        return node
    if any(each.op == "interval" and each.value[1] not in EXACT for each in written):
        return node
    for each in node.walk():
        each.kind = each.kind if each.op == "interval" else TIMESTAMPTZ
    return node


def local(node: Node) -> Node:
    """The local time of an instant in the workspace's zone."""
    return Node("at zone", [node], node.start, node.end, kind=TIMESTAMP)


def plain(kind: Kind) -> Kind:
    """A kind without a text's length, which plays no part in a condition."""
    return TEXT if kind.name == "text" else kind


def as_decimal(node: Node) -> Kind:
    """A whole number's kind as a decimal's."""
    if node.kind.name == "decimal":
        return node.kind
    return decimal(len(node.value) if node.op == "number" else 18, 0)
