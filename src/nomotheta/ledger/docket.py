"""The docket: what fails, since when, and whose it is. A failure that goes on is one entry, however many nights."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Literal

from nomotheta.errors import DeclarationError
from nomotheta.frozen import frozen
from nomotheta.ledger.database import Database
from nomotheta.ledger.faults import Fault, FaultSort, decided
from nomotheta.ledger.record import RunResult, TableResult
from nomotheta.tabular import Tabular

What = Literal["new", "back", "worse", "goes on", "excuse ended", "taken", "excused", "closed"]
TOLD = frozenset({"new", "back", "worse", "excuse ended", "taken", "closed"})  # changes that others hear of
_WORSE = 10  # percent that a failure has grown since it was last told of
_NO_EXCUSE = "excused_until = NULL, excuse = '', excused_by = ''"
_GRAVER = {"fail": 1, "error": 2}


@frozen
class Night:
    """A delivery's day on which something failed: the run, and how many rows it was about, if known."""

    day: datetime.date
    run_id: int
    size: int | None
    verdict: str


@frozen
class Event:
    """Something that happened to an entry of the docket; `told` is in words, `by` who did it, if it was somebody."""

    entry_no: int
    what: What
    at: datetime.datetime
    day: datetime.date | None
    run_id: int | None
    size: int | None
    nights: int
    told: str
    by: str = ""


@frozen
class DocketEntry:
    """A failure: a rule, a reconciliation, a delivery of a table, or a comparison.

    `nights` are the delivery days on which it failed since it was opened last, the oldest first; `episode` counts how
    often it was. `taken_by` has taken it on; until `excused_until` nobody is told of it.
    """

    entry_no: int
    table: str
    place: str
    sort: FaultSort
    name: str
    open: bool
    verdict: str
    message: str
    owners: tuple[str, ...]
    nights: tuple[Night, ...]
    episode: int = 1
    taken_by: str = ""
    note: str = ""
    excused_until: datetime.date | None = None
    excuse: str = ""
    excused_by: str = ""

    @property
    def since(self) -> datetime.date | None:
        """The first delivery's day on which it failed."""
        return self.nights[0].day if self.nights else None

    @property
    def size(self) -> int | None:
        """How many rows it was about when it failed last."""
        return self.nights[-1].size if self.nights else None

    def is_excused(self, day: datetime.date) -> bool:
        """Whether nobody is to be told of it on a day."""
        return self.excused_until is not None and self.excused_until >= day


@frozen
class DocketPage(Tabular):
    """What fails, the gravest and oldest first, on a day; of one entry alone, also what happened to it."""

    day: datetime.date
    entries: tuple[DocketEntry, ...]
    events: tuple[Event, ...] = ()
    format: str = "nomotheta/docket/1"
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "entry": "integer", "table": "text", "place": "text", "sort": "text", "name": "text", "state": "text",
        "verdict": "text", "since": "text", "nights": "integer", "rows": "integer", "message": "text", "owners": "text",
        "taken_by": "text", "note": "text", "excused_until": "text", "excuse": "text",
    }  # fmt: skip

    def caption(self) -> str:
        """How many are open."""
        return f"docket: {sum(each.open for each in self.entries):,} open"

    def as_rows(self) -> list[dict[str, Any]]:
        """Its entries, one a row."""
        return [
            {
                "entry": each.entry_no, "table": each.table, "place": each.place, "sort": each.sort, "name": each.name,
                "state": "open" if each.open else "closed", "verdict": each.verdict, "since": _iso(each.since),
                "nights": len(each.nights), "rows": each.size, "message": each.message,
                "owners": ", ".join(each.owners), "taken_by": each.taken_by, "note": each.note,
                "excused_until": _iso(each.excused_until), "excuse": each.excuse,
            }
            for each in self.entries
        ]  # fmt: skip


def _iso(day: datetime.date | None) -> str | None:
    return None if day is None else day.isoformat()


class Docket:
    """The entries of a ledger."""

    def __init__(self, database: Database) -> None:
        self._database, self._rows = database, database.rows

    # ---- what runs find out

    def take_in(self, run: RunResult, at: datetime.datetime) -> None:
        """Open, go on with and close entries by what a run found out; within a transaction of the caller's."""
        for table in run.tables:
            found = decided(table)
            place = _place_of(table)
            known = self._of_table(table.table, place)
            for fault in found.faults:
                self._fails(table, fault, known.get(fault.key), run, at)
            over = [(row, found.settles(*key)) for key, row in known.items()]
            if place:  # its charter can be read, whatever else may be wrong
                over += [(row, "passes") for row in self._of_table(table.table, "").values()]
            for row, why in over:
                if row["open"] and why and not self._has_failed_since(row, run.day):
                    self._passes(row, why, run, at)

    def _has_failed_since(self, row: Any, day: datetime.date) -> bool:
        """Whether it failed on a later delivery's day than the one that is made up for now."""
        sql = "SELECT 1 FROM docket_nights WHERE entry_no = ? AND episode = ? AND day > ?"
        return bool(self._rows(sql, row["entry_no"], row["episode"], day))

    def _of_table(self, table: str, place: str) -> dict[tuple[FaultSort, str], Any]:
        """What is known of a table in a place; the place of one whose charter was wrong was not known."""
        sql = "SELECT * FROM docket WHERE table_name = ? AND place = ?"
        return {(row["sort"], row["name"]): row for row in self._rows(sql, table, place)}

    def _fails(self, table: TableResult, fault: Fault, row: Any, run: RunResult, at: datetime.datetime) -> None:
        owners = json.dumps(fault.owners)
        if row is None:
            number = self._database.add(
                "docket", table_name=table.table, place=_place_of(table), sort=fault.sort, name=fault.name, open=1,
                verdict=fault.verdict, message=fault.message, owners=owners, episode=1, told_size=fault.size,
                told_verdict=fault.verdict,
            )  # fmt: skip
            what, episode = "new", 1
        else:
            number, episode = row["entry_no"], row["episode"] + (not row["open"])
            what = self._change(row, fault, run.day) if row["open"] else "back"
            self._rows(
                "UPDATE docket SET open = 1, verdict = ?, message = ?, owners = ?, episode = ? WHERE entry_no = ?",
                fault.verdict, fault.message, owners, episode, number,
            )  # fmt: skip
            if what == "back":  # whoever had it, had the last one
                self._rows("UPDATE docket SET taken_by = '', note = '' WHERE entry_no = ?", number)
            if what in {"back", "excuse ended"}:
                self._rows(f"UPDATE docket SET {_NO_EXCUSE} WHERE entry_no = ?", number)
            if what != "goes on":
                told = "UPDATE docket SET told_size = ?, told_verdict = ? WHERE entry_no = ?"
                self._rows(told, fault.size, fault.verdict, number)
        self._rows(
            "INSERT INTO docket_nights VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (entry_no, episode, day) DO UPDATE SET "
            "run_id = excluded.run_id, size = excluded.size, verdict = excluded.verdict",
            number, episode, run.day, run.run_id, fault.size, fault.verdict,
        )  # fmt: skip
        self._happened(number, episode, what, at, fault.message, day=run.day, run_id=run.run_id, size=fault.size)

    @staticmethod
    def _change(row: Any, fault: Fault, day: datetime.date) -> str:
        """What is to be said of a failure that goes on."""
        until = row["excused_until"]
        if until is not None:
            return "goes on" if until >= day.isoformat() else "excuse ended"
        graver = _GRAVER[fault.verdict] > _GRAVER[row["told_verdict"]]
        grown = fault.size is not None and row["told_size"] is not None and (
            fault.size * 100 > row["told_size"] * (100 + _WORSE)
        )  # fmt: skip
        if graver or grown:
            return "worse"
        return "goes on"

    def _passes(self, row: Any, why: str, run: RunResult, at: datetime.datetime) -> None:
        self._rows(f"UPDATE docket SET open = 0, {_NO_EXCUSE} WHERE entry_no = ?", row["entry_no"])
        self._happened(row["entry_no"], row["episode"], "closed", at, why, day=run.day, run_id=run.run_id)

    def _happened(self, entry_no: int, episode: int, what: str, at: datetime.datetime, told: str, **more: Any) -> None:
        nights = self._rows(
            "SELECT count(*) FROM docket_nights WHERE entry_no = ? AND episode = ?", entry_no, episode
        )[0][0]  # fmt: skip
        event_id = self._database.add(
            "docket_events", entry_no=entry_no, episode=episode, at=at, what=what, nights=nights, told=told, **more
        )
        self._database.seal("docket", event_id)

    # ---- what people say

    def take(self, entry_no: int, by: str, note: str, at: datetime.datetime) -> DocketEntry:
        """Somebody takes an open entry on.

        Raises:
            DeclarationError: there is none of that number, or it is closed.
        """
        entry = self.open_entry(entry_no)
        with self._database.together():
            self._rows("UPDATE docket SET taken_by = ?, note = ? WHERE entry_no = ?", by, note or entry.note, entry_no)
            self._happened(entry_no, entry.episode, "taken", at, note, by_name=by, size=entry.size)
        return self.open_entry(entry_no)

    def excuse(
        self, entry_no: int, until: datetime.date, reason: str, by: str, at: datetime.datetime
    ) -> DocketEntry:  # fmt: skip
        """Nobody is told of an open entry up to a day, and why.

        Raises:
            DeclarationError: there is none of that number, or it is closed.
        """
        entry = self.open_entry(entry_no)
        sql = "UPDATE docket SET excused_until = ?, excuse = ?, excused_by = ? WHERE entry_no = ?"
        told = f"until {until}: {reason}"
        with self._database.together():
            self._rows(sql, until, reason, by, entry_no)
            self._happened(entry_no, entry.episode, "excused", at, told, by_name=by, size=entry.size)
        return self.open_entry(entry_no)

    # ---- what is known

    def open_entry(self, entry_no: int) -> DocketEntry:
        """An entry that is open.

        Raises:
            DeclarationError: there is none of that number, or it is closed.
        """
        found = self.entry(entry_no)
        if found is None or not found.open:
            numbers = [str(each.entry_no) for each in self.entries()]
            told = f"entry {entry_no} of the docket is closed" if found else f"the docket has no entry {entry_no}"
            mend = f"open: {', '.join(numbers)}" if numbers else "nothing is open"
            raise DeclarationError(told, mend=mend)
        return found

    def entry(self, entry_no: int) -> DocketEntry | None:
        """An entry, open or closed."""
        return next(iter(self._read("SELECT * FROM docket WHERE entry_no = ?", entry_no)), None)

    def entries(self, *, closed: bool = False) -> list[DocketEntry]:
        """The entries that are open, or all: the gravest first, then the oldest."""
        found = self._read("SELECT * FROM docket WHERE open = 1 OR ?", closed)
        rank = {"error": 0, "fail": 1}
        return sorted(found, key=lambda each: (not each.open, rank[each.verdict], each.since or datetime.date.max))

    def events(self, entry_no: int | None = None, run_id: int | None = None) -> list[Event]:
        """What happened to an entry, or in a run, in its order."""
        rows = self._rows(
            "SELECT * FROM docket_events WHERE entry_no = coalesce(?, entry_no) AND (? IS NULL OR run_id = ?) "
            "ORDER BY event_id", entry_no, run_id, run_id,
        )  # fmt: skip
        return [_event(row) for row in rows]

    def unposted(self) -> list[tuple[int, Event]]:
        """The changes that nobody was told of so far, by their numbers."""
        rows = self._rows("SELECT * FROM docket_events WHERE posted = 0 ORDER BY event_id")
        return [(row["event_id"], _event(row)) for row in rows]

    def posted(self, events: Sequence[int]) -> None:
        """They are on their way to those who want to hear of them."""
        self._rows(
            f"UPDATE docket_events SET posted = 1 WHERE event_id IN ({self._database.numbers})",
            json.dumps(list(events)),
        )

    def _read(self, sql: str, *values: Any) -> list[DocketEntry]:
        rows = self._rows(sql, *values)
        nights = self._nights([row["entry_no"] for row in rows])
        return [_entry(row, nights.get(row["entry_no"], ())) for row in rows]

    def _nights(self, numbers: Sequence[int]) -> Mapping[int, Sequence[Night]]:
        rows = self._rows(
            "SELECT docket_nights.* FROM docket_nights JOIN docket USING (entry_no, episode) "
            f"WHERE entry_no IN ({self._database.numbers}) ORDER BY entry_no, day", json.dumps(list(numbers)),
        )  # fmt: skip
        found: dict[int, list[Night]] = {}
        for row in rows:
            night = Night(datetime.date.fromisoformat(row["day"]), row["run_id"], row["size"], row["verdict"])
            found.setdefault(row["entry_no"], []).append(night)
        return found


def _place_of(table: TableResult) -> str:
    return "" if table.load.state == "compared" else table.load.place


def _entry(row: Any, nights: Sequence[Night]) -> DocketEntry:
    until = row["excused_until"]
    return DocketEntry(
        row["entry_no"], row["table_name"], row["place"], row["sort"], row["name"], bool(row["open"]), row["verdict"],
        row["message"], tuple(json.loads(row["owners"])), tuple(nights), row["episode"], row["taken_by"], row["note"],
        until and datetime.date.fromisoformat(until), row["excuse"], row["excused_by"],
    )  # fmt: skip


def _event(row: Any) -> Event:
    day = row["day"]
    return Event(
        row["entry_no"], row["what"], datetime.datetime.fromisoformat(row["at"]),
        day and datetime.date.fromisoformat(day), row["run_id"], row["size"], row["nights"], row["told"],
        row["by_name"],
    )  # fmt: skip
