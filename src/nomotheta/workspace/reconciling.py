"""Tables held against the files that they were loaded from."""

from __future__ import annotations

import datetime
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult
from nomotheta.load.balance import Balance
from nomotheta.load.mended import delimiter_of, mended_charter
from nomotheta.place.base import Place
from nomotheta.place.marks import outlived
from nomotheta.reconcile import Reconciliation
from nomotheta.reconcile.files import LoadedFiles
from nomotheta.reconcile.reconcile import reconcile
from nomotheta.rules.question import Scope
from nomotheta.workspace.archiving import away
from nomotheta.workspace.attempts import settle
from nomotheta.workspace.beside import SHOWN, BesidePages
from nomotheta.workspace.context import Context, moment
from nomotheta.workspace.scopes import family, scope_of_loads


def reconcile_table(
    context: Context, compiled: Compiled, load_no: int | None, place: str | None, run_id: int | None,
    listener: Listener, limit: int | None = SHOWN, *, recorded: bool = False, beside: BesidePages | None = None,
) -> Reconciliation:  # fmt: skip
    """Compare the files of a load with the table, as `Workspace.reconcile` says."""
    started = moment()
    if compiled.source is not None:
        landing = compiled.source.charter.table
        raise DeclarationError(
            f"the rows of {compiled.charter.table} came from the table {landing}, not from files",
            where=compiled.charter.table, mend=f"compare that one with the files: nomotheta reconcile {landing}",
        )  # fmt: skip
    compiled = compiled.as_loaded
    name = place or compiled.place
    with context.places.open(name) as opened:
        settle(context, opened)
        loads, scope = _to_reconcile(context, opened, compiled, name, load_no)
        now = context.now(started, loads[-1].day, loads[-1].load_no)
        merged = compiled.charter.keys[0].columns if compiled.charter.load.how == "merge" else ()
        where = opened.render(scope.where, now) if scope.where and not merged else None
        zone = context.settings.time_zone
        result = reconcile(
            opened, compiled, loads, where, scope.label, zone, listener, merged, beside.most if beside else limit,
            recorded=recorded,
        )  # fmt: skip
    result = beside.differences(result) if beside else result
    context.ledger.add_reconciliation(result, started, run_id)
    return result


def _to_reconcile(
    context: Context, place: Place, compiled: Compiled, name: str, load_no: int | None
) -> tuple[list[LoadedFiles], Scope]:  # fmt: skip
    table = compiled.charter.table
    standing = context.ledger.standing(table, name)
    if not standing:
        raise DeclarationError(f"no load of {table} is in the ledger, so there are no files to compare it with",
                               where=table, mend=f"load it first: nomotheta load {table}")  # fmt: skip
    gone = outlived(place.marks(table))
    loads = [loaded_files(context, compiled, result, at) for result, at in standing if result.balance]
    number = loads[-1].load_no if load_no is None else load_no
    own = [each for each in loads if each.load_no in family(context.ledger, number)]
    if not own:
        known = ", ".join(str(result.load_no) for result, _ in standing)
        raise DeclarationError(f"load {load_no} did not load into {table}", where=table, mend=f"its loads: {known}")
    if number in gone and compiled.charter.load.how == "append":
        raise DeclarationError(f"the rows of load {number} are no longer in {table}: load {gone[number]} replaced them",
                               where=table, mend=f"nomotheta reconcile {table} --load {gone[number]}")  # fmt: skip
    scope = scope_of_loads(context.ledger, compiled, [own[-1].load_no])
    if compiled.charter.load.how == "merge" and scope.label == "table":
        scope = Scope(f"load {own[-1].load_no}")
    if scope.label == "table":  # the rows of one load cannot be told from the others': the files of all are held
        left = [each for each in loads if each.load_no not in gone]
        return left, Scope("all loads" if len(left) > 1 else f"load {left[-1].load_no}")
    return own, scope


def loaded_files(context: Context, compiled: Compiled, result: LoadResult, at: datetime.datetime) -> LoadedFiles:
    """The files of a load, and how they are read."""
    number, balance = result.load_no or 0, result.balance or Balance()
    mended = result.mends is not None
    kept = context.mended_file(number)
    if mended:
        path = kept if kept.exists() else context.root / balance.files[0].file
        compiled = mended_charter(compiled, delimiter_of(path))
    return LoadedFiles(
        number, result.day, at, context.root, balance, context.rejects_file(number), compiled, mended,
        kept if mended and kept.exists() else None, result.imprint, result.stated, _away(context, result, balance),
    )  # fmt: skip


def _away(context: Context, result: LoadResult, balance: Balance) -> dict[str, list[Path]]:
    """Where the files of a load may be, if they were put away since."""
    names = [file.file for file in balance.files] if context.settings.archive is not None else []
    return {name: found for name in names if (found := away(context, result.day, name))}
