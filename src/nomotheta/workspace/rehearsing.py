"""A night rehearsed: every table loaded and judged in order, and nothing of it stays."""

from __future__ import annotations

import datetime
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult, RunResult, TableResult
from nomotheta.rules.finding import NO_SAMPLES, Finding, gravest, worst
from nomotheta.workspace.attempts import rows_there
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.loading import WOULD_BE_LOADED, Wanted, rehearse_delivery

_HAS = frozenset({"unchanged", "nothing arrived"})


def rehearse_run(
    context: Context, chosen: Sequence[Compiled], broken: Mapping[str, DeclarationError], day: datetime.date,
    place: str | None, listener: Listener, *, create: bool,
) -> RunResult:  # fmt: skip
    """Whether a night would pass. Tables of a DuckDB file are all loaded into memory, so that each sees the others.

    Elsewhere a load is rolled back before the next one: what a reference to another table of the night comes to there
    may not be known, which is an error.
    """
    started, clock = moment(), time.perf_counter()
    results: dict[str, TableResult] = {}
    for table, error in broken.items():
        failed = LoadResult(table, place or "", day, "failed", "error", None, error.what, error.where, error.mend)
        results[table] = TableResult(table, "error", failed)
    with context.places.rehearsing([each.charter.table for each in chosen]):
        for compiled in chosen:
            results[compiled.charter.table] = _table(context, compiled, results, day, place, listener, create=create)
    verdict = gravest(each.verdict for each in results.values())
    seconds = round(time.perf_counter() - clock, 3)
    return RunResult(
        0, context.settings.name, day, started, seconds, verdict, tuple(results.values()), rehearsed=True
    )  # fmt: skip


def _table(
    context: Context, compiled: Compiled, results: Mapping[str, TableResult], day: datetime.date, place: str | None,
    listener: Listener, *, create: bool,
) -> TableResult:  # fmt: skip
    charter, name = compiled.charter, place or compiled.place
    about: dict[str, Any] = {"about": charter.about, "owners": tuple(charter.owners)}
    waits = [each for each in sorted(compiled.after()) if each in results and not _would(results[each])]
    if waits:
        held = LoadResult(
            charter.table, name, day, "held back", "fail", message=f"skipped: {' and '.join(waits)} failed",
            mend=f"fix {waits[0]} first", table_rows=rows_there(context, charter.table, name),
        )  # fmt: skip
        return TableResult(charter.table, "fail", held, **about)
    result = rehearse_delivery(context, compiled, day, place, Wanted(create, again=True), listener)
    if not context.places.in_memory(name):
        result = _undecided(compiled, result, results)
    return TableResult(charter.table, result.verdict, result, **about)


def _would(result: TableResult) -> bool:
    """Whether a table would have what its day brings."""
    load = result.load
    return load.state in _HAS or (load.state == "rehearsed" and load.message == WOULD_BE_LOADED)


def _undecided(compiled: Compiled, result: LoadResult, results: Mapping[str, TableResult]) -> LoadResult:
    """References to tables that were rolled back since: they are not decided where the rows of these could matter."""
    loaded = {table for table, each in results.items() if each.load.state == "rehearsed"}
    listed = {
        check.name: check.listed_in[0] for check in compiled.checks if check.listed_in and check.listed_in[0] in loaded
    }
    if not listed:
        return result
    findings = tuple(_open(each, listed[each.rule]) if each.rule in listed else each for each in result.findings)
    told = "not all of it can be decided in a trial run"
    return replace(result, findings=findings, verdict=gravest([worst(findings), "error"]), message=told)


def _open(finding: Finding, table: str) -> Finding:
    told = f"not decided in this trial run: tonight's rows of {table} are not in it any more; a real run will tell"
    return replace(finding, verdict="error", message=told, breaks=None, samples=NO_SAMPLES)
