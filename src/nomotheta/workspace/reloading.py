"""Rows that a load set aside, sent again after they were mended."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

from nomotheta.charter import Compiled
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError
from nomotheta.events import Listener
from nomotheta.ledger import LoadResult
from nomotheta.load.compare import compare
from nomotheta.load.mended import Mended, open_mended, read_mended
from nomotheta.load.order import Order
from nomotheta.place.base import Place
from nomotheta.place.marks import outlived
from nomotheta.source.delivery import ArrivedFile
from nomotheta.workspace.arriving import Delivered
from nomotheta.workspace.attempts import Attempt, entered, failed, settle
from nomotheta.workspace.carrying import order_of, tried
from nomotheta.workspace.context import Context
from nomotheta.workspace.deliveries import MENDED
from nomotheta.workspace.mending import check_mended, still_out
from nomotheta.workspace.reopening import note_ways


def load_mended(
    context: Context, compiled: Compiled, file: Path, place: str | None, listener: Listener,
    run_id: int | None = None, *, anew: bool = False,
) -> LoadResult:  # fmt: skip
    """Load the mended rows of an earlier load; `anew` where the same file may have come before."""
    attempt = Attempt(context, compiled, place or compiled.place, context.today(), run_id)
    mended = None
    try:
        mended = read_mended(context.root, file.resolve(), compiled.as_loaded)
        origin = check_mended(context.ledger, context.rejects_file, mended, attempt.table)
        attempt.day, attempt.mends, attempt.place = origin.day, mended.of_load, place or origin.place
        result = _loaded(context, attempt, mended, listener, anew=anew)
    except DeclarationError:
        raise
    except NomothetaError as error:
        result = failed(context, attempt, error)
    result = entered(context, attempt, result)
    if attempt.load_no is not None and mended is not None:
        loaded = result.state == "loaded"
        gone = still_out(mended, context.rejects_file(attempt.load_no)) if loaded else mended.rows
        some = gone if len(gone) < len(mended.rows) else None
        context.ledger.drop_mended(mended.of_load, attempt.load_no, some)
        if loaded and gone:
            note_ways(context, mended, attempt.load_no, gone, result.in_the_way)
        if not loaded:
            context.mended_file(attempt.load_no).unlink(missing_ok=True)
    return result


def _loaded(context: Context, attempt: Attempt, mended: Mended, listener: Listener, *, anew: bool) -> LoadResult:
    with context.places.open(attempt.place) as place:
        settle(context, place)
        compare(place, attempt.compiled.as_loaded)
        _check_standing(place, attempt.table, mended)
        delivered = Delivered([mended.file], daily=True)
        content = f"{MENDED}{mended.of_load}:{mended.file.survey.content}"
        untouched = mended.untouched(context.rejects_kept(mended.of_load))

        def ordered() -> Order:
            if attempt.load_no is not None:
                context.ledger.drop_mended(mended.of_load, attempt.load_no, None)
                context.mended_file(attempt.load_no).unlink(missing_ok=True)
            load_no = attempt.numbered(context.ledger, place)
            context.ledger.expect_mended(mended.of_load, load_no, mended.rows)
            _keep(mended.file, context.mended_file(load_no))
            order = order_of(context, attempt, place, delivered, load_no)
            return replace(
                order, content=content, once=f"{content}:{load_no}" if anew else content, removal=None,
                opened=lambda file: open_mended(file, mended.compiled, untouched),
            )  # fmt: skip

        return tried(context, attempt, place, mended.compiled, ordered, listener)


def _check_standing(place: Place, table: str, mended: Mended) -> None:
    """Whether the rows that stood beside the mended ones are still in the table.

    Raises:
        DeliveryError: a later load replaced them.
    """
    later = outlived(place.marks(table)).get(mended.of_load)
    if later is not None:
        raise DeliveryError(
            f"load {mended.of_load} was replaced since, by load {later}", where=mended.file.name,
            mend=f"correct the rows of that one: nomotheta rejects {later} --csv FILE",
        )  # fmt: skip


def _keep(file: ArrivedFile, kept: Path) -> None:
    """Keep a file of mended rows as it is: the next ones are often written under the same name."""
    try:
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.touch(0o600)
        shutil.copyfile(file.path, kept)
    except OSError as error:
        raise DeliveryError(f"no copy of it can be kept: {error.strerror}", where=file.name) from None
