"""A PostgreSQL server for the tests: the one on this machine, or one of their own in a temporary folder."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import tempfile
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

USUAL = "postgresql://postgres@127.0.0.1:5432/test"


def reached(url: str) -> bool:
    try:
        psycopg.connect(url, connect_timeout=5).close()
    except psycopg.OperationalError:
        return False
    return True


@contextlib.contextmanager
def own_server() -> Iterator[str]:
    """A server started for the tests, which is stopped when they end; skips where none is installed."""
    found = shutil.which("initdb") or next(map(str, Path("/usr/lib/postgresql").glob("*/bin/initdb")), None)
    if found is None:
        pytest.skip("no PostgreSQL server answers on this machine, and none is installed that could be started")
    binaries, user = Path(found).parent, {"user": "nobody"} if os.geteuid() == 0 else {}
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with tempfile.TemporaryDirectory(prefix="nomotheta-pg-") as folder:
        if user:
            shutil.chown(folder, "nobody")
        data = f"{folder}/data"

        def run(*words: str) -> None:
            subprocess.run([str(binaries / words[0]), *words[1:]], check=True, capture_output=True, **user)  # type: ignore[call-overload]

        run("initdb", "-D", data, "-U", "postgres", "--auth", "trust", "-E", "UTF8", "--locale", "C.UTF-8")
        run("pg_ctl", "-D", data, "-w", "-l", f"{folder}/log", "-o", f"-p {port} -h 127.0.0.1 -k {folder}", "start")
        try:
            yield f"postgresql://postgres@127.0.0.1:{port}/postgres"
        finally:
            run("pg_ctl", "-D", data, "-m", "immediate", "stop")


@contextlib.contextmanager
def server() -> Iterator[str]:
    """The URL of a server."""
    if reached(USUAL):
        yield USUAL
        return
    with own_server() as url:
        yield url


class Database:
    """A database of its own on a server."""

    def __init__(self, server_url: str) -> None:
        self.name = f"nomotheta_{uuid.uuid4().hex[:12]}"
        self._server = server_url
        self.url = server_url.rpartition("/")[0] + "/" + self.name
        ask(server_url, f"CREATE DATABASE {self.name} TEMPLATE template0 ENCODING 'UTF8'")

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """What the database itself says."""
        return ask(self.url, sql)

    def drop(self) -> None:
        """Away with it."""
        ask(self._server, f"DROP DATABASE {self.name} WITH (FORCE)")


def ask(url: str, sql: str) -> list[tuple[Any, ...]]:
    """The rows of a statement; none for one that gives none."""
    with psycopg.connect(url, autocommit=True) as connection:
        cursor = connection.execute(sql)
        return list(cursor.fetchall()) if cursor.description else []
