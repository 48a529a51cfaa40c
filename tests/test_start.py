"""The process of the program: what it does without, and what it leaves alone where it is only a library."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from conftest import DAY, Space
from nomotheta.conditions import Kind
from nomotheta.place import connect


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
            place.fetch("SELECT max(md5(CAST(range AS VARCHAR))) AS n FROM range(300000000)")
    finally:
        signal.signal(signal.SIGINT, before)

    assert place.columns("t") is None
    place.close()
