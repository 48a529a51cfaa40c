"""Rules over a table: one scan for all conditions, one query each for keys, references and offenders."""

from __future__ import annotations

import contextlib
import importlib
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import own
from nomotheta.events import told
from nomotheta.place.base import Place
from nomotheta.place.render import Now
from nomotheta.rules import scan
from nomotheta.rules.excusing import excusing
from nomotheta.rules.finding import Finding
from nomotheta.rules.guaranteed import guaranteed, is_guaranteed
from nomotheta.rules.implied import implied, want_nulls, without_nulls
from nomotheta.rules.question import Keeper, Question, Scope, Surroundings
from nomotheta.rules.shape import holds

if TYPE_CHECKING:
    from nomotheta.rules.flown import Flown

Works = Callable[[Question, Sequence[Check], Scope], list[Finding]]  # for several checks at once
Work = Callable[[Question, Check], Finding]


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
    keeper: Keeper | None = None,
    flown: Mapping[str, Flown] | None = None,
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
        keeper: keeps all rows that break rules.
        flown: what was seen of rules while the rows came in, by their names; such are not judged again.

    Returns:
        A finding for every check, in the order of the charter.

    Raises:
        PlaceError: the table is not there, or the place cannot be reached.
    """
    scopes = (scope or Scope(), load_scope or scope or Scope())
    if any(node.op == "last" for check in compiled.checks if check.sort == "whole" and check.node
           for node in check.node.walk()):  # fmt: skip
        from nomotheta.rules.past import with_last

        now = with_last(now, compiled, around)
    question = Question(
        place, compiled, now, scopes, set_aside, one_by_one=one_by_one, around=around, keeper=keeper
    )  # fmt: skip
    with contextlib.closing(question):
        findings = _findings(question, flown or {})
    for each in findings:
        told(compiled.charter.table, f"rule '{each.rule}': {each.verdict}" + (f", {each.message}" * bool(each.message)))
    return findings


def _findings(question: Question, flown: Mapping[str, Flown]) -> list[Finding]:
    """What comes of all checks: first what one statement judges, which also tells what the others have to know."""
    found: dict[int, Finding] = {}
    alike: dict[tuple[object, ...], tuple[Works, list[tuple[int, Check]]]] = {}
    doubtful: dict[tuple[object, ...], tuple[Works, list[tuple[int, Check]]]] = {}
    rest: list[tuple[int, Check]] = []
    sure: list[tuple[int, Check]] = []
    strange = _strange(question)
    for at, check in enumerate(question.compiled.checks):
        known = _known(question, check, flown)
        if known is not None:
            found[at] = known
        elif is_guaranteed(question, check):
            sure.append((at, check))
        elif check.on_rows or check.sort in {"whole", "groups"}:
            work = _works_of(check.sort)
            scope, letters = question.scope_of(check), question.doubts(check)
            key = (work, check.groups, scope.label)
            alike.setdefault((*key, letters == []), (work, []))[1].append((at, check))
            for name in letters or ():
                question.want(scope, f"letters in {name}", question.beyond_ascii(name))
            if letters:
                doubtful.setdefault(key, (work, []))[1].append((at, check))
        else:
            rest.append((at, check))
    for (*_, differs), (work, some) in alike.items():
        found |= _judged(question, work, some, differs=bool(differs))
    for work, some in doubtful.values():
        found |= _judged(question, work, [(at, check) for at, check in some if question.differs(check)], differs=True)
    kinds = [(at, check) for at, check in rest if check.sort == "kind" and _is_read(question, check, strange)]
    judged = _kinds_together(question, [check for _, check in kinds])
    found |= {at: finding for (at, _), finding in zip(kinds, judged, strict=True)}
    found |= {at: _alone(question, check) for at, check in rest if at not in found}
    found |= {at: guaranteed(question, check) for at, check in sure}
    checks = question.compiled.checks
    return [excusing(question, checks[at], found[at]) for at in sorted(found)]


def _works_of(sort: str) -> Works:
    """What judges checks of a sort that look at the same rows."""
    if sort != "groups":
        return scan.scanned
    from nomotheta.rules.groups import grouped

    return grouped


def _known(question: Question, check: Check, flown: Mapping[str, Flown]) -> Finding | None:
    """What is known of a check without a look at the table."""
    if question.is_enforced(check):
        return question.enforced(check)
    absent = [name for name in check.columns if name not in question.shape]
    if absent:
        return question.absent(check, absent)
    if check.name not in flown:
        return None
    from nomotheta.rules.flown import flown_finding

    return question.guarded(check, lambda: flown_finding(question, check, flown[check.name]))


def _judged(
    question: Question, work: Works, some: Sequence[tuple[int, Check]], *, differs: bool
) -> dict[int, Finding]:  # fmt: skip
    """Checks that one statement judges, by the place or by us."""
    if not some:
        return {}
    if work is scan.scanned and not differs and not question.one_by_one and question.asked is question.place:
        return _but_for_implied(question, some)
    with question.read_by_us() if differs else contextlib.nullcontext():
        judged = _together(question, [check for _, check in some], work)
    return {at: finding for (at, _), finding in zip(some, judged, strict=True)}


def _but_for_implied(question: Question, some: Sequence[tuple[int, Check]]) -> dict[int, Finding]:
    """Checks that the place judges by one statement, and by a second one those that others imply, should it matter."""
    scope, later = question.scope_of(some[0][1]), implied(question, some)
    want_nulls(question, some, later, scope)
    first = [(at, check) for at, check in some if at not in later]
    judged = _together(question, [check for _, check in first], scan.scanned)
    found = {at: finding for (at, _), finding in zip(first, judged, strict=True)}
    rest = []
    for at, check in some:
        if at in later:
            by = found[later[at]]
            if by.breaks == 0 and by.verdict == "pass" and without_nulls(question, check, scope):
                sql = scan.statement(question, check, own("0"), scope)
                found[at] = question.made(check, verdict="pass", breaks=0, rows=by.rows, sql=sql)
            else:
                rest.append((at, check))
    if rest:
        judged = _together(question, [check for _, check in rest], scan.scanned)
        found |= {at: finding for (at, _), finding in zip(rest, judged, strict=True)}
    return found


def _together(question: Question, checks: Sequence[Check], work: Works) -> list[Finding]:
    """Checks by one statement; where that fails, or where it is asked for, one by one: the culprit is an error."""
    scope = question.scope_of(checks[0])
    if not question.one_by_one:
        with contextlib.suppress(Exception):  # then they are judged one by one, and each says what is wrong
            return work(question, checks, scope)
    return [question.guarded(check, lambda check=check: work(question, [check], scope)[0]) for check in checks]  # type: ignore[misc]


def _strange(question: Question) -> dict[str, str]:
    """The condition that a column holds what no value of its kind is, though its type holds it; of those that may."""
    if not any(check.sort == "kind" and not question.is_enforced(check) for check in question.compiled.checks):
        return {}
    found = {
        name: condition for name, column in question.shape.items() if (condition := question.place.strange(column))
    }
    for name, condition in found.items():
        question.want(question.scope, f"strange {name}", condition)
    return found


def _is_read(question: Question, check: Check, strange: Mapping[str, str]) -> bool:
    """Whether the values of a column have to be read one by one to know that all are of its kind."""
    name = check.columns[0]
    if name in question.reads:
        return question.declared(check).name != "text" or question.reads[name].known is not None
    if not holds(question.shape[name], question.declared(check)):
        return True
    return name in strange and question.is_so(question.scope, f"strange {name}", strange[name])


def _alone(question: Question, check: Check) -> Finding:
    """A check with a query of its own."""
    return question.guarded(check, lambda: _work_of(check.sort)(question, check))


def _work_of(sort: str) -> Work:
    """What judges checks of a sort, imported only now: few charters have all of them."""
    if sort == "kind":
        return _of_its_kind
    module, name = _BY_SORT[sort]
    found: Work = getattr(importlib.import_module(f"nomotheta.rules.{module}"), name)
    return found


_BY_SORT = {
    "key": ("lists", "key"), "reference": ("lists", "reference"), "offenders": ("lists", "offenders"),
    "gaps": ("gaps", "gaps"), "equals": ("equal", "equal"), "usual": ("past", "usual"), "drift": ("past", "drifts"),
}  # fmt: skip


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
