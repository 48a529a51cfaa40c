"""Old entries removed from the ledger. What was removed is written down and sealed, so that the chain stays whole."""

from __future__ import annotations

import datetime
import itertools
import json
from collections.abc import Iterable, Mapping, Set

from nomotheta.frozen import frozen
from nomotheta.ledger.chain import check_unaltered
from nomotheta.ledger.database import Database

# of judgements and reconciliations the newest of a table stay; so do all of the newest run, and the highest numbers
_PAST = 400  # loads of a table that a value is held against
_NEWEST = (
    "SELECT max(entry_id) FROM entries UNION SELECT max(entry_id) FROM entries WHERE what IN ('judge', 'reconcile') "
    "GROUP BY what, table_name, place UNION SELECT max(entry_id) FROM entries WHERE load_no = "
    "(SELECT max(load_no) FROM entries) UNION SELECT entry_id FROM entries WHERE run_id = "
    "(SELECT max(run_id) FROM runs)"
)


@frozen
class Pruned:
    """What was removed from the ledger, or would be (`rehearsed`): runs, entries, messages, and the loads among these.

    `kept` are loads from before that moment which stay, since their rows are in their tables; `unanswered` are places
    that did not say which. `size` is how many bytes the ledger takes now, where that is known; `size_before`, before.
    """

    before: datetime.date
    runs: int
    entries: int
    messages: int
    loads: tuple[int, ...]
    kept: int
    unanswered: tuple[str, ...] = ()
    size_before: int | None = None
    size: int | None = None
    head: str = ""
    rehearsed: bool = False
    format: str = "nomotheta/pruned/1"


class _RehearsedError(Exception):
    """Nothing is to stay."""


def prune(
    database: Database, before: datetime.datetime, kept_loads: Mapping[str, Set[int]], by: str, *, rehearse: bool
) -> Pruned:  # fmt: skip
    """Remove what began before a moment, and is not needed for what is in the tables; within one transaction.

    Raises:
        NomothetaError: the ledger is not as it was written; nothing is removed.
    """
    check_unaltered(database.rows, "nothing was removed: the ledger is not as it was written", database.where)
    found: Pruned | None = None
    try:
        with database.together():
            found = _removed(database, before, kept_loads, by)
            if rehearse:
                raise _RehearsedError
    except _RehearsedError:
        pass
    assert found is not None  # noqa: S101 - it was made in the transaction
    return found


def _removed(database: Database, before: datetime.datetime, kept_loads: Mapping[str, Set[int]], by: str) -> Pruned:
    rows, day = database.rows, before.date()
    last_run = rows("SELECT max(run_id) FROM runs")[0][0]
    old = rows("SELECT run_id FROM runs WHERE started < ? AND document IS NOT NULL ORDER BY run_id", before)
    runs = [row[0] for row in old if row[0] != last_run]
    newest = {row[0] for row in rows(_NEWEST)}
    entries, loads, kept = [], set[int](), set[int]()
    for row in rows(
        "SELECT entry_id, what, load_no, place, state FROM entries WHERE started < ? AND state <> 'started' "
        "ORDER BY entry_id", before,
    ):  # fmt: skip
        entry_id, what, load_no, place, state = row
        if what == "load" and state == "loaded" and load_no in kept_loads.get(place, {load_no}):
            kept.add(load_no)
        elif entry_id not in newest:
            entries.append(entry_id)
            loads |= {load_no} if what == "load" and load_no is not None else set()
    needed, still = _needed(database, kept) | _measured(database), set[int]()
    entries = [entry_id for entry_id in entries if entry_id not in needed]
    messages = rows(
        "DELETE FROM outbox WHERE created < ? AND (sent IS NOT NULL OR refused IS NOT NULL) RETURNING mail_id", before
    )
    if runs or entries:
        _by_number(database, "DELETE FROM runs WHERE run_id IN", runs)
        _by_number(database, "DELETE FROM entries WHERE entry_id IN", entries)
        still = {row[0] for row in _by_number(database, "SELECT load_no FROM entries WHERE load_no IN", loads)}
        for table in ("mended", "closed", "tried"):
            _by_number(database, f"DELETE FROM {table} WHERE of_load IN", loads - still)
        removed = json.dumps({"run": _ranges(runs), "entry": _ranges(entries)})
        now = datetime.datetime.now(datetime.UTC)
        database.seal("pruning", database.add("prunings", at=now, before=day, by_name=by, removed=removed))
    (last,) = rows("SELECT hash FROM chain ORDER BY seq DESC LIMIT 1") or [("",)]
    return Pruned(day, len(runs), len(entries), len(messages), tuple(sorted(loads - still)), len(kept), head=last[0])


def _needed(database: Database, kept: Set[int]) -> set[int]:
    """The entries of reconciliations in which loads took part that stay: by them a run knows that they are equal."""
    numbers = {str(load_no) for load_no in kept}
    sql = (
        f"SELECT entry_id, CAST({database.item('')} AS TEXT) FROM entries, {database.items('loads')} "
        "WHERE what = 'reconcile' AND document IS NOT NULL"
    )
    return {row[0] for row in database.rows(sql) if row[1] in numbers}


def _measured(database: Database) -> set[int]:
    """The loads that rules hold later ones against: without them, a load that is not as usual would only warn."""
    newest = (
        "SELECT entry_id, document, row_number() OVER (PARTITION BY table_name, place ORDER BY load_no DESC) AS nth "
        "FROM entries WHERE what = 'load' AND state = 'loaded' AND document IS NOT NULL"
    )
    found = database.rows(
        f"SELECT DISTINCT entry_id FROM ({newest}) AS loads, {database.items('findings', 'loads.document')} "
        f"WHERE nth <= ? AND {database.item('measured')} <> ''", _PAST,
    )  # fmt: skip
    return {row[0] for row in found}


def _by_number(database: Database, sql: str, numbers: Iterable[int]) -> list[tuple[int, ...]]:
    return [tuple(row) for row in database.rows(f"{sql} ({database.numbers})", json.dumps(sorted(numbers)))]


def _ranges(numbers: Iterable[int]) -> list[list[int]]:
    """Numbers in few words: the first and last of each that follow one another."""
    found = []
    for _, group in itertools.groupby(enumerate(sorted(numbers)), lambda pair: pair[1] - pair[0]):
        each = [number for _, number in group]
        found.append([each[0], each[-1]])
    return found
