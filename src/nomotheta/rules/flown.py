"""Rules that were judged while the rows came in: counts, and values of the whole, made into findings."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from copy import deepcopy
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nomotheta.charter import Check
from nomotheta.conditions import Node, build, own
from nomotheta.conditions.kind import INTEGER
from nomotheta.frozen import frozen
from nomotheta.place.render import Renderer
from nomotheta.rules.finding import Finding, Samples
from nomotheta.rules.scan import aggregates, counts_told, read_whole, statement

if TYPE_CHECKING:
    from nomotheta.rules.question import Question
    from nomotheta.rules.sketch import Sketch

NO_ROWS = Samples((), ())
_NAME = own("0")


@frozen
class Flown:
    """What was seen of a rule: of so many `rows`, how many break it and how many of those are excused, and a few.

    Of a whole, `values` are those of its aggregates, in their order; of a distribution, there is a `sketch`.
    """

    rows: int
    breaks: int = 0
    excused: int = 0
    samples: Samples = NO_ROWS
    values: tuple[Any, ...] = ()
    sketch: Sketch | None = None


def flown_finding(question: Question, check: Check, flown: Flown) -> Finding:
    """The finding of a rule that was judged while the rows came in."""
    with question.read_by_us() if question.doubts(check) == [] else contextlib.nullcontext():
        return _finding(question, check, flown)


def _finding(question: Question, check: Check, flown: Flown) -> Finding:
    if flown.sketch is not None:
        from nomotheta.rules.past import as_drift, sketch_statement  # only now: few rules look back

        return as_drift(question, check, flown.sketch, sketch_statement(question, check))
    scope = question.scope_of(check)
    sql = statement(question, check, _NAME, scope)
    if check.sort == "usual":
        from nomotheta.rules.past import as_usual  # only now: few rules look back

        value = _worked_out(question, check, flown.values)
        whole = value is not None and check.node is not None and check.node.kind == INTEGER
        return as_usual(question, check, int(value) if whole else value, sql)
    if check.sort != "whole":
        finding = counts_told(question, check, scope, (flown.breaks, flown.rows, flown.excused), sql)
        return replace(finding, samples=flown.samples) if finding.breaks else finding
    row: dict[str, Any] = {f"{_NAME} {at}": value for at, value in enumerate(flown.values)}
    row |= {_NAME: _worked_out(question, check, flown.values), own("rows"): flown.rows}
    return read_whole(question, check, row, _NAME, sql)


def _worked_out(question: Question, check: Check, values: tuple[Any, ...]) -> Any:
    """What a condition or value of the whole comes to, its aggregates being these."""
    from nomotheta.keys.hashing import Hasher  # only now: it types Arrow, as the load that has come in does

    assert check.node is not None  # noqa: S101 - a whole has a condition
    node = deepcopy(check.node)
    known = {id(each): value for each, value in zip(aggregates(node), values, strict=True)}
    sql = Renderer(question.now).render(_with_values(node, known))
    engine = question.engine = question.engine or Hasher()
    return engine.fetch(f"SELECT {sql} AS met").column(0)[0].as_py()


def _with_values(node: Node, known: Mapping[int, Any]) -> Node:
    """A condition with the values of its aggregates in their places; those of the load before are its own."""
    if node.op == "last":
        return node
    if id(node) in known:
        value = known[id(node)]
        made = Node("null") if value is None else build.constant(value, node.kind)
        made.kind = node.kind
        return made
    node.args = [_with_values(arg, known) for arg in node.args]
    return node
