"""Random loads, undos and mends in five places, against a model of a few lines: the tables are the same after each."""

from __future__ import annotations

import csv
import datetime
import random
from dataclasses import dataclass, field
from typing import Any

import pytest

from conftest import SETTINGS, Space
from servers import Database
from test_places import database, running, sort  # noqa: F401

CHARTER = """
table = "t"
[delivery]
files = "inbox/t-{{day}}.csv"
[load]
tolerate = "all"
how = "{how}"
{more}
[columns.k]
kind = "text(4)"
blank = "never"
[columns.v]
kind = "integer"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["k"]
"""
STEPS, KEYS = 14, [f"k{n}" for n in range(9)]
Row = tuple[str, str]


@dataclass
class Model:
    """What the table holds, by key: the value and the load that brought it; and what the loads did."""

    how: str
    rows: dict[str, tuple[int, int]] = field(default_factory=dict)
    contents: dict[int, str] = field(default_factory=dict)
    aside: dict[int, dict[int, Row]] = field(default_factory=dict)
    mends: dict[int, int] = field(default_factory=dict)
    before: dict[int, dict[str, tuple[int, int]]] = field(default_factory=dict)
    number: int = 0

    def load(
        self, rows: list[Row], content: str, of: int | None = None, stuck: frozenset[int] = frozenset()
    ) -> tuple[int, int, int] | None:
        """Rows loaded, rejected and repeated; None where the delivery is refused. The `stuck` were not mended."""
        if content in self.contents.values():
            return None
        self.number += 1
        old, new, aside = dict(self.rows), {}, {}
        loaded = repeated = 0
        for at, (key, value) in enumerate(rows, 1):
            if at in stuck or not is_whole(value):
                aside[at] = (key, value)
            elif key in new or (self.how == "append" and key in old):
                aside[at] = (key, value)
                repeated += 1
            else:
                loaded += 1
                same = self.how == "merge" and key in old and old[key][0] == int(value)
                new[key] = old[key] if same else (int(value), self.number)
        self.before = {self.number: old}  # what the newest replaced is kept, and nothing else
        self.rows = new if self.how == "overwrite" and of is None else old | new
        self.contents[self.number] = content
        if of is None:
            self.aside[self.number] = aside
        elif loaded:
            self.mends[self.number] = of
        return loaded, len(aside) - repeated, repeated

    def undo(self, number: int) -> bool:
        """Whether a load can be taken out; where it can, it is."""
        if number not in self.contents or self.how == "merge" or number in self.mends.values():
            return False
        if self.how == "overwrite":
            if number != max(self.contents) or number not in self.before:
                return False
            self.rows = self.before.pop(number)
        else:
            self.rows = {key: row for key, row in self.rows.items() if row[1] != number}
        del self.contents[number]
        self.mends.pop(number, None)
        return True


def is_whole(value: str) -> bool:
    return value.lstrip("-").isdigit()


def delivery(chance: random.Random) -> list[Row]:
    return [
        (chance.choice(KEYS), chance.choice(["x", "1.5", str(chance.randrange(-5, 5)), str(chance.randrange(9))]))
        for _ in range(chance.randrange(1, 7))
    ]


def mended(space: Space, number: int, chance: random.Random) -> list[tuple[int, Row]]:
    """What the analyst sends again of a load: some of its rows, with other values; by the record that each was."""
    space.run("rejects", str(number), "--csv", "fixed.csv")
    with (space.root / "fixed.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    chosen = [row | {"v": str(chance.randrange(9))} for row in rows if chance.random() < 0.7]
    chosen = [row | {"k": chance.choice(KEYS)} for row in chosen]
    with (space.root / "fixed.csv").open("w", newline="") as file:
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(chosen)
    return [(int(row["reject record"]), (row["k"], row["v"])) for row in chosen]


class Trial:
    """The program and the model, step by step."""

    def __init__(self, space: Space, how: str, chance: random.Random) -> None:
        self.space, self.model, self.chance, self.day = space, Model(how), chance, datetime.date(2026, 6, 1)

    def held(self, ended: Any, expected: tuple[int, int, int] | None) -> None:
        (load,) = ended.json["loads"]
        if expected is None:
            assert load["state"] == "refused", load
            return
        balance = load["balance"]
        assert (load["state"], balance["loaded"], balance["rejected"], balance["copies"] + balance["conflicts"]) == (
            "loaded",
            *expected,
        ), load
        assert load["load_no"] == self.model.number

    def load(self) -> None:
        rows, known = delivery(self.chance), list(self.model.contents.values())
        content = "k,v\n" + "".join(f"{key},{value}\n" for key, value in rows)
        if known and self.chance.random() < 0.15:
            content = self.chance.choice(known)  # mended rows come another way
            rows = [tuple(line.split(",")) for line in content.splitlines()[1:]]  # type: ignore[misc]
        if content.startswith("mended"):
            return
        self.day += datetime.timedelta(1)
        self.space.write(f"inbox/t-{self.day}.csv", content)
        ended = self.space.run("load", "t", "--day", str(self.day), "--create", "--json")
        self.held(ended, self.model.load(rows, content))

    def undo(self) -> None:
        number = self.chance.choice([*self.model.contents, 99])
        assert (self.space.run("undo", str(number)).code == 0) == self.model.undo(number)

    def mend(self) -> None:
        of = next((number for number in reversed(self.model.contents) if self.model.aside.get(number)), None)
        sent = mended(self.space, of, self.chance) if of is not None else []
        if of is None or not sent:
            return
        aside = self.model.aside[of]  # what repeats a key of the file cannot be merged until it has another one
        stuck = frozenset(
            at
            for at, (record, (key, _)) in enumerate(sent, 1)
            if self.model.how == "merge" and is_whole(aside[record][1]) and aside[record][0] == key
        )
        found = self.model.load([row for _, row in sent], f"mended {self.model.number}", of, stuck)
        ended = self.space.run("load", "t", "--again", "fixed.csv", "--json")
        self.held(ended, found)
        again = {reject["record"] for reject in ended.json["loads"][0]["rejects"]}
        for at, (record, _) in enumerate(sent, 1):
            if at not in again:
                del self.model.aside[of][record]


@pytest.mark.parametrize("how", ["append", "overwrite", "merge"])
def test_the_table_is_what_the_model_says_after_every_step(
    space: Space,
    database: Database,  # noqa: F811
    sort: str,  # noqa: F811
    how: str,
) -> None:
    if sort == "general" and how != "overwrite":
        pytest.skip("it does not merge, and removes single rows by primary key only")
    chance = random.Random(f"{sort} {how} 1")
    trial = Trial(space, how, chance)
    (space.root / "charters/tickets.toml").unlink()
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    space.charter(CHARTER.format(how=how, more="keep_previous = true" if how == "overwrite" else ""), "t")
    steps = [trial.load, trial.load, trial.undo, *([trial.mend] if how != "overwrite" else [])]

    trial.load()
    for _ in range(STEPS):
        chance.choice(steps)()
        table = {key: (value, number) for key, value, number in database.ask("SELECT k, v, load_no FROM t")}
        assert table == trial.model.rows
        assert len(table) == database.ask("SELECT count(*) FROM t")[0][0]
        if trial.model.contents and how == "append":
            assert space.run("reconcile", "t").code == 0
    assert trial.model.number > STEPS // 4
