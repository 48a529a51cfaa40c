"""Loads: all or nothing, with a balance that adds up and rejects that can be acted on."""

from __future__ import annotations

import contextlib
import csv
import datetime
import gzip
import itertools
import os
import stat
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import DAY, TICKETS, Space
from nomotheta import open_workspace, unpack
from nomotheta.keys import Keys, SeenKeys, take_in
from nomotheta.keys import seen as keys
from nomotheta.load.engine import Engine

HEAD = "ticket_no;fare;sold_on\n"
SOUND = HEAD + "T001;1,50;01.06.2026\nT002;;02.06.2026\n"


def test_a_sound_file_goes_in_and_its_balance_adds_up(space: Space) -> None:
    space.tickets(SOUND)

    load = space.load()

    assert (load["exit"], load["state"], load["verdict"]) == (0, "loaded", "pass")
    balance = load["balance"]
    assert [balance[key] for key in ("records", "loaded", "rejected", "copies", "conflicts", "before", "after")] == [
        2, 2, 0, 0, 0, 0, 2,
    ]  # fmt: skip
    (file,) = balance["files"]
    assert [file[key] for key in ("lines", "header", "empty", "record_lines")] == [3, 1, 0, 2]
    assert space.sql("select ticket_no, fare::varchar, sold_on::varchar, load_no from tickets order by 1") == [
        ("T001", "1.50", "2026-06-01", 1), ("T002", None, "2026-06-02", 1),
    ]  # fmt: skip


FAULTY = [
    ("T009;1,00", "too_few_fields", "", None),
    ("T009;1,00;01.06.2026;x", "too_many_fields", "", None),
    ("T009;1.00;01.06.2026", "kind", "fare", "1.00"),
    ("T009;0x1A;01.06.2026", "kind", "fare", "0x1A"),
    ("T009;1,00;29.02.2025", "kind", "sold_on", "29.02.2025"),
    ("T009;12345,00;01.06.2026", "range", "fare", "12345,00"),
    ("T0099;1,00;01.06.2026", "text_length", "ticket_no", "T0099"),
    ("    ;1,00;01.06.2026", "blank", "ticket_no", "    "),
    (";1,00;01.06.2026", "blank", "ticket_no", None),
    ("X009;1,00;01.06.2026", "pattern", "ticket_no", "X009"),
    ('"T009"x;1,00;01.06.2026', "stray_quote", "", None),
    ("T001;9,00;09.06.2026", "conflict", "ticket_no", "T001"),
    ("T001;1,50;01.06.2026", "copy", "ticket_no", "T001"),
]


@pytest.mark.parametrize(("row", "reason", "column", "value"), FAULTY, ids=[f"{each[1]} {each[0]}" for each in FAULTY])
def test_a_row_that_does_not_fit_is_set_aside_with_all_that_is_needed_to_find_it(
    space: Space, row: str, reason: str, column: str, value: str | None
) -> None:
    space.tickets(SOUND + row + "\nT003;3,00;03.06.2026\n")

    load = space.load()

    assert load["balance"]["loaded"] == 3
    assert load["balance"][{"conflict": "conflicts", "copy": "copies"}.get(reason, "rejected")] == 1
    reject = next(each for each in space.rejects() if each["reason"] == reason)
    assert (reject["file"], reject["line"], reject["record"]) == (f"inbox/tickets-{DAY}.csv", 4, 3)
    assert (reject["column"], reject["value"], reject["original"]) == (column, value, row)
    assert space.sql("select count(*) from tickets") == [(3,)]


def test_a_row_with_several_faults_counts_once_and_tells_them_all(space: Space) -> None:
    space.tickets(SOUND + "X9;abc;99.99.2026\n")

    load = space.load()

    assert load["balance"]["rejected"] == 1
    assert load["reasons"] == {"kind": 2, "pattern": 1}


def test_all_rejects_can_be_written_as_csv_that_no_spreadsheet_runs(space: Space) -> None:
    space.tickets(SOUND + "=SUM(A1);1,00;01.06.2026\n-5;x;01.06.2026\n")
    space.load()

    ended = space.run("rejects", "--csv", "fixed.csv")

    rows = list(csv.DictReader((space.root / "fixed.csv").open(newline="")))
    assert ended.code == 0
    assert "2 open rows written" in ended.err
    assert [row["ticket_no"] for row in rows] == ["'=SUM(A1)", "-5"]
    assert rows[0]["reject original"].startswith("'=SUM")
    assert [row["reject line"] for row in rows] == ["4", "5"]


@pytest.mark.parametrize(
    ("tolerate", "state"),
    [('"none"', "undone"), ("1", "undone"), ("2", "loaded"), ('"39%"', "undone"), ('"40%"', "loaded"), ('"all"', "loaded")],
)  # fmt: skip
def test_more_rejects_than_tolerated_undo_the_whole_load(space: Space, tolerate: str, state: str) -> None:
    space.charter(TICKETS.replace('tolerate = "all"', f"tolerate = {tolerate}"))
    space.tickets(SOUND + "T003;1,00;01.06.2026\nT004;x;01.06.2026\nT005;y;01.06.2026\n")

    load = space.load()

    assert (load["state"], load["exit"]) == (state, 0 if state == "loaded" else 1)
    assert space.sql("select count(*) from tickets") == [(3 if state == "loaded" else 0,)]
    assert len(space.rejects()) == 2


def test_a_key_that_is_judged_at_loading_is_judged_over_the_table_and_a_rule_over_the_load(space: Space) -> None:
    space.charter(TICKETS.replace('[[keys]]\ncolumns = ["ticket_no"]', '[[keys]]\notherwise = "warn"\ncolumns = ["ticket_no"]')
                  + '[[rules]]\nname = "dear"\nwhole = "max(fare) < 10"\n')  # fmt: skip
    space.tickets("ticket_no;fare;sold_on\nT001;1,50;01.06.2026\n")

    found = {each["rule"]: each["over"] for each in space.load()["findings"]}

    assert (found["key (ticket_no) never repeats"], found["dear"]) == ("table", "load 1")


def test_a_failing_rule_undoes_the_load_or_keeps_it_where_declared(space: Space) -> None:
    rule = '[[rules]]\nname = "dear"\neach = "fare >= 1"\n'
    space.charter(TICKETS + rule)
    space.tickets(SOUND + "T003;0,50;03.06.2026\n")

    undone = space.load()
    rows = space.sql("select count(*) from tickets")
    space.charter(TICKETS.replace("[load]", '[load]\nafter_fail = "keep"') + rule)
    kept = space.load()

    assert (undone["state"], undone["exit"], rows) == ("undone", 1, [(0,)])
    assert "'dear'" in undone["message"]
    assert (kept["state"], kept["verdict"], kept["exit"]) == ("loaded", "fail", 1)
    assert space.sql("select count(*) from tickets") == [(3,)]


def test_columns_come_by_their_header_in_any_order_or_from_the_load_itself(space: Space) -> None:
    more = '[columns.note]\nkind = "text"\nfrom = "Note to all"\n' + "".join(
        f'[columns.{name}]\nfrom = "@{word}"\n'
        for name, word in (
            ("line", "file.line"),
            ("file", "file.name"),
            ("day", "delivery.day"),
            ("loaded_at", "load.time"),
        )
    )
    space.charter(TICKETS + more + '[columns.currency]\nvalue = "EUR"\n')
    space.tickets('sold_on;Note to all;ticket_no;fare\n\n;"two\nlines";T001;1,00\n;;T002;\n')

    assert space.load()["balance"]["loaded"] == 2
    columns = "ticket_no, note, line, file, day::varchar, loaded_at is not null, currency"
    assert space.sql(f"select {columns} from tickets order by 1") == [
        ("T001", "two\nlines", 3, f"inbox/tickets-{DAY}.csv", DAY, True, "EUR"),
        ("T002", None, 5, f"inbox/tickets-{DAY}.csv", DAY, True, "EUR"),
    ]


@pytest.mark.parametrize("same", ["plain", "gzip"])
def test_content_that_was_loaded_before_is_refused_under_any_name(space: Space, same: str) -> None:
    space.tickets(SOUND)
    space.load()
    data = SOUND.encode()
    space.tickets(data if same == "plain" else gzip.compress(data), "2026-06-02")

    again = space.load(day="2026-06-02")

    assert (again["state"], again["exit"], again["table_rows"]) == ("refused", 1, 2)
    assert "loaded before, as load 1 for 2026-06-01" in again["message"]
    assert space.sql("select count(*) from tickets") == [(2,)]


def cut(data: bytes) -> bytes:
    return gzip.compress(data * 500)[:-40]


BAD = [
    (None, "no such file has arrived", 1),
    (b"", "the file is empty: 0 bytes", 1),
    (b"\n\n", "only empty lines", 1),
    (HEAD.encode(), "the delivery holds no rows", 1),
    (cut(SOUND.encode()), "the gzip data ends in the middle", 1),
    (b"\x1f\x8b\x08\x00junkjunkjunkjunk", "the gzip data is damaged", 1),
    (SOUND.encode() + b"T\xff03;1,00;01.06.2026\n", "the byte FF is not utf-8", 1),
    (b"ticket_no;fares;sold_on\n1;2;3\n", "'fares' looks like 'fare'", 1),
    (b"ticket_no;sold_on\n1;2\n", "missing: 'fare'", 1),
    (b"ticket_no;fare;sold_on;extra\n1;2;3;4\n", "not in the charter: 'extra'", 1),
    (b"ticket_no;fare;fare;sold_on\n1;2;3;4\n", "named twice: 'fare'", 1),
    (b"ticket_no,fare,sold_on\n1,2,3\n", "another delimiter", 1),
    (b'"ticket_no;fare;sold_on\n1;2;3\n', "the header cannot be read: a quote is opened and not closed", 1),
]


@pytest.mark.parametrize(("data", "what", "code"), BAD, ids=[each[1] for each in BAD])
def test_a_bad_delivery_is_refused_in_one_clear_message_and_the_table_is_as_it_was(
    space: Space, data: bytes | None, what: str, code: int
) -> None:
    space.tickets(SOUND)
    space.load()
    if data is not None:
        space.tickets(data, "2026-06-02")

    ended = space.run("load", "tickets", "--day", "2026-06-02")

    assert ended.code == code
    assert what in ended.text
    assert "inbox/tickets-2026-06-02.csv" in ended.text
    assert "Traceback" not in ended.text
    assert space.sql("select count(*) from tickets") == [(2,)]


def test_an_encoding_error_names_its_line_and_the_encoding_it_may_be(space: Space) -> None:
    space.tickets(SOUND.encode() + "T003;1,00;01.06.2026\nTå;;\n".encode("cp1252"))

    ended = space.run("load", "tickets", "--day", DAY, "--create")

    assert f"inbox/tickets-{DAY}.csv:5: the byte E5 is not utf-8" in ended.text
    assert 'encoding = "cp1252"' in ended.text


def test_a_table_that_is_not_there_or_does_not_fit_is_told_before_a_row_is_sent(space: Space) -> None:
    space.tickets(SOUND)
    missing = space.run("load", "tickets", "--day", DAY)
    space.sql("create table tickets (ticket_no varchar, fare double, load_no bigint, agent varchar not null)")

    unfit = space.run("load", "tickets", "--day", DAY)

    assert missing.code == 3
    assert "warehouse.duckdb is not there" in missing.text
    assert unfit.code == 3
    for part in (
        "'fare' is DOUBLE, which does not hold decimal(6,2)",
        "no column 'sold_on'",
        "'agent' may not be null",
    ):
        assert part in unfit.text


def test_a_database_held_by_another_process_is_told_with_its_number(space: Space) -> None:
    import subprocess
    import sys

    space.tickets(SOUND)
    script = "import duckdb, sys; c = duckdb.connect('warehouse.duckdb'); print('held', flush=True); sys.stdin.read()"
    with subprocess.Popen(
        [sys.executable, "-c", script], cwd=space.root, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as holder:
        assert holder.stdout is not None
        holder.stdout.readline()
        ended = space.run("load", "tickets", "--day", DAY, "--create")
        holder.communicate("")

    assert ended.code == 3
    assert f"warehouse.duckdb is locked by process {holder.pid}" in ended.text


def test_no_number_is_given_out_twice_however_many_ask_at_once(space: Space) -> None:
    space.tickets(SOUND)
    space.load()

    def ask(_: int) -> list[int]:
        with contextlib.closing(open_workspace(space.root)) as workspace:
            day, now = workspace.today(), datetime.datetime.now(datetime.UTC)
            return [workspace.ledger.begin_load("tickets", "warehouse", day, now, None, 1)[1] for _ in range(20)]

    with ThreadPoolExecutor(4) as pool:
        given = [number for numbers in pool.map(ask, range(4)) for number in numbers]

    assert sorted(given) == list(range(2, 82))


def test_a_load_that_was_cut_off_is_settled_from_the_mark_in_the_place(space: Space) -> None:
    space.tickets(SOUND)
    space.load()
    workspace = open_workspace(space.root)
    for load_no in (1, 2):  # two loads whose process is gone: one had committed, one had not
        entry, _ = workspace.ledger.begin_load(
            "tickets", "warehouse", workspace.today(), datetime.datetime.now(datetime.UTC), None, load_no, load_no
        )
        workspace.ledger._rows("UPDATE entries SET process = 999999999 WHERE entry_id = ?", entry)
    workspace.close()

    space.load()

    summaries = {entry["load_no"]: entry["state"] for entry in space.run("ledger", "--json").json["entries"][1:3]}
    assert summaries == {1: "loaded", 2: "cut off"}


def test_a_file_that_changes_while_it_is_read_is_refused(space: Space) -> None:
    space.tickets(SOUND)
    file = space.root / f"inbox/tickets-{DAY}.csv"
    workspace = open_workspace(space.root)

    result = workspace.load("tickets", datetime.date.fromisoformat(DAY), create=True, listener=lambda _: file.touch())

    workspace.close()
    assert (result.state, result.message) == ("refused", "the file changed while it was read")
    assert space.sql("select count(*) from tickets") == [(0,)]


def test_rejects_are_kept_for_their_owner_only(space: Space) -> None:
    space.tickets(SOUND + "T003;x;01.06.2026\n")
    space.load()

    mode = os.stat(space.root / ".nomotheta" / "rejects" / "load-1.parquet").st_mode  # noqa: PTH116

    assert stat.S_IMODE(mode) == 0o600


@given(st.lists(st.lists(st.integers(0, 40), max_size=12), max_size=30))
def test_seen_keys_tell_every_repeat_and_who_came_first(batches: list[list[int]]) -> None:
    seen, first, record = SeenKeys(), {}, 0
    for batch in batches:
        expected = []
        for at, key in enumerate(batch):
            record += 1
            if key in first:
                expected.append((at, first[key]))
            first.setdefault(key, record)
        numbers = np.arange(record - len(batch) + 1, record + 1)

        positions, firsts = seen.add(np.array(batch, np.uint64), numbers)

        assert list(zip(positions.tolist(), firsts.tolist(), strict=True)) == expected
    sizes = [len(run) for run, _ in seen.parts[0].runs]
    assert all(left >= 2 * right for left, right in itertools.pairwise(sizes))


@given(st.lists(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6) | st.none()), max_size=8), max_size=12))
def test_with_several_keys_a_row_that_stays_out_counts_for_none_of_them(
    batches: list[list[tuple[int, int | None]]],
) -> None:
    seen = [SeenKeys(), SeenKeys()]
    first: tuple[dict[int, int], dict[int, int]] = ({}, {})
    record = 0
    for batch in batches:
        expected: list[list[tuple[int, int]]] = [[], []]
        for at, row in enumerate(batch):
            record += 1
            hit = next((key for key in (0, 1) if row[key] is not None and row[key] in first[key]), None)
            if hit is not None:
                expected[hit].append((at, first[hit][row[hit]]))
                continue
            for key in (0, 1):
                if row[key] is not None:
                    first[key][row[key]] = record
        present = [[at for at, row in enumerate(batch) if row[key] is not None] for key in (0, 1)]
        hashes = [
            Keys.of(np.array([batch[at][key] for at in present[key]], np.uint64), np.array(present[key], np.int64))
            for key in (0, 1)
        ]

        found = take_in(seen, hashes, np.arange(record - len(batch) + 1, record + 1))

        assert [list(zip(rows.tolist(), firsts.tolist(), strict=True)) for rows, firsts, _ in found] == expected


def test_a_row_that_repeats_one_key_does_not_block_another_row_by_its_other_key(space: Space) -> None:
    space.charter(TICKETS + '[[keys]]\ncolumns = ["fare", "sold_on"]\n')
    space.tickets(HEAD + "T001;1,00;01.06.2026\nT001;2,00;01.06.2026\nT002;2,00;01.06.2026\nT003;1,00;01.06.2026\n")

    load = space.load()

    assert [load["balance"][name] for name in ("loaded", "conflicts")] == [2, 2]
    assert space.sql("select ticket_no from tickets order by 1") == [("T001",), ("T002",)]


def test_a_rule_that_errs_while_loading_is_named_and_the_load_is_undone(space: Space) -> None:
    rules = [("fine", "fare > 0"), ("far", "load_no * 5000000000 * 5000000000 > 0"), ("near", "fare < 99")]
    space.charter(TICKETS + "".join(f'[[rules]]\nname = "{name}"\neach = "{rule}"\n' for name, rule in rules))
    space.tickets(SOUND)

    load = space.load()

    found = {finding["rule"]: (finding["verdict"], finding["message"]) for finding in load["findings"]}
    assert (load["state"], load["exit"]) == ("undone", 3)
    assert (found["fine"][0], found["far"][0], found["near"][0]) == ("pass", "error", "error")
    assert "verflow" in found["far"][1]
    assert "not judged" in found["near"][1]
    assert space.sql("select count(*) from tickets") == [(0,)]


@pytest.mark.parametrize("lasting", [False, True])
@pytest.mark.parametrize(("keep", "loaded"), [("first", 2), ("last", 2), ("none", 1)])
def test_two_keys_with_one_hash_are_told_apart_by_another_seed(
    space: Space, monkeypatch: pytest.MonkeyPatch, lasting: bool, keep: str, loaded: int
) -> None:
    honest = Engine.hashes

    def colliding(self: Engine, table, columns, seed: int, *, whole_row: bool = False):
        hashes, rows = honest(self, table, columns, seed, whole_row=whole_row)
        return (np.zeros_like(hashes) if seed == 0 or lasting else hashes), rows

    monkeypatch.setattr(Engine, "hashes", colliding)
    space.charter(TICKETS + f'keep = "{keep}"\n')
    space.tickets(SOUND + "T001;5,00;\n")

    load = space.load()

    assert load["state"] == ("failed" if lasting else "loaded")
    if not lasting:
        assert [load["balance"][key] for key in ("loaded", "conflicts")] == [loaded, 3 - loaded]
        assert len(space.rejects()) == 3 - loaded


REPEATED = "ticket_no;fare;sold_on\nT001;1;03.06.2026\nT002;2;\nT001;3;05.06.2026\nx;9;\nT001;4;04.06.2026\nT003;5;\nT001;4;04.06.2026\n"


@pytest.mark.parametrize(
    ("key", "stay", "told"),
    [
        ("", ["1", "2", "5"], [f"line {line}: same key as line 2, but another fare and sold_on" for line in (4, 6, 8)]),
        ('keep = "last"\n', ["2", "4", "5"], ["line 2: same key as line 8, but another fare and sold_on",
         "line 4: same key as line 8, but another fare and sold_on", "line 6: a copy of line 8"]),
        ('keep = "last"\nby = "sold_on"\n', ["2", "3", "5"],
         [f"line {line}: same key as line 4, but another fare and sold_on" for line in (2, 6, 8)]),
        ('keep = "none"\n', ["2", "5"], ["line 2: same key as line 4; none of them is loaded", "line 4: same key as line 2; none of them is loaded",
         "line 6: same key as line 2; none of them is loaded", "line 8: same key as line 2; none of them is loaded"]),
        ("*", ["1", "2", "3", "4", "5"], ["line 8: a copy of line 6"]),
    ],
)  # fmt: skip
def test_of_rows_that_repeat_a_key_one_stays_or_none(space: Space, key: str, stay: list[str], told: list[str]) -> None:
    space.charter(TICKETS.replace('["ticket_no"]', '["*"]') if key == "*" else TICKETS + key)
    space.tickets(REPEATED)

    balance = space.load()["balance"]

    fares = space.sql("SELECT CAST(CAST(fare AS INTEGER) AS VARCHAR) FROM tickets ORDER BY fare")
    assert [fare for (fare,) in fares] == stay
    assert [balance[name] for name in ("records", "rejected")] == [7, 1]
    assert balance["copies"] + balance["conflicts"] == 6 - len(stay)
    repeats = [each for each in space.rejects() if each["reason"] in {"copy", "conflict"}]
    assert [f"line {each['line']}: {each['message']}" for each in repeats] == told
    assert space.run("reconcile", "tickets").code == 0


@pytest.mark.parametrize("keep", ["first", "last", "none"])
def test_a_key_is_held_against_the_other_files_and_the_table(space: Space, keep: str) -> None:
    space.charter(TICKETS.replace('csv*"', 'csv"').replace("tickets-{day}", "tickets-{day}-*") + f'keep = "{keep}"\n')
    for name, rows in (("a", "T001;1;\nT002;2;\n"), ("b", "T003;3;\nT001;4;\n")):
        space.write(f"inbox/tickets-{DAY}-{name}.csv", f"ticket_no;fare;sold_on\n{rows}")
    space.load()
    first = [f"{each['file'][-5]}{each['line']}: {each['message']}" for each in space.rejects()]
    space.write("inbox/tickets-2026-06-02-a.csv", "ticket_no;fare;sold_on\nT002;5;\nT009;6;\n")

    second = space.load(day="2026-06-02")

    b = f"inbox/tickets-{DAY}-b.csv"
    assert first == {
        "first": [f"b3: same key as line 2 of {b.replace('b.csv', 'a.csv')}, but another fare"],
        "last": [f"a2: same key as line 3 of {b}, but another fare"],
        "none": [f"a2: same key as line 3 of {b}; none of them is loaded",
                 f"b3: same key as line 2 of {b.replace('b.csv', 'a.csv')}; none of them is loaded"],
    }[keep]  # fmt: skip
    assert [second["balance"][name] for name in ("loaded", "conflicts")] == [1, 1]
    assert any("overlaps an earlier one" in note for note in second["notes"])


def test_many_keys_are_found_again_in_partitions_and_in_files(monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in (("_MANY", 5_000), ("_VERY_MANY", 20_000), ("_LONG", 100)):
        monkeypatch.setattr(keys, name, value)
    chance = np.random.default_rng(3)
    numbers = np.arange(60_000)
    hashes = chance.permutation(numbers).astype(np.uint64) % np.uint64(50_000) * np.uint64(368_934_881_474_191)
    seen, first, found = SeenKeys(), {}, {}
    for start in range(0, len(numbers), 997):
        part = slice(start, start + 997)
        positions, firsts = seen.add(hashes[part], numbers[part])
        found |= dict(zip((positions + start).tolist(), firsts.tolist(), strict=True))

    expected = {}
    for number, each in enumerate(hashes.tolist()):
        if first.setdefault(each, number) != number:
            expected[number] = first[each]
    assert found == expected
    assert any(isinstance(run, np.memmap) for part in seen.parts for run, _ in part.runs)
    assert seen.find(hashes)[0].all()
    assert not seen.find(hashes + np.uint64(1))[0].any()


ASCENDING = 'table = "n"\n[delivery]\nfiles = "n.csv"\n[load]\nhow = "overwrite"\n[columns.k]\nkind = "integer"\n[[keys]]\ncolumns = ["k"]\n'


@pytest.mark.parametrize("chunk", [16, 8 << 20])
@pytest.mark.parametrize(
    "numbers",
    [[*range(-5, 40)], [*range(30), 7], [*range(30), 30, 30, 31], [3, 2, 1], [*range(10), "", "", *range(10, 30), 11], [7, 7],
     [*range(20), *range(10, 40), *range(5)], [-(2**63), 0, 2**63 - 1, 0]],
)  # fmt: skip
def test_whole_numbers_in_their_order_are_keys_as_any_other(
    space: Space, monkeypatch: pytest.MonkeyPatch, numbers: list[int | str], chunk: int
) -> None:
    monkeypatch.setattr(unpack, "CHUNK", chunk)
    space.charter(ASCENDING.replace("[load]", '[load]\ntolerate = "all"'), "n")
    space.write("n.csv", "k\n" + "".join(f"{number}\n" if number != "" else '""\n' for number in numbers))

    balance = space.load(table="n")["balance"]

    keys: dict[int | str, int] = {}
    expected = []
    for line, number in enumerate(numbers, 2):
        if number != "" and keys.setdefault(number, line) != line:
            expected.append((line, f"a copy of line {keys[number]}"))
    assert balance["loaded"] == len(numbers) - len(expected)
    if expected:
        assert [(each["line"], each["message"]) for each in space.rejects()] == expected


def test_the_account_of_a_merge_adds_up_on_the_screen_and_on_the_page(space: Space) -> None:
    space.charter(TICKETS.replace("[load]", '[load]\nhow = "merge"'))
    space.tickets("ticket_no;fare;sold_on\nT001;1;\nT002;2;\n")
    space.load()
    space.tickets("ticket_no;fare;sold_on\nT001;1;\nT002;3;\nT003;4;\n", "2026-06-02")

    shown = space.run("run", "--day", "2026-06-02", "--json").json["tables"][0]["load"]["balance"]
    space.run("report", "--to", "page.html")
    page = (space.root / "page.html").read_text()

    assert [shown[name] for name in ("inserted", "updated", "unchanged", "before", "after")] == [1, 1, 1, 2, 3]
    assert "3 loaded (1 inserted, 1 updated, 1 unchanged) + 0 rejected" in page
    assert "2 before + 1 inserted = 3 after" in page


def test_of_decimals_that_no_double_tells_apart_the_greater_is_the_last(space: Space) -> None:
    space.charter(TICKETS.replace("decimal(6,2)", "decimal(38,2)") + 'keep = "last"\nby = "fare"\n')
    low, high = "123456789012345678901234567890,01", "123456789012345678901234567890,02"
    rows = [
        ("T001", low), ("T001", high), ("T002", high), ("T002", low), ("T003", ""), ("T003", "-" + high),
        ("T004", "-" + high), ("T004", "-" + low),
    ]  # fmt: skip
    space.tickets("ticket_no;fare;sold_on\n" + "".join(f"{number};{fare};01.06.2026\n" for number, fare in rows))

    space.load()

    value = Decimal(high.replace(",", "."))
    assert space.sql("select ticket_no, fare from tickets order by 1") == [
        ("T001", value), ("T002", value), ("T003", Decimal(f"-{value}")), ("T004", Decimal("-" + low.replace(",", "."))),
    ]  # fmt: skip
