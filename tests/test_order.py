"""Nights in their order: what waits for what, what is caught up, and that two runs never meet."""

from __future__ import annotations

import datetime
import json
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import SETTINGS, TICKETS, Space

HEAD = "ticket_no;fare;sold_on\n"
RULED = TICKETS.replace("[[keys]]", '[[rules]]\nname = "not dear"\neach = "fare <= 50"\n[[keys]]')
MADE = {
    "append": TICKETS,
    "overwrite": TICKETS.replace("[load]", '[load]\nhow = "overwrite"'),
    "slice": TICKETS.replace("[load]", '[load]\nhow = "overwrite"\nslice = "sold_on = :day"'),
    "merge": TICKETS.replace("[load]", '[load]\nhow = "merge"'),
}


def days(count: int) -> list[str]:
    return [str(datetime.date(2026, 6, 1) + datetime.timedelta(days=at)) for at in range(count)]


def written(space: Space, made: random.Random, count: int) -> None:
    """Nights whose rows repeat the keys of others."""
    for at, day in enumerate(days(count)):
        keys = made.sample(range(8), 3) if "merge" in space.root.name else [at * 3 + each for each in range(3)]
        told = datetime.date.fromisoformat(day).strftime("%d.%m.%Y")
        space.tickets(HEAD + "".join(f"T{key:03};{made.randrange(50)},00;{told}\n" for key in keys), day)


def rows(space: Space) -> list[tuple[object, ...]]:
    return sorted(space.sql("SELECT ticket_no, fare, sold_on FROM tickets"))


@pytest.mark.parametrize("how", MADE)
def test_days_that_came_late_end_as_if_they_had_come_in_time(space: Space, how: str, tmp_path: Path) -> None:
    for seed in range(3):
        made = random.Random(seed)
        pair = [Space(tmp_path / f"{name}-{how}-{seed}") for name in ("in-time", "late")]
        for each in pair:
            shutil.copytree(space.root, each.root, ignore=lambda _, names: [n for n in names if "-" in n])
            each.charter(MADE[how])
            written(each, random.Random(seed), 5)
        in_time, late = pair
        for day in days(5):
            assert in_time.run("run", "--day", day, "--create").code == 0
        missed = sorted(made.sample(range(1, 5), 2))  # of which the files come at the end
        away = late.root / "away"
        away.mkdir()
        for at in missed:
            (late.root / f"inbox/tickets-{days(5)[at]}.csv").rename(away / days(5)[at])
        for at, day in enumerate(days(5)):
            assert late.run("run", "--day", day, "--create").code == (at in missed), (seed, day)
        for at in missed:
            (away / days(5)[at]).rename(late.root / f"inbox/tickets-{days(5)[at]}.csv")

        newer = [at for at in range(missed[0], 5) if at not in missed]
        alone = late.run("run", "--day", days(5)[missed[0]], "--json").json["tables"][0]["load"]
        if how == "overwrite" and newer:  # nothing of it would be left
            assert (alone["state"], alone["verdict"]) == ("unchanged", "pass")
            assert alone["message"].endswith(f"and replaced all; {days(5)[missed[0]]} is not needed")
        elif how == "merge" and newer:
            assert (alone["state"], alone["verdict"]) == ("refused", "fail")
            assert alone["mend"].endswith(f"nomotheta run --from {days(5)[missed[0]]} tickets")
        else:
            assert (alone["state"], alone["verdict"]) == ("loaded", "pass")
        caught = late.run("run", "--from", days(5)[0], "--to", days(5)[-1], "--json")
        assert (caught.code, caught.json["format"]) == (0, "nomotheta/runs/1"), caught.text
        assert rows(late) == rows(in_time)


def test_a_catching_up_that_is_cut_off_is_not_taken_for_done(space: Space) -> None:
    """Older values that were merged over newer ones are told, and the newer day is merged again: from the archive, too."""
    space.write("nomotheta.toml", SETTINGS + '[archive]\nfolder = "archive/{day}"\n')
    space.charter(MADE["merge"])
    first, second, third = days(3)
    for day, fare in ((first, 1), (third, 3)):
        space.tickets(HEAD + f"T001;{fare},00;01.06.2026\n", day)
        assert space.run("run", "--day", day, "--create").code == 0
    space.tickets(HEAD + "T001;2,00;01.06.2026\n", second)
    assert space.run("run", "--from", second, "--to", second).code == 1
    assert space.load("--even-if-loaded", day=second)["verdict"] == "pass"  # as if what follows had been cut off

    told = space.run("arrivals", "--day", "2026-06-04", "--json").json["arrivals"]
    assert [(each["day"], each["state"]) for each in told if each["day"] == third] == [(third, "missing")]
    assert space.sql("SELECT fare FROM tickets") == [(2,)]
    assert space.run("run", "--from", second, "--to", third).code == 0
    assert space.sql("SELECT fare FROM tickets") == [(3,)]
    assert "merged after" not in space.run("arrivals", "--from", first, "--to", third).text


def test_only_what_failed_is_run_again(space: Space) -> None:
    space.charter(RULED)
    space.charter(TICKETS.replace('"tickets"', '"others"').replace("inbox/tickets", "inbox/others"), "others")
    space.tickets(HEAD + "T001;60,00;01.06.2026\n")
    space.write("inbox/others-2026-06-01.csv", HEAD + "T001;1,00;01.06.2026\n")
    first = space.run("run", "--day", "2026-06-01", "--create")
    space.tickets(HEAD + "T001;6,00;01.06.2026\n")

    again = space.run("run", "--day", "2026-06-01", "--only", "failing", "--json")
    third = space.run("run", "--day", "2026-06-01", "--only", "failing")

    assert (first.code, again.code, third.code) == (1, 0, 0)
    assert [(each["table"], each["verdict"]) for each in again.json["tables"]] == [("tickets", "pass")]
    assert "no table failed in the newest run for 2026-06-01" in third.text
    assert "there was no run for 2026-06-02" in space.run("run", "--day", "2026-06-02", "--only", "failing").text


def test_a_table_comes_after_those_that_it_is_declared_to_come_after(space: Space) -> None:
    space.charter(TICKETS.replace('table = "tickets"', 'table = "tickets"\nafter = ["zones"]'))
    space.charter(TICKETS.replace('"tickets"', '"zones"').replace("inbox/tickets", "inbox/zones"), "zones")
    space.tickets(HEAD + "T001;6,00;01.06.2026\n")

    run = space.run("run", "--day", "2026-06-01", "--create", "--json").json

    assert [(each["table"], each["load"]["state"]) for each in run["tables"]] == [
        ("zones", "refused"), ("tickets", "held back")
    ]  # fmt: skip
    space.charter(TICKETS.replace('table = "tickets"', 'table = "tickets"\nafter = ["zone", "tickets"]'))
    told = space.run("lint").text
    assert "no charter declares the table 'zone' → did you mean 'zones'?" in told
    assert "tickets cannot come after itself" in told


def test_two_runs_never_meet(space: Space) -> None:
    space.tickets(HEAD + "T001;6,00;01.06.2026\n")
    (space.root / ".nomotheta").mkdir()
    held = "import sys, time; from pathlib import Path; import datetime; from nomotheta.workspace.alone import alone\n" \
        "with alone(Path(sys.argv[1]), datetime.UTC): print('held', flush=True); time.sleep(60)"  # fmt: skip
    with subprocess.Popen(
        [sys.executable, "-c", held, str(space.root / ".nomotheta")], stdout=subprocess.PIPE
    ) as other:
        assert other.stdout is not None
        other.stdout.readline()
        refused = space.run("run", "--day", "2026-06-01", "--create", "--json")
        other.kill()
    after = space.run("run", "--day", "2026-06-01", "--create")

    assert (refused.code, after.code) == (3, 0)
    told = json.loads(refused.out)
    assert told["what"].startswith("another run is under way, since ") and f"process {other.pid}" in told["what"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--to", "2026-06-02"), "--to needs --from"),
        (("--from", "2026-06-03", "--to", "2026-06-02"), "from 2026-06-03 to 2026-06-02 there is no day"),
        (("--day", "2026-06-01", "--from", "2026-06-01"), "--day is one day, --from and --to are several"),
    ],
)
def test_days_that_contradict_each_other_are_refused(space: Space, words: tuple[str, ...], told: str) -> None:
    for command in ("run", "arrivals"):
        ended = space.run(command, *words)
        assert (ended.code, told in ended.text) == (2, True)
