"""Texts that a database reads as values by itself: just those that the program's own readers make of them."""

from __future__ import annotations

import random
from typing import Any

import pyarrow as pa
import pytest

from nomotheta.conditions import Kind, own, quoted
from nomotheta.kinds.landed import landed_cells
from nomotheta.kinds.read import read_column
from nomotheta.kinds.trees import renamed
from nomotheta.kinds.written import written
from nomotheta.layout import CANONICAL, UNTYPED, Layout
from nomotheta.place.base import Place
from nomotheta.place.steps import Steps
from nomotheta.rules.anew import as_kind
from test_places import fill, place, running, sort  # noqa: F401

KINDS = [
    Kind("text"), Kind("integer"), Kind("decimal", 6, 2), Kind("decimal", 38, 10), Kind("decimal", 5, 0), Kind("real"),
    Kind("boolean"), Kind("uuid"), Kind("binary"), Kind("date"), Kind("time"), Kind("timestamp"), Kind("timestamptz"),
]  # fmt: skip
ZONES = ["UTC", "UTC", "Atlantic/Faroe", "America/New_York", "Australia/Lord_Howe", "Europe/Dublin", "Asia/Kolkata"]
DAYS = [
    ["%Y-%m-%d"],
    ["%d.%m.%Y", "%m/%d/%Y"],
    ["%-d.%-m.%y"],
    ["%Y%m%d", "%d%m%Y"],
    ["%d-%m-%y"],
    ["%d %b %Y", "%d. %B %Y"],
    ["%B %-d, %Y", "%Y年%-m月%d日"],
]
CLOCKS = [
    ["%H:%M:%S", "%H:%M"],
    ["%H%M"],
    ["%I:%M %p", "%-I.%M%p"],
    ["%I:%M:%S.%f %p", "%I %p"],
    ["%-H:%M:%S.%f", "%-H:%M"],
    ["%H.%M.%S"],
]
MONTHS = [
    "janvier",
    "février",
    "mars",
    "avril",
    "mai",
    "juin",
    "juillet",
    "août",
    "septembre",
    "octobre",
    "novembre",
    "décembre",
]
SHORT = [
    ["janv.", "févr.", "mars", "avr.", "mai", "juin", "juil.", "août", "sept.", "oct.", "nov.", "déc."],
    ["i", "ii", "iii", "iv", "v", "vi", "vii", "viii", "ix", "x", "xi", "xii"],
]
AFFIXED = [
    "€5",
    "-€5.5",
    "€-5",
    "+EUR 7",
    "EUR 1.234,5",
    "5 kg",
    "5kg",
    "5 g",
    "5gg",
    "€5 kg",
    "€",
    "kg",
    "€€5",
    "+€",
    "EUR5",
    "1e3kg",
    "-x5",
    "x-5",
    "+x5",
    "1,234.5%",
    "1'234.50 kg",
]
NAMED = [
    "01 Jan 2026",
    "29 FEB 2024",
    "29 feb 2023",
    "31 Jun 2026",
    "05 févr. 2026",
    "05 FéVR. 2026",
    "05 FÉVR. 2026",
    "03. August 2026",
    "3. AOÛT 2026",
    "03. août 2026",
    "décembre 5, 2026",
    "Décembre 31, 1999",
    "May 31, 2026",
    "MAI 31, 2026",
    "05 viii 2026",
    "2026年6月01日",
    "2026年13月01日",
    "12:00 am",
    "12:30 PM",
    "00:30 AM",
    "13:00 PM",
    "1.05pm",
    "01:05:09.25 Pm",
    "11 aM",
    "12:00 xm",
]
CHANGES = [
    "2026-03-29 00:59:59",
    "2026-03-29 01:00:00",
    "2026-03-29 01:59:59.999",
    "2026-03-29 02:00:00",
    "2026-10-25 01:30:00",
    "2026-10-25 00:59:59",
    "2026-03-08 02:30:00",
    "2026-11-01 01:30:00",
    "2026-10-04 02:15:00",
    "2026-04-05 01:45:00",
    "1916-05-21 02:30:00",
    "1899-12-31 23:00:00",
    "1900-01-01 00:00:00",
    "2099-12-31 23:59:59",
    "2100-01-01 00:00:00",
    "1942-01-01 12:00:00",
    "2026-06-01 10:00:00-0930",
    "2026-06-01T10:00:00.5+05:45",
    "2026-06-01 10:00:00  Z",
    "Z",
    "+0100",
    "2026-06-01 10:00:00+16:00",
    "9999-12-31 23:00:00-02:00",
    "9999-12-31 24:00:00",
    "2024-02-28 24:00:00",
    "24:00:00",
    "2026-06-01 24:00:00.000",
    "2026-06-01 24:00:00.001",
    "2026-12-31 24:00",
    "2026-12-31 24:01",
    "1968-10-27 00:30:00",
]
NUMBERS = ["0", "-0", "+1", "007", "1.5", "1,5", ".5", ",5", "5.", "1.234", "01.234", "01,234", "0'123", "1,2345", "1.234.5", "1,234.50", "1.234,50", "1'234", "12 345",
           "99999999999999999999", "9223372036854775807", "9223372036854775808", "-9223372036854775808", "1e3", "1E-9",
           "1e400", "1e-400", "0x1A", "--1", "1.000", "9999.99", "9999.990", "9999.999", "0000012345.6700", "1.10",
           "1234567890.12345678901234567890", "1" * 40, "0." + "1" * 40, "1_000", "٣", "NaN", "inf"]  # fmt: skip
WORDS = ["", " ", "n/a", " n/a ", "-", "x", "T001", "yes", "no", "true", "TRUE", "t", "f", "1", "é", "E\u0301", "😀", "ß",
         "a\nb", "\x1c1", "1\x1f", "\u00a01\u2003", "'", '"', "\\", "%", "1\n", "\n1", "null", "NULL", "  T002  ", "0aFF", "0af", "0g", "\\x00ff"]  # fmt: skip
MOMENTS = ["29.02.2023", "29.02.2024", "29.02.1900", "29.02.2000", "0000-01-01", "0001-01-01", "9999-12-31", "2026-02-30",
           "2026-06-31", "2026-12-31", "31.12.2026", "12/31/2026", "31/12/2026", "1.6.26", "01.06.26", "1.13.26", "29.2.00",
           "29.2.27", "20260601", "01062026", "24:00", "23:59:59", "23:60:00", "7:05", "07:05", "0705", "2460", "7:05:01.5",
           "2026-06-01 10:00:00", "2026-06-01T10:00:00", "2026-06-01 10:00:00.123456789", "2026-06-01 10:00:00.123456000",
           "2026-06-01 10:00:00.1", "2026-06-01 10:00:00Z", "2026-06-01 10:00:00 +02:00", "2026-06-01 24:00:00",
           "2026-06-01 10:00", "0001-01-01 00:00:00+15:00", "2026-6-1", "2026-06-1", "a2026-06-01", "01-01-69", "01-01-70",
           "29-02-00", "2026-06-01 10:00:00.", "10:00:00.1234567"]  # fmt: skip
UUIDS = ["0e37df36-f698-11e6-8dd4-cb9ced3df976", "0E37DF36-F698-11E6-8DD4-CB9CED3DF976", "0e37df36f69811e68dd4cb9ced3df976",
         "{0e37df36-f698-11e6-8dd4-cb9ced3df976}", "0e37df36-f698-11e6-8dd4-cb9ced3df97g"]  # fmt: skip
ROUNDS = 14


LATE = Layout(midnight_24=True, timestamp_forms=["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S.%f"])


def layouts(chance: random.Random, number: int) -> Layout:
    if chance.random() < 0.15:
        return chance.choice([CANONICAL, UNTYPED, Layout(), LATE])
    point = chance.choice(".,")
    days, clocks = DAYS[number % len(DAYS)], CLOCKS[(number + 1) % len(CLOCKS)]  # so that each is there
    return Layout(
        trim=chance.random() < 0.5, null_words=chance.choice([[""], [], ["", "n/a"], ["-", "0"], ["n/a", "1.6.26"]]),
        decimal_sign=point, thousands_sign=chance.choice(["", "", {".": ",", ",": "."}[point], "'", " ", "_"]),
        date_forms=days, time_forms=clocks, timestamp_forms=[f"{day}{chance.choice(' T')}{clock}" for day in days for clock in clocks[:1]],
        months=chance.choice([Layout().months, MONTHS]), months_short=chance.choice([Layout().months_short, *SHORT]),
        number_prefixes=chance.choice([[], [], ["€"], ["EUR ", "x", "EUR"]]),
        number_suffixes=chance.choice([[], [], [" kg", "kg", "g"], ["%"]]),
        two_digit_years_from=chance.choice([None, 1950, 1970, 2000]), midnight_24=chance.random() < 0.3,
        true_words=chance.choice([["true"], ["yes", "1"]]), false_words=chance.choice([["false"], ["no", "0", "f"]]),
    )  # fmt: skip


def texts_of(chance: random.Random) -> list[str | None]:
    """What may stand in a column: each sort of text, some of them with a letter changed."""
    found: list[str | None] = [
        None,
        *NUMBERS,
        *AFFIXED,
        *WORDS,
        *MOMENTS,
        *NAMED,
        *CHANGES,
        *UUIDS,
        *(f"29.02.{at:02}00" for at in range(100)),
    ]
    for _ in range(400):  # days that some calendar has, or none
        day, month = (
            chance.choice([0, 1, 9, 10, 19, 20, 28, 29, 29, 29, 30, 31, 32]),
            chance.choice([*range(14), 2, 2, 2]),
        )
        year = chance.choice([chance.randrange(10000), 100 * chance.randrange(100)])
        found.append(chance.choice([f"{day:02}.{month:02}.{year:04}", f"{day}.{month}.{year % 100:02}",
                                    f"{year:04}-{month:02}-{day:02}", f"{year:04}{month:02}{day:02}"]))  # fmt: skip
    for text in (*NUMBERS, *AFFIXED, *MOMENTS, *MOMENTS, *NAMED, *CHANGES, *UUIDS):
        at = chance.randrange(len(text))
        found.append(text[:at] + chance.choice("0123456789.,-+ :eE'") + text[at + chance.randrange(2) :])
        found.append(chance.choice([" ", "\u2003", "\t"]) * chance.randrange(2) + text + " " * chance.randrange(2))
    return found


@pytest.mark.parametrize("seed", range(3))
def test_a_database_reads_texts_as_the_program_does_or_says_that_it_does_not(
    place: Place, sort: str, seed: int  # noqa: F811
) -> None:  # fmt: skip
    if not place.native:
        pytest.skip("it judges nothing by itself")
    if sort == "delta":
        pytest.skip("it is DuckDB that reads its files")
    texts_are_read_alike(place, seed)


def texts_are_read_alike(place: Place, seed: int, rounds: int = ROUNDS, every: int = 1) -> None:  # noqa: F811
    """Hold a database against our own readers, with as many layouts as there are rounds, each for some kinds or all."""
    chance = random.Random(seed)
    texts = texts_of(chance)
    fill(place, f"cells{seed}", {"n": Kind("integer"), "t": Kind("text")}, [list(range(len(texts))), texts])
    read = 0
    for each in range(rounds):
        layout, zone = layouts(chance, each) if each else LATE, chance.choice(ZONES)
        for kind in KINDS[each % every :: every]:
            read += check_alike(place, f"cells{seed}", texts, kind, layout, zone)

    assert read > len(texts) * len(KINDS) * rounds / every / 2


def check_alike(place: Place, table: str, texts: list[str | None], kind: Kind, layout: Layout, zone: str) -> int:  # noqa: F811
    """Hold a database's reading of a column against ours; how many of its texts it could read."""
    found = written("t", kind, layout, zone)
    if found is None:
        return 0
    steps = Steps(place)
    rank, _ = steps.take("n"), steps.take("t", "as it is")
    value, read = steps.read(found)
    known = "1 = 1" if found.known is None else steps.said(found.known)
    trimmed = "1 = 0" if found.trimmed is None else steps.said(renamed(found.trimmed, {"t": "as it is"}))
    told = {"n": rank, "v": value, "r": read, "e": steps.said(found.empty), "k": known, "trimmed": trimmed}
    select = steps.select([f"{sql} AS {quoted(own(name))}" for name, sql in told.items()], place.rowset(table))
    answer: Any = place.fetch(f"SELECT * FROM ({select}) AS cells ORDER BY {quoted(own('n'))}")
    columns = {name: answer.column(own(name)) for name in told}
    values = as_kind(pa.concat_arrays(columns["v"].chunks), kind).to_pylist()

    cells = landed_cells(pa.array(texts, pa.string()), kind, layout)
    ours = read_column(cells.texts, kind, layout, zone)
    typed, misfits = ours.values.to_pylist(), {int(at) for misfit in ours.misfits for at in misfit.rows}
    sure = columns["k"].to_pylist()
    for at, text in enumerate(texts):
        if sure[at]:
            theirs = [bool(columns["e"][at].as_py()), bool(columns["r"][at].as_py()), values[at]]
            theirs.append(bool(columns["trimmed"][at].as_py()))
            mine = [cells.texts[at].as_py() is None, at not in misfits, typed[at], cells.trimmed[at].as_py()]
            assert theirs == mine, (text, kind, layout, zone)
    return sum(map(bool, sure))
