"""What a load must survive: a server that stops, a cut connection, a lock, a full disk; the table is as it was."""

from __future__ import annotations

import contextlib
import datetime
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import psycopg
import pyarrow as pa
import pymysql
import pytest

from conftest import DAY, SETTINGS, Space
from nomotheta import open_workspace
from nomotheta.errors import NomothetaError, PlaceError
from nomotheta.ledger import Ledger
from nomotheta.place.connect import connect
from nomotheta.place.postgresql.place import PostgresPlace
from servers import OWN, Database, server

ROWS = "ticket_no;fare;sold_on\nT001;1,50;01.06.2026\nT002;n/a;02.06.2026\n"
SCHEMA = pa.schema([("n", pa.int64())])
NIGHT = datetime.date.fromisoformat(DAY)


def interrupted(blow: Callable[[], Any]) -> Iterator[Any]:
    """Rows enough to be on their way when the blow falls."""
    for at in range(400):
        yield pa.record_batch([pa.array(range(1000))], schema=SCHEMA)
        if at == 20:
            blow()


@pytest.mark.parametrize("sort", ["postgresql", "mariadb"])
def test_a_server_that_is_stopped_in_the_middle_leaves_the_table_as_it_was(sort: str) -> None:
    with OWN[sort]() as own:
        database = Database(sort, own.url)
        database.ask("CREATE TABLE t (n bigint)")
        database.ask("INSERT INTO t VALUES (7)")
        place = connect("there", database.url, Path())

        with pytest.raises(PlaceError, match=r"lost|says|reached"), place.transaction("t"):
            place.append("t", ["n"], interrupted(own.stop), SCHEMA)
        place.close()
        own.start()

        assert database.ask("SELECT n FROM t") == [(7,)]
        with contextlib.closing(connect("there", database.url, Path())) as again, again.transaction("t"):
            assert again.append("t", ["n"], iter([pa.record_batch([[1]], schema=SCHEMA)]), SCHEMA) == 1


@pytest.mark.parametrize("sort", ["postgresql", "mariadb"])
def test_a_connection_that_is_cut_leaves_the_table_as_it_was(sort: str) -> None:
    with server(sort) as url:
        database = Database(sort, url)
        database.ask("CREATE TABLE t (n bigint)")
        place = connect("there", database.url, Path())

        def cut() -> None:
            if sort == "postgresql":
                own = "application_name = 'nomotheta' AND datname = current_database()"
                database.ask(f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE {own}")
                return
            rows = database.ask(
                "SELECT id FROM information_schema.processlist WHERE db = database() AND time_ms > 0 AND id <> connection_id()"
            )
            database.ask(f"KILL {rows[0][0]}")

        with pytest.raises(PlaceError), place.transaction("t"):
            place.append("t", ["n"], interrupted(cut), SCHEMA)
        place.close()

        assert database.ask("SELECT count(*) FROM t") == [(0,)]
        database.drop()


@pytest.mark.parametrize("sort", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_a_lock_that_somebody_else_holds_is_waited_for_and_then_told_of(sort: str, space: Space) -> None:
    with server(sort) as url:
        database = Database(sort, url)
        short = {"postgresql": "?options=-c%20lock_timeout%3D300ms", "mariadb": "?lock_wait_timeout=1"}
        patient = database.url + short.get(sort, "?lock_wait_timeout=0" if sort == "sqlite" else "")
        space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
        space.tickets(ROWS)
        space.load()
        space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", patient))
        space.tickets(ROWS.replace("T00", "T10"), "2026-06-02")

        with held(sort, database.url):
            found = space.run("load", "tickets", "--day", "2026-06-02")

        assert found.code == 3
        assert "lock" in found.text
        assert space.load(day="2026-06-02")["balance"]["after"] == 4
        database.drop()


@contextlib.contextmanager
def held(sort: str, url: str) -> Iterator[None]:
    """A table that somebody else has locked."""
    at = urlsplit(url)
    if sort == "postgresql":
        with psycopg.connect(url) as other:
            other.execute("LOCK TABLE tickets IN ACCESS EXCLUSIVE MODE")
            yield
    elif sort == "mariadb":
        with pymysql.connect(host=at.hostname, port=at.port or 3306, user="root", database=at.path[1:]) as other:
            other.cursor().execute("LOCK TABLES tickets WRITE")
            yield
    else:  # by another process: locks of a file do not keep a process from itself
        path = url.partition("///")[2]
        taken = f"c = {sort}.connect({path!r}); "
        if sort == "sqlite":
            taken = f"c = sqlite3.connect({path!r}); c.execute('BEGIN IMMEDIATE'); "
        program = f"import duckdb, sqlite3, sys; {taken}print(1, flush=True); sys.stdin.read()"
        with subprocess.Popen([sys.executable, "-c", program], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as other:
            assert other.stdout is not None
            assert other.stdin is not None
            other.stdout.readline()
            yield
            other.stdin.close()


def test_a_disk_that_is_full_before_the_load_begins_leaves_the_table_as_it_was(space: Space) -> None:
    space.tickets(ROWS)
    space.load()
    space.tickets(ROWS.replace("T00", "T10"), "2026-06-02")
    workspace = open_workspace(space.root)
    workspace.ledger._database.connection.execute("PRAGMA max_page_count = 1")  # as many as there are, and no more
    fill(workspace)

    with pytest.raises(NomothetaError, match="full"):
        workspace.load("tickets", NIGHT + datetime.timedelta(days=1))

    assert space.sql("SELECT count(*) FROM tickets") == [(2,)]
    workspace.ledger.close()
    assert space.load(day="2026-06-02")["balance"]["after"] == 4


def fill(workspace: Any) -> None:
    """Use up what is free in the ledger's pages."""
    with pytest.raises(NomothetaError, match="full"):
        while True:
            workspace.ledger.begin_load("other", "other", NIGHT, datetime.datetime.now(datetime.UTC), None, 1)


def test_a_disk_that_fills_up_while_it_is_loaded_undoes_the_load(space: Space) -> None:
    space.tickets(ROWS)
    workspace = open_workspace(space.root)
    honest = workspace.ledger.expect_load

    def full(entry: int, result: Any) -> None:
        workspace.ledger._database.connection.execute("PRAGMA max_page_count = 1")
        fill(workspace)
        honest(entry, result)

    workspace.ledger.expect_load = full
    with pytest.raises(NomothetaError, match="full"):
        workspace.load("tickets", NIGHT, create=True)
    workspace.ledger._database.connection.execute("PRAGMA max_page_count = 100000")
    workspace.ledger.close()

    assert space.sql("SELECT count(*) FROM tickets") == [(0,)]
    assert space.load()["balance"]["after"] == 2


def test_a_ledger_that_cannot_say_the_last_word_learns_it_from_the_mark(
    space: Space, monkeypatch: pytest.MonkeyPatch
) -> None:
    space.tickets(ROWS + "x;1,00;\n")
    with monkeypatch.context() as cut:
        cut.setattr(Ledger, "end_load", lambda *_: (_ for _ in ()).throw(NomothetaError("the disk is gone")))
        assert "the disk is gone" in space.run("load", "tickets", "--day", DAY, "--create").text

    again = space.run("load", "tickets", "--day", DAY)

    assert again.code == 1
    assert "loaded before" in again.text
    entries = space.run("ledger", "tickets", "--json").json["entries"]
    assert [each["state"] for each in entries] == ["refused", "loaded"]
    assert entries[1]["summary"] == "2 rows loaded, 1 rejected; its process was cut off after the commit"
    assert [each["value"] for each in space.rejects()] == ["x"]
    assert space.run("reconcile", "tickets").code == 0


@pytest.mark.parametrize(("sort", "sleep"), [("postgresql", "pg_sleep(30)"), ("mariadb", "sleep(30)")])
def test_an_interrupt_stops_the_server_too(sort: str, sleep: str) -> None:
    with server(sort) as url:
        database = Database(sort, url)
        place = connect("there", database.url, Path())
        stop = threading.Timer(0.5, os.kill, (os.getpid(), signal.SIGINT))
        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        started = time.monotonic()

        stop.start()
        try:
            with pytest.raises(KeyboardInterrupt):
                place.fetch(f"SELECT {sleep}")
        finally:
            stop.cancel()
            signal.signal(signal.SIGINT, before)

        assert time.monotonic() - started < 20
        place.close()
        for _ in range(100):
            if not asleep(database):
                break
            time.sleep(0.1)
        assert not asleep(database)
        database.drop()


@pytest.mark.parametrize("answers", [True, False], ids=["it answers again", "it is gone for now"])
def test_a_commit_whose_answer_is_lost_is_settled_by_its_mark(
    space: Space, monkeypatch: pytest.MonkeyPatch, answers: bool
) -> None:
    with server("postgresql") as url:
        database = Database("postgresql", url)
        settings = SETTINGS.replace("duckdb:///warehouse.duckdb", database.url)
        space.write("nomotheta.toml", settings)
        space.tickets(ROWS + "x;1,00;\n")
        with the_cable_pulled(monkeypatch, answers):
            found = space.run("load", "tickets", "--day", DAY, "--create")

        assert found.code == (0 if answers else 3), found.text
        assert ("it was committed, though the answer to the commit was lost" in found.text) == answers
        assert space.run("load", "tickets", "--day", DAY).code == 1  # it was loaded before
        entries = space.run("ledger", "--json").json["entries"]
        assert [each["state"] for each in entries] == ["refused", "loaded"]
        assert [each["message"] for each in space.rejects()] == ["ticket_no does not match T[0-9]{3}"]
        assert database.ask("SELECT count(*) FROM tickets") == [(2,)]

        with the_cable_pulled(monkeypatch, answers):
            assert space.run("undo", "1").code == 3

        assert database.ask("SELECT count(*) FROM tickets") == [(0,)]
        assert space.load()["balance"]["loaded"] == 2
        states = [each["state"] for each in space.run("ledger", "--json").json["entries"]]
        assert states == ["loaded", "taken out", "refused", "taken out"]
        database.drop()


@contextlib.contextmanager
def the_cable_pulled(monkeypatch: pytest.MonkeyPatch, answers: bool) -> Iterator[None]:
    """A server whose answer to a commit is lost; after that it answers again, or not at all."""
    honest, opened = PostgresPlace.run_plain, PostgresPlace.__init__
    pulled: list[str] = []

    def lost(place: PostgresPlace, sql: str) -> None:
        honest(place, sql)
        if sql == "COMMIT" and not pulled:
            pulled.append(sql)
            raise PlaceError("the cable was pulled")

    def asked(place: PostgresPlace, *given: Any) -> None:
        if pulled and not answers:
            raise PlaceError("nobody answers")
        opened(place, *given)

    with monkeypatch.context() as cut:
        cut.setattr(PostgresPlace, "run_plain", lost)
        cut.setattr(PostgresPlace, "__init__", asked)
        yield


def asleep(database: Database) -> bool:
    """Whether the server still works on it."""
    if database.sort == "postgresql":
        return bool(
            database.ask(
                "SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND query LIKE '%pg_sleep(30)%' AND state = 'active' AND pid <> pg_backend_pid()"
            )
        )
    return bool(
        database.ask(
            "SELECT 1 FROM information_schema.processlist WHERE db = database() AND info LIKE '%sleep(30)%' AND id <> connection_id()"
        )
    )
