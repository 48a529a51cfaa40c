"""What came of each table in each run, in few numbers: what a strip of nights and a chart are drawn from."""

from __future__ import annotations

import datetime
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from nomotheta.frozen import frozen
from nomotheta.ledger.database import Database
from nomotheta.ledger.record import LoadResult, RunResult, TableResult

_REST = (
    "day", "started", "verdict", "state", "loaded", "rejected", "repeated", "table_rows", "bytes", "seconds", "breaks",
    "rules", "charter",
)  # fmt: skip
INSERT = (
    f"INSERT INTO nights VALUES ({', '.join('?' * 15)}) ON CONFLICT (run_id, table_name) DO UPDATE SET "
    + ", ".join(f"{name} = excluded.{name}" for name in _REST)
)  # fmt: skip


@frozen
class Part:
    """A table's part of a run: rows of its files and in it afterwards, seconds, bytes of its files, breaks by rule.

    Counts are None where there is nothing to be counted; of the rules, those that broke are named. `charter` is the
    version that was carried out, empty where none was.
    """

    run_id: int
    day: datetime.date
    started: datetime.datetime
    table: str
    verdict: str
    state: str
    loaded: int | None
    rejected: int | None
    repeated: int | None
    rows: int | None
    bytes: int | None
    seconds: float
    breaks: Mapping[str, int]
    rules: int = 0
    charter: str = ""


_IN_PLACE, _WELL = frozenset({"loaded", "unchanged", "nothing arrived", "judged"}), "in place"


@frozen
class Change:
    """What is otherwise with a table than on the night before that knew it: its part then and now.

    `now` is None where it took no part in this night, `before` where none is known from before it.
    """

    table: str
    now: Part | None
    before: Part | None

    @property
    def differs(self) -> bool:
        """Whether anything that somebody should look at has changed: not the seconds, and not that rows came."""
        return self.now is None or self.before is None or bool(
            self.now.verdict != self.before.verdict or self.is_otherwise
            or self.now.breaks != self.before.breaks or (self.now.rejected or 0) != (self.before.rejected or 0)
            or self.now.charter != self.before.charter or self.is_unusual
        )  # fmt: skip

    @property
    def is_otherwise(self) -> bool:
        """Whether its day ended in another way; that nothing new came, or need have, is as good as a load."""
        states = {_WELL if part.state in _IN_PLACE else part.state for part in (self.now, self.before) if part}
        return len(states) > 1

    @property
    def is_unusual(self) -> bool:
        """Whether it brought less than half, or more than twice, of the rows of the night before."""
        if self.now is None or self.before is None or self.now.loaded is None or not self.before.loaded:
            return False
        return not self.before.loaded <= 2 * self.now.loaded <= 4 * self.before.loaded

    @property
    def new_breaks(self) -> dict[str, int]:
        """The rules that are broken now and were not before, and by how many rows."""
        before = self.before.breaks if self.before else {}
        return {rule: count for rule, count in (self.now.breaks if self.now else {}).items() if rule not in before}

    @property
    def other_breaks(self) -> dict[str, tuple[int, int]]:
        """The rules that are broken by another number of rows than before: then and now."""
        if self.now is None or self.before is None:
            return {}
        both = {rule: (self.before.breaks[rule], count) for rule, count in self.now.breaks.items()
                if rule in self.before.breaks}  # fmt: skip
        return {rule: counts for rule, counts in both.items() if counts[0] != counts[1]}

    @property
    def mended_breaks(self) -> list[str]:
        """The rules that were broken before, and are not any more; of a table whose rules were judged."""
        if self.now is None or self.before is None or self.now.state not in _IN_PLACE or not self.now.rules:
            return []
        return [rule for rule in self.before.breaks if rule not in self.now.breaks]


class History:
    """The nights of a ledger's tables."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def take_in(self, run: RunResult) -> None:
        """Keep a run; within a transaction of the caller's."""
        for values in values_of(run):
            self._database.rows(INSERT, *values)

    def parts(self, nights: int, tables: Iterable[str] | None = None) -> dict[str, list[Part]]:
        """The parts of tables in the newest so many runs, the oldest first, by table; of all, if none is named."""
        chosen = None if tables is None else json.dumps(list(tables))
        rows = self._database.rows(
            "SELECT * FROM nights WHERE run_id IN (SELECT DISTINCT run_id FROM nights ORDER BY run_id DESC LIMIT ?) "
            f"AND (? IS NULL OR table_name IN ({self._database.listed})) ORDER BY table_name, run_id",
            nights, chosen, chosen,
        )  # fmt: skip
        found: dict[str, list[Part]] = {}
        for row in rows:
            found.setdefault(row["table_name"], []).append(_part(row))
        return found

    def by_day(self, nights: int, tables: Iterable[str] | None = None) -> dict[str, list[Part]]:
        """The same, one a day: a run that is repeated is no night more."""
        found: dict[str, list[Part]] = {}
        for table, parts in self.parts(nights, tables).items():
            days: dict[datetime.date, list[Part]] = {}
            for part in parts:
                days.setdefault(part.day, []).append(part)
            found[table] = [_newest(days[day])[table] for day in sorted(days)]
        return found

    def of_day(self, day: datetime.date) -> dict[str, Part]:
        """Of each table the newest part of a run for a day."""
        rows = self._database.rows("SELECT * FROM nights WHERE day = ? ORDER BY run_id", str(day))
        return _newest(map(_part, rows))

    def changes(self, day: datetime.date | None = None) -> tuple[datetime.date | None, list[Change]]:
        """What is otherwise on the night of a day, or of the newest, than on the last one before that knew each table.

        Tables that took part on the last day before, and not on this one, are among them.

        Returns:
            The day, None where there was no night, and the tables by their names.
        """
        newest = self._database.rows("SELECT max(day) FROM nights")[0][0]
        if day is None and newest is None:
            return None, []
        day = day or datetime.date.fromisoformat(newest)
        now = self.of_day(day)
        rows = self._database.rows(
            "SELECT nights.* FROM nights JOIN (SELECT table_name, max(day) AS day FROM nights WHERE day < ? "
            "GROUP BY table_name) AS last ON nights.table_name = last.table_name AND nights.day = last.day "
            "ORDER BY run_id", day,
        )  # fmt: skip
        before = _newest(map(_part, rows))
        last = max((part.day for part in before.values()), default=None)
        names = {*now, *(name for name, part in before.items() if part.day == last)}
        return day, [Change(name, now.get(name), before.get(name)) for name in sorted(names)]

    def last_success(self) -> dict[str, datetime.date]:
        """Of each table the newest delivery's day on which it passed."""
        sql = "SELECT table_name, max(day) FROM nights WHERE verdict IN ('pass', 'warn') GROUP BY table_name"
        return {row[0]: datetime.date.fromisoformat(row[1]) for row in self._database.rows(sql)}

    def last_success_at(self) -> dict[str, float]:
        """Of each table when a run of it that passed began last, in seconds since 1970."""
        sql = "SELECT table_name, max(started) FROM nights WHERE verdict IN ('pass', 'warn') GROUP BY table_name"
        return {row[0]: datetime.datetime.fromisoformat(row[1]).timestamp() for row in self._database.rows(sql)}


def _newest(parts: Iterable[Part]) -> dict[str, Part]:
    """Of parts of one day, the newest of each table; what it found in the table already, an earlier one has loaded."""
    found: dict[str, Part] = {}
    for part in parts:
        before = found.get(part.table)
        if part.state == "unchanged" and part.loaded is None and before is not None and before.loaded is not None:
            part = replace(  # noqa: PLW2901
                part, loaded=before.loaded, rejected=before.rejected, repeated=before.repeated, bytes=before.bytes
            )  # fmt: skip
        found[part.table] = part
    return found


def values_of(run: RunResult) -> Iterator[tuple[Any, ...]]:
    """What `INSERT` takes of each table of a run."""
    for table in run.tables:
        part = part_of(run, table)
        yield (
            part.run_id, part.day, part.started, part.table, part.verdict, part.state, part.loaded, part.rejected,
            part.repeated, part.rows, part.bytes, part.seconds, json.dumps(dict(part.breaks)), part.rules,
            part.charter,
        )  # fmt: skip


def part_of(run: RunResult, table: TableResult) -> Part:
    """What is kept of a table's part of a run."""
    load, balance = table.load, table.load.balance
    loaded = load.state == "loaded"
    rows = (balance.after if loaded else balance.before) if balance and load.state in {"loaded", "undone"} else None
    return Part(
        run.run_id, run.day, run.started, table.table, table.verdict, load.state,
        balance.loaded if balance and loaded else None, balance.rejected if balance else None,
        balance.repeated if balance else None, load.table_rows if rows is None else rows,
        sum(file.bytes for file in balance.files) if balance else None, load.seconds,
        _breaks(load), len(load.findings), load.charter,
    )  # fmt: skip


def _breaks(load: LoadResult) -> dict[str, int]:
    """The rules that broke; several of one name are one, of all their rows."""
    found: dict[str, int] = {}
    for each in load.findings:
        if each.breaks:
            found[each.rule] = found.get(each.rule, 0) + each.breaks
    return found


def _part(row: Any) -> Part:
    return Part(
        row["run_id"], datetime.date.fromisoformat(row["day"]), datetime.datetime.fromisoformat(row["started"]),
        row["table_name"], row["verdict"], row["state"], row["loaded"], row["rejected"], row["repeated"],
        row["table_rows"], row["bytes"], row["seconds"], json.loads(row["breaks"]), row["rules"],
        row["charter"],
    )  # fmt: skip


def usual_range(values: Sequence[float]) -> tuple[float, float] | None:
    """What nine in ten of some numbers lie within; None for fewer than five of them."""
    if len(values) < 5:
        return None
    ordered = sorted(values)
    cut = len(ordered) // 20
    return ordered[cut], ordered[-1 - cut]
