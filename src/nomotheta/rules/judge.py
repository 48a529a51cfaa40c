"""Rules over a table: one scan for all conditions, one query each for keys, references and offenders."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import own, quoted
from nomotheta.events import told
from nomotheta.place.base import Place
from nomotheta.place.render import Now
from nomotheta.rules import lists, scan
from nomotheta.rules.equal import equal
from nomotheta.rules.excusing import excusing
from nomotheta.rules.finding import Finding
from nomotheta.rules.gaps import gaps
from nomotheta.rules.groups import grouped
from nomotheta.rules.guaranteed import guaranteed
from nomotheta.rules.question import Question, Scope, Surroundings
from nomotheta.rules.shape import holds

Work = Callable[[Question, Sequence[Check], Scope], list[Finding]]


def judge(
    place: Place,
    compiled: Compiled,
    now: Now,
    scope: Scope | None = None,
    load_scope: Scope | None = None,
    set_aside: Mapping[str, int] | None = None,
    *,
    one_by_one: bool = False,
    around: Surroundings | None = None,
) -> list[Finding]:
    """Check a table against its charter.

    Args:
        place: where the table is.
        compiled: its charter.
        now: the moment, the day and the load that conditions may speak of.
        scope: the rows that rules look at which do not say otherwise; all where it is None.
        load_scope: the rows of one load, for the rules that are declared over a load.
        set_aside: for a table that was just loaded, how many rows each check that sets rows aside took out; such
            checks are not judged again.
        one_by_one: judge each rule by a statement of its own, and none after one that ended in an error: inside a
            transaction, that is how the culprit is found.
        around: other places and tables that rules may compare with.

    Returns:
        A finding for every check, in the order of the charter.

    Raises:
        PlaceError: the table is not there, or the place cannot be reached.
    """
    scopes = (scope or Scope(), load_scope or scope or Scope())
    findings = _findings(Question(place, compiled, now, scopes, set_aside, one_by_one=one_by_one, around=around))
    for each in findings:
        told(compiled.charter.table, f"rule '{each.rule}': {each.verdict}" + (f", {each.message}" * bool(each.message)))
    return findings


def _findings(question: Question) -> list[Finding]:
    found: dict[int, Finding] = {}
    kinds: list[tuple[int, Check]] = []
    alike: dict[tuple[object, ...], tuple[Work, list[tuple[int, Check]]]] = {}  # those that one statement judges
    strange = _strange(question)
    for at, check in enumerate(question.compiled.checks):
        absent = [name for name in check.columns if name not in question.shape]
        if question.is_enforced(check):
            found[at] = question.enforced(check)
        elif absent:
            found[at] = question.absent(check, absent)
        elif (finding := guaranteed(question, check)) is not None:
            found[at] = finding
        elif check.on_rows or check.sort in {"whole", "groups"}:
            work: Work = grouped if check.sort == "groups" else scan.scanned
            key = (check.groups, question.scope_of(check).label, question.differs(check))
            alike.setdefault((work, *key), (work, []))[1].append((at, check))
        elif check.sort == "kind" and (
            check.columns[0] in strange or not holds(question.shape[check.columns[0]], question.declared(check))
        ):
            kinds.append((at, check))
        else:
            found[at] = _alone(question, check)
    judged = _kinds_together(question, [check for _, check in kinds])
    found |= {at: finding for (at, _), finding in zip(kinds, judged, strict=True)}
    for (*_, differs), (work, some) in alike.items():
        with question.read_by_us() if differs else contextlib.nullcontext():
            judged = _together(question, [check for _, check in some], work)
        found |= {at: finding for (at, _), finding in zip(some, judged, strict=True)}
    checks = question.compiled.checks
    return [excusing(question, checks[at], found[at]) for at in sorted(found)]


def _together(question: Question, checks: Sequence[Check], work: Work) -> list[Finding]:
    """Checks by one statement; where that fails, or where it is asked for, one by one: the culprit is an error."""
    scope = question.scope_of(checks[0])
    if not question.one_by_one:
        with contextlib.suppress(Exception):  # then they are judged one by one, and each says what is wrong
            return work(question, checks, scope)
    return [question.guarded(check, lambda check=check: work(question, [check], scope)[0]) for check in checks]  # type: ignore[misc]


def _strange(question: Question) -> frozenset[str]:
    """The columns that hold something which is not a value of their kind, though their type holds it."""
    place = question.place
    if not any(check.sort == "kind" and not question.is_enforced(check) for check in question.compiled.checks):
        return frozenset()
    found = [(name, place.strange(column)) for name, column in question.shape.items()]
    asked = [(name, condition) for name, condition in found if condition]
    if not asked:
        return frozenset()
    counts = [f"count(CASE WHEN {sql} THEN 1 END) AS {quoted(own(str(at)))}" for at, (_, sql) in enumerate(asked)]
    row = place.answer(f"SELECT {', '.join(counts)} {place.rowset(question.table)}").rows[0]
    return frozenset(name for (name, _), count in zip(asked, row, strict=True) if count)


def _alone(question: Question, check: Check) -> Finding:
    """A check with a query of its own."""
    by_sort: dict[str, Callable[[Question, Check], Finding]] = {
        "kind": _of_its_kind, "key": lists.key, "reference": lists.reference, "offenders": lists.offenders,
        "gaps": gaps, "equals": equal,
    }  # fmt: skip
    return question.guarded(check, lambda: by_sort[check.sort](question, check))


def _of_its_kind(question: Question, check: Check) -> Finding:
    """A column of the declared kind needs no look."""
    return question.made(check, verdict="pass", breaks=0, rows=question.count(question.scope_of(check)))


def _kinds_together(question: Question, checks: Sequence[Check]) -> list[Finding]:
    """Columns of other kinds than they should be, in one scan; where that fails, one by one."""
    if not checks:
        return []
    from nomotheta.rules.as_kinds import read_kinds  # only now: it brings all that types texts

    if not question.one_by_one:
        with contextlib.suppress(Exception):
            return read_kinds(question, checks)
    return [
        question.guarded(check, lambda check=check: read_kinds(question, [check])[0])  # type: ignore[misc]
        for check in checks
    ]
