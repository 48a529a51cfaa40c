"""What came of each table in each run, in few numbers: what a strip of nights and a chart are drawn from."""

from __future__ import annotations

import datetime
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
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

    def of_day(self, day: datetime.date) -> dict[str, Part]:
        """Of each table the newest part of a run for a day."""
        rows = self._database.rows("SELECT * FROM nights WHERE day = ? ORDER BY run_id", str(day))
        return {row["table_name"]: _part(row) for row in rows}

    def last_success(self) -> dict[str, datetime.date]:
        """Of each table the newest delivery's day on which it passed."""
        sql = "SELECT table_name, max(day) FROM nights WHERE verdict IN ('pass', 'warn') GROUP BY table_name"
        return {row[0]: datetime.date.fromisoformat(row[1]) for row in self._database.rows(sql)}

    def last_success_at(self) -> dict[str, float]:
        """Of each table when a run of it that passed began last, in seconds since 1970."""
        sql = "SELECT table_name, max(started) FROM nights WHERE verdict IN ('pass', 'warn') GROUP BY table_name"
        return {row[0]: datetime.datetime.fromisoformat(row[1]).timestamp() for row in self._database.rows(sql)}


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
