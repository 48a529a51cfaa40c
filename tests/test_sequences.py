"""Random nights against a model in plain Python: sweeps, further deliveries, corrections, changed charters, undos, runs.

After each step the table, the balance, the verdict and what the next run would do are what the model says. A few
sequences a place are played in every test run; NOMOTHETA_SEQUENCES=500 plays so many.
"""

from __future__ import annotations

import copy
import os
import random
from dataclasses import dataclass, field
from typing import Any

import pytest

from conftest import SETTINGS, Space
from servers import Database, server

PLACES = ["duckdb", "postgresql", "mariadb", "sqlite", "delta"]
SEQUENCES, STEPS = int(os.environ.get("NOMOTHETA_SEQUENCES", "4")), 16
DAYS, NAMES, KEYS = ["2026-06-01", "2026-06-02"], ["a", "b"], ["A", "B", "C"]
CHARTER = """
table = "t"
[delivery]
files = "inbox/{pattern}"
[load]
tolerate = "all"
{same_day}
[columns.k]
kind = "text(4)"
[columns.v]
kind = "integer"
between = [0, {limit}]
[columns.load_no]
from = "@load.no"
{key}
"""
Row = tuple[str, str]
Where = tuple[str, int]  # a file and the number of a record in it


@dataclass
class Load:
    """A load that was committed: its files by name, the rows that it brought, and those that it set aside."""

    number: int
    day: str
    files: dict[str, tuple[Row, ...]]
    rows: list[Row]
    aside: dict[Where, tuple[Row, int]]  # the row, and the load whose row is in its way, or 0
    replaced: list[int]
    warns: bool
    limit: int
    mends: int = 0
    came: list[Where] = field(default_factory=list)


@dataclass
class Said:
    """What the program says of a step, or is to say."""

    state: str
    verdict: str
    loaded: int = 0
    rejected: int = 0
    copies: int = 0
    conflicts: int = 0
    left_out: tuple[str, ...] = ()


@dataclass
class Model:
    """The workspace, the table and the ledger, as the reference describes them."""

    sweep: bool
    same_day: str
    keyed: bool
    limit: int = 9
    disk: dict[str, tuple[Row, ...]] = field(default_factory=dict)
    loads: list[Load] = field(default_factory=list)
    number: int = 0
    kept: int = 0  # the load that can put back what it replaced
    tried: dict[tuple[int, Where], int] = field(default_factory=dict)

    def gone(self) -> set[int]:
        """The loads whose rows were replaced by one that stands."""
        return {number for load in self.loads for number in load.replaced}

    def standing(self) -> list[Load]:
        gone = self.gone()
        return [load for load in self.loads if load.number not in gone]

    def table(self) -> list[tuple[str, int, int]]:
        return sorted((key, int(value), load.number) for load in self.standing() for key, value in load.rows)

    def deliver(self, day: str, *, again: bool) -> Said:
        """Load what is on the disk for a day."""
        refused = Said("refused", "fail")
        names = [name for name in sorted(self.disk) if self.sweep or day in name]
        if not names:
            return refused
        files: dict[str, tuple[Row, ...]] = {}
        twice = False
        for name in names:
            if self.disk[name] in files.values():
                twice = True
            else:
                files[name] = self.disk[name]
        known = {content: load for load in self.loads for content in load.files.values()}
        if not self.sweep and any(content in known and known[content].day != day for content in files.values()):
            return refused
        there = {content: load for load in self.standing() for content in load.files.values()}
        fresh = {name: content for name, content in files.items() if content not in there}
        left = tuple(sorted(name for name in files if name not in fresh))
        if not fresh:
            if not self.sweep and not again:
                return refused
            return self.unchanged({there[content].number for content in files.values()}, twice=twice)
        of_day = [] if self.sweep else [load for load in self.standing() if load.day == day]
        before = [load for load in of_day if not load.mends]  # what brings mended rows is no delivery
        replaced: list[int] = []
        if before and self.same_day == "replace":
            fresh, left, replaced = files, (), [load.number for load in of_day]
        else:
            olds = {name: load.files[name] for name in fresh for load in self.newest(name)}
            changed = [name for name, old in olds.items() if old != fresh[name]]
            if (before and self.same_day == "refuse") or (changed and not self.keyed):
                return refused
            twice |= any(fresh[name][: len(olds[name])] != olds[name] for name in changed)  # what went is still there
        return self.bring(day, fresh, replaced, left, twice=twice)

    def newest(self, name: str) -> list[Load]:
        return [load for load in self.standing() if name in load.files][-1:]

    def bring(
        self,
        day: str,
        files: dict[str, tuple[Row, ...]],
        replaced: list[int],
        left: tuple[str, ...],
        *,
        twice: bool,
        mends: int = 0,
    ) -> Said:
        self.number += 1
        stays = {
            key: (value, load.number)
            for load in self.standing()
            if load.number not in replaced
            for key, value in load.rows
        }
        load = Load(self.number, day, {} if mends else files, [], {}, replaced, twice, self.limit, mends)
        said = Said("loaded", "pass", left_out=left)
        own: dict[str, str] = {}
        for name, content in files.items():
            for record, (key, value) in enumerate(content, 1):
                at = (name, record)
                if not value.isdigit() or int(value) > self.limit:
                    said.rejected += 1
                    load.aside[at] = ((key, value), 0)
                elif self.keyed and (key in stays or key in own):
                    other, way = stays[key] if key in stays else (own[key], 0)
                    same = int(other) == int(value)
                    said.copies += same
                    said.conflicts += not same
                    load.aside[at] = ((key, value), way)
                else:
                    own[key] = value
                    load.rows.append((key, value))
                    said.loaded += 1
        load.warns |= bool(load.aside) and said.copies + said.conflicts == sum(map(len, files.values()))
        said.verdict = "warn" if load.warns else "pass"
        self.loads.append(load)
        self.kept = load.number if replaced else self.kept
        return said

    def unchanged(self, numbers: set[int], *, twice: bool) -> Said:
        """What is in the table already is judged as it is, by today's charter."""
        family = [load for load in self.standing() if load.number in numbers or load.mends in numbers]
        breaks = any(int(value) > self.limit for load in family for _, value in load.rows)
        warns = twice or next(load for load in self.loads if load.number == max(numbers)).warns
        return Said("unchanged", "fail" if breaks else "warn" if warns else "pass")

    def free(self) -> dict[int, list[Where]]:
        """By load the rows that were set aside for the sake of rows that are gone."""
        there = {load.number for load in self.standing()}
        came = {(load.mends, at) for load in self.loads if load.mends for at in load.came}
        found: dict[int, list[Where]] = {}
        for load in self.standing():
            for at, (_, first) in load.aside.items() if not load.mends else ():
                way = self.tried.get((load.number, at), first)
                if way and way not in there and (load.number, at) not in came:
                    found.setdefault(load.number, []).append(at)
        return found

    def bring_free(self) -> list[Said]:
        said = []
        for number, places in sorted(self.free().items()):
            of = next(load for load in self.loads if load.number == number)
            ordered = sorted(places)
            rows = tuple(of.aside[at][0] for at in ordered)
            said.append(self.bring(of.day, {"again": rows}, [], (), twice=False, mends=number))
            last = self.loads[-1]
            out = {ordered[record - 1]: way for (_, record), (_, way) in last.aside.items()}
            last.came = [at for at in ordered if at not in out]
            self.tried |= {(number, at): way for at, way in out.items()}
        return said

    def undo(self, numbers: list[int]) -> bool:
        """Take loads out, the newest first, all or none."""
        before = (list(self.loads), self.kept)
        for number in sorted(numbers, reverse=True):
            load = next((each for each in self.loads if each.number == number), None)
            mended = [each for each in self.loads if each.mends == number and each.rows]
            if load is None or number in self.gone() or mended or (load.replaced and self.kept != number):
                self.loads, self.kept = before
                return False
            self.loads = [each for each in self.loads if each.number != number]
            self.kept = 0 if load.replaced else self.kept
        return True


class Play:
    """The program and the model, step by step."""

    def __init__(self, space: Space, database: Database, chance: random.Random) -> None:
        self.space, self.database, self.chance = space, database, chance
        self.model = Model(chance.random() < 0.4, chance.choice(["refuse", "add", "replace"]), chance.random() < 0.7)
        self.story: list[str] = []
        self.declare()

    def declare(self) -> None:
        model = self.model
        self.space.charter(
            CHARTER.format(
                pattern="t-*.csv" if model.sweep else "t-{day}*.csv", limit=model.limit,
                same_day="" if model.sweep else f'same_day = "{model.same_day}"',
                key='[[keys]]\ncolumns = ["k"]\n' if model.keyed else "",
            ),
            "t",
        )  # fmt: skip

    def write(self) -> None:
        """A file that is new, changed, grown, or what another holds."""
        model, chance = self.model, self.chance
        name = (
            f"inbox/t-{chance.choice(NAMES)}.csv"
            if model.sweep
            else f"inbox/t-{chance.choice(DAYS)}-{chance.choice(NAMES)}.csv"
        )
        rows = tuple(
            (chance.choice(KEYS), chance.choice(["1", "2", "2", "5", "x"])) for _ in range(chance.randrange(1, 4))
        )
        if chance.random() < 0.2 and model.disk:
            rows = chance.choice(list(model.disk.values()))
        elif chance.random() < 0.2 and name in model.disk:
            rows = (*model.disk[name], *rows)
        model.disk[name] = rows
        self.space.write(name, "k,v\n" + "".join(f"{key},{value}\n" for key, value in rows))
        self.story.append(f"write {name} {rows}")

    def load(self) -> None:
        day = self.chance.choice(DAYS)
        self.story.append(f"load {day}")
        (found,) = self.space.run("load", "t", "--day", day, "--create", "--json").json["loads"]
        self.same(found, self.model.deliver(day, again=False))

    def run(self) -> None:
        day = self.chance.choice(DAYS)
        self.story.append(f"run {day}")
        ended = self.space.run("run", "--day", day, "--create", "--json").json
        (table,) = ended["tables"]
        said = self.model.deliver(day, again=True)
        self.same(table["load"], said)
        again = self.model.bring_free() if said.state != "refused" else []
        order = ["pass", "warn", "fail"]
        expected = max([said.verdict, *(each.verdict for each in again)], key=order.index)
        parts = [each for each in table["message"].split("; ") if each]
        if said.state == "unchanged" and parts and parts[-1].startswith("it could not be reconciled"):
            last = next(load for load in self.model.loads if load.number == table["load"]["load_no"])
            assert not self.files_are_there(last)  # they have been written over since
            parts, expected = parts[:-1], "fail"
        assert table["verdict"] == expected, (table["message"], table["reconciliation"])
        assert len(parts) == len(again)

    def same(self, found: dict[str, Any], said: Said) -> None:
        """What the program says of a load is what the model says."""
        assert (found["state"], found["verdict"]) == (said.state, said.verdict), found["message"] or found["warnings"]
        if said.state == "loaded":
            counts = {name: found["balance"][name] for name in ("loaded", "rejected", "copies", "conflicts")}
            assert counts == {name: getattr(said, name) for name in counts}
            assert tuple(sorted(each["file"] for each in found["left_out"] if each["load_no"])) == said.left_out
            assert found["load_no"] == self.model.number

    def rehearse(self) -> None:
        """A trial run says what a load would come to, and changes nothing."""
        day = self.chance.choice(DAYS)
        self.story.append(f"rehearse {day}")
        if not self.model.number:
            return  # there is no table yet
        (found,) = self.space.run("load", "t", "--day", day, "--rehearse", "--json").json["loads"]
        said = copy.deepcopy(self.model).deliver(day, again=False)
        state = "rehearsed" if said.state == "loaded" else said.state
        assert (found["state"], found["verdict"]) == (state, said.verdict), found["message"]
        if said.state == "loaded":
            assert [found["balance"][name] for name in ("loaded", "copies")] == [said.loaded, said.copies]

    def undo(self) -> None:
        numbers = [load.number for load in self.model.loads] or [1]
        chosen = sorted({self.chance.choice(numbers) for _ in range(self.chance.choice([1, 1, 2]))})
        self.story.append(f"undo {chosen}")
        ended = self.space.run("undo", *map(str, chosen))
        assert (ended.code == 0) == self.model.undo(chosen), ended.text

    def change(self) -> None:
        """Another charter."""
        self.model.limit = self.chance.choice([1, 4, 9])
        self.story.append(f"limit {self.model.limit}")
        self.declare()

    def again(self) -> None:
        self.story.append("again")
        found = self.space.run("load", "t", "--again", "--json")
        if found.code == 3 and not self.model.number:
            return  # there is no table yet
        said = self.model.bring_free()
        assert len(found.json["loads"]) == len(said)
        for load, each in zip(found.json["loads"], said, strict=True):
            assert (load["state"], load["verdict"], load["balance"]["loaded"]) == (
                each.state,
                each.verdict,
                each.loaded,
            )

    def check(self) -> None:
        """The table is the model's, and what can be reconciled is equal."""
        if not self.model.number:
            return
        rows = [tuple(row) for row in self.database.ask("SELECT k, v, load_no FROM t")]
        assert sorted(rows) == self.model.table()
        last = self.model.standing()[-1:]
        if last and self.chance.random() < 0.2 and not last[0].mends and self.files_are_there(last[0]):
            ended = self.space.run("reconcile", "t", "--load", str(last[0].number))
            assert ended.code == 0, ended.text

    def files_are_there(self, load: Load) -> bool:
        return all(self.model.disk.get(name) == content for name, content in load.files.items())


@pytest.mark.parametrize("sort", PLACES)
def test_every_step_of_random_nights_is_what_the_model_says(
    sort: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    with server(sort) as url:
        for seed in range(SEQUENCES):
            database = Database(sort, url)
            try:
                played(database, random.Random(f"{sort} {seed}"), Space(tmp_path_factory.mktemp("nights")))
            finally:
                database.drop()


def played(database: Database, chance: random.Random, space: Space) -> None:
    space.write("nomotheta.toml", SETTINGS.replace("duckdb:///warehouse.duckdb", database.url))
    (space.root / "inbox").mkdir()
    play = Play(space, database, chance)
    steps = [*[play.write] * 3, *[play.load] * 3, play.run, *[play.undo] * 3, play.change, *[play.again] * 2]
    steps += [play.rehearse]
    try:
        play.write()
        for _ in range(STEPS):
            chance.choice(steps)()
            play.check()
    except AssertionError as error:
        model = play.model
        told = f"sweep {model.sweep}, same_day {model.same_day}, keyed {model.keyed}"
        raise AssertionError("\n".join([told, *play.story, str(error)])) from error
