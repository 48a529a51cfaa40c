"""What the database itself sees to, so that it is not looked for."""

from __future__ import annotations

from nomotheta.charter import Check
from nomotheta.rules.finding import Finding
from nomotheta.rules.question import Question

_SORTS = {"key", "reference", "text_length", "blank"}


def guaranteed(question: Question, check: Check) -> Finding:
    """The finding of a check that the database sees to."""
    scope = question.scope_of(check)
    over = "table" if check.sort == "key" else scope.label
    rows = question.count(scope)
    return question.made(check, verdict="pass", breaks=0, rows=rows, message="guaranteed by the database", over=over)


def is_guaranteed(question: Question, check: Check) -> bool:
    """Whether the database sees to a check."""
    if check.sort not in _SORTS or question.asked is not question.place:
        return False
    sees_to, columns = question.guarantees, set(check.columns)
    if check.sort == "key":
        plain = not check.parts and not check.nulls and not check.whole_row
        return plain and any(unique <= columns for unique in sees_to.unique)
    if check.sort == "reference":
        if check.place is not None or check.listed_in is None or check.listed is not None:
            return False
        table, names = check.listed_in
        pairs = dict(zip(check.columns, names, strict=True))
        exact = not any(question.shape[name].folds for name in columns)
        return exact and any(to == table and refers == pairs for to, refers in sees_to.refers)
    (name,) = check.columns
    if check.sort == "blank":
        return question.declared(check).name != "text" and name in sees_to.filled
    have, declared = question.shape[name].kind, question.declared(check)
    if name not in sees_to.sized or have is None or have.size is None or declared.size is None:
        return False
    return have.size <= declared.size
