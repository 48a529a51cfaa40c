"""Tables held against their charters."""

from __future__ import annotations

import datetime
import time
from dataclasses import replace

from nomotheta.charter import Compiled
from nomotheta.errors import PlaceError
from nomotheta.ledger import Judgement
from nomotheta.rules.finding import worst
from nomotheta.rules.judge import judge
from nomotheta.rules.question import Scope
from nomotheta.workspace.around import Around
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.scopes import scope_of_loads


def judge_table(context: Context, compiled: Compiled, place_name: str, day: datetime.date | None) -> Judgement:
    """Check a table against its charter; what goes wrong with the place is told by the result."""
    started, clock = moment(), time.perf_counter()
    table = compiled.charter.table
    try:
        with context.places.open(place_name) as place:
            marks = place.marks(table)
            last = marks[-1].load_no if marks else None
            now = context.now(started, day or context.today(), last)
            load_scope = scope_of_loads(context.ledger, compiled, [last]) if last else None
            findings = judge(place, compiled, now, Scope(), load_scope, around=Around(context, place))
            result = Judgement(table, place_name, "table", worst(findings), tuple(findings))
    except PlaceError as error:
        where = f"{error.where}: " if error.where else ""
        result = Judgement(table, place_name, "table", "error", message=where + error.what, mend=error.mend)
    result = replace(result, seconds=round(time.perf_counter() - clock, 3))
    context.ledger.add_judgement(result, started)
    return result
