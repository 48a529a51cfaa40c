"""Conditions that say nothing: that every row meets, or none, whatever it holds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from decimal import Decimal
from typing import Any

from nomotheta.conditions.tree import Node

_CONTRARY = {"<": ">=", "<=": ">", ">": "<=", ">=": "<"}
_MIRRORED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}
_GIVEN = {"column", "aggregate", "parameter"}  # what may differ from row to row, or from night to night
Side = tuple[str, str, Any]  # a column, how it compares, and with what


def always_the_same(node: Node) -> str:
    """Why a condition has one answer for all rows; empty where it may have several."""
    if not any(each.op in _GIVEN for each in node.walk()):
        return "it uses no column, so it is the same for every row"
    none = _contradiction(_sides(node, "and"))
    if none:
        return f"no row can meet it: {none}"
    either = list(_sides(node, "or")) if node.op == "or" else []
    plain = len(either) == sum(1 for _ in _parts(node, "or"))
    if plain and _contradiction((column, _CONTRARY.get(how, ""), value) for column, how, value in either):
        return "every row with a value there meets it: together its parts cover everything"
    return ""


def _parts(node: Node, joined: str) -> Iterator[Node]:
    if node.op == joined:
        for arg in node.args:
            yield from _parts(arg, joined)
    else:
        yield node


def _sides(node: Node, joined: str) -> Iterator[Side]:
    """The parts that compare a column with a plain value."""
    for part in _parts(node, joined):
        if part.op in _MIRRORED and len(part.args) == len("xy"):
            left, right = part.args
            if (column := _column(left)) and (value := _value(right)) is not None:
                yield column, part.op, value
            elif (column := _column(right)) and (value := _value(left)) is not None:
                yield column, _MIRRORED[part.op], value


def _contradiction(sides: Iterable[Side]) -> str:
    """What no value can be at once; empty where some can."""
    bounds: dict[str, tuple[tuple[Any, bool] | None, tuple[Any, bool] | None]] = {}
    for column, how, value in sides:
        low, high = bounds.get(column, (None, None))
        try:
            if how in {">", ">=", "="} and (low is None or (value, how == ">") > low):
                low = (value, how == ">")
            if how in {"<", "<=", "="} and (high is None or value < high[0] or (value == high[0] and how == "<")):
                high = (value, how == "<")
            bounds[column] = (low, high)
            if low and high and (low[0] > high[0] or (low[0] == high[0] and (low[1] or high[1]))):
                least, most = ("above" if low[1] else "at least"), ("below" if high[1] else "at most")
                return f"{column} would have to be {least} {low[0]} and {most} {high[0]}"
        except TypeError:  # values of kinds that are not compared
            continue
    return ""


def _column(node: Node) -> str:
    if node.op == "promote":
        return _column(node.args[0])
    return str(node.value) if node.op == "column" else ""


def _value(node: Node) -> Any:
    """A plain value; None for anything else."""
    if node.op == "promote":
        return _value(node.args[0])
    if node.op == "negative":
        inner = _value(node.args[0])
        return -inner if isinstance(inner, Decimal) else None
    if node.op == "number":
        return Decimal(node.value)
    return node.value if node.op in {"string", "literal"} else None
