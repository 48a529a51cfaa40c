"""Which machine has which table of a run in hand, where several carry it out together, and what came of each."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Mapping
from typing import Any

from nomotheta.frozen import frozen
from nomotheta.ledger.database import Database
from nomotheta.ledger.record import RunResult, TableResult

_PARTAKER = "@"  # with the number of a session: what is in hand is no table, but a part in the run


@frozen
class UnderWay:
    """A run that somebody is at work with: what it was asked for, as JSON."""

    run_id: int
    asked: str


class Shares:
    """The tables of runs, each in the hands of one session at a time."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def offer(self, run_id: int, asked: str) -> None:
        """Let other machines know what a run is asked for; those that have ended are forgotten."""
        with self._database.together():
            self._database.rows(
                "DELETE FROM shares WHERE run_id IN (SELECT run_id FROM runs WHERE document IS NOT NULL)"
            )
            self._database.rows(
                "UPDATE runs SET holder = ?, asked = ? WHERE run_id = ?", self._database.holder, asked, run_id
            )

    def under_way(self) -> UnderWay | None:
        """The newest run that others may take part in, if anybody is at work with it."""
        found = self._database.rows(
            "SELECT run_id, asked FROM runs WHERE document IS NULL AND asked IS NOT NULL ORDER BY run_id DESC LIMIT 1"
        )  # fmt: skip
        if not found:
            return None
        run_id = int(found[0]["run_id"])
        held = self._database.rows("SELECT holder, since FROM shares WHERE run_id = ?", run_id)
        at_work = self.is_led(run_id) or any(self._at_work(row["holder"], row["since"]) for row in held)
        return UnderWay(run_id, str(found[0]["asked"])) if at_work else None

    def join(self, run_id: int) -> bool:
        """Take part in a run; whether somebody leads it. As long as we are at work, it is not begun anew."""
        with self._database.together():
            return self.is_led(run_id) and self.take(run_id, f"{_PARTAKER}{self._database.holder}")

    def is_led(self, run_id: int) -> bool:
        """Whether whoever leads a run is at work."""
        (row,) = self._database.rows("SELECT holder, started FROM runs WHERE run_id = ?", run_id)
        return self._at_work(row["holder"], row["started"])

    def take(self, run_id: int, name: str) -> bool:
        """Take a table of a run that has not ended in hand; whether nobody else has it, or has done it."""
        now = datetime.datetime.now(datetime.UTC)
        with self._database.together():
            if self._database.rows("SELECT 1 FROM runs WHERE run_id = ? AND document IS NOT NULL", run_id):
                return False
            found = self._rows(run_id, [name])
            if found and (found[0]["document"] is not None or self._at_work(found[0]["holder"], found[0]["since"])):
                return False
            self._database.rows(
                "INSERT INTO shares (run_id, name, holder, since) VALUES (?, ?, ?, ?) "
                "ON CONFLICT (run_id, name) DO UPDATE SET holder = excluded.holder, since = excluded.since",
                run_id, name, self._database.holder, now,
            )  # fmt: skip
        return True

    def done(self, run_id: int, name: str, result: TableResult) -> None:
        """What came of a table."""
        from pydantic import TypeAdapter

        document = TypeAdapter(TableResult).dump_json(result).decode()
        self._database.rows("UPDATE shares SET document = ? WHERE run_id = ? AND name = ?", document, run_id, name)

    def let_go(self, run_id: int) -> None:
        """Whatever of a run this session has in hand, and has not done, is for others."""
        own = self._database.holder
        with self._database.together():
            self._database.rows("DELETE FROM shares WHERE run_id = ? AND holder = ? AND document IS NULL", run_id, own)
            self._database.rows(
                "UPDATE runs SET holder = NULL WHERE run_id = ? AND holder = ? AND document IS NULL", run_id, own
            )

    def came_of(
        self, run_id: int, names: Collection[str], ended: RunResult | None
    ) -> tuple[Mapping[str, TableResult], set[str]]:
        """What came of some tables that others had in hand, and those that nobody has in hand any more.

        Args:
            run_id: the run.
            names: the tables.
            ended: what came of all of it, if it has ended meanwhile.
        """
        from pydantic import TypeAdapter

        if ended is not None:
            return {each.table: each for each in ended.tables if each.table in names}, set()
        found, free = dict[str, TableResult](), set(names)
        for row in self._rows(run_id, names):
            if row["document"] is not None:
                found[row["name"]] = TypeAdapter(TableResult).validate_json(row["document"])
            if row["document"] is not None or self._at_work(row["holder"], row["since"]):
                free.discard(row["name"])
        return found, free

    def _rows(self, run_id: int, names: Collection[str]) -> list[Any]:
        marks = ", ".join("?" * len(names))
        return list(self._database.rows(
            f"SELECT name, holder, since, document FROM shares WHERE run_id = ? AND name IN ({marks})", run_id, *names
        ))  # fmt: skip

    def _at_work(self, holder: int | None, since: str | None) -> bool:
        """Whether a session is: our own is."""
        return holder == self._database.holder or self._database.at_work(holder, since)
