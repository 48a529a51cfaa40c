"""Rows that surely meet a check, told at a glance, so that the engine looks only at those in doubt.

Only a plain yes counts: whatever is not sure here is left to the condition itself.
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Check
from nomotheta.conditions import Node, Part
from nomotheta.kinds import Cells

Bools = NDArray[np.bool_]
_PRINTABLE = range(0x21, 0x7F)


def in_doubt(check: Check, table: Any) -> Bools | None:
    """For each row of an Arrow table, whether it may break a check; None where only the condition can tell."""
    look = _LOOKS.get(check.sort)
    if look is None or check.node is None:
        return None
    column = table.column(check.columns[0])
    return look(check.node, column.combine_chunks() if column.num_chunks != 1 else column.chunk(0))


def _blank(node: Node, values: Any) -> Bools:
    """All but the texts that begin with a printable ASCII character; of other kinds, the nulls."""
    if node.op != "not blank":
        return _mask(pc.is_null(values))
    cells = Cells.of(values)
    doubt: Bools = ~cells.valid | (cells.lengths == 0)
    if not len(cells.data):
        return doubt
    first = cells.data[np.minimum(cells.starts, len(cells.data) - 1)] - np.uint8(_PRINTABLE.start)
    doubt |= first >= len(_PRINTABLE)
    return doubt


def _between(node: Node, values: Any) -> Bools | None:
    """What is outside the bounds, where they are plain values."""
    doubt = np.zeros(len(values), np.bool_)
    for side in node.args if node.op == "and" else [node]:
        bound = _bound(side.args[1])
        if bound is None:
            return None
        least = side.op == ">="
        extreme = pc.min(values) if least else pc.max(values)
        if not extreme.is_valid or (extreme.as_py() >= bound if least else extreme.as_py() <= bound):
            continue
        outside = pc.less(values, pa.scalar(bound)) if least else pc.greater(values, pa.scalar(bound))
        doubt |= _mask(outside)
    return doubt


def _bound(node: Node) -> Any:
    """The value of a bound, where it is a plain one."""
    if node.op == "promote":
        return _bound(node.args[0])
    if node.op == "literal":
        return node.value
    if node.op == "negative":
        inner = _bound(node.args[0])
        return None if inner is None else -inner
    if node.op != "number" or node.kind.name == "real":
        return None
    return int(node.value) if node.kind.name == "integer" else Decimal(node.value)


def _among(node: Node, values: Any) -> Bools | None:
    """What is not in the list, where it is one of texts."""
    if any(arg.op != "string" for arg in node.args[1:]):
        return None
    listed = pa.array([arg.value for arg in node.args[1:]], pa.string())
    return _mask(pc.and_(pc.is_valid(values), pc.invert(pc.is_in(values, listed))))


def _pattern(node: Node, values: Any) -> Bools | None:
    """What has not the one length, or not the right character at a place, of a pattern of fixed length."""
    part, full = node.value
    places = _places(part) if full else None
    if places is None:
        return None
    cells = Cells.of(values)
    doubt: Bools = cells.valid & (cells.lengths != len(places))
    fitting = np.flatnonzero(cells.valid & ~doubt)
    matrix = cells.matrix(fitting, len(places))
    for at, allowed in enumerate(places):
        good = allowed[matrix[:, at]]
        if not good.all():
            doubt[fitting[~good]] = True
    return doubt


def _places(part: Part) -> list[Bools] | None:
    """For each place of a pattern of fixed length, which bytes may stand there; None for any other pattern."""
    if part.sort in {"sequence", "group"}:
        found: list[Bools] = []
        for each in part.parts:
            inner = _places(each)
            if inner is None:
                return None
            found += inner
        return found
    if part.sort == "repeat" and part.count[0] == part.count[1]:
        repeated = _places(part.parts[0])
        return None if repeated is None else repeated * part.count[0]
    if part.sort != "set" or part.negative or any(high > 127 for _, high in part.ranges):
        return None
    allowed = np.zeros(256, np.bool_)
    for low, high in part.ranges:
        allowed[low : high + 1] = True
    return [allowed]


def _mask(flags: Any) -> Bools:
    found: Bools = pc.fill_null(flags, fill_value=False).to_numpy(zero_copy_only=False)
    return found


_LOOKS: dict[str, Callable[[Node, Any], Bools | None]] = {
    "blank": _blank, "between": _between, "among": _among, "pattern": _pattern,
}  # fmt: skip
