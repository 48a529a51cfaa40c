"""Several tables of one place judged at a time, as they are at one moment."""

from __future__ import annotations

import datetime
import queue
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack

from nomotheta.charter import Compiled
from nomotheta.errors import PlaceError
from nomotheta.ledger import Judgement
from nomotheta.place.base import Place
from nomotheta.workspace.context import Context
from nomotheta.workspace.judging import Judged, entered, judge_in, judge_table, put


def judge_side_by_side(
    context: Context, chosen: Sequence[Compiled], place_name: str, day: datetime.date | None, jobs: int,
    meanwhile: Sequence[str] = (),
) -> list[Judgement]:  # fmt: skip
    """Check tables of one place, some at a time, as they are at one moment.

    One after another where the place does not let several connections see the same; and so is a table, once more, of
    which something could not be found out.
    """
    found = [Judged() for _ in chosen]
    tables = {each.charter.table for each in chosen}.union(*(each.after() for each in chosen))
    with ExitStack() as stack:
        lead = stack.enter_context(context.places.open(place_name))
        others = [stack.enter_context(context.places.another(place_name)) for _ in range(min(jobs, len(chosen)))]
        there = [table for table in sorted(tables) if lead.columns(table) is not None]
        if stack.enter_context(lead.one_view(others, there)):
            free = queue.SimpleQueue[Place]()
            for other in others:
                free.put(other)

            def work(at: int) -> None:
                place, own = free.get(), context.beside()
                try:
                    judge_in(own, place, chosen[at], day, found[at], meanwhile)
                except PlaceError as error:
                    found[at].error = error
                finally:
                    own.close()
                    free.put(place)

            with ThreadPoolExecutor(len(others)) as pool:
                list(pool.map(work, range(len(chosen))))
        else:
            for each in found:
                each.error = PlaceError("not judged yet")
    results = []
    for compiled, each in zip(chosen, found, strict=True):
        if each.undecided:
            results.append(judge_table(context, compiled, place_name, day, meanwhile))
            continue
        try:
            if each.keeper is not None:
                with context.places.open(place_name) as place:
                    put(each, place)
        except PlaceError as error:
            each.error = error
        results.append(entered(context, compiled, place_name, each))
    return results
