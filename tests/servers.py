"""Databases for the tests: servers that run on this machine, or ones of their own in a temporary folder; and files."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import time
import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import duckdb
import psycopg
import pymysql
import pytest
from deltalake import DeltaTable, write_deltalake

USUAL = {"postgresql": "postgresql://postgres@127.0.0.1:5432/test", "mariadb": "mariadb://root@127.0.0.1:3306/test"}
Rows = list[tuple[Any, ...]]


def ask_postgres(url: str, sql: str) -> Rows:
    """The rows of a statement; none for one that gives none."""
    with psycopg.connect(url, autocommit=True, connect_timeout=5) as connection:
        cursor = connection.execute(sql)
        return list(cursor.fetchall()) if cursor.description else []


def ask_mariadb(url: str, sql: str) -> Rows:
    """The rows of a statement; none for one that gives none."""
    at = urlsplit(url)
    with (
        pymysql.connect(
            host=at.hostname, port=at.port or 3306, user=at.username, database=at.path[1:] or None, autocommit=True,
            connect_timeout=5, init_command="SET SESSION lock_wait_timeout = 10",
        ) as connection,
        connection.cursor() as cursor,
    ):  # fmt: skip
        cursor.execute(sql)
        return list(cursor.fetchall())


def ask_sqlite(url: str, sql: str) -> Rows:
    """The rows of a statement; none for one that gives none."""
    with contextlib.closing(sqlite3.connect(url.partition("///")[2])) as connection, connection:
        return connection.execute(sql).fetchall()


def ask_duckdb(url: str, sql: str) -> Rows:
    """The rows of a statement; none for one that gives none."""
    with duckdb.connect(url.partition("///")[2]) as connection:
        return connection.execute(sql).fetchall()


def ask_delta(url: str, sql: str) -> Rows:
    """The rows of a SELECT over a lake's tables as deltalake reads them; other statements make, fill and drop tables."""
    root = Path(url.partition("///")[2])
    root.mkdir(exist_ok=True)
    tables = {log.parent.relative_to(root).as_posix(): log.parent for log in root.glob("**/_delta_log")}
    with duckdb.connect() as engine:
        engine.execute("SET TimeZone = 'UTC'")
        for name, path in tables.items():
            schema, _, _ = name.rpartition("/")
            engine.execute(f'CREATE SCHEMA IF NOT EXISTS "{schema or "main"}"')
            engine.register("there", DeltaTable(path).to_pyarrow_table())
            engine.execute(f"CREATE TABLE {name.replace('/', '.')} AS SELECT * FROM there")
        rows = engine.execute(sql).fetchall()
        if sql.lstrip().split()[0].upper() in {"SELECT", "WITH"}:
            return rows
        listed = engine.execute("SELECT schema_name, table_name FROM duckdb_tables()").fetchall()
        left = {(name if schema == "main" else f"{schema}/{name}") for schema, name in listed}
        for name in tables.keys() - left:
            shutil.rmtree(tables[name])
        for name in sorted(left):
            made = engine.table(name.replace("/", ".")).to_arrow_table()
            if name not in tables or not made.equals(DeltaTable(tables[name]).to_pyarrow_table()):
                write_deltalake(root / name, made, mode="overwrite", schema_mode="overwrite")
    return rows


@dataclass(frozen=True)
class Server:
    """A server of the tests' own, which can be stopped at once, and started again."""

    url: str
    stop: Callable[[], None]
    start: Callable[[], None]


ASK = {
    "postgresql": ask_postgres,
    "mariadb": ask_mariadb,
    "sqlite": ask_sqlite,
    "duckdb": ask_duckdb,
    "delta": ask_delta,
}


@contextlib.contextmanager
def own_postgres() -> Iterator[Server]:
    """A server started for the tests, which is stopped when they end; skips where none is installed."""
    found = shutil.which("initdb") or next(map(str, Path("/usr/lib/postgresql").glob("*/bin/initdb")), None)
    if found is None:
        pytest.skip("no PostgreSQL server answers on this machine, and none is installed that could be started")
    binaries = Path(found).parent
    with own_folder() as (folder, user, port):

        def run(*words: str) -> None:
            subprocess.run([str(binaries / words[0]), *words[1:]], check=True, capture_output=True, **user)

        data = f"{folder}/data"
        run("initdb", "-D", data, "-U", "postgres", "--auth", "trust", "-E", "UTF8", "--locale", "C.UTF-8")
        started = (
            "pg_ctl", "-D", data, "-w", "-l", f"{folder}/log", "-o", f"-p {port} -h 127.0.0.1 -k {folder}", "start",
        )  # fmt: skip
        run(*started)
        stopped = ("pg_ctl", "-D", data, "-m", "immediate", "stop")
        try:
            yield Server(
                f"postgresql://postgres@127.0.0.1:{port}/postgres", lambda: run(*stopped), lambda: run(*started)
            )
        finally:
            run(*stopped)


@contextlib.contextmanager
def own_mariadb() -> Iterator[Server]:
    """A server started for the tests, which is stopped when they end; skips where none is installed."""
    install, server = shutil.which("mariadb-install-db"), shutil.which("mariadbd") or shutil.which("mysqld")
    if install is None or server is None:
        pytest.skip("no MariaDB server answers on this machine, and none is installed that could be started")
    with own_folder() as (folder, user, port):
        data = f"--datadir={folder}/data"
        auth = "--auth-root-authentication-method=normal"
        subprocess.run([install, "--no-defaults", data, auth], check=True, capture_output=True, **user)
        words = [f"--socket={folder}/socket", f"--port={port}", "--bind-address=127.0.0.1", f"--log-error={folder}/log"]
        url, processes = f"mariadb://root@127.0.0.1:{port}/", list[subprocess.Popen[bytes]]()

        def start() -> None:
            processes.append(subprocess.Popen([server, "--no-defaults", data, *words], **user))
            for _ in range(300):
                if reached("mariadb", url):
                    return
                time.sleep(0.1)

        def stop() -> None:
            processes[-1].kill()
            processes[-1].wait()

        start()
        try:
            yield Server(url, stop, start)
        finally:
            stop()


@contextlib.contextmanager
def own_folder() -> Iterator[tuple[str, dict[str, Any], int]]:
    """A folder for a server's data, whose it is, and a port that is free."""
    user = {"user": "nobody"} if os.geteuid() == 0 else {}
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with tempfile.TemporaryDirectory(prefix="nomotheta-") as folder:
        if user:
            shutil.chown(folder, "nobody")
        yield folder, user, port


OWN: dict[str, Callable[[], contextlib.AbstractContextManager[Server]]] = {
    "postgresql": own_postgres, "mariadb": own_mariadb,
}  # fmt: skip


def reached(sort: str, url: str) -> bool:
    """Whether a server answers."""
    try:
        ASK[sort](url, "SELECT 1")
    except (psycopg.OperationalError, pymysql.OperationalError):
        return False
    return True


@contextlib.contextmanager
def server(sort: str) -> Iterator[str]:
    """The URL of a server; for a file, of none."""
    if sort not in USUAL:
        yield ""
    elif reached(sort, USUAL[sort]):
        yield USUAL[sort]
    else:
        with OWN[sort]() as own:
            yield own.url


class Database:
    """A database of its own on a server, or a file."""

    def __init__(self, sort: str, server_url: str) -> None:
        self.sort, self._server = sort, server_url
        self.name = f"nomotheta_{uuid.uuid4().hex[:12]}"
        self._folder = "" if sort in USUAL else tempfile.mkdtemp(prefix="nomotheta-")
        if self._folder:
            self.url = f"{sort}:///{self._folder}/{self.name}.{sort}"
            return
        self.url = server_url.rpartition("/")[0] + "/" + self.name
        encoding = "TEMPLATE template0 ENCODING 'UTF8'" if sort == "postgresql" else "CHARACTER SET latin1"
        ASK[sort](server_url, f"CREATE DATABASE {self.name} {encoding}")

    def ask(self, sql: str) -> Rows:
        """What the database itself says."""
        return ASK[self.sort](self.url, sql)

    def drop(self) -> None:
        """Away with it."""
        if self._folder:
            shutil.rmtree(self._folder)
        else:
            ASK[self.sort](self._server, f"DROP DATABASE {self.name}{' WITH (FORCE)' * (self.sort == 'postgresql')}")
