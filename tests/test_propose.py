"""Proposals: lint accepts them, and the file they were proposed from loads under them with nothing rejected."""

from __future__ import annotations

import gzip
import random
import re
import tomllib
from typing import Any

import pytest

from conftest import DAY, Space
from test_peek import TEXT, column

FILES = [
    ("a sound file", TEXT),
    ("packed", gzip.compress(TEXT.encode())),
    ("too few and too many fields", TEXT + "1;2\n1;2;3;4;5;6\n"),
    ("values of another kind", TEXT + "x;x;y;z;w\n" * 9),
    ("null-like words among numbers", column(["1", "n/a", "3"] * 9)),
    ("leading zeros", column(["007", "12"] * 9)),
    ("white space", column([" 7", "12 "] * 9)),
    ("ambiguous days", column(["01/02/2026", "03/04/2026"] * 9)),
    ("days of two forms side by side", "a,b\n13/06/2026,06/13/2026\n14/06/2026,06/14/2026\n"),
    ("two decimal signs side by side", 'a,b,c\n"1,5",1.5,"2,25"\n"2,5",2.5,"3,5"\n'),
    ("thousands signs", "a;b\n1.234,50;x\n2,5;y\n"),
    ("words for true", column(["yes", "no"] * 9)),
    ("zoned moments", column(["2026-06-01T10:00:00Z", "2026-06-01T11:30:00+02:00"] * 9)),
    ("moments with fractions", column(["2026-06-01 10:00:00.5", "2026-06-01 10:00:00.25"] * 9)),
    ("no header", "1,2026-06-01\n2,2026-06-02\n"),
    ("one column", "name\nx\ny\n"),
    ("names that are no names", '"1st, of all",b"c,select\nx,1,2\n'),
    ("names that become one", "a b,a-b,A_B\nx,1,2\ny,2,3\n"),
    ("quotes and line ends in values", 'a,b\n"x ""y"" \nz",1\n"w",2\n'),
    ("blank throughout", "a,b\n1,\n2,\n"),
    ("utf-16", "a,b\n1,é\n2,ö\n".encode("utf-16")),
    ("carriage returns", "a,b\r1,2\r3,4\r"),
    ("reals", column(["1e5", "2.5e-3"] * 9)),
]


def named(text: str) -> dict[int, str]:
    """What the comments of a proposal say of the rows that it sets aside, by their lines."""
    return {int(line.replace(",", "")): why for line, why in re.findall(r"^#   line ([\d,]+): (.*)$", text, re.M)}


def accepted(space: Space, file: str) -> tuple[str, dict[str, Any]]:
    """A proposal for a file, and its load under it: just the rows that the comments name are set aside."""
    (space.root / "charters/tickets.toml").unlink(missing_ok=True)
    proposed = space.run("propose", file, "--table", "x", "--to", "charters/")
    assert proposed.code == 0, proposed.text
    assert space.run("lint").code == 0, space.run("lint").text
    load = space.load(table="x")
    text = (space.root / "charters/x.toml").read_text()
    assert load["state"] == "loaded", (load["message"], text)
    aside = space.rejects() if load["reasons"] else []
    assert sorted({each["line"] for each in aside}) == sorted(named(text)), text
    return text, load


@pytest.mark.parametrize("data", [row[1] for row in FILES], ids=[row[0] for row in FILES])
def test_a_proposal_is_accepted_and_sets_just_those_rows_aside_that_it_names(space: Space, data: str | bytes) -> None:
    file = f"inbox/x-{DAY}.csv"
    space.write(file, data)

    text, load = accepted(space, file)

    balance, charter = load["balance"], tomllib.loads(text)
    assert balance["loaded"] + len(named(text)) == space.run("peek", file, "--json").json["rows"]
    assert balance["rejected"] == {"none": 0}.get(charter["load"]["tolerate"], charter["load"]["tolerate"])
    assert not {"short_rows", "long_rows", "extra_columns"} & charter["load"].keys()
    assert [each["what"] for file in balance["files"] for each in file["altered"]] in ([], ["nulled"], ["trimmed"])


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("Total,60.0", "(?P<amount>"),
        ("TOTAL,61.0", "(?P<rows>)^TOTAL,"),
        ("3 rows", "(?P<rows>[0-9]+) rows"),
        ("end", None),
    ],
)
def test_a_total_line_is_a_footer_and_what_it_states_is_compared(space: Space, line: str, told: str | None) -> None:
    space.write(f"inbox/x-{DAY}.csv", f"name,amount\na,10.0\nb,20.0\nc,30.0\n{line}\n")

    text, load = accepted(space, f"inbox/x-{DAY}.csv")

    delivery = tomllib.loads(text)["delivery"]
    assert (load["balance"]["loaded"], load["balance"]["files"][0]["footer"]) == (3, 1), text
    assert told is None or delivery["stated"]["pattern"].startswith((told, "Total," + told)), text
    assert ("a total of amount of 61.0, and 60.0 came" in text) == (line == "TOTAL,61.0")


def test_a_proposal_says_what_was_seen_and_what_is_a_guess(space: Space) -> None:
    space.write(f"inbox/sold-{DAY.replace('-', '')}.csv", TEXT)

    text = space.run("propose", f"inbox/sold-{DAY.replace('-', '')}.csv").out

    charter = tomllib.loads(text)
    assert charter["table"] == "sold"
    assert charter["delivery"]["files"] == "inbox/sold-{day:%Y%m%d}.csv"
    assert charter["keys"] == [{"columns": ["id"]}]
    assert charter["columns"]["fare"]["kind"] == "decimal(6,2)"
    for told in (
        "a guess: 20260601 is the day",
        "300 rows read",
        "a guess: no value is there twice",
        "from 0.5 to 39.5",
    ):
        assert told in text


def test_a_table_is_proposed_as_it_is_and_can_be_judged(space: Space) -> None:
    space.sql("create table sold (id bigint, code varchar, price decimal(6,2), tags integer[])")
    space.sql("insert into sold values (1, 'a', 2, [1]), (2, null, 3, null)")

    proposed = space.run("propose", "--from-table", "sold", "--to", "charters/sold.toml")

    charter = tomllib.loads((space.root / "charters/sold.toml").read_text())
    assert proposed.code == 0
    assert charter["columns"]["id"] == {"kind": "integer", "blank": "never"}
    assert charter["columns"]["code"] == {"kind": "text"}
    assert charter["columns"]["tags"] == {"from": "@place"}
    assert space.judge("sold")["verdict"] == "pass"


def test_a_charter_that_is_there_is_never_overwritten(space: Space) -> None:
    space.tickets(TEXT)
    before = (space.root / "charters/tickets.toml").read_bytes()

    ended = space.run("propose", f"inbox/tickets-{DAY}.csv", "--to", "charters/tickets.toml")

    assert ended.code == 2
    assert "is there already" in ended.text
    assert (space.root / "charters/tickets.toml").read_bytes() == before


@pytest.mark.parametrize("words", [(), ("inbox/x.csv", "--from-table", "t")])
def test_a_proposal_is_of_a_file_or_of_a_table(space: Space, words: tuple[str, ...]) -> None:
    assert space.run("propose", *words).code == 2


@pytest.mark.parametrize("seed", range(12))
def test_random_files_load_under_their_own_proposal(space: Space, seed: int) -> None:
    (space.root / "charters/tickets.toml").unlink()
    chance = random.Random(seed)
    makers = [
        lambda: str(chance.randint(-999, 9999)), lambda: f"{chance.uniform(-9, 9999):.{chance.randint(0, 3)}f}",
        lambda: f"2026-{chance.randint(1, 12):02d}-{chance.randint(1, 28):02d}", lambda: chance.choice(["", "n/a", "x", "é;", "-"]),
        lambda: chance.choice(["true", "false"]), lambda: f"{chance.randint(0, 23):02d}:{chance.randint(0, 59):02d}",
    ]  # fmt: skip
    columns = [chance.sample(makers, chance.choice((1, 1, 1, 2))) for _ in range(chance.randint(2, 6))]
    rows = [[chance.choice(each)() for each in columns] for _ in range(chance.randint(3, 400))]
    names = [f"name {chr(97 + at)}" for at in range(len(columns))]
    text = "\n".join(",".join(f'"{cell}"' for cell in row) for row in [names, *rows]) + "\n"
    space.write(f"inbox/x-{DAY}.csv", text)

    text, load = accepted(space, f"inbox/x-{DAY}.csv")

    assert load["balance"]["loaded"] + len(named(text)) == len(rows)
