"""The demo finds the faults that were planted in it: each one, and nothing else."""

from __future__ import annotations

import csv
import email
import email.policy
import json
from typing import Any

import pytest

from conftest import Space
from nomotheta.demo import NIGHTS, PLANTED
from nomotheta.ledger import Ledger
from nomotheta.report.documents import to_json

NUMBERS = {night: number for number, night in enumerate(NIGHTS, 1)}


def tables(demo: Space) -> dict[tuple[str, str], dict[str, Any]]:
    """Every table of every night, from the ledger's own documents."""
    ledger = Ledger(demo.root / ".nomotheta/ledger.sqlite")
    runs = [json.loads(to_json(ledger.run(number))) for number in NUMBERS.values()]
    ledger.close()
    return {(run["day"], table["table"]): table for run in runs for table in run["tables"]}


def test_each_planted_fault_is_found_and_nothing_else(demo: Space) -> None:
    found: list[tuple[str, str, str, str, Any]] = []
    for (day, name), table in tables(demo).items():
        load = table["load"]
        if load["state"] not in {"loaded", "unchanged"}:
            found.append((day, name, load["state"], load["message"], 1))
        found += [(day, name, "finding", f["rule"], f["breaks"]) for f in load["findings"] if f["verdict"] != "pass"]
        if load["reasons"]:
            number = str(load["load_no"])
            demo.run("rejects", number, "--csv", "all.csv")
            with (demo.root / "all.csv").open(newline="") as file:
                came = {int(row["reject record"]): row["reject original"] for row in csv.DictReader(file)}
            shown = demo.run("rejects", number, "--all", "--json").json["shown"]
            found += [(day, name, "reject", each["reason"], came[each["record"]][:9]) for each in shown]

    for planted in PLANTED:
        match = next(
            each for each in found
            if each[:3] == (planted.night.isoformat(), planted.table, planted.how)
            and each[3].startswith(planted.name)
            and each[4] == (planted.mark or planted.breaks)
        )  # fmt: skip
        found.remove(match)
    assert found == []


def test_the_first_night_passes_and_the_others_do_not(demo: Space) -> None:
    verdicts = [
        {table["verdict"] for (day, _), table in tables(demo).items() if day == night.isoformat()} for night in NIGHTS
    ]

    assert verdicts[0] == {"pass"}
    assert all("fail" in each for each in verdicts[1:])


def test_a_missing_file_leaves_its_table_what_it_had(demo: Space) -> None:
    third = tables(demo)[(NIGHTS[2].isoformat(), "sailings")]

    assert (third["load"]["state"], third["load"]["table_rows"]) == ("refused", 120)
    assert demo.sql("select count(*) from sailings") == [(120,)]


def test_the_readme_lists_every_fault(demo: Space) -> None:
    text = (demo.root / "README.md").read_text()

    assert all(planted.told in text for planted in PLANTED)


def test_the_same_files_are_written_every_time(demo: Space, space: Space) -> None:
    space.run("demo", "again")

    for path in sorted((demo.root / "inbox").iterdir()):
        assert (space.root / "again/inbox" / path.name).read_bytes() == path.read_bytes()


def test_failing_nights_left_a_mail_each(demo: Space) -> None:
    mails = sorted((demo.root / "mails").glob("*.eml"))

    subjects = [
        email.message_from_bytes(mail.read_bytes(), policy=email.policy.default)["Subject"].strip() for mail in mails
    ]
    assert subjects == [
        "[Skerry Line nightly] 2026-06-02: 1 of 3 tables failed: sailings",
        "[Skerry Line nightly] 2026-06-03: 2 of 3 tables failed: sailings, tickets",
    ]


def test_a_folder_that_holds_something_is_left_alone(space: Space) -> None:
    ended = space.run("demo", ".")

    assert ended.code == 2
    assert "the folder is not empty" in ended.text


@pytest.mark.parametrize("secret", ["Eyðna", "Gunnvør", "Sandvág"])
def test_no_passenger_is_named_in_pages_mails_or_the_ledger(demo: Space, secret: str) -> None:
    for path in [
        *(demo.root / "reports").rglob("*.*"),
        *(demo.root / "mails").iterdir(),
        demo.root / ".nomotheta/ledger.sqlite",
    ]:
        assert secret.encode() not in path.read_bytes(), path
