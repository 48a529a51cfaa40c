"""Rows that break one of the plain checks, told by Arrow and NumPy alone, exactly as the condition itself would.

What is not plain is left to the engine, which runs the very SQL of the condition.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Check
from nomotheta.conditions import Node, Part
from nomotheta.kernel import Words, looks
from nomotheta.kinds.cells import Cells
from nomotheta.layout import WHITE_SPACE

Bools = NDArray[np.bool_]


def broken_at_a_glance(check: Check, table: Any) -> Bools | None:
    """For each row of an Arrow table, whether it breaks a check; None where only the condition can tell."""
    look = _LOOKS.get(check.sort)
    if look is None or check.node is None or len(check.columns) != 1:
        return None
    column = table.column(check.columns[0])
    return look(check.node, column.combine_chunks() if column.num_chunks != 1 else column.chunk(0))


_ASCII = 128
_FEW = 32  # words: more are better looked up by a hash
_FITS = range(-(2**63), 2**63).__contains__
_SPACE = np.zeros(256, np.bool_)  # the bytes with which white space begins in UTF-8
_SPACE[[letter.encode()[0] for letter in WHITE_SPACE]] = True


def _blank(node: Node, values: Any) -> Bools:
    """Nulls; of texts, those as well that are empty or nothing but white space."""
    if node.op != "not blank":
        return _mask(pc.is_null(values))
    marks = looks.blank(values, _SPACE)
    if marks is None:
        cells = Cells.of(values)
        if not len(cells.data):
            return np.ones(len(values), np.bool_)
        first = cells.data[np.minimum(cells.starts, len(cells.data) - 1)]
        marks = np.where(~cells.valid | (cells.lengths == 0), 1, 2 * _SPACE[first]).astype(np.uint8)
    blank: Bools = marks == 1
    unsure = np.flatnonzero(marks == 2)
    if len(unsure):
        left = pc.utf8_trim(values.take(pa.array(unsure)), characters=WHITE_SPACE)
        blank[unsure] = _mask(pc.equal(pc.binary_length(left), 0))
    return blank


def _between(node: Node, values: Any) -> Bools | None:
    """What is outside the bounds, where they are plain values."""
    sides: list[tuple[bool, Any]] = []
    for side in node.args if node.op == "and" else [node]:
        bound = _bound(side.args[1])
        if bound is None or side.args[0].op not in {"column", "promote"}:
            return None
        sides.append((side.op == ">=", bound))
    seen = _outside(sides, values)
    if seen is not None:
        return seen
    broken = np.zeros(len(values), np.bool_)
    for least, bound in sides:
        extreme = pc.min(values) if least else pc.max(values)
        if not extreme.is_valid or (extreme.as_py() >= bound if least else extreme.as_py() <= bound):
            continue
        broken |= _mask(pc.less(values, pa.scalar(bound)) if least else pc.greater(values, pa.scalar(bound)))
    return broken


def _outside(sides: Sequence[tuple[bool, Any]], values: Any) -> Bools | None:
    """The same for whole numbers and decimals by the kernel, where the bounds fit into 64 bits."""
    if not (pa.types.is_int64(values.type) or pa.types.is_decimal128(values.type)):
        return None
    lowest, highest = (-(2**63), 2**63 - 1) if pa.types.is_int64(values.type) else (None, None)
    factor = 10 ** getattr(values.type, "scale", 0)
    least = max([math.ceil(Fraction(bound) * factor) for lower, bound in sides if lower], default=lowest)
    most = min([math.floor(Fraction(bound) * factor) for lower, bound in sides if not lower], default=highest)
    if least is None or most is None or not (_FITS(least) and _FITS(most)):
        return None
    return looks.outside(values, least, most)


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
    words = [arg.value for arg in node.args[1:]]
    seen = looks.none_of(values, Words(words)) if len(words) <= _FEW else None
    if seen is not None:
        return seen
    which = pc.index_in(values, pa.array(words, pa.string()), skip_nulls=True)
    if which.null_count == values.null_count:
        return np.zeros(len(values), np.bool_)
    return _mask(pc.and_(pc.is_valid(values), pc.is_null(which)))


_PRINTABLE = np.zeros(256, np.bool_)  # ASCII letters and signs, which are no white space
_PRINTABLE[33:127] = True
_OTHER_CASE = {"upper": (ord("a"), ord("z")), "lower": (ord("A"), ord("Z"))}


def _unchanged(node: Node, values: Any) -> Bools | None:
    """Nothing, where plain letters show that a column of texts is what a function makes of it."""
    sides = sorted(node.args, key=lambda arg: arg.op) if node.op == "=" else []
    if [side.op for side in sides] != ["call", "column"] or not pa.types.is_string(values.type):
        return None
    call, column = sides
    if [arg.value for arg in call.args if arg.op == "column"] != [column.value] or len(call.args) != 1:
        return None
    cells = Cells.of(values)
    filled = np.flatnonzero(cells.valid & (cells.lengths > 0))
    if not len(filled):
        return np.zeros(len(values), np.bool_)
    if call.value == "trim":
        plain = _PRINTABLE[cells.data[cells.starts[filled]]] & _PRINTABLE[cells.data[cells.ends[filled] - 1]]
    elif call.value in _OTHER_CASE:
        low, high = _OTHER_CASE[call.value]
        data = cells.data[int(cells.starts[0]) : int(cells.ends[-1])]
        plain = (data < _ASCII) & ((data < low) | (data > high))
    else:
        return None
    return np.zeros(len(values), np.bool_) if plain.all() else None


def _pattern(node: Node, values: Any) -> Bools | None:
    """What has not the one length, or not the right character at a place, of a pattern of fixed length."""
    part, full = node.value
    places = _places(part) if full else None
    if places is None:
        return None
    seen = looks.misplaced(values, np.array(places, np.bool_).reshape(-1, 256))
    if seen is not None:
        return seen
    cells = Cells.of(values)
    broken: Bools = cells.valid & (cells.lengths != len(places))
    fitting = np.flatnonzero(cells.valid & ~broken)
    matrix = cells.matrix(fitting, len(places))
    for at, allowed in enumerate(places):
        good = allowed[matrix[:, at]]
        if not good.all():
            broken[fitting[~good]] = True
    return broken


def _places(part: Part) -> list[Bools] | None:
    """For each place of a pattern of fixed length, which bytes may be there; None for any other pattern."""
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
    "blank": _blank, "between": _between, "among": _among, "pattern": _pattern, "each": _unchanged,
    "trimmed": _unchanged, "case": _unchanged,
}  # fmt: skip
