"""What a page is written of: a run, a load by itself, or the newest judgement of a table."""

from __future__ import annotations

import datetime
import re

from nomotheta.errors import DeclarationError
from nomotheta.ledger import LoadResult, RunResult
from nomotheta.workspace.context import Context


def page_of(context: Context, run_id: int | None, load_no: int | None, judged: str | None) -> tuple[RunResult, str]:
    """What is to be shown, and the name of the page.

    Raises:
        DeclarationError: it is not in the ledger, or more than one thing is asked for.
    """
    if sum(each is not None for each in (run_id, load_no, judged)) > 1:
        raise DeclarationError("a page is of a run, of a load or of a judgement", mend="name one of them")
    if load_no is not None:
        return _of_load(context, load_no)
    if judged is not None:
        return _of_judgement(context, judged)
    result = context.ledger.run(run_id)
    if result is None:
        known = context.ledger.runs()
        told = f"there is no run {run_id} in the ledger" if run_id else "the ledger holds no run yet"
        mend = f"its runs: {', '.join(map(str, known[-10:]))}" if known else "start one: nomotheta run"
        raise DeclarationError(told, mend=mend)
    return result, f"run-{result.run_id}-{result.day}"


def _of_load(context: Context, load_no: int) -> tuple[RunResult, str]:
    load, began = context.ledger.load(load_no), context.ledger.began(load_no)
    if load is None or began is None:
        raise DeclarationError(f"there is no load {load_no} in the ledger", mend="see: nomotheta ledger")
    return _alone(context, load, began), f"load-{load_no}-{load.day}"


def _of_judgement(context: Context, table: str) -> tuple[RunResult, str]:
    found = context.ledger.judgement(table)
    if found is None:
        raise DeclarationError(f"{table} was not judged so far", mend=f"nomotheta judge {table}")
    judgement, started = found
    day = started.astimezone(context.zone).date()
    told = LoadResult(
        table, judgement.place, day, "judged", judgement.verdict, message=judgement.message, mend=judgement.mend,
        findings=judgement.findings, seconds=judgement.seconds,
    )  # fmt: skip
    return _alone(context, told, started), f"judged-{re.sub(r'[^A-Za-z0-9_.-]', '_', table)}-{day}"


def _alone(context: Context, load: LoadResult, started: datetime.datetime) -> RunResult:
    """A run of one table."""
    compiled = context.charters.of(load.table)
    about, owners = (compiled.charter.about, tuple(compiled.charter.owners)) if compiled else ("", ())
    return RunResult.of_one(load, context.settings.name, started, about, owners)
