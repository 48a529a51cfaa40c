"""Checks that hold if others do: a text that matches T[0-9]{8} has nine characters, and is not blank.

They are left out of the scan, and judged by themselves only where the others are broken, or a value is null.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence

from nomotheta.charter import Check
from nomotheta.conditions import quoted, solid, span
from nomotheta.layout import WHITE_SPACE
from nomotheta.rules.question import Question, Scope


def implied(question: Question, some: Sequence[tuple[int, Check]]) -> dict[int, int]:
    """Of checks that one statement of the place judges: those that others imply, each with that one, by number."""
    strong: dict[str, list[tuple[int, Check]]] = {}
    for at, check in some:
        if check.sort in {"pattern", "among"} and _plain(check) and _texts(check) is not None:
            strong.setdefault(check.columns[0], []).append((at, check))
    found = {}
    for at, check in some:
        others = strong.get(check.columns[0], ()) if len(check.columns) == 1 and _plain(check) else ()
        by = next((other for other, each in others if other != at and _implies(question, each, check)), None)
        if by is not None:
            found[at] = by
    return found


def _plain(check: Check) -> bool:
    """Whether it looks at all rows, and none is excused."""
    return check.where is None and not check.excuses


def _texts(check: Check) -> tuple[int, int, bool] | None:
    """The least and the greatest number of characters of texts that meet a check, and whether none can be blank."""
    node = check.node
    if node is None:
        return None
    if check.sort == "pattern":
        part, full = node.value
        most = span(part)[1] if full else None
        return None if most is None else (span(part)[0], most, solid(part))
    words = [arg.value for arg in node.args[1:]]
    if not words or any(arg.op != "string" for arg in node.args[1:]):
        return None
    sizes = [len(word) for word in words]
    return min(sizes), max(sizes), all(word.strip(WHITE_SPACE) for word in words)


def _implies(question: Question, strong: Check, check: Check) -> bool:
    """Whether texts that meet a check meet another, nulls apart."""
    texts = _texts(strong)
    if texts is None or question.declared(check).name != "text":
        return False
    size = question.declared(check).size
    if check.sort == "text_length":
        return size is not None and texts[1] <= size
    return check.sort == "blank" and check.node is not None and check.node.op == "not blank" and texts[2]


def without_nulls(question: Question, check: Check, scope: Scope) -> bool:
    """Whether it is known that the column of a check of blanks holds no null; that of any other is not asked."""
    if check.sort != "blank":
        return True
    name = check.columns[0]
    with contextlib.suppress(Exception):  # then the check is judged by itself
        return not question.is_so(scope, f"nulls in {name}", f"{quoted(name)} IS NULL")
    return False


def want_nulls(question: Question, some: Sequence[tuple[int, Check]], later: Mapping[int, int], scope: Scope) -> None:
    """Have the scan say where nulls are, which a check of blanks that others imply has to know."""
    for at, check in some:
        if at in later and check.sort == "blank":
            question.want(scope, f"nulls in {check.columns[0]}", f"{quoted(check.columns[0])} IS NULL")
