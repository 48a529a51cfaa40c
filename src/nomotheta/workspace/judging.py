"""Tables held against their charters."""

from __future__ import annotations

import datetime
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nomotheta.ahead import import_ahead
from nomotheta.charter import Compiled
from nomotheta.errors import PlaceError
from nomotheta.rules.finding import Finding, gravest, worst
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


@dataclass(slots=True)
class Judged:
    """What came of a table: its findings over some rows, or why there are none; and what keeps the rows that broke."""

    started: datetime.datetime = field(default_factory=moment)
    seconds: float = 0
    scope: Scope = field(default_factory=Scope)
    findings: Sequence[Finding] = ()
    keeper: Together | None = None
    error: PlaceError | None = None
    notes: list[str] = field(default_factory=list)

    @property
    def undecided(self) -> bool:
        """Whether some of it could not be found out."""
        return self.error is not None or worst(self.findings) == "error"


def judge_table(
    context: Context, compiled: Compiled, place_name: str, day: datetime.date | None, meanwhile: Sequence[str] = (),
    *, load_no: int | None = None, keep: Path | None = None,
) -> Judgement:  # fmt: skip
    """Check a table against its charter; what goes wrong with the place is told by the result.

    Modules that will be needed afterwards are imported meanwhile.
    """
    found = Judged()
    try:
        with context.places.open(place_name) as place:
            judge_in(context, place, compiled, day, found, meanwhile, load_no=load_no, keep=keep)
            put(found, place)
    except PlaceError as error:
        found.error = error
    return entered(context, compiled, place_name, found)


def judge_in(
    context: Context, place: Place, compiled: Compiled, day: datetime.date | None, found: Judged,
    meanwhile: Sequence[str], *, load_no: int | None = None, keep: Path | None = None,
) -> None:  # fmt: skip
    """Ask a place whether a table is what its charter says.

    Raises:
        PlaceError: the table is not there, or the rows of the load cannot be told.
    """
    clock = time.perf_counter()
    table = compiled.charter.table
    marks = place.marks(table)
    last = load_no or (marks[-1].load_no if marks else None)
    if load_no is not None and load_no not in {mark.load_no for mark in marks}:
        raise PlaceError(f"load {load_no} is not in the table", mend=_loads_told(marks))
    now = context.now(found.started, day or context.today(), last)
    load_scope = scope_of_loads(context.ledger, compiled, [last]) if last else None
    for module in ("nomotheta.ledger", *meanwhile):
        import_ahead(module)  # while the place works
    if load_no is not None and load_scope is not None:
        found.scope = load_scope
    if load_no is not None and found.scope.where is None:
        raise PlaceError(f"the rows of load {load_no} cannot be told apart", mend='add a column from "@load.no"')
    column = compiled.charter.load_column()
    if load_no is not None and column is not None and not place.finds(table, column):
        index = f"CREATE INDEX {table.replace('.', '_')}_{column} ON {table} ({column})"
        told = f"no index begins with {column}, so all rows of {table} were read to find those of load {load_no}"
        found.notes.append(f"{told}; to be faster: {index}")
    around, found.keeper = Around(context, place), _keeper(compiled, keep, now)
    found.findings = judge(place, compiled, now, found.scope, load_scope, around=around, keeper=found.keeper)
    found.seconds = time.perf_counter() - clock


def put(found: Judged, place: Place | None) -> None:
    """Put the rows that broke rules where they are to be kept."""
    if found.keeper is not None and place is not None:
        found.keeper.done(place, found.scope)


def entered(context: Context, compiled: Compiled, place: str, found: Judged) -> Judgement:
    """The judgement, kept in the ledger."""
    from nomotheta.ledger import Judgement

    told: dict[str, Any] = {"verdict": worst(found.findings), "findings": tuple(found.findings)}
    if found.error is not None:
        where = f"{found.error.where}: " if found.error.where else ""
        told = {"verdict": "error", "message": where + found.error.what, "mend": found.error.mend}
    over = "table" if found.error is not None else found.scope.label
    result = Judgement(
        compiled.charter.table, place, over, seconds=round(found.seconds, 3), notes=tuple(found.notes), **told
    )
    context.ledger.add_judgement(result, found.started)
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
