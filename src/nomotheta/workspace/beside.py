"""The files beside the page of a run: all rows that broke rules, and all that differ, where there are such pages."""

from __future__ import annotations

import contextlib
import datetime
from dataclasses import replace
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import NomothetaError
from nomotheta.ledger import LoadResult, RunResult
from nomotheta.reconcile import Reconciliation
from nomotheta.workspace.around import Around
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
        from nomotheta.rules.judge import judge
        from nomotheta.rules.keeping import Kept  # only now: it writes Arrow

        context, path = self.context, self._path(BREAKS, compiled.charter.table)
        some = replace(compiled, checks=tuple(check for check in compiled.checks if check.name in broken))
        keeper = Kept(path, MOST)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with context.places.open(place_name) as place:
                now = context.now(moment(), result.day, result.load_no)
                scope = scope_of_loads(context.ledger, compiled, [result.load_no])
                judge(place, some, now, scope, scope, around=Around(context, place), keeper=keeper)
                keeper.done(place, scope)
        except (NomothetaError, OSError):
            keeper.drop()

    def differences(self, found: Reconciliation) -> Reconciliation:
        """Write the rows that differ; the reconciliation as it is kept, with the first of them."""
        if self.most > SHOWN and found.differences:
            from nomotheta.report.rows import write_differences

            with contextlib.suppress(NomothetaError):
                write_differences([found], self._path(DIFFERENCES, found.table))
        return found.first(SHOWN)


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
