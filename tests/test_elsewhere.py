"""Files that lie elsewhere: what comes of them is what would come of the same files in the workspace."""

from __future__ import annotations

import contextlib
import os
import random
import re
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import SETTINGS, TICKETS, Space
from stores import Bucket, Folder, object_store, sftp_server, web_server

Store = Bucket | Folder
SORTS = ["s3", "sftp", "http"]
HEAD = b"ticket_no;fare;sold_on\n"
DAYS = [f"2026-06-0{at}" for at in range(1, 6)]


@pytest.fixture(params=SORTS)
def store(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Store]:
    with opened(request.param, tmp_path_factory.mktemp("store")) as found:
        yield found


@contextlib.contextmanager
def opened(sort: str, root: Path) -> Iterator[Store]:
    with {"s3": object_store, "sftp": lambda: sftp_server(root), "http": lambda: web_server(root)}[sort]() as found:
        yield found  # type: ignore[misc]


@pytest.fixture(autouse=True)
def secret(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("STORE_SECRET", "s3cret-key")


def declare(space: Space, store: Store, charter: str = TICKETS, settings: str = "") -> None:
    space.write(
        "nomotheta.toml", SETTINGS + settings + f'[stores.far]\nurl = "{store.url}"\noptions = {store.options}\n'
    )
    space.charter(charter.replace("inbox/", f"{store.url}/"))


def row(number: int) -> bytes:
    return b"T%03d;1,00;01.06.2026\n" % number


def alike(told: Any) -> Any:
    if isinstance(told, dict):
        return {
            name: alike(each)
            for name, each in told.items()
            if not re.search("seconds|started|charter|command|mend|written", name)
        }
    if isinstance(told, list):
        return [alike(each) for each in told]
    return re.sub(r"elsewhere/\w+/[^/]+(/in)?/|\w+://[^/]+(/in)?/", "inbox/", told) if isinstance(told, str) else told


def test_nights_from_elsewhere_are_as_those_from_the_inbox(space: Space, store: Store, tmp_path: Path) -> None:
    for seed in range(2):
        made, near, far = random.Random(seed), Space(tmp_path / f"near-{seed}"), Space(tmp_path / f"far-{seed}")
        for each in (near, far):
            each.write("nomotheta.toml", SETTINGS)
            each.charter(TICKETS)
            (each.root / "inbox").mkdir()
        declare(far, store)
        for name in store.names() if isinstance(store, Folder) else ():
            (store.root / name).unlink()
        sent: dict[str, bytes] = {}
        for _ in range(12):
            step, day = made.choice(["send", "send", "change", "run", "load", "arrivals", "undo"]), made.choice(DAYS)
            if step in {"send", "change"}:
                rows = b"".join(row(made.randrange(60)) for _ in range(3)) + made.choice([b"", b"X;;\n", b"\xff\n"])
                if step == "change" or day not in sent:
                    sent[day] = HEAD + rows
                    store.put(f"tickets-{day}.csv", sent[day])
                    near.tickets(sent[day], day)
                continue
            words = {"run": ["run", "--day", day, "--create"], "load": ["load", "tickets", "--day", day, "--create"],
                     "arrivals": ["arrivals", "--day", day], "undo": ["undo", str(made.randrange(1, 4))]}[step]  # fmt: skip
            one, other = (each.run(*words, "--json") for each in (near, far))
            assert one.code == other.code, (words, one.text, other.text)
            if step != "arrivals":
                assert alike(one.json) == alike(other.json), words
            else:
                states = [[(each["day"], each["state"]) for each in found.json["arrivals"]] for found in (one, other)]
                assert states[0] == states[1]
        if isinstance(store, Bucket):
            for name in store.names():
                store.client.delete_object(Bucket=store.name, Key=f"in/{name}")


def test_what_was_loaded_is_put_away_here_and_removed_there(space: Space, store: Store) -> None:
    declare(space, store, settings='[archive]\nfolder = "away/{day}"\n')
    store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1))
    assert space.run("run", "--day", DAYS[0], "--create").code == 0
    if "http" in store.url:  # nobody takes files away there
        assert store.names() == [f"tickets-{DAYS[0]}.csv"]
        return
    assert store.names() == []
    assert (space.root / f"away/{DAYS[0]}/tickets-{DAYS[0]}.csv").read_bytes() == HEAD + row(1)
    assert space.run("reconcile").code == 0
    assert space.run("run", "--day", DAYS[0]).code == 0
    assert space.run("arrivals", "--day", DAYS[0], "--json").json["arrivals"][0]["state"] == "loaded"
    store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(2))  # a correction, which the charter refuses, stays
    assert space.run("run", "--day", DAYS[0]).code == 1
    assert store.names() == [f"tickets-{DAYS[0]}.csv"]


def test_a_file_that_changes_while_it_is_loaded_is_not_removed(
    space: Space, store: Store, monkeypatch: pytest.MonkeyPatch
) -> None:  # fmt: skip
    from nomotheta.workspace import walking

    if "http" in store.url:
        pytest.skip("nothing is removed there")
    declare(space, store, settings='[archive]\nfolder = "away/{day}"\n')
    store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1))
    real = walking.load_delivery

    def loads(*given: Any) -> Any:
        found = real(*given)
        store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1) + row(2))
        return found

    monkeypatch.setattr(walking, "load_delivery", loads)
    ended = space.run("run", "--day", DAYS[0], "--create")
    assert "has changed since it was loaded, and was left where it is" in ended.text
    assert store.names() == [f"tickets-{DAYS[0]}.csv"]
    assert space.sql("select count(*) from tickets") == [(1,)]


def test_what_lies_beside_a_file_and_how_long_it_has_been_quiet_is_asked_there(space: Space, store: Store) -> None:
    import hashlib

    charter = TICKETS.replace(
        'layout = "office"', 'layout = "office"\nchecksums = "{file}.sha256"\nready = "{file}.done"'
    )
    declare(space, store, charter.replace(".csv*", ".csv"))
    name, content = f"tickets-{DAYS[0]}.csv", HEAD + row(1)
    store.put(name, content)
    assert "its marker" in space.run("load", "tickets", "--day", DAYS[0], "--create").text
    store.put(f"{name}.done", b"")
    assert "sha256" in space.run("load", "tickets", "--day", DAYS[0], "--create").text
    store.put(f"{name}.sha256", f"{hashlib.sha256(b'another').hexdigest()}  {name}\n".encode())
    assert "checksum" in space.run("load", "tickets", "--day", DAYS[0], "--create").text
    store.put(f"{name}.sha256", f"{hashlib.sha256(content).hexdigest()}  {name}\n".encode())
    assert space.load()["state"] == "loaded"
    steady = TICKETS.replace('layout = "office"', 'layout = "office"\nsteady = "1 h"')
    declare(space, store, steady)
    store.put(f"tickets-{DAYS[1]}.csv", HEAD + row(2))
    ended = space.run("load", "tickets", "--day", DAYS[1])
    assert (ended.code, "it is complete when it has not changed for 1 hour" in ended.text) == (1, True), ended.text


def test_what_is_missing_or_misnamed_there_is_named_by_its_url(space: Space, store: Store) -> None:
    declare(space, store, TICKETS.replace(".csv*", ".csv"))
    store.put(f"tickets-{DAYS[1]}.csv", HEAD + row(1))
    store.put(f"tickets-{DAYS[0]}.csv.part", HEAD)
    store.put("read me.txt", b"hello")
    ended = space.run("load", "tickets", "--day", DAYS[0], "--create")
    assert f"{store.url}/tickets-{DAYS[0]}.csv: no such file has arrived" in ended.text
    told = space.run("arrivals", "--day", DAYS[0], "--json").json
    states = {each["day"]: each["state"] for each in told["arrivals"]}
    assert states[DAYS[0]] == "missing"
    strays = {each["file"].rpartition("/")[2] for each in told["strays"]}
    assert {f"tickets-{DAYS[0]}.csv.part"} <= strays
    assert not (space.root / f"elsewhere/{store.url.replace('://', '/')}/read me.txt").exists()


def test_what_only_lies_among_the_copies_is_not_taken_for_what_came(space: Space, store: Store) -> None:
    declare(space, store)
    name = f"tickets-{DAYS[0]}.csv"
    store.put(name, HEAD + row(1))
    assert space.run("arrivals", "--day", DAYS[0]).code == 0
    (copy,) = (space.root / "elsewhere").rglob("*.csv")
    copy.with_name(f"tickets-{DAYS[1]}.csv").write_bytes(HEAD + row(2))
    for words in (["load", "tickets"], ["run", "--create"]):
        ended = space.run(*words, "--day", DAYS[1])
        assert (ended.code, "the store does not have it" in ended.text) == (3, True), ended.text
    if isinstance(store, Folder):  # what the sender has taken back has not arrived
        (store.root / name).unlink()
    else:
        store.client.delete_object(Bucket=store.name, Key=f"in/{name}")
    ended = space.run("load", "tickets", "--day", DAYS[0], "--create")
    assert (ended.code, "no such file has arrived" in ended.text) == (1, True), ended.text


def test_a_corrected_digit_is_seen_though_size_and_time_are_as_they_were(space: Space, store: Store) -> None:
    declare(space, store)
    name = f"tickets-{DAYS[0]}.csv"
    for content in (HEAD + row(1), HEAD + row(2)):
        store.put(name, content)
        if isinstance(store, Folder):
            os.utime(store.root / name, (1_780_000_000, 1_780_000_000))
        ended = space.run("run", "--day", DAYS[0], "--create", "--json")
    assert ended.code == 1
    assert ended.json["tables"][0]["load"]["state"] == "refused"  # another content for the same day


def test_a_copy_that_somebody_has_changed_is_fetched_again(space: Space, store: Store) -> None:
    declare(space, store)
    store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1))
    assert space.run("arrivals", "--day", DAYS[0]).code == 0
    # what a program that was killed had fetched so far
    (next((space.root / "elsewhere").rglob("*.csv")).parent / f".tickets-{DAYS[0]}.csv.999999999.1.part").write_bytes(
        b"x"
    )
    (copy,) = (space.root / "elsewhere").rglob("*.csv")
    seen = copy.stat()
    copy.write_bytes(HEAD + row(9))
    os.utime(copy, ns=(seen.st_mtime_ns + 5, seen.st_mtime_ns + 5))
    assert space.load()["balance"]["loaded"] == 1
    assert space.sql("select ticket_no from tickets") == [("T001",)]
    assert not list((space.root / "elsewhere").rglob(".*"))


def test_a_server_that_tells_no_times_is_asked_again_until_a_file_is_as_it_was(space: Space, tmp_path: Path) -> None:
    (tmp_path / "there").mkdir()
    with web_server(tmp_path / "there", silent=True) as store:
        declare(space, store, TICKETS.replace('layout = "office"', 'layout = "office"\nsteady = "2 s"'))
        store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1))
        for content in (HEAD + row(1), HEAD + row(1) + row(2)):
            store.put(f"tickets-{DAYS[0]}.csv", content)
            ended = space.run("load", "tickets", "--day", DAYS[0], "--create")
            assert (ended.code, "it was written to just now" in ended.text) == (1, True), ended.text
        time.sleep(2.1)
        assert space.load()["balance"]["loaded"] == 2


WRONG = [
    ("s3://line:s3cret@host/a.csv", "contains a password"), ("gopher://host/a.csv", "'gopher://' is not known"),
    ("s3://host", "write s3://HOST/FOLDER/file-{day}.csv"), ("https://host/../a.csv", "write https://HOST"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "told"), WRONG)
def test_urls_that_cannot_be_right_are_refused_when_the_charter_is_read(space: Space, files: str, told: str) -> None:
    space.charter(TICKETS.replace("inbox/tickets-{day}.csv*", files))
    ended = space.run("lint")
    assert (ended.code, told in ended.text) == (2, True), ended.text


def test_a_store_that_does_not_answer_is_an_error_and_its_secret_is_not_told(space: Space, store: Store) -> None:
    declare(space, store)
    store.put(f"tickets-{DAYS[0]}.csv", HEAD + row(1))
    settings = (space.root / "nomotheta.toml").read_text()
    where = re.search(r"127\.0\.0\.1:\d+", store.url + store.options)
    assert where is not None
    (space.root / "nomotheta.toml").write_text(settings.replace(where[0], "127.0.0.1:9"))
    space.charter((space.root / "charters/tickets.toml").read_text().replace(where[0], "127.0.0.1:9"))
    for words, code in ((["load", "tickets"], 3), (["run", "--create"], 3), (["arrivals"], 1)):
        ended = space.run(*words, "--day", DAYS[0])
        assert ended.code == code, ended.text
        assert "it cannot be reached" in ended.text
        assert "s3cret-key" not in ended.text
        assert "Traceback" not in ended.text


def test_a_host_whose_key_is_another_is_not_spoken_to(space: Space, tmp_path: Path) -> None:
    (tmp_path / "there").mkdir()
    with sftp_server(tmp_path / "there") as store:
        store.options = re.sub(r"SHA256:\S+\"", 'SHA256:another"', store.options)
        declare(space, store)
        ended = space.run("load", "tickets", "--day", DAYS[0])
        assert (ended.code, "the key of" in ended.text, "is not known: SHA256:" in ended.text) == (3, True, True)
