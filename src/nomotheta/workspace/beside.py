"""The files beside the page of a run: all rows that broke rules, and all that differ, where there are such pages."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Sequence, Set
from dataclasses import replace
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import NomothetaError
from nomotheta.ledger import LoadResult, RunResult
from nomotheta.place.base import Place
from nomotheta.place.render import Now
from nomotheta.reconcile import Reconciliation
from nomotheta.rules.finding import Finding
from nomotheta.rules.question import Scope
from nomotheta.workspace.around import Around
from nomotheta.workspace.attempts import Attempt
from nomotheta.workspace.context import REPORTS, Context, moment
from nomotheta.workspace.scopes import scope_of_loads

MOST = 10_000  # rows of a rule, or of a comparison, in such a file
SHOWN = 20  # rows that differ which are kept with a run
BREAKS, DIFFERENCES = "breaks", "differences"  # their folders


def has_pages(context: Context) -> bool:
    """Whether the pages of a workspace are kept current."""
    return bool(context.settings.report.base_url) or (context.root / REPORTS / "index.html").is_file()


class BesidePages:
    """Writes them while a run is carried out; what cannot be written is not there, and no page refers to it."""

    def __init__(self, context: Context, run_id: int, day: datetime.date) -> None:
        self.context, self.run_id, self.day = context, run_id, day
        self.most = MOST if has_pages(context) else SHOWN

    def _path(self, sort: str, table: str) -> Path:
        return file_beside(self.context.root / REPORTS, sort, self.run_id, self.day, table)

    def breaks(self, compiled: Compiled, place_name: str, result: LoadResult) -> None:
        """Write the rows of a load that break rules, as they may be shown, so many of each rule."""
        broken = {finding.rule for finding in result.findings if finding.breaks}
        if self.most == SHOWN or not broken or result.state != "loaded" or result.load_no is None:
            return
        context = self.context
        with contextlib.suppress(NomothetaError), context.places.open(place_name) as place:
            now = context.now(moment(), result.day, result.load_no)
            scope = scope_of_loads(context.ledger, compiled, [result.load_no])
            _keep(context, place, compiled, now, scope, broken, self._path(BREAKS, compiled.charter.table))

    def differences(self, found: Reconciliation) -> Reconciliation:
        """Write the rows that differ; the reconciliation as it is kept, with the first of them."""
        if self.most > SHOWN and found.differences:
            from nomotheta.report.rows import write_differences

            with contextlib.suppress(NomothetaError):
                write_differences([found], self._path(DIFFERENCES, found.table))
        return found.first(SHOWN)


def keep_before_undone(
    attempt: Attempt, place: Place, compiled: Compiled, now: Now, scope: Scope | None, findings: Sequence[Finding]
) -> None:  # fmt: skip
    """Write the rows of a load in a run that break rules while they are still there: it is about to be rolled back."""
    context, broken = attempt.context, {finding.rule for finding in findings if finding.breaks}
    if attempt.run_id is not None and attempt.mends is None and broken and has_pages(context):
        path = file_beside(context.root / REPORTS, BREAKS, attempt.run_id, attempt.day, attempt.table)
        _keep(context, place, compiled, now, scope, broken, path)


def _keep(
    context: Context, place: Place, compiled: Compiled, now: Now, scope: Scope | None, broken: Set[str], path: Path
) -> None:  # fmt: skip
    """Write the rows that break some rules; none where that cannot be done."""
    from nomotheta.rules.judge import judge
    from nomotheta.rules.keeping import Kept  # only now: it writes Arrow

    some = replace(compiled, checks=tuple(check for check in compiled.checks if check.name in broken))
    keeper = Kept(path, MOST)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        judge(place, some, now, scope, scope, around=Around(context, place), keeper=keeper)
        keeper.done(place, scope or Scope())
    except (NomothetaError, OSError):
        keeper.drop()


def file_beside(folder: Path, sort: str, run_id: int, day: datetime.date, table: str) -> Path:
    """Where the rows of a sort are, of a table in a run."""
    from nomotheta.report.site import run_name, safe_name

    name = run_name(run_id, day)
    return folder / sort / f"{name}-{safe_name(table).removesuffix('.html')}.csv"


def files_beside(folder: Path, run: RunResult) -> dict[tuple[str, str], str]:
    """The files that there are beside the page of a run, by what is in them and the table, as a page refers to them."""
    found = {}
    for each in run.tables:
        for sort in (BREAKS, DIFFERENCES):
            path = file_beside(folder, sort, run.run_id, run.day, each.table)
            if path.is_file():
                found[sort, each.table] = path.relative_to(folder).as_posix()
    return found
