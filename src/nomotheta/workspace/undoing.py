"""Loads taken out of their tables again."""

from __future__ import annotations

import time
from dataclasses import replace

from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError
from nomotheta.ledger import Undone
from nomotheta.load.undo import undo
from nomotheta.rules import Verdict
from nomotheta.workspace.attempts import settle, settled
from nomotheta.workspace.context import Context, moment


def undo_load(context: Context, load_no: int) -> Undone:
    """Take a load out of its table.

    Raises:
        DeclarationError: there is no such load, or its rows cannot be told.
    """
    ledger = context.ledger
    load, started, clock = ledger.load(load_no), moment(), time.perf_counter()
    if load is None or load.balance is None or load.state != "loaded":
        told = "is not in the ledger" if load is None else f"has no rows in its table: it was {load.state}"
        raise DeclarationError(f"load {load_no} {told}", mend="see: nomotheta ledger")
    compiled = context.charters.compiled([load.table])[0]
    later = ledger.mending(load_no)
    if later:
        raise DeclarationError(
            f"load {later[-1]} brought mended rows of load {load_no}", where=load.table,
            mend=f"take that out first: nomotheta undo {later[-1]}",
        )  # fmt: skip
    entry: int | None = None
    now = context.now(started, load.day, load_no)
    result = Undone(load_no, load.table, load.place, "error", "was cut off")
    try:
        with context.places.open(load.place) as place:
            settle(context, place)
            entry = ledger.begin_undo(load, started)
            place.expect(load.table, compiled.charter.kinds())
            found = undo(
                place, compiled, load_no, context.identity, load.balance.how, now, restores=bool(load.replaced)
            )
        result = replace(
            result, verdict="pass", message="", before=found.before, removed=found.removed,
            restored=found.restored, after=found.after,
        )  # fmt: skip
    except DeclarationError as error:
        result = replace(result, message=error.what)
        raise
    except NomothetaError as error:
        verdict: Verdict = "fail" if isinstance(error, DeliveryError) else "error"
        result = replace(result, verdict=verdict, message=error.what, where=error.where, mend=error.mend)
    finally:
        result = replace(result, seconds=round(time.perf_counter() - clock, 3))
        lost = result.verdict == "error"
        if entry is not None and (not lost or settled(context, load.place, entry) == "cut off"):
            ledger.end_undo(entry, result)
    return result
