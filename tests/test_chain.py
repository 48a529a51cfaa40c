"""The ledger's chain: whatever was altered afterwards is found and named."""

from __future__ import annotations

import contextlib
import hashlib
import random
import sqlite3
import zipfile

import pytest

from conftest import Space
from test_docket import HEAD, RULED

COLUMNS = {
    "entries": ("state", "verdict", "summary", "document", "table_name", "started", "day"),
    "runs": ("verdict", "document", "day"), "docket_events": ("told", "what", "nights"),
    "chain": ("digest", "hash", "key", "kind"),
}  # fmt: skip


@pytest.fixture
def kept(space: Space) -> Space:
    """A workspace with runs, a load that was undone, a judgement and a docket."""
    space.charter(RULED)
    for day, fare in enumerate((1, 60, 1), 1):
        space.tickets(f"{HEAD}T{day}01;{fare};01.06.2026\n", f"2026-06-{day:02}")
        space.run("run", "--day", f"2026-06-{day:02}", "--create")
    space.run("judge", "tickets")
    space.run("undo", "3")
    return space


def ledger(space: Space) -> sqlite3.Connection:
    return sqlite3.connect(space.root / ".nomotheta/ledger.sqlite")


def test_what_is_as_it_was_written_is_said_to_be_so(kept: Space) -> None:
    found = kept.run("ledger", "--verify", "--json")

    assert (found.code, found.json["altered"]) == (0, [])
    assert found.json["records"] > 8
    assert found.json["head"] in kept.run("ledger", "--verify").text
    kept.run("run", "--day", "2026-06-03")
    assert kept.run("ledger", "--verify").code == 0


def test_a_bit_that_is_flipped_anywhere_is_found_and_its_entry_named(kept: Space) -> None:
    chance = random.Random(17)
    for _ in range(120):
        table = chance.choice(list(COLUMNS))
        column = chance.choice(COLUMNS[table])
        with contextlib.closing(ledger(kept)) as connection:
            rows = connection.execute(f"SELECT rowid, {column} FROM {table} WHERE {column} IS NOT NULL").fetchall()
            rowid, value = chance.choice(rows)
            bits = bytearray(str(value).encode())
            at = chance.randrange(len(bits))
            bits[at] ^= 1 << chance.randrange(3)  # which leaves digits and letters what can be read
            connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (bits.decode("latin-1"), rowid))
            connection.commit()

            found = kept.run("ledger", "--verify", "--json")

            named = " ".join(f"{each['what']} {each['told']}" for each in found.json["altered"])
            assert found.code == 1, (table, column, value, bits)
            kind = {"entries": "ledger entry", "runs": "run", "docket_events": "docket event", "chain": "record"}[table]
            assert f"{kind} {rowid} " in named, (named, table, column)
            connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (value, rowid))
            connection.commit()
    assert kept.run("ledger", "--verify").code == 0


@pytest.mark.parametrize(
    ("sql", "told"),
    [
        ("DELETE FROM entries WHERE entry_id = 2", "ledger entry 2 was removed"),
        ("DELETE FROM chain WHERE seq = 3", "record 3 is missing from the chain"),
        ("DELETE FROM runs WHERE run_id = 1", "run 1 was removed"),
        (
            "INSERT INTO entries (what, table_name, place, started, state, verdict, summary) "
            "VALUES ('load', 'tickets', 'w', '2026-01-01T00:00:00+00:00', 'loaded', 'pass', '')",
            "was added by other means: load of tickets",
        ),
    ],
)
def test_what_was_taken_out_or_put_in_is_named(kept: Space, sql: str, told: str) -> None:
    kept.sql_ledger(sql)

    ended = kept.run("ledger", "--verify")

    assert ended.code == 1
    assert told in ended.text


def test_a_ledger_of_an_earlier_version_is_brought_up_to_date_with_all_that_it_knows(kept: Space) -> None:
    old = (
        "DROP TABLE shares", "ALTER TABLE runs DROP COLUMN holder", "ALTER TABLE runs DROP COLUMN asked",
        "DROP TABLE prunings", "DROP TABLE chain", "DROP TABLE nights", "DROP TABLE docket", "DROP TABLE docket_nights",
        "DROP TABLE docket_events", "ALTER TABLE outbox DROP COLUMN document", "ALTER TABLE outbox DROP COLUMN not_before",
        "ALTER TABLE outbox DROP COLUMN files",
        "UPDATE entries SET document = replace(replace(replace(document, 'nomotheta/reconciliation/2', "
        "'nomotheta/reconciliation/1'), 'source_', 'files_'), 'target_', 'table_') WHERE what = 'reconcile'",
        "PRAGMA user_version = 3",
    )  # fmt: skip
    for sql in old:
        kept.sql_ledger(sql)

    assert kept.run("ledger", "--verify").code == 0
    assert "equal" in kept.run("ledger").text
    kept.run("run", "--day", "2026-06-02")
    assert kept.run("report").code == 0
    assert "run-1-2026-06-01.html" in (kept.root / "reports/tables/tickets.html").read_text()


PRIVATE = RULED.replace("[columns.fare]", "[columns.fare]\nprivate = true")


def test_evidence_is_a_bag_whose_checksums_hold_and_that_tells_nothing_private(space: Space) -> None:
    space.charter(PRIVATE.replace("[load]", '[load]\nafter_fail = "keep"'))
    space.tickets(f"{HEAD}T001;61,23;01.06.2026\nT002;77,secret;01.06.2026\n", "2026-06-01")
    space.run("run", "--day", "2026-06-01", "--create")
    space.run("docket", "excuse", "1", "--until", "2099-01-01", "--reason", "known")

    ended = space.run("evidence", "--from", "2026-06-01", "--to-file", "out/june.zip", "--json")

    assert ended.code == 0
    with zipfile.ZipFile(space.root / "out/june.zip") as packed:
        files = {name.removeprefix("june/"): packed.read(name) for name in packed.namelist()}
    assert files["bagit.txt"].startswith(b"BagIt-Version: 1.0\n")
    for manifest, among in (("manifest-sha256.txt", "data/"), ("tagmanifest-sha256.txt", "")):
        listed = dict(reversed(line.split("  ")) for line in files[manifest].decode().splitlines())
        for name, digest in listed.items():
            assert hashlib.sha256(files[name]).hexdigest() == digest, name
        assert not among or set(listed) == {name for name in files if name.startswith(among)}
    sorts = {name.rpartition("-")[2] for name in files if name.startswith("data/entries")}
    assert sorts == {"load.json", "reconcile.json"}
    assert b"known" in files["data/docket.json"]
    assert f"Ledger-Head: {ended.json['head']}".encode() in files["bag-info.txt"]
    assert any(name.startswith("data/charters/tickets-") for name in files)
    assert not [name for name, content in files.items() if b"77,secret" in content]
    assert "knows nothing" in space.run("evidence", "--from", "2020-01-01").text


def test_rejects_of_a_table_whose_charter_is_gone_stay_private(space: Space) -> None:
    space.charter(PRIVATE)
    space.tickets(f"{HEAD}T001;1,23;01.06.2026\nT002;77,secret;01.06.2026\n")
    space.load()
    (space.root / "charters/tickets.toml").unlink()

    shown = space.run("rejects").text

    assert "secret" not in shown
    assert "fare" in shown
