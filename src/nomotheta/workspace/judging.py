"""Tables held against their charters."""

from __future__ import annotations

import datetime
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from nomotheta.ahead import import_ahead
from nomotheta.charter import Compiled
from nomotheta.errors import PlaceError
from nomotheta.rules.finding import worst
from nomotheta.rules.judge import judge
from nomotheta.rules.question import Scope
from nomotheta.workspace.around import Around
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.scopes import scope_of_loads

if TYPE_CHECKING:
    from nomotheta.ledger import Judgement


def judge_table(
    context: Context, compiled: Compiled, place_name: str, day: datetime.date | None, meanwhile: Sequence[str] = ()
) -> Judgement:
    """Check a table against its charter; what goes wrong with the place is told by the result.

    Modules that will be needed afterwards are imported meanwhile.
    """
    started, clock = moment(), time.perf_counter()
    table = compiled.charter.table
    try:
        with context.places.open(place_name) as place:
            marks = place.marks(table)
            last = marks[-1].load_no if marks else None
            now = context.now(started, day or context.today(), last)
            load_scope = scope_of_loads(context.ledger, compiled, [last]) if last else None
            for module in ("nomotheta.ledger", *meanwhile):
                import_ahead(module)  # while the place works
            findings = judge(place, compiled, now, Scope(), load_scope, around=Around(context, place))
            told: dict[str, Any] = {"verdict": worst(findings), "findings": tuple(findings)}
    except PlaceError as error:
        where = f"{error.where}: " if error.where else ""
        told = {"verdict": "error", "message": where + error.what, "mend": error.mend}
    from nomotheta.ledger import Judgement

    result = Judgement(table, place_name, "table", seconds=round(time.perf_counter() - clock, 3), **told)
    context.ledger.add_judgement(result, started)
    return result
