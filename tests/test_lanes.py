"""Fingerprints of rows and columns: as docs/fingerprint.md defines them, in the kernel, in NumPy and in PostgreSQL alike."""

from __future__ import annotations

import datetime
import random
import re
import struct
import time
import uuid
from decimal import Decimal, localcontext
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

from conftest import Space
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError
from nomotheta.kernel import lanes as kernel
from nomotheta.kinds.lanes import Lanes
from nomotheta.kinds.read import arrow_type
from nomotheta.place.base import Place
from nomotheta.place.postgresql.lanes import KNOWN_KINDS, KNOWN_SUMS
from nomotheta.reconcile.compare import compare
from nomotheta.reconcile.side import Compared, InPlace, Streamed
from servers import Database
from test_places import database, fill, place, running, sort, there  # noqa: F401

DOCUMENT = Path(__file__).parents[1] / "docs" / "fingerprint.md"
ALL, WORD = 2**64, 2**32
EPOCH = datetime.datetime(2000, 1, 1)
KINDS = [
    *(
        Kind(name)
        for name in ("integer", "boolean", "date", "time", "timestamp", "timestamptz", "text", "real", "uuid", "binary")
    ),
    *(
        Kind("decimal", *digits)
        for digits in [(6, 2), (18, 0), (18, 18), (38, 10), (38, 38), (38, 0), (19, 4), (20, 3)]
    ),
]
KNOWN = [
    -7000000000, True, datetime.date(2026, 11, 28), datetime.time(23, 59, 59, 250000),
    datetime.datetime(1969, 12, 31, 23, 59, 59, 999999), datetime.datetime(2026, 6, 1, 12, tzinfo=datetime.UTC),
    "Skálavík, Nólsoy", Decimal("-1234567.8900"), 0.1, "0e37df36-f698-11e6-8dd4-cb9ced3df976", b"\x00\xff",
]  # fmt: skip


# ---- another implementation, from the document


def mixed(a: int, b: int, c: int) -> list[int]:
    words = [a, b, c]
    for at, by in enumerate((4, 6, 8, 16, 19, 4)):
        x, y, z = at % 3, (at + 2) % 3, (at + 1) % 3
        words[x] = (words[x] - words[y]) % WORD ^ rotated(words[y], by)
        words[y] = (words[y] + words[z]) % WORD
    return words


def rotated(word: int, by: int) -> int:
    return (word << by | word >> (32 - by)) % WORD


def of_bytes(data: bytes, seed: int) -> int:
    words = [(0x9E3779B9 + len(data) + 3923095) % WORD] * 3
    if seed:
        words = mixed((words[0] + seed // WORD) % WORD, (words[1] + seed % WORD) % WORD, words[2])
    while len(data) >= 12:
        words = mixed(
            *((word + part) % WORD for word, part in zip(words, struct.unpack("<3I", data[:12]), strict=True))
        )
        data = data[12:]
    rest = data[:8] + b"\0" * 8
    last = b"\0" + data[8:] + b"\0" * 3
    parts = [*struct.unpack("<2I", rest[:8]), *struct.unpack("<I", last[:4])]
    a, b, c = ((word + part) % WORD for word, part in zip(words, parts, strict=True))
    c = ((c ^ b) - rotated(b, 14)) % WORD
    a = ((a ^ c) - rotated(c, 11)) % WORD
    b = ((b ^ a) - rotated(a, 25)) % WORD
    c = ((c ^ b) - rotated(b, 16)) % WORD
    a = ((a ^ c) - rotated(c, 4)) % WORD
    b = ((b ^ a) - rotated(a, 14)) % WORD
    c = ((c ^ b) - rotated(b, 24)) % WORD
    return b * WORD + c


def of_word(word: int, seed: int) -> int:
    return of_bytes(struct.pack("<I", word % WORD), seed)


def of_folded(value: int, seed: int) -> int:
    low, high = value % ALL % WORD, value % ALL // WORD
    return of_word(low ^ (high if value >= 0 else high ^ (WORD - 1)), seed)


def of_integer(value: int, seed: int) -> int:
    return of_word(value % ALL // WORD, of_folded(value, seed))


def of_decimal(value: Decimal, seed: int) -> int:
    sign, digits, exponent = value.as_tuple()
    text = "".join(map(str, digits))
    whole, behind = (text[:exponent], text[exponent:].rjust(-int(exponent), "0")) if exponent else (text, "")
    whole, behind = whole.rjust(-(-len(whole) // 4) * 4, "0"), behind.ljust(-(-len(behind) // 4) * 4, "0")
    groups = [int((whole + behind)[at : at + 4]) for at in range(0, len(whole + behind), 4)]
    power = len(whole) // 4 - 1
    seed = (ALL - 1 - seed) if sign and any(groups) else seed
    while groups and not groups[0]:
        groups, power = groups[1:], power - 1
    while groups and not groups[-1]:
        groups = groups[:-1]
    return of_bytes(struct.pack(f"<{len(groups)}H", *groups), seed) ^ power % ALL if groups else seed - 1


def of_cell(value: Any, kind: Kind, number: int) -> int:
    seed = number * 0x9E3779B97F4A7C15 % ALL
    if value is None:
        return of_word(5381, seed)
    if kind.name in {"timestamp", "timestamptz"}:
        since = (value.replace(tzinfo=None) - EPOCH) // datetime.timedelta(microseconds=1)
        return of_folded(since, of_word(since // 86_400_000_000, seed))
    if kind.name == "real":
        return of_bytes(struct.pack("<d", value), seed) if value else seed
    if kind.name == "decimal":
        return of_decimal(value, seed)
    if kind.name in {"integer", "boolean", "date"}:
        days = (value - EPOCH.date()).days if kind.name == "date" else int(value)
        return of_integer(value, seed) if kind.name == "integer" else of_word(days, seed)
    if kind.name == "uuid":
        return of_bytes(uuid.UUID(value).bytes, seed)
    if kind.name == "time":
        value = re.sub(r"(\.\d*?)0+$", r"\1", value.isoformat()).rstrip(".")
    return of_bytes((value.hex() if kind.name == "binary" else value).encode(), seed)


def from_the_document(rows: list[list[Any]], kinds: list[Kind]) -> list[int]:
    total, columns = 0, [0] * len(kinds)
    for row in rows:
        found, x = [of_cell(value, kind, at) for at, (value, kind) in enumerate(zip(row, kinds, strict=True), 1)], 0
        for at, each in enumerate(found):
            columns[at], x = (columns[at] + each) % ALL, x ^ each
        total = (total + of_integer(x - ALL if x >= ALL // 2 else x, 0)) % ALL
    return [len(rows), total, *columns]


# ---- values


def some(chance: random.Random, kind: Kind) -> Any:
    if chance.random() < 0.1:
        return None
    moment = datetime.datetime(1, 1, 1) + datetime.timedelta(
        microseconds=chance.choice(
            [0, chance.randrange(3652059 * 86400) * 10**6, chance.randrange(3652059 * 86400 * 10**6)]
        )
    )
    wide = chance.choice([0, -1, 2**63 - 1, -(2**63), chance.randrange(-(2**63), 2**63), chance.randrange(1000)])
    clock = chance.choice([moment, moment.replace(microsecond=0), moment.replace(microsecond=500000)]).time()
    letters = "".join(chance.choice("aé😀 x'\n") for _ in range(chance.choice([0, 1, 3, 4, 11, 12, 13, 24, 25, 40])))
    plain_kinds = {
        "integer": wide, "boolean": chance.random() < 0.5, "date": moment.date(), "time": clock, "timestamp": moment,
        "timestamptz": moment.replace(tzinfo=datetime.UTC), "text": letters,
        "real": chance.choice([0.0, -0.0, 1.5, -2.25, 1e300, 5e-324, chance.random() * 1e9]),
        "uuid": str(uuid.UUID(int=chance.getrandbits(128))), "binary": chance.randbytes(chance.randrange(30)),
    }  # fmt: skip
    if kind.name in plain_kinds:
        return plain_kinds[kind.name]
    digits = chance.randrange(kind.digits + 1)
    number = (
        chance.randrange(10**digits)
        // 10 ** chance.randrange(digits + 1)
        * chance.choice([1, 10 ** (kind.digits - digits)])
    )
    with localcontext(prec=80):
        return Decimal(number * chance.choice([1, -1])).scaleb(-kind.scale)


def batch_of(rows: list[list[Any]], kinds: list[Kind]) -> Any:
    cells = list(zip(*rows, strict=True))
    return pa.record_batch(
        [pa.array(column, arrow_type(kind)) for column, kind in zip(cells, kinds, strict=True)],
        names=[f"c{at}" for at in range(len(kinds))],
    )


def lanes(rows: list[list[Any]], kinds: list[Kind], size: int = 7) -> list[int]:
    found = Lanes({f"c{at}": kind for at, kind in enumerate(kinds)})
    for first in range(0, len(rows), size):
        found.add(batch_of(rows[first : first + size], kinds))
    return [found.rows, found.total, *found.columns.values()]


@pytest.fixture(params=["kernel", "numpy"])
def how(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> str:
    if request.param == "numpy":
        monkeypatch.setattr(kernel, "mix_in", lambda *_: None)
        monkeypatch.setattr(kernel, "end_rows", lambda *_: None)
    return str(request.param)


def test_the_vector_of_the_document_is_what_comes_out(how: str) -> None:
    kinds, rows = list(KNOWN_KINDS.values()), [KNOWN, [None] * len(KNOWN)]
    told = re.findall(r"`?\b(\d{18,20})\b`?", DOCUMENT.read_text())

    assert lanes(rows, kinds) == KNOWN_SUMS == from_the_document(rows, kinds)
    assert [2, *map(int, told)] == KNOWN_SUMS


@pytest.mark.parametrize("seed", range(3))
def test_all_values_have_the_hashes_of_the_document(how: str, seed: int) -> None:
    chance = random.Random(seed)
    rows = [[some(chance, kind) for kind in KINDS] for _ in range(150)]

    assert lanes(rows, KINDS) == from_the_document(rows, KINDS)
    assert lanes(rows[1:-1], KINDS, 1000) == from_the_document(rows[1:-1], KINDS)


def test_a_server_comes_to_the_same(place: Place) -> None:  # noqa: F811
    if place.lanes != "inside":
        pytest.skip("it works out no lanes by itself")
    chance, names = random.Random(5), [f"c{at}" for at in range(len(KINDS))]
    rows = [[some(chance, kind) for kind in KINDS] for _ in range(400)]
    fill(place, "lanes", dict(zip(names, KINDS, strict=True)), [list(column) for column in zip(*rows, strict=True)])

    assert place.lane_sums(dict(zip(names, KINDS, strict=True)), place.rowset("lanes")) == lanes(rows, KINDS)


def test_a_server_is_not_waited_for_where_the_files_cannot_be_read(
    place: Place,  # noqa: F811
) -> None:
    rows = {"PostgresPlace": ", pg_sleep(300)", "MariaPlace": "WHERE sleep(300) = 0"}.get(type(place).__name__)
    if rows is None:
        pytest.skip("it is in this process")
    fill(place, "slow", {"c0": Kind("integer")}, [[1]])
    what, began = Compared({"c0": Kind("integer")}), time.monotonic()

    def gone(_: bool) -> Any:
        time.sleep(1)
        raise DeliveryError("the file is gone")

    with pytest.raises(DeliveryError):
        compare(Streamed(what, gone), InPlace(place, what, f"FROM slow {rows}"), what, beside="all", limit=None)

    assert time.monotonic() - began < 100
    assert place.count("slow") == 1


def test_no_single_fault_leaves_the_fingerprint_as_it_is() -> None:
    chance, faults = random.Random(9), 0
    for _ in range(40):
        kinds = chance.choices(KINDS, k=chance.randrange(1, 6))
        rows = [[some(chance, kind) for kind in kinds] for _ in range(chance.randrange(2, 12))]
        rows.append([*rows[0]])
        right = lanes(rows, kinds)
        assert lanes(chance.sample(rows, len(rows)), kinds) == right  # in any order
        for _ in range(30):
            wrong, a, b, at = (
                [[*row] for row in rows],
                *chance.sample(range(len(rows)), 2),
                chance.randrange(len(kinds)),
            )
            match chance.randrange(4):
                case 0:
                    wrong[a][at] = some(chance, kinds[at])
                case 1:
                    wrong[a][at], wrong[b][at] = wrong[b][at], wrong[a][at]
                case 2:
                    wrong.append([*wrong[a]])
                case 3:
                    del wrong[a]
            same = sorted(map(repr, wrong)) == sorted(map(repr, rows)) or plain(wrong) == plain(rows)
            assert (lanes(wrong, kinds)[:2] == right[:2]) == same, (rows, wrong)
            faults += not same
    assert faults > 500


def plain(rows: list[list[Any]]) -> list[str]:
    """Rows in order, in which zeros have no sign."""
    return sorted(repr([each + 0 if isinstance(each, float) else each for each in row]) for row in rows)


CHARTER = """table = "fares"
[delivery]
files = "inbox/fares.csv"
layout = "office"
[load]
how = "overwrite"
[columns]
small = { kind = "integer" }
wide = { kind = "integer" }
fare = { kind = "decimal(6,2)" }
whole = { kind = "decimal(9,0)" }
code = { kind = "text(5)" }
share = { kind = "real" }
on_day = { kind = "date" }
paid = { kind = "boolean" }
"""
TYPES = "small smallint, wide integer, fare numeric(12,4), whole numeric(9,0), code varchar(20), share real, on_day date, paid boolean"
FARES = "small;wide;fare;whole;code;share;on_day;paid\n" + "".join(
    f"{n - 5};{-n * 70000};{n},{n % 10}0;{n * 1000};c é{n % 3};{n},5;0{n % 9 + 1}.06.2026;{'true' if n % 2 else 'false'}\n"
    for n in range(40)
)
CHANGES = {
    "small": "small + 1", "wide": "-wide - 1", "fare": "fare + 0.0001", "whole": "whole * 10", "code": "'c e1'",
    "share": "share * 2", "on_day": "'2026-07-01'", "paid": "null",
}  # fmt: skip


def test_files_and_a_table_of_narrower_types_are_equal_until_a_cell_changes(
    there: Space, database: Database  # noqa: F811
) -> None:  # fmt: skip
    there.charter(CHARTER, "fares")
    there.write("inbox/fares.csv", FARES)
    database.ask(f"CREATE TABLE fares ({TYPES})")
    assert there.load(table="fares")["state"] == "loaded"

    def reconciled() -> dict[str, Any]:
        found = there.run("reconcile", "fares", "--json").json
        assert "tables" in found, found
        return found["tables"][0]

    right = reconciled()
    assert (right["verdict"], right["scheme"]) == ("pass", "lanes-1")
    for name, value in CHANGES.items():
        database.ask(f"UPDATE fares SET {name} = {value} WHERE wide = -490000" if name != "wide" else
                     f"UPDATE fares SET wide = {value} WHERE small = 10")  # fmt: skip
        found = reconciled()
        assert (found["verdict"], found["differing"]) == ("fail", [name]), name
        assert there.load("--even-if-loaded", table="fares")["state"] == "loaded"
        assert reconciled()["verdict"] == "pass", name
