"""The workspace's memory: every run, load, judgement and reconciliation, and the mails still to be sent."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence, Set
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from nomotheta.errors import counted
from nomotheta.ledger.aside import Aside
from nomotheta.ledger.chain import Verified, verified
from nomotheta.ledger.database import Database
from nomotheta.ledger.docket import Docket
from nomotheta.ledger.history import History
from nomotheta.ledger.outbox import Outbox
from nomotheta.ledger.record import Entry, Judgement, LoadResult, RunResult, Undone
from nomotheta.ledger.shares import Shares
from nomotheta.ledger.summaries import summary_of_judgement, summary_of_load, summary_of_reconciliation
from nomotheta.reconcile import Reconciliation

if TYPE_CHECKING:
    from pydantic import TypeAdapter

    from nomotheta.ledger.pruning import Pruned

Document = TypeVar("Document")
_NO_LIMIT = 1 << 62


class Ledger(Aside):
    """Opened on a file, which is made where it is not there, or on a database."""

    def __init__(self, kept: Path | Database) -> None:
        if isinstance(kept, Path):
            from nomotheta.ledger.sqlite import SqliteLedger

            kept = SqliteLedger(kept)
        self._database = database = kept
        self._add = database.add
        self.together, self.alone = database.together, database.alone
        self.size, self.compact = database.size, database.compact
        self._next = f"(SELECT {database.greatest}(?, coalesce(max(load_no), 0) + 1) FROM entries)"
        self.outbox, self.docket = Outbox(self._database), Docket(self._database)
        self.history, self.shares = History(self._database), Shares(self._database)
        self.shared = database.shared

    def identity(self, fresh: str) -> str:
        """The workspace's own id, `fresh` where it has none yet."""
        self._rows("INSERT OR IGNORE INTO about VALUES ('identity', ?)", fresh)
        return str(self._rows("SELECT value FROM about WHERE key = 'identity'")[0][0])

    # ---- runs

    def begin_run(self, day: datetime.date, started: datetime.datetime) -> int:
        """A new run's number."""
        return self._add("runs", day=day, started=started)

    def end_run(self, result: RunResult) -> None:
        """Keep what came of it, and what fails in the docket."""
        document = _dump(result)
        with self._database.together():
            self._rows(
                "UPDATE runs SET verdict = ?, document = ? WHERE run_id = ?", result.verdict, document, result.run_id
            )
            self._database.seal("run", result.run_id)
            self.docket.take_in(result, datetime.datetime.now(datetime.UTC))
            self.history.take_in(result)

    def note_failures(self, result: RunResult) -> None:
        """What fails of a load that is no part of a run, in the docket."""
        with self._database.together():
            self.docket.take_in(result, datetime.datetime.now(datetime.UTC))

    def run(self, run_id: int | None = None) -> RunResult | None:
        """A run's result, or the newest one's; None where there is none."""
        sql = "SELECT document FROM runs WHERE document IS NOT NULL AND run_id = coalesce(?, run_id)"
        found = self._rows(f"{sql} ORDER BY run_id DESC LIMIT 1", run_id)
        return _adapter(RunResult).validate_json(found[0][0]) if found else None

    def runs(self) -> list[int]:
        """The numbers of the runs that have a result."""
        return [row[0] for row in self._rows("SELECT run_id FROM runs WHERE document IS NOT NULL ORDER BY run_id")]

    # ---- entries

    def begin_load(
        self, table: str, place: str, day: datetime.date, started: datetime.datetime, run_id: int | None, least: int,
        exact: int | None = None,
    ) -> tuple[int, int]:  # fmt: skip
        """An entry for a load that is about to start, and the load's number, which is given out in the same act.

        Args:
            table: what is loaded.
            place: where it is.
            day: the delivery's.
            started: when the load began.
            run_id: the run that it belongs to.
            least: the number is at least so high, and higher than any that was given before.
            exact: the number of a load that was cut off, where it is gone on with.
        """
        with self.together():
            row = self._rows(
                "INSERT INTO entries (what, run_id, load_no, table_name, place, day, started, process, state, verdict, "
                f"summary) VALUES ('load', ?, coalesce(?, {self._next}), ?, ?, ?, ?, ?, 'started', 'error', 'started') "
                "RETURNING entry_id, load_no",
                run_id, exact, least, table, place, day, started, self._database.holder,
            )[0]  # fmt: skip
        return int(row[0]), int(row[1])

    def renumber_load(self, entry_id: int, least: int) -> int:
        """Another number for a load that is about to start."""
        told = f"UPDATE entries SET load_no = {self._next} WHERE entry_id = ? RETURNING load_no"
        with self.together():
            return int(self._rows(told, least, entry_id)[0][0])

    def end_load(self, entry_id: int, result: LoadResult) -> None:
        """What came of it."""
        self._write(
            [entry_id], "UPDATE entries SET state = ?, verdict = ?, summary = ?, document = ? WHERE entry_id = ?",
            result.state, result.verdict, summary_of_load(result), _dump(result), entry_id,
        )  # fmt: skip

    def _write(self, entries: Sequence[int], sql: str, *values: Any) -> None:
        """Change entries, and seal them."""
        with self._database.together():
            self._rows(sql, *values)
            for entry_id in entries:
                self._database.seal("entry", entry_id)

    def _enter(self, **values: Any) -> None:
        """Add an entry that is whole, and seal it."""
        with self._database.together():
            self._database.seal("entry", self._add("entries", **values))

    def expect_load(self, entry_id: int, result: LoadResult) -> None:
        """What comes of a load that is about to be committed, should its process not live to say so."""
        self._rows("UPDATE entries SET document = ? WHERE entry_id = ?", _dump(result), entry_id)

    def state(self, entry_id: int) -> str:
        """How an entry stands: `started` where it has not ended."""
        return str(self._rows("SELECT state FROM entries WHERE entry_id = ?", entry_id)[0][0])

    def let_go(self, entry_id: int) -> None:
        """An entry that its process does not end; who opens the place next may settle it."""
        self._rows("UPDATE entries SET process = NULL WHERE entry_id = ?", entry_id)

    def add_load(self, result: LoadResult, started: datetime.datetime, run_id: int | None) -> None:
        """A load that ended before it began."""
        self._enter(
            what="load", run_id=run_id, table_name=result.table, place=result.place, day=result.day,
            started=started, state=result.state, verdict=result.verdict, summary=summary_of_load(result),
            document=_dump(result),
        )  # fmt: skip

    def add_judgement(self, result: Judgement, started: datetime.datetime) -> None:
        """A judgement."""
        self._enter(
            what="judge", table_name=result.table, place=result.place, started=started, state="judged",
            verdict=result.verdict, summary=summary_of_judgement(result),
            document=json.dumps(asdict(result)),  # which holds texts and counts alone, and is soonest written so
        )  # fmt: skip

    def judgement(self, table: str) -> tuple[Judgement, datetime.datetime] | None:
        """The newest judgement of a table, and when it began; None where there was none."""
        rows = self._rows(
            "SELECT document, started FROM entries WHERE what = 'judge' AND table_name = ? "
            "ORDER BY entry_id DESC LIMIT 1", table,
        )  # fmt: skip
        if not rows:
            return None
        return _adapter(Judgement).validate_json(rows[0][0]), datetime.datetime.fromisoformat(rows[0][1])

    def add_reconciliation(self, result: Reconciliation, started: datetime.datetime, run_id: int | None) -> None:
        """A reconciliation."""
        self._enter(
            what="reconcile", run_id=run_id, table_name=result.table, place=result.place, started=started,
            state="reconciled", verdict=result.verdict, summary=summary_of_reconciliation(result),
            document=_dump(result),
        )  # fmt: skip

    def reconciled(self, table: str, place: str, load_no: int) -> str | None:
        """The verdict of the newest reconciliation in which a load took part; None where there was none."""
        rows = self._rows(
            "SELECT verdict FROM entries WHERE what = 'reconcile' AND table_name = ? AND place = ? AND entry_id > "
            "(SELECT max(entry_id) FROM entries WHERE what = 'load' AND load_no = ?) AND EXISTS "
            f"(SELECT 1 FROM {self._database.items('loads')} WHERE CAST({self._database.item('')} AS TEXT) = ?) "
            "ORDER BY entry_id DESC LIMIT 1", table, place, load_no, str(load_no),
        )  # fmt: skip
        return str(rows[0][0]) if rows else None

    def rows_left(self, table: str, place: str) -> int | None:
        """How many rows the newest load of a table, or the newest undo, left in it; None where that is not known."""
        rows = self._rows(
            f"SELECT what, {self._database.of('balance.after', number=True)} FROM entries "
            "WHERE table_name = ? AND place = ? "
            "AND (what = 'load' AND state = 'loaded' OR what = 'undo' AND state = 'taken out') "
            "ORDER BY entry_id DESC LIMIT 1", table, place,
        )  # fmt: skip
        return rows[0][1] if rows and rows[0][0] == "load" else None

    def removed_since(self, table: str, place: str, load_no: int) -> bool:
        """Whether a load after this one has taken rows out of the table: they may be its own."""
        rows = self._rows(
            "SELECT 1 FROM entries WHERE what = 'load' AND table_name = ? AND place = ? AND load_no > ? "
            f"AND state = 'loaded' AND {self._database.of('balance.removed', number=True)} > 0 LIMIT 1",
            table, place, load_no,
        )  # fmt: skip
        return bool(rows)

    def verdict(self, load_no: int) -> str | None:
        """How a load that stands ended; None where no such load is known."""
        rows = self._rows(
            "SELECT verdict FROM entries WHERE what = 'load' AND load_no = ? AND state = 'loaded' "
            "ORDER BY entry_id DESC LIMIT 1", load_no,
        )  # fmt: skip
        return str(rows[0][0]) if rows else None

    def entries(
        self, table: str | None = None, limit: int | None = None, *, failed: bool = False,
        day: datetime.date | None = None, place: str | None = None,
    ) -> list[Entry]:  # fmt: skip
        """What happened, newest first: of all, or of a table, of a delivery's day, in a place, or what failed."""
        rows = self._rows(
            "SELECT * FROM entries WHERE table_name = coalesce(?, table_name) AND place = coalesce(?, place) "
            "AND (? IS NULL OR day = ?) AND (NOT ? OR verdict IN ('fail', 'error')) ORDER BY entry_id DESC LIMIT ?",
            table, place, day and day.isoformat(), day and day.isoformat(), failed,
            _NO_LIMIT if limit is None else limit,
        )  # fmt: skip
        return [
            Entry(
                row["entry_id"], row["what"], row["run_id"], row["load_no"], row["table_name"], row["place"],
                row["day"] and datetime.date.fromisoformat(row["day"]), datetime.datetime.fromisoformat(row["started"]),
                row["state"], row["verdict"], row["summary"],
            )
            for row in rows
        ]  # fmt: skip

    def load(self, load_no: int) -> LoadResult | None:
        """The newest result of a load by its number."""
        found = self._rows(
            "SELECT document FROM entries WHERE load_no = ? AND document IS NOT NULL ORDER BY entry_id DESC LIMIT 1",
            load_no,
        )
        return _adapter(LoadResult).validate_json(found[0][0]) if found else None

    def tables(self, place: str) -> list[str]:
        """The tables of a place into which anything was loaded."""
        sql = "SELECT DISTINCT table_name FROM entries WHERE what = 'load' AND place = ? ORDER BY table_name"
        return [row[0] for row in self._rows(sql, place)]

    def newest_with_rejects(self, table: str | None = None) -> int | None:
        """The newest load, of a table or of all, that set rows aside; None where none did."""
        aside = " + ".join(f"coalesce({self._database.of(f'balance.{each}', number=True)}, 0)"
                           for each in ("rejected", "copies", "conflicts"))  # fmt: skip
        found = self._rows(
            "SELECT load_no FROM entries WHERE what = 'load' AND document IS NOT NULL AND load_no IS NOT NULL "
            f"AND table_name = coalesce(?, table_name) AND state <> 'started' AND {aside} > 0 "
            "ORDER BY load_no DESC LIMIT 1", table,
        )  # fmt: skip
        return int(found[0][0]) if found else None

    def loads_of_run(self, run_id: int) -> list[int]:
        """The loads of a run whose rows are in their tables."""
        sql = "SELECT load_no FROM entries WHERE what = 'load' AND run_id = ? AND state = 'loaded' ORDER BY entry_id"
        return [int(row[0]) for row in self._rows(sql, run_id)]

    def began(self, load_no: int) -> datetime.datetime | None:
        """When a load first began, or None where there is no such."""
        found = self._rows(
            "SELECT started FROM entries WHERE load_no = ? AND what = 'load' ORDER BY entry_id LIMIT 1", load_no
        )
        return datetime.datetime.fromisoformat(found[0][0]) if found else None

    def standing(self, table: str, place: str) -> list[tuple[LoadResult, datetime.datetime]]:
        """The loads of a table that were committed, oldest first, and the moment each began."""
        rows = self._rows(
            "SELECT document, started FROM entries WHERE table_name = ? AND place = ? AND state = 'loaded' "
            "AND document IS NOT NULL ORDER BY entry_id",
            table, place,
        )  # fmt: skip
        adapter = _adapter(LoadResult)
        return [(adapter.validate_json(row[0]), datetime.datetime.fromisoformat(row[1])) for row in rows]

    def measured(
        self, table: str, place: str, rule: str, before: int | None, most: int
    ) -> list[tuple[int, datetime.date, str]]:  # fmt: skip
        """What a rule measured of the loads that are in a table, and came before one: the oldest first."""
        said, found = self._database.item("measured"), self._database.items("findings", "loads.document")
        rows = self._rows(
            f"SELECT load_no, day, {said} AS measured FROM "
            "(SELECT * FROM entries WHERE what = 'load' AND table_name = ? AND place = ? AND state = 'loaded' "
            "AND document IS NOT NULL AND (? IS NULL OR load_no < ?) ORDER BY load_no DESC LIMIT ?) AS loads, "
            f"{found} WHERE {self._database.item('rule')} = ? AND {said} <> '' ORDER BY load_no",
            table, place, before, before, most, rule,
        )  # fmt: skip
        return [(row["load_no"], datetime.date.fromisoformat(row["day"]), row["measured"]) for row in rows]

    def keep_charter(self, version: str, declared: Mapping[str, Any], text: str) -> None:
        """Keep a charter as it was when something was loaded under it."""
        self._rows("INSERT OR IGNORE INTO charters VALUES (?, ?, ?)", version, text, json.dumps(declared, default=str))

    def charter_of(self, load_no: int, table: str, place: str) -> str:
        """The version of the charter that a load was carried out by; empty where that is not known."""
        found = self._rows(
            f"SELECT {self._database.of('charter')} FROM entries WHERE what = 'load' AND load_no = ? "
            "AND table_name = ? AND place = ? AND document IS NOT NULL ORDER BY entry_id DESC LIMIT 1",
            load_no, table, place,
        )  # fmt: skip
        return str(found[0][0] or "") if found else ""

    def charter(self, version: str) -> tuple[str, dict[str, Any]] | None:
        """A charter's text at a time, and what it declared; None where it is not known."""
        found = self._rows("SELECT text, declared FROM charters WHERE version = ?", version)
        return (str(found[0][0]), json.loads(found[0][1])) if found else None

    def highest_load_no(self) -> int:
        """The highest load number given so far."""
        return int(self._rows("SELECT coalesce(max(load_no), 0) FROM entries")[0][0])

    def begin_undo(self, load: LoadResult, started: datetime.datetime) -> int:
        """An entry for a load that is about to be taken out."""
        return self._add(
            "entries", what="undo", load_no=load.load_no, table_name=load.table, place=load.place, day=load.day,
            started=started, process=self._database.holder, state="started", verdict="error", summary="started",
        )  # fmt: skip

    def end_undo(self, entry_id: int, result: Undone) -> None:
        """What came of it; the load that is out no longer counts as loaded."""
        if result.verdict == "pass":
            self.take_out(result.load_no)
        told = result.message
        if result.verdict == "pass":
            told = f"load {result.load_no} undone: {counted(result.removed or 0, 'row')} removed"
            told += f", {result.restored:,} put back" if result.restored else ""
        self._write(
            [entry_id], "UPDATE entries SET state = ?, verdict = ?, summary = ? WHERE entry_id = ?",
            "taken out" if result.verdict == "pass" else "failed", result.verdict, told, entry_id,
        )  # fmt: skip

    def take_out(self, load_no: int) -> None:
        """A load whose rows are no longer in its table."""
        load = self.load(load_no)
        if load is not None:
            entries = self._rows("SELECT entry_id FROM entries WHERE load_no = ? AND state = 'loaded'", load_no)
            self._write(
                [row[0] for row in entries],
                "UPDATE entries SET state = 'taken out', document = ?, summary = summary || '; taken out since' "
                "WHERE load_no = ? AND state = 'loaded'",
                _dump(replace(load, state="taken out")), load_no,
            )  # fmt: skip

    def settle_undo(self, entry_id: int, load_no: int, *, stands: bool) -> None:
        """What became of an undo that was cut off, as the load's mark in the place says."""
        if not stands:
            self.take_out(load_no)
        state, verdict = ("cut off", "error") if stands else ("taken out", "pass")
        told = f"was cut off; the rows of load {load_no} are {'still in' if stands else 'out of'} the table"
        sql = "UPDATE entries SET state = ?, verdict = ?, summary = ? WHERE entry_id = ?"
        self._write([entry_id], sql, state, verdict, told, entry_id)

    def unsettled(self, place: str) -> Sequence[tuple[int, int, str, str]]:
        """What began and did not end, by a process that is gone: entry, load number, table, and load or undo."""
        rows = self._rows("SELECT * FROM entries WHERE state = 'started' AND place = ?", place)
        return [
            (row["entry_id"], row["load_no"], row["table_name"], row["what"])
            for row in rows
            if not self._database.at_work(row["process"], row["started"])
        ]

    def settle(self, entry_id: int, *, stands: bool) -> None:
        """What became of a load that was cut off, as its mark in the place says."""
        (document,) = self._rows("SELECT document FROM entries WHERE entry_id = ?", entry_id)[0]
        if stands and document:
            result = _adapter(LoadResult).validate_json(document)
            told = f"{summary_of_load(result)}; its process was cut off after the commit"
            state, verdict = result.state, result.verdict
        elif stands:
            state, verdict, told = "loaded", "pass", "was cut off after its commit; its rows are in"
        else:
            state, verdict, told, document = "cut off", "error", "was cut off; the table is unchanged", None
        sql = "UPDATE entries SET state = ?, verdict = ?, summary = ?, document = ? WHERE entry_id = ?"
        self._write([entry_id], sql, state, verdict, told, document, entry_id)

    def document(self, entry_id: int) -> dict[str, Any] | None:
        """What is kept of an entry, as it is kept."""
        (document,) = self._rows("SELECT document FROM entries WHERE entry_id = ?", entry_id)[0]
        return json.loads(document) if document else None

    def run_days(self) -> dict[int, datetime.date]:
        """The delivery's day of each run."""
        return {row[0]: datetime.date.fromisoformat(row[1]) for row in self._rows("SELECT run_id, day FROM runs")}

    def chain(self) -> list[dict[str, Any]]:
        """The records of the chain."""
        return [dict(row) for row in self._rows("SELECT seq, kind, key, digest, hash FROM chain ORDER BY seq")]

    def verified(self) -> Verified:
        """Whether what is in the ledger is as it was written."""
        return verified(self._rows)

    def prune(
        self, before: datetime.datetime, kept_loads: Mapping[str, Set[int]], by: str, *, rehearse: bool = False
    ) -> Pruned:  # fmt: skip
        """Remove what began before a moment and is no longer needed.

        Args:
            before: the moment.
            kept_loads: by place, the numbers of loads that stay; all loads stay of places that are not named.
            by: whose doing it is.
            rehearse: only say what would be removed.
        """
        from nomotheta.ledger.pruning import prune

        return prune(self._database, before, kept_loads, by, rehearse=rehearse)

    def close(self) -> None:
        """Let go of the file."""
        self._database.close()


_ADAPTERS: dict[Any, TypeAdapter[Any]] = {}


def _adapter(of: type[Document]) -> TypeAdapter[Document]:
    """How documents of a type are read and written; made when it is first needed."""
    from pydantic import TypeAdapter

    if of not in _ADAPTERS:
        _ADAPTERS[of] = TypeAdapter(of)
    return _ADAPTERS[of]


def _dump(document: Any) -> str:
    return _adapter(type(document)).dump_json(document).decode()
