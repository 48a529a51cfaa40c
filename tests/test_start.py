"""The process of the program: what it does without, and what it leaves alone where it is only a library."""

from __future__ import annotations

import datetime
import gzip
import os
import signal
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from blake3 import blake3

from conftest import DAY, Space
from nomotheta import unpack
from nomotheta.ahead import foresee, look_ahead
from nomotheta.conditions import Kind
from nomotheta.place.connect import connect


def run(space: Space, beside: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """Python in the workspace, with what stands beside it to be imported first."""
    environment = os.environ | {"PYTHONPATH": str(beside)}
    command = [sys.executable, *words]
    return subprocess.run(command, cwd=space.root, env=environment, capture_output=True, text=True, check=False)


def test_no_pandas_is_imported_where_one_is_installed(space: Space, tmp_path: Path) -> None:
    (tmp_path / "beside" / "pandas").mkdir(parents=True)
    (tmp_path / "beside" / "pandas" / "__init__.py").write_text("open('imported', 'w').close()\n__version__ = '3.0'\n")
    space.tickets("ticket_no;fare;sold_on\nT001;x;01.06.2026\n")

    ended = run(space, tmp_path / "beside", "-m", "nomotheta", "load", "tickets", "--day", DAY, "--create")

    assert "1 rejected" in ended.stdout, ended.stderr
    assert not (space.root / "imported").exists()


def test_a_library_leaves_pandas_to_its_caller(space: Space, tmp_path: Path) -> None:
    (tmp_path / "beside" / "pandas").mkdir(parents=True)
    (tmp_path / "beside" / "pandas" / "__init__.py").write_text("")
    script = "import nomotheta; nomotheta.open_workspace(); import pandas, gc; print(gc.get_threshold()[0])"

    ended = run(space, tmp_path / "beside", "-c", script)

    assert ended.stdout == "700\n", ended.stderr


def test_an_interrupt_while_the_database_works_is_one(tmp_path: Path) -> None:
    place = connect("w", f"duckdb:///{tmp_path}/w.duckdb", tmp_path, create=True)
    stop = threading.Timer(0.5, os.kill, (os.getpid(), signal.SIGINT))
    before = signal.signal(signal.SIGINT, signal.default_int_handler)  # a job in the background ignores it

    stop.start()
    try:
        with pytest.raises(KeyboardInterrupt), place.transaction("t"):
            place.create("t", {"n": Kind("integer")})
            place.fetch("SELECT max(md5(CAST(range AS VARCHAR))) AS n FROM range(60000000)")
    finally:
        signal.signal(signal.SIGINT, before)

    assert place.columns("t") is None
    place.close()


def test_the_files_of_a_load_are_looked_for_while_the_program_starts(
    space: Space, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(unpack, "_AHEAD", {})
    space.tickets("ticket_no;fare;sold_on\nT001;1;01.06.2026\n")
    path = space.root / "inbox" / f"tickets-{DAY}.csv"
    (space.root / "charters" / "below").mkdir()

    look_ahead(space.root / "charters" / "below", "tickets", datetime.date.fromisoformat(DAY))
    begun = dict(unpack._AHEAD)
    found = unpack.survey(path, "it")

    assert list(begun) == [path]
    assert begun[path].found is found  # it was not read twice
    assert (found.bytes_of_content, found.content) == (path.stat().st_size, blake3(path.read_bytes()).hexdigest())


@pytest.mark.parametrize(
    ("line", "foreseen"),
    [
        ("load tickets --day {day} -w {root}", True),
        ("load --workspace={root} --create --day={day} --place warehouse tickets", True),
        ("load tickets -w {root}", False),  # today's file
        ("load tickets --day {day} -w {root} --again mended.csv", False),
        ("load tickets --day tomorrow -w {root}", False),
        ("check -w {root}", False),
        ("load -w", False),
    ],
)
def test_a_command_line_is_foreseen(
    space: Space, monkeypatch: pytest.MonkeyPatch, line: str, *, foreseen: bool
) -> None:
    monkeypatch.setattr(unpack, "_AHEAD", {})
    space.tickets("ticket_no;fare;sold_on\nT001;1;01.06.2026\n")

    foresee(line.format(day=DAY, root=space.root).split())

    assert bool(unpack._AHEAD) == foreseen


def test_a_packed_file_is_unpacked_once(space: Space, monkeypatch: pytest.MonkeyPatch) -> None:
    path, content = space.root / "inbox" / "it.gz", b"ticket_no\n" + b"T001\n" * 2_000_000
    path.write_bytes(gzip.compress(content))
    found = unpack.survey(path, "it")
    assert found.content == blake3(content).hexdigest()

    monkeypatch.delitem(unpack._OPENERS, "gzip")
    for most in (None, lambda: 1000_000):
        assert b"".join(unpack.raw_chunks(path, "it", most=most)) == content
    monkeypatch.undo()

    path.write_bytes(gzip.compress(b"another\n"))
    assert b"".join(unpack.raw_chunks(path, "it")) == b"another\n"
    del found
    assert path not in unpack._COPIES

    monkeypatch.setattr(unpack, "_KEPT", 1000)
    path.write_bytes(gzip.compress(content))
    assert unpack.survey(path, "it").copy is None
    assert b"".join(unpack.raw_chunks(path, "it")) == content


def test_a_file_that_has_changed_since_it_was_looked_for_is_read_again(space: Space) -> None:
    space.tickets("ticket_no;fare;sold_on\nT001;1;01.06.2026\n")
    path = space.root / "inbox" / f"tickets-{DAY}.csv"
    look_ahead(space.root, "tickets", datetime.date.fromisoformat(DAY))
    path.write_text("ticket_no;fare;sold_on\nT002;2;01.06.2026\nT003;3;\n")

    assert unpack.survey(path, "it").content == blake3(path.read_bytes()).hexdigest()


@pytest.mark.parametrize("table", ["none", "tickets"])
def test_looking_ahead_finds_nothing_wrong(space: Space, monkeypatch: pytest.MonkeyPatch, table: str) -> None:
    monkeypatch.setattr(unpack, "_AHEAD", {})
    space.charter("this is no TOML", "broken")

    look_ahead(space.root, table, None)
    look_ahead(Path("/"), table, None)

    assert not unpack._AHEAD
