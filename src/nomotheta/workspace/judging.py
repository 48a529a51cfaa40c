"""Tables held against their charters."""

from __future__ import annotations

import datetime
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nomotheta.ahead import import_ahead
from nomotheta.charter import Compiled
from nomotheta.errors import PlaceError
from nomotheta.rules.finding import gravest, worst
from nomotheta.rules.judge import judge
from nomotheta.rules.question import Scope
from nomotheta.workspace.around import Around
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.scopes import scope_of_loads

if TYPE_CHECKING:
    from nomotheta.ledger import Judgement, LoadResult
    from nomotheta.place.base import Mark, Place
    from nomotheta.place.render import Now
    from nomotheta.rules.keeping import Together

_NAMED = 8  # loads that a message names


def judge_table(
    context: Context, compiled: Compiled, place_name: str, day: datetime.date | None, meanwhile: Sequence[str] = (),
    *, load_no: int | None = None, keep: Path | None = None,
) -> Judgement:  # fmt: skip
    """Check a table against its charter; what goes wrong with the place is told by the result.

    Modules that will be needed afterwards are imported meanwhile.
    """
    started, clock = moment(), time.perf_counter()
    table, over = compiled.charter.table, "table"
    try:
        with context.places.open(place_name) as place:
            marks = place.marks(table)
            last = load_no or (marks[-1].load_no if marks else None)
            if load_no is not None and load_no not in {mark.load_no for mark in marks}:
                raise PlaceError(f"load {load_no} is not in the table", mend=_loads_told(marks))
            now = context.now(started, day or context.today(), last)
            load_scope = scope_of_loads(context.ledger, compiled, [last]) if last else None
            for module in ("nomotheta.ledger", *meanwhile):
                import_ahead(module)  # while the place works
            scope = load_scope if load_no is not None and load_scope is not None else Scope()
            if load_no is not None and scope.where is None:
                raise PlaceError(
                    f"the rows of load {load_no} cannot be told apart", mend='add a column from "@load.no"'
                )
            around, keeper = Around(context, place), _keeper(compiled, keep, now)
            findings = judge(place, compiled, now, scope, load_scope, around=around, keeper=keeper)
            if keeper is not None:
                keeper.done(place, scope)
            over = scope.label
            told: dict[str, Any] = {"verdict": worst(findings), "findings": tuple(findings)}
    except PlaceError as error:
        where = f"{error.where}: " if error.where else ""
        told = {"verdict": "error", "message": where + error.what, "mend": error.mend}
    from nomotheta.ledger import Judgement

    result = Judgement(table, place_name, over, seconds=round(time.perf_counter() - clock, 3), **told)
    context.ledger.add_judgement(result, started)
    return result


def _loads_told(marks: Sequence[Mark]) -> str:
    """The loads that are in a table."""
    known = [str(mark.load_no) for mark in marks[-_NAMED:]]
    return f"loads there: {', '.join(known)}" if known else "nothing was loaded into it from here"


def keep_breaks(context: Context, place: Place, compiled: Compiled, result: LoadResult) -> LoadResult:
    """Put the rows of a load that break rules into the table that is declared for them; a warning where that fails."""
    if compiled.charter.breaks is None or result.state != "loaded" or result.load_no is None:
        return result
    now = context.now(moment(), result.day, result.load_no)
    scope, keeper = scope_of_loads(context.ledger, compiled, [result.load_no]), _keeper(compiled, None, now)
    try:
        if any(finding.breaks for finding in result.findings):
            judge(place, compiled, now, scope, scope, around=Around(context, place), keeper=keeper)
        if keeper is not None:
            keeper.done(place, scope)
    except PlaceError as error:
        told = f"the rows that break rules were not kept: {error.what}"
        return replace(result, verdict=gravest([result.verdict, "warn"]), warnings=(*result.warnings, told))
    return result


def _keeper(compiled: Compiled, keep: Path | None, now: Now) -> Together | None:
    """What keeps the rows that break rules: a file, a table beside the one that is judged, or both."""
    if keep is None and compiled.charter.breaks is None:
        return None
    from nomotheta.rules.keeping import Kept, KeptInTable, Together  # only now: it writes Arrow

    found = [Kept(keep)] if keep is not None else []
    return Together([*found, *([KeptInTable(compiled.charter.breaks.table, now)] if compiled.charter.breaks else [])])
