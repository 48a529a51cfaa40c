"""Small files that are read as one give the same rows, rejects and counts as those files one by one."""

from __future__ import annotations

import datetime
import random
from pathlib import Path
from typing import Any

import pytest

from conftest import without_kernel
from nomotheta.charter import lint, read_charter
from nomotheta.charter.settings import Settings
from nomotheta.errors import DeliveryError
from nomotheta.load.account import Account
from nomotheta.load.blocks import worked_files
from nomotheta.load.engine import Engine
from nomotheta.load.work import Plan, constants
from nomotheta.place.render import Now
from nomotheta.source.delivery import arrived
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns

CHARTER = """table = "t"
[delivery]
files = "*.csv"
[delivery.layout]
{layout}
[load]
tolerate = "all"
[columns.a]
kind = "integer"
between = [0, 90]
[columns.b]
kind = "text(4)"
blank = "never"
[columns.c]
kind = "decimal(4,1)"
[columns.file]
kind = "text"
from = "@file.name"
[columns.line]
kind = "integer"
from = "@file.line"
"""
MOMENT = datetime.datetime(2026, 6, 1, tzinfo=datetime.UTC)


def read(folder: Path, *, join: bool) -> tuple[list[Any], list[Any], list[Any], int]:
    """The rows, the rejects, the counts of each file, and in how many blocks they came."""
    found, problems = read_charter(folder / "t.toml", "t.toml")
    assert found is not None, problems
    compiled = lint([found], Settings(name="x", places={"w": {"url": "duckdb:///x"}}))[0]["t"]
    checks = [check for check in compiled.checks if check.on_rows and check.sort != "text_length"]
    engine = Engine(checks, Now(MOMENT, MOMENT.date()))
    files = arrived(folder, ["*.csv"], compiled.layout)

    def opened(file: Any) -> Any:
        source = open_file(file.path, file.name, compiled.layout, compiled.charter)
        shape = match_columns(source, compiled.charter)
        fixed = constants(compiled.charter, 1, MOMENT, MOMENT.date(), "UTC")
        return Plan(compiled, file.name, shape.positions, shape.width, fixed, [], engine, "UTC", 0), source

    rows, rejects, account, blocks = [], [], Account(files), 0
    for piece in worked_files(files, opened, join=join):
        if piece.worked is None:
            account.end(piece)
            continue
        blocks += 1
        rows += piece.worked.good.to_pylist()
        rejects += [row for table in piece.worked.set_aside.tables(account.before, 99) for row in table.to_pylist()]
        account.add(piece, piece.worked, piece.worked.records[:0])
    return rows, rejects, account.counts, blocks


def random_file(chance: random.Random, odd: float) -> bytes:
    """A small file, now and then with something out of the ordinary."""
    end = "\r\n" if chance.random() < odd else "\n"
    lines = ["a,b,c" if chance.random() > odd / 4 else "c,b,a"]
    for _ in range(chance.choice([0, 1, 2, 5, 12])):
        fields = [str(chance.randint(0, 99)), chance.choice(["x", "yy", '"q,q"']), f"{chance.randint(0, 999) / 10}"]
        if chance.random() < odd:
            fields[chance.randrange(3)] = chance.choice(
                ["", "no", '"a\nb"', '"open', 'stray"', "12345", "a,b", "a,b,c", "\r", "\x00", "9" * 30, "é"]
            )
        lines.append(",".join(fields))
        lines += [chance.choice(["", "", "a,b,c"])] if chance.random() < odd / 3 else []
    return (end.join(lines) + (end if chance.random() > odd else "")).encode()


@pytest.mark.parametrize("seed", range(40))
def test_read_as_one_is_read_one_by_one(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    layout = chance.choice(["", 'repeated_header = "skip"', 'quote = ""', 'comment = "#"', 'encoding = "latin-1"'])
    (tmp_path / "t.toml").write_text(CHARTER.format(layout=layout))
    for at in range(30):
        (tmp_path / f"f{at:02d}.csv").write_bytes(random_file(chance, chance.choice([0.0, 0.0, 0.3])))
    expected = alone = None
    try:
        *alone, _ = read(tmp_path, join=False)
    except DeliveryError as error:
        expected = str(error)
    for kernel in (True, False):
        try:
            if kernel:
                *together, _ = read(tmp_path, join=True)
            else:
                with without_kernel():
                    *together, _ = read(tmp_path, join=True)
            assert together == alone
        except DeliveryError as error:
            assert str(error) == expected


def test_plain_files_are_read_in_one_block_and_a_reject_is_named_by_its_own_file_and_line(tmp_path: Path) -> None:
    (tmp_path / "t.toml").write_text(CHARTER.format(layout=""))
    for at in range(50):
        (tmp_path / f"f{at:02d}.csv").write_text("a,b,c\n1,x,1.5\n" + ("bad,y,2\n" if at == 33 else "2,y,2\n"))
    rows, rejects, counts, blocks = read(tmp_path, join=True)
    assert blocks == 1
    assert len(rows) == 99
    assert (rows[-1]["file"], rows[-1]["line"]) == ("f49.csv", 3)
    (reject,) = rejects
    assert (reject["file"], reject["line"], reject["record"], reject["offset"]) == ("f33.csv", 3, 2, 14)
    assert [(each.records, each.rejected, each.lines) for each in counts[32:34]] == [(2, 0, 3), (2, 1, 3)]


@pytest.mark.parametrize("join", [True, False])
def test_a_quote_left_open_in_one_file_does_not_take_in_the_next(tmp_path: Path, *, join: bool) -> None:
    (tmp_path / "t.toml").write_text(CHARTER.format(layout=""))
    (tmp_path / "f1.csv").write_text('a,b,c\n1,x,1\n2,"open,2\n')
    (tmp_path / "f2.csv").write_text('a,b,c\n3,y",3\n4,z,4\n')
    rows, rejects, counts, _ = read(tmp_path, join=join)
    assert [row["a"] for row in rows] == [1, 3, 4]
    assert [(each["file"], each["line"]) for each in rejects] == [("f1.csv", 3)]
    assert [each.records for each in counts] == [2, 2]
