"""A value of the whole that is equal to one of another table or of a query, in this place or another."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from nomotheta.charter import Check
from nomotheta.conditions import ConditionError, Kind, Node, check, own, quoted
from nomotheta.errors import PlaceError, counted
from nomotheta.kinds.show import show
from nomotheta.place.base import Place
from nomotheta.rules.finding import HIDDEN, Finding, verdict_of
from nomotheta.rules.lists import among, bound
from nomotheta.rules.question import Question, Scope
from nomotheta.rules.scan import told_value
from nomotheta.rules.shape import existing

_VALUE = own("value")


def equal(question: Question, of: Check) -> Finding:
    """Whether both values are the same, or as far apart as they may be."""
    assert of.equals is not None and of.node is not None  # noqa: S101 - only such come here
    equals, scope = of.equals, question.scope_of(of)
    differs = question.differs(of)
    with question.read_by_us() if differs else contextlib.nullcontext():
        sql = f"SELECT {question.asked.render(of.node, question.now)} AS {quoted(_VALUE)} "
        sql += question.asked.rowset(question.table, question.where(scope))
        mine = question.asked.answer(sql).first()[_VALUE]
        shown = told_value(question, of.node, mine)
    with _other_place(question, equals.place) as other:
        if equals.query is not None:
            theirs, told = _queried(other, bound(equals.query, question)), "the query's value"
            hidden = bool(question.charter.reads_private(equals.query))
            beside = HIDDEN if hidden else show(theirs) or "null"
        else:
            table = str(equals.table)
            text = equals.whole or of.text
            theirs, beside = _of_table(question, other, table, text)
            told = f"that of {table}" if text == of.text else f"{text} of {table}"
        told += f" in {other.name}" if other is not question.place else ""
    apart = _apart(mine, theirs)
    message = f"{of.text} is {shown}, {told} is {beside}"
    if apart is None:
        met = None if mine is None or theirs is None else bool(mine == theirs)
    else:
        limit = equals.share * abs(Decimal(theirs)) if equals.share is not None else Decimal(equals.within or 0)
        met = apart <= limit
        if apart and HIDDEN not in {shown, beside}:
            message += f": {apart.normalize():,f} apart" + (f", allowed: {equals.within}" if equals.within else "")
    if met is None:
        message = f"it could not be decided: {message}"
    verdict = verdict_of(of, int(not met), 1)
    return question.made(of, verdict=verdict, breaks=int(not met), rows=1, message=message, sql=sql)


@contextlib.contextmanager
def _other_place(question: Question, name: str | None) -> Iterator[Place]:
    """The place of the other value."""
    if name is None or name == question.place.name:
        yield question.place
    elif question.around is None:
        raise PlaceError(f"the place {name} cannot be reached from here")
    else:
        with question.around.place(name) as place:
            yield place


def _queried(place: Place, query: str) -> Any:
    """The value of a query that has one row and one column."""
    found = place.ask(f"SELECT * {among(query)}")
    if (found.num_rows, found.num_columns) != (1, 1):
        shape = f"{counted(found.num_rows, 'row')} of {counted(found.num_columns, 'column')}"
        raise PlaceError(f"the query of 'equals' must give one value, and gives {shape}")
    return found.column(0)[0].as_py()


def _of_table(question: Question, place: Place, table: str, text: str) -> tuple[Any, str]:
    """A value of another table, and as it is shown."""
    compiled = question.around.charter(table, place.name) if question.around is not None else None
    if compiled is not None:
        there = Question(place, compiled, question.now, (Scope(), Scope()), None, one_by_one=False)
        kinds = compiled.charter.kinds()
        node = _checked(text, kinds, table)
        of = Check("", "whole", tuple(node.columns()), "fail", node=node)
        with contextlib.closing(there), there.read_by_us() if there.differs(of) else contextlib.nullcontext():
            sql = f"SELECT {there.asked.render(node, there.now)} AS {quoted(_VALUE)} {there.asked.rowset(table)}"
            value = there.asked.answer(sql).first()[_VALUE]
        return value, told_value(there, node, value)
    kinds = {column.name: column.kind for column in existing(place, table) if column.kind is not None}
    node = _checked(text, kinds, table)
    place.expect(table, kinds)
    sql = f"SELECT {place.render(node, question.now)} AS {quoted(_VALUE)} {place.rowset(table)}"
    value = place.answer(sql).first()[_VALUE]
    hidden = question.private & {name.casefold() for name in node.columns()} and node.value
    return value, HIDDEN if hidden and value is not None else told_value(question, node, value)


def _checked(text: str, kinds: dict[str, Kind], table: str) -> Node:
    try:
        return check(text, kinds, "whole value")
    except ConditionError as error:
        raise PlaceError(f"{error.what} in {table}" + (f"; {error.hint}" if error.hint else "")) from None


def _apart(mine: Any, theirs: Any) -> Decimal | None:
    """How far two numbers are apart, exactly; None where they are no numbers."""
    for value in (mine, theirs):
        if not isinstance(value, int | Decimal | float) or isinstance(value, bool) or not math.isfinite(value):
            return None
    return abs(Decimal(mine) - Decimal(theirs))
