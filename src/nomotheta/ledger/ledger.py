"""The workspace's memory, in SQLite: every run, load, judgement and reconciliation, and the mails still to be sent."""

from __future__ import annotations

import contextlib
import datetime
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import sqlalchemy as sa
from pydantic import TypeAdapter

from nomotheta.errors import NomothetaError
from nomotheta.ledger.record import Entry, Judgement, LoadResult, RunResult
from nomotheta.reconcile import Reconciliation

Document = TypeVar("Document")
_META = sa.MetaData()
_ABOUT = sa.Table("about", _META, sa.Column("key", sa.String, primary_key=True), sa.Column("value", sa.String))
_RUNS = sa.Table(
    "runs", _META,
    sa.Column("run_id", sa.Integer, primary_key=True),
    sa.Column("day", sa.Date, nullable=False),
    sa.Column("started", sa.DateTime, nullable=False),
    sa.Column("verdict", sa.String),
    sa.Column("document", sa.Text),
)  # fmt: skip
_ENTRIES = sa.Table(
    "entries", _META,
    sa.Column("entry_id", sa.Integer, primary_key=True),
    sa.Column("what", sa.String, nullable=False),
    sa.Column("run_id", sa.Integer),
    sa.Column("load_id", sa.Integer),
    sa.Column("table_name", sa.String, nullable=False),
    sa.Column("place", sa.String, nullable=False),
    sa.Column("day", sa.Date),
    sa.Column("started", sa.DateTime, nullable=False),
    sa.Column("process", sa.Integer),
    sa.Column("state", sa.String, nullable=False),
    sa.Column("verdict", sa.String, nullable=False),
    sa.Column("summary", sa.Text, nullable=False),
    sa.Column("document", sa.Text),
)  # fmt: skip
_OUTBOX = sa.Table(
    "outbox", _META,
    sa.Column("mail_id", sa.Integer, primary_key=True),
    sa.Column("tell", sa.String, nullable=False),
    sa.Column("subject", sa.String, nullable=False),
    sa.Column("text", sa.Text, nullable=False),
    sa.Column("html", sa.Text, nullable=False),
    sa.Column("created", sa.DateTime, nullable=False),
    sa.Column("sent", sa.DateTime),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Mail:
    """A mail that waits to be sent."""

    mail_id: int
    tell: str
    subject: str
    text: str
    html: str


class Ledger:
    """Opened on a file; created where it is not there."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise self._error(str(error.strerror)) from None
        self._engine = sa.create_engine(f"sqlite:///{path}", connect_args={"timeout": 20})
        with self._begin() as connection:
            connection.execute(sa.text("PRAGMA journal_mode = WAL"))
            _META.create_all(connection)

    @contextlib.contextmanager
    def _begin(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except sa.exc.DBAPIError as error:
            raise self._error(str(error.orig)) from None

    def _error(self, reason: str) -> NomothetaError:
        return NomothetaError(
            f"the ledger cannot be used: {reason}", where=str(self.path),
            mend="check the rights and the free space of the workspace's .nomotheta folder",
        )  # fmt: skip

    def identity(self, fresh: str) -> str:
        """The workspace's own id, `fresh` where it has none yet."""
        with self._begin() as connection:
            connection.execute(sa.text("INSERT OR IGNORE INTO about VALUES ('identity', :id)"), {"id": fresh})
            return str(connection.execute(sa.select(_ABOUT.c.value).where(_ABOUT.c.key == "identity")).scalar_one())

    # ---- runs

    def begin_run(self, day: datetime.date, started: datetime.datetime) -> int:
        """A new run's number."""
        with self._begin() as connection:
            found = connection.execute(_RUNS.insert().values(day=day, started=_utc(started)))
            return int(found.inserted_primary_key[0])  # type: ignore[index]

    def end_run(self, result: RunResult) -> None:
        """Keep what came of it."""
        values = {"verdict": result.verdict, "document": _dump(RunResult, result)}
        with self._begin() as connection:
            connection.execute(_RUNS.update().where(_RUNS.c.run_id == result.run_id).values(values))

    def run(self, run_id: int | None = None) -> RunResult | None:
        """A run's result, or the newest one's; None where there is none."""
        query = sa.select(_RUNS.c.document).where(_RUNS.c.document.is_not(None))
        query = query.where(_RUNS.c.run_id == run_id) if run_id else query.order_by(_RUNS.c.run_id.desc()).limit(1)
        with self._begin() as connection:
            document = connection.execute(query).scalar_one_or_none()
        return TypeAdapter(RunResult).validate_json(document) if document else None

    def runs(self) -> list[int]:
        """The numbers of the runs that have a result."""
        query = sa.select(_RUNS.c.run_id).where(_RUNS.c.document.is_not(None)).order_by(_RUNS.c.run_id)
        with self._begin() as connection:
            return [int(row[0]) for row in connection.execute(query)]

    # ---- entries

    def begin_load(self, table: str, place: str, day: datetime.date, started: datetime.datetime, load_id: int,
                   run_id: int | None) -> int:  # fmt: skip
        """An entry for a load that is about to start."""
        return self._add(
            what="load", run_id=run_id, load_id=load_id, table_name=table, place=place, day=day, started=_utc(started),
            process=os.getpid(), state="started", verdict="error", summary="started",
        )  # fmt: skip

    def end_load(self, entry_id: int, result: LoadResult) -> None:
        """What came of it."""
        values = {
            "state": result.state, "verdict": result.verdict, "summary": summary_of_load(result),
            "document": _dump(LoadResult, result),
        }  # fmt: skip
        with self._begin() as connection:
            connection.execute(_ENTRIES.update().where(_ENTRIES.c.entry_id == entry_id).values(values))

    def add_load(self, result: LoadResult, started: datetime.datetime, run_id: int | None) -> None:
        """A load that ended before it began."""
        self._add(
            what="load", run_id=run_id, load_id=None, table_name=result.table, place=result.place, day=result.day,
            started=_utc(started), state=result.state, verdict=result.verdict, summary=summary_of_load(result),
            document=_dump(LoadResult, result),
        )  # fmt: skip

    def add_judgement(self, result: Judgement, started: datetime.datetime) -> None:
        """A judgement."""
        counts = {
            verdict: sum(f.verdict == verdict for f in result.findings) for verdict in ("error", "fail", "warn", "pass")
        }
        told = ", ".join(f"{count} {verdict}" for verdict, count in counts.items() if count)
        self._add(
            what="judge", table_name=result.table, place=result.place, started=_utc(started), state="judged",
            verdict=result.verdict, summary=result.message or f"{result.over}: {told}", document=_dump(Judgement, result),
        )  # fmt: skip

    def add_reconciliation(self, result: Reconciliation, started: datetime.datetime, run_id: int | None) -> None:
        """A reconciliation."""
        self._add(
            what="reconcile", run_id=run_id, table_name=result.table, place=result.place, started=_utc(started),
            state="reconciled", verdict=result.verdict, summary=summary_of_reconciliation(result),
            document=_dump(Reconciliation, result),
        )  # fmt: skip

    def _add(self, **values: Any) -> int:
        with self._begin() as connection:
            return int(connection.execute(_ENTRIES.insert().values(values)).inserted_primary_key[0])  # type: ignore[index]

    def entries(self, table: str | None = None, limit: int | None = None) -> list[Entry]:
        """What happened, newest first."""
        query = sa.select(_ENTRIES).order_by(_ENTRIES.c.entry_id.desc())
        if table:
            query = query.where(_ENTRIES.c.table_name == table)
        with self._begin() as connection:
            rows = connection.execute(query.limit(limit) if limit else query).all()
        return [
            Entry(
                row.entry_id, row.what, row.run_id, row.load_id, row.table_name, row.place, row.day,
                row.started.replace(tzinfo=datetime.UTC), row.state, row.verdict, row.summary,
            )
            for row in rows
        ]  # fmt: skip

    def load(self, load_id: int, table: str | None = None) -> LoadResult | None:
        """The newest result of a load by its number."""
        query = sa.select(_ENTRIES.c.document).where(_ENTRIES.c.load_id == load_id, _ENTRIES.c.document.is_not(None))
        query = query.where(_ENTRIES.c.table_name == table) if table else query
        with self._begin() as connection:
            document = connection.execute(query.order_by(_ENTRIES.c.entry_id.desc()).limit(1)).scalar_one_or_none()
        return TypeAdapter(LoadResult).validate_json(document) if document else None

    def standing(self, table: str, place: str) -> list[tuple[LoadResult, datetime.datetime]]:
        """The loads of a table that were committed, oldest first, and the moment each began."""
        query = sa.select(_ENTRIES).where(
            _ENTRIES.c.table_name == table, _ENTRIES.c.place == place, _ENTRIES.c.state == "loaded",
            _ENTRIES.c.document.is_not(None),
        )  # fmt: skip
        with self._begin() as connection:
            rows = connection.execute(query.order_by(_ENTRIES.c.entry_id)).all()
        adapter = TypeAdapter(LoadResult)
        return [(adapter.validate_json(row.document), row.started.replace(tzinfo=datetime.UTC)) for row in rows]

    def highest_load_id(self) -> int:
        """The highest load number given so far."""
        with self._begin() as connection:
            return int(connection.execute(sa.select(sa.func.max(_ENTRIES.c.load_id))).scalar() or 0)

    def unsettled(self, place: str) -> Sequence[tuple[int, int, str]]:
        """Loads that began and did not end, by a process that is gone: entry, load number and table."""
        query = sa.select(_ENTRIES).where(_ENTRIES.c.state == "started", _ENTRIES.c.place == place)
        with self._begin() as connection:
            rows = connection.execute(query).all()
        return [(row.entry_id, row.load_id, row.table_name) for row in rows if not _alive(row.process)]

    def settle(self, entry_id: int, *, stands: bool) -> None:
        """What became of a load that was cut off, as its mark in the place says."""
        state, verdict = ("loaded", "pass") if stands else ("cut off", "error")
        told = "was cut off after its commit; its rows stand" if stands else "was cut off; the table is as it was"
        values = {"state": state, "verdict": verdict, "summary": told}
        with self._begin() as connection:
            connection.execute(_ENTRIES.update().where(_ENTRIES.c.entry_id == entry_id).values(values))

    # ---- outbox

    def post(self, tell: str, subject: str, text: str, html: str, created: datetime.datetime) -> None:
        """A mail to be sent."""
        values = {"tell": tell, "subject": subject, "text": text, "html": html, "created": _utc(created)}
        with self._begin() as connection:
            connection.execute(_OUTBOX.insert().values(values))

    def unsent(self) -> list[Mail]:
        """The mails that are still to be sent, oldest first."""
        query = sa.select(_OUTBOX).where(_OUTBOX.c.sent.is_(None)).order_by(_OUTBOX.c.mail_id)
        with self._begin() as connection:
            return [Mail(r.mail_id, r.tell, r.subject, r.text, r.html) for r in connection.execute(query)]

    def sent(self, mail_id: int, at: datetime.datetime) -> None:
        """A mail was taken by its server."""
        with self._begin() as connection:
            connection.execute(_OUTBOX.update().where(_OUTBOX.c.mail_id == mail_id).values(sent=_utc(at)))

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()


def summary_of_load(result: LoadResult) -> str:
    """A load in one line."""
    balance = result.balance
    if balance is None or result.state not in {"loaded", "undone"}:
        return result.message
    told = f"{balance.loaded:,} rows loaded" if result.state == "loaded" else "undone"
    aside = [
        f"{count:,} {word}" for count, word in ((balance.rejected, "rejected"), (balance.repeated, "repeated")) if count
    ]
    parts = [told, *aside] if result.state == "loaded" else [told, result.message]
    return ", ".join(parts)


def summary_of_reconciliation(result: Reconciliation) -> str:
    """A reconciliation in one line."""
    if result.verdict == "pass":
        return f"{result.over}: {result.table_rows:,} rows, equal"
    if result.files_rows != result.table_rows:
        return f"{result.over}: files hold {result.files_rows:,} rows, the table {result.table_rows:,}"
    return f"{result.over}: differs in {', '.join(result.differing)}"


def _dump(of: type[Document], document: Document) -> str:
    return TypeAdapter(of).dump_json(document).decode()


def _utc(moment: datetime.datetime) -> datetime.datetime:
    return moment.astimezone(datetime.UTC).replace(tzinfo=None)


def _alive(process: int | None) -> bool:
    if not process or process == os.getpid():
        return False
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
