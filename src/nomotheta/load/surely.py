"""Checks that a whole batch meets at a glance, so that the engine need not look at every row.

Only a plain yes counts: whatever is not sure here is left to the condition itself.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Check
from nomotheta.conditions import Node

_PRINTABLE = range(0x21, 0x7F)


def surely_met(check: Check, table: Any) -> bool:
    """Whether every row of an Arrow table meets a check, as far as a cheap look can tell."""
    look = _LOOKS.get(check.sort)
    return look is not None and check.node is not None and look(check.node, table.column(check.columns[0]))


def _blank(node: Node, column: Any) -> bool:
    """No null, and every text begins with a printable ASCII character."""
    if column.null_count:
        return False
    if node.op != "not blank":
        return True
    for chunk in column.chunks:
        _, offsets, data = chunk.buffers()
        edges = np.frombuffer(offsets, np.int32)[chunk.offset : chunk.offset + len(chunk) + 1]
        if not len(chunk):
            continue
        if not (edges[1:] > edges[:-1]).all():
            return False
        first = np.frombuffer(data, np.uint8)[edges[:-1]] - np.uint8(_PRINTABLE.start)
        if (first >= len(_PRINTABLE)).any():
            return False
    return True


def _between(node: Node, column: Any) -> bool:
    """The lowest and the highest value are within the bounds."""
    seen = pc.min_max(column)
    if not seen["min"].is_valid:
        return True
    low, high = seen["min"].as_py(), seen["max"].as_py()
    sides = node.args if node.op == "and" else [node]
    for side in sides:
        bound = _bound(side.args[1])
        if bound is None or not (low >= bound if side.op == ">=" else high <= bound):
            return False
    return True


def _bound(node: Node) -> Any:
    """The value of a bound, where it is a plain one."""
    if node.op == "promote":
        return _bound(node.args[0])
    if node.op == "literal":
        return node.value
    return int(node.value) if node.op == "number" and node.kind.name == "integer" else None


def _among(node: Node, column: Any) -> bool:
    """Every text is one of the list."""
    if any(arg.op != "string" for arg in node.args[1:]):
        return False
    listed = pa.array([arg.value for arg in node.args[1:]], pa.string())
    known = pc.or_kleene(pc.is_in(column, listed), pc.is_null(column))
    return bool(pc.all(known, min_count=0).as_py())


_LOOKS: dict[str, Callable[[Node, Any], bool]] = {"blank": _blank, "between": _between, "among": _among}
