"""What the tests share: a workspace in a temporary folder, and the program run in it."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb
import psutil
import pytest
from hypothesis import settings
from typer.testing import CliRunner

from nomotheta import kernel
from nomotheta.cli.app import app
from nomotheta.cluster.local import start
from nomotheta.workspace import engines

settings.register_profile("ours", deadline=None)  # no test is timed
settings.load_profile("ours")
os.environ.pop("COLUMNS", None)  # which whoever runs the tests may have set: screens are as long as their lines

DAY = "2026-06-01"
SETTINGS = """
name = "Test line"
[places.warehouse]
url = "duckdb:///warehouse.duckdb"
[layouts.office]
delimiter = ";"
decimal_sign = ","
date_forms = ["%d.%m.%Y"]
null_words = ["", "n/a"]
"""
TICKETS = """
table = "tickets"
[delivery]
files = "inbox/tickets-{day}.csv*"
layout = "office"
[load]
tolerate = "all"
[columns.ticket_no]
kind = "text(4)"
blank = "never"
pattern = "T[0-9]{3}"
[columns.fare]
kind = "decimal(6,2)"
[columns.sold_on]
kind = "date"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["ticket_no"]
"""


@contextlib.contextmanager
def without_kernel() -> Iterator[None]:
    """As where there was no C compiler."""
    there = kernel.library.library
    kernel.library.library = lambda: None  # type: ignore[assignment]
    try:
        yield
    finally:
        kernel.library.library = there


@dataclass(frozen=True)
class Ended:
    """How a command ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """The document it printed."""
        return json.loads(self.out)

    @property
    def text(self) -> str:
        """All it said, in one line."""
        return " ".join((self.out + self.err).split())


@dataclass(frozen=True)
class Space:
    """A workspace under test."""

    root: Path

    def write(self, name: str, content: str | bytes) -> Path:
        """Write a file of the workspace."""
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def charter(self, text: str, name: str = "tickets") -> None:
        """Write a charter."""
        self.write(f"charters/{name}.toml", text)

    def tickets(self, content: str | bytes, day: str = DAY) -> None:
        """Write the tickets of a day."""
        self.write(f"inbox/tickets-{day}.csv", content)

    def run(self, *words: str) -> Ended:
        """Run the program in the workspace."""
        here = Path.cwd()
        os.chdir(self.root)
        try:
            found = CliRunner().invoke(app, list(words), prog_name="nomotheta")
        finally:
            os.chdir(here)
        if found.exception and not isinstance(found.exception, SystemExit):
            raise found.exception
        return Ended(found.exit_code, found.stdout, found.stderr)

    def load(self, *more: str, table: str = "tickets", day: str = DAY) -> Any:
        """Load a table and return its result."""
        ended = self.run("load", table, "--day", day, "--create", "--json", *more)
        document = ended.json
        assert document["format"] == "nomotheta/loads/1", ended.out
        return document["loads"][0] | {"exit": ended.code}

    def judge(self, table: str = "tickets") -> dict[str, Any]:
        """Judge a table and return its findings by rule."""
        ended = self.run("judge", table, "--json")
        (judgement,) = ended.json["tables"]
        found = {finding["rule"]: finding for finding in judgement["findings"]}
        return {**found, "exit": ended.code, "verdict": judgement["verdict"], "message": judgement["message"]}

    def sql(self, statement: str) -> list[tuple[Any, ...]]:
        """Ask the warehouse itself."""
        with duckdb.connect(str(self.root / "warehouse.duckdb")) as connection:
            return connection.execute(statement).fetchall()

    def sql_ledger(self, statement: str) -> None:
        """Change the ledger by hand."""
        with contextlib.closing(sqlite3.connect(self.root / ".nomotheta/ledger.sqlite")) as connection, connection:
            connection.execute(statement)

    def rejects(self) -> list[dict[str, Any]]:
        """The rejects of the newest load that has any."""
        return self.run("rejects", "--all", "--json").json["shown"]


@pytest.fixture
def space(tmp_path: Path) -> Space:
    """A workspace with the charter of the tickets."""
    made = Space(tmp_path)
    made.write("nomotheta.toml", SETTINGS)
    made.charter(TICKETS)
    (tmp_path / "inbox").mkdir()
    return made


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Space:
    """The demo, written and run once; tests only look at it."""
    made = Space(tmp_path_factory.mktemp("demo") / "skerry-line")
    made.root.mkdir()
    ended = made.run("demo", ".")
    assert ended.code == 0, ended.text
    return made


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """One engine is enough: all that asks it is run by one of those that run the tests."""
    for item in items:
        if "spark" in getattr(item, "fixturenames", ()):
            item.add_marker(pytest.mark.xdist_group("spark"))


@pytest.fixture(scope="session")
def spark() -> Iterator[tuple[str, Any]]:
    """A local engine with two workers, and its process."""
    if shutil.which("java") is None:
        pytest.skip("no Java is installed, which the engine needs")
    before = set(psutil.Process().children())
    url = start("cluster", "local[2]")
    (server,) = set(psutil.Process().children()) - before
    yield url, server
    for each in engines._open.values():
        each.close()  # type: ignore[attr-defined]
    engines._open.clear()
    server.kill()
