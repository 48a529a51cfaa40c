"""Kinds: what text each accepts, what it refuses, and that no cast decides it."""

from __future__ import annotations

import datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nomotheta.conditions import parse_kind
from nomotheta.kinds.native import as_texts, read_values
from nomotheta.kinds.read import explain, read_column
from nomotheta.layout import CANONICAL, Layout

Date, Moment, Time = datetime.date, datetime.datetime, datetime.time
COMMA = {"decimal_sign": ","}
GROUPED = {"decimal_sign": ",", "thousands_sign": "."}
FINE = {"timestamp_forms": ["%Y-%m-%d %H:%M:%S.%f"]}
GERMAN = {"date_forms": ["%d.%m.%Y"]}

MONTHS = "janúar februar märz apríl mai juni juli august september oktober november desember".split()
READ: list[tuple[str, dict[str, Any], str, Any]] = [
    ("integer", {}, "7", 7),
    ("integer", {}, "-7", -7),
    ("integer", {}, "+7", 7),
    ("integer", {}, "007", 7),
    ("integer", {}, "9223372036854775807", 2**63 - 1),
    ("integer", GROUPED, "1.234.567", 1234567),
    ("decimal(8,2)", {}, "12.5", Decimal("12.50")),
    ("decimal(8,2)", {}, "-.5", Decimal("-0.50")),
    ("decimal(8,2)", {}, "3.1000", Decimal("3.10")),
    ("decimal(8,2)", COMMA, "12,5", Decimal("12.50")),
    ("decimal(8,2)", GROUPED, "1.234,50", Decimal("1234.50")),
    ("decimal(38,10)", {}, "1234567890123456789012345678.0123456789", Decimal("1234567890123456789012345678.0123456789")),
    ("real", {}, "1e3", 1000.0),
    ("real", COMMA, "0,5", 0.5),
    ("boolean", {}, "true", True),
    ("boolean", {"false_words": ["nei"]}, "nei", False),
    ("date", {}, "2024-02-29", Date(2024, 2, 29)),
    ("date", {}, "0001-01-01", Date(1, 1, 1)),
    ("date", {}, "1600-02-29", Date(1600, 2, 29)),
    ("date", GERMAN, "31.12.9999", Date(9999, 12, 31)),
    ("date", {"date_forms": ["%Y%m%d", "%d/%m/%Y"]}, "05/06/2026", Date(2026, 6, 5)),
    ("time", {}, "23:59:59", Time(23, 59, 59)),
    ("timestamp", {}, "2026-06-01 10:20:30", Moment(2026, 6, 1, 10, 20, 30)),
    ("timestamp", FINE, "2026-06-01 10:20:30.25", Moment(2026, 6, 1, 10, 20, 30, 250000)),
    ("time", {"time_forms": ["%H:%M:%S.%f"]}, "10:20:30.5", Time(10, 20, 30, 500000)),
    ("timestamptz", {}, "2026-06-01 10:20:30+02:00", Moment(2026, 6, 1, 8, 20, 30, tzinfo=datetime.UTC)),
    ("timestamptz", {}, "2026-06-01T10:20:30Z", Moment(2026, 6, 1, 10, 20, 30, tzinfo=datetime.UTC)),
    ("timestamptz", {}, "2026-06-01 10:20:30", Moment(2026, 6, 1, 9, 20, 30, tzinfo=datetime.UTC)),
    ("decimal(8,2)", {"number_prefixes": ["€"], "number_suffixes": ["%", " DKK"]}, "-€12.50 DKK", Decimal("-12.50")),
    ("integer", {"number_suffixes": ["%"]}, "12%", 12),
    ("real", {"number_prefixes": ["EUR "]}, "EUR 1.5", 1.5),
    ("date", {"date_forms": ["%d %b %Y"]}, "29 FEB 2024", Date(2024, 2, 29)),
    ("date", {"date_forms": ["%-d. %B %Y"], "months": MONTHS}, "1. märz 2026", Date(2026, 3, 1)),
    ("date", {"date_forms": ["%-d/%-m/%y"], "two_digit_years_from": 1950}, "7/12/49", Date(2049, 12, 7)),
    ("date", {"date_forms": ["%-d/%-m/%y"], "two_digit_years_from": 1950}, "17/2/50", Date(1950, 2, 17)),
    ("timestamp", {"midnight_24": True}, "2026-12-31 24:00:00", Moment(2027, 1, 1)),
    ("timestamp", {"timestamp_forms": ["%m/%d/%Y %-I:%M %p"]}, "06/01/2026 12:05 am", Moment(2026, 6, 1, 0, 5)),
    ("timestamp", FINE, "2026-06-01 10:20:30.123456000", Moment(2026, 6, 1, 10, 20, 30, 123456)),
    ("timestamptz", {}, "2026-06-01 10:20:30 -0330", Moment(2026, 6, 1, 13, 50, 30, tzinfo=datetime.UTC)),
    ("date", {"date_forms": ["%-d.%-m.%Y"]}, "1.12.2026", Date(2026, 12, 1)),
    ("timestamp", {"timestamp_forms": ["%m/%d/%Y %I:%M %p"]}, "06/01/2026 12:05 PM", Moment(2026, 6, 1, 12, 5)),
    ("text", {}, "ab", "ab"),
    ("uuid", {}, "6F9619FF-8B86-D011-B42D-00C04FC964FF", "6f9619ff-8b86-d011-b42d-00c04fc964ff"),
    ("binary", {}, "00fF", b"\x00\xff"),
    ("text(3)", {}, "äöü", "äöü"),
]  # fmt: skip
REFUSED: list[tuple[str, dict[str, Any], str, str, str]] = [
    ("integer", {}, "0x1A", "kind", "is not an integer"),
    ("integer", {}, "9223372036854775808", "range", "decimal(19,0) would hold it"),
    ("integer", {}, "12%", "kind", "is not an integer"),
    ("integer", {"number_suffixes": ["%"]}, "12%%", "kind", "is not an integer"),
    ("decimal(8,2)", {"number_prefixes": ["€"]}, "€", "kind", "is not a decimal"),
    ("date", {"date_forms": ["%-d.%-m.%Y"]}, "01.2.2026", "kind", "is not a date"),
    ("date", {"date_forms": ["%d %b %Y"]}, "29 Mai 2024", "kind", "is not a date"),
    ("date", {"date_forms": ["%-d/%-m/%y"], "two_digit_years_from": 1950}, "29/2/50", "kind", "is not a date"),
    ("time", {"midnight_24": True}, "24:00:00", "kind", "is not a time"),
    ("timestamp", {}, "2026-12-31 24:00:00", "kind", "is not a timestamp"),
    ("timestamp", {"midnight_24": True}, "2026-12-31 24:00:01", "kind", "is not a timestamp"),
    ("timestamp", {"timestamp_forms": ["%m/%d/%Y %I:%M %p"]}, "06/01/2026 13:05 pm", "kind", "is not a timestamp"),
    ("timestamp", FINE, "2026-06-01 10:20:30.1234567", "kind", "is not a timestamp"),
    ("timestamptz", {}, "2026-06-01 10:20:30+16:00", "kind", "is not a timestamptz"),
    ("timestamptz", {}, "2026-03-29 01:30:00", "kind", "is not a timestamptz"),
    ("text", {}, "a\0b", "kind", "NUL"),
    ("integer", {}, "1e3", "kind", "is not an integer"),
    ("integer", {}, "1.0", "kind", "is not an integer"),
    ("integer", {}, " 7", "kind", "white space"),
    ("integer", {}, "", "kind", "is not an integer"),
    ("integer", {}, "-", "kind", "is not an integer"),
    ("integer", {}, "1-2", "kind", "is not an integer"),
    ("integer", {}, "٣", "kind", "is not an integer"),
    ("integer", {}, "9223372036854775808", "range", "outside the range"),
    ("integer", GROUPED, "12.34", "kind", "is not an integer"),
    ("decimal(8,2)", {}, "1.234", "range", "more digits than decimal(8,2) holds"),
    ("decimal(8,2)", {}, "1234567.00", "range", "more digits"),
    ("decimal(8,2)", {}, "5.", "kind", "is not a decimal(8,2)"),
    ("decimal(8,2)", {}, "1e3", "kind", "is not a decimal(8,2)"),
    ("decimal(8,2)", {}, "1,234.50", "kind", "it contains ','"),
    ("decimal(8,2)", COMMA, "1.234,50", "kind", "it contains '.'"),
    ("decimal(8,2)", COMMA, "1.234", "kind", "it contains '.'"),
    ("decimal(8,2)", GROUPED, "12.34,5", "kind", "is not a decimal"),
    ("decimal(8,2)", GROUPED, "0.234", "kind", "is not a decimal"),
    ("decimal(8,2)", {}, "NaN", "kind", "is not a decimal"),
    ("real", {}, "nan", "kind", "is not a real"),
    ("real", {}, "1e999", "range", "outside the range"),
    ("real", {}, "1_0", "kind", "is not a real"),
    ("boolean", {}, "1", "kind", "is not one of true, false"),
    ("date", {}, "2025-02-29", "kind", "is not a date in the form %Y-%m-%d"),
    ("date", {}, "2026-1-01", "kind", "is not a date"),
    ("date", {}, "26-01-01", "kind", "is not a date"),
    ("date", {}, "0000-01-01", "kind", "is not a date"),
    ("date", GERMAN, "29.02.2025", "kind", "is not a date in the form %d.%m.%Y"),
    ("date", GERMAN, "31.04.2026", "kind", "is not a date"),
    ("date", GERMAN, "01.01.2026 ", "kind", "is not a date"),
    ("date", {}, "１２３４-01-01", "kind", "is not a date"),
    ("time", {}, "24:00", "kind", "is not a time"),
    ("time", {"time_forms": ["%H:%M:%S.%f"]}, "10:20:30.1234560000", "kind", "is not a time"),
    ("timestamp", {}, "2026-06-01", "kind", "is not a timestamp"),
    ("timestamptz", {}, "2026-06-01 10:20:30+2", "kind", "is not a timestamptz"),
    ("uuid", {}, "6f9619ff", "kind", "is not a uuid"),
    ("binary", {}, "0", "kind", "is not a binary"),
    ("text(3)", {}, "abcd", "text_length", "has 4 characters; text(3) holds 3"),
]


def read(kind: str, texts: list[str | None], **layout: Any) -> tuple[list[Any], dict[str, list[int]]]:
    typed = read_column(pa.array(texts, pa.string()), parse_kind(kind), Layout(**layout), "Europe/Lisbon")
    return typed.values.to_pylist(), {misfit.reason: misfit.rows.tolist() for misfit in typed.misfits}


@pytest.mark.parametrize(("kind", "layout", "text", "value"), READ, ids=[f"{row[0]} {row[2]}" for row in READ])
def test_a_text_of_the_kind_is_its_value_alone_and_among_others(kind: str, layout: Any, text: str, value: Any) -> None:
    assert read(kind, [text], **layout) == ([value], {})
    assert read(kind, [None, text, None, text], **layout) == ([None, value, None, value], {})


@pytest.mark.parametrize(
    ("kind", "layout", "text", "reason", "told"), REFUSED, ids=[f"{row[0]} {row[2]}" for row in REFUSED]
)
def test_a_text_that_is_not_of_the_kind_is_refused_and_spoils_no_other(
    kind: str, layout: Any, text: str, reason: str, told: str
) -> None:
    good, value = next((row[2], row[3]) for wanted in (layout, {}) for row in READ if row[:2] == (kind, wanted))

    assert read(kind, [good, text, None, good], **layout) == ([value, None, None, value], {reason: [1]})
    assert told in explain(parse_kind(kind), reason, text, Layout(**layout))  # type: ignore[arg-type]


@given(st.lists(st.one_of(st.none(), st.integers(-(10**20), 10**20)), max_size=30))
def test_whole_numbers_come_back_or_are_out_of_range(numbers: list[int | None]) -> None:
    fits = [number if number is None or -(2**63) <= number < 2**63 else None for number in numbers]

    values, misfits = read("integer", [None if number is None else str(number) for number in numbers])

    assert values == fits
    assert misfits.get("range", []) == [
        at for at, number in enumerate(numbers) if number is not None and fits[at] is None
    ]


@given(st.lists(st.one_of(st.none(), st.decimals(-(10**9), 10**9, places=3)), max_size=30), st.sampled_from([2, 3, 5]))
def test_decimals_are_exact_or_refused(numbers: list[Decimal | None], scale: int) -> None:
    values, misfits = read(f"decimal(12,{scale})", [None if number is None else f"{number:f}" for number in numbers])

    for at, (number, value) in enumerate(zip(numbers, values, strict=True)):
        fits = number is not None and abs(number) < 10 ** (12 - scale) and number == round(number, scale)
        assert value == (number if fits else None)
        assert (number is None) or fits or at in misfits["range"]


@given(st.lists(st.one_of(st.none(), st.dates()), max_size=30))
def test_every_day_of_the_calendar_comes_back(days: list[Date | None]) -> None:
    texts = [None if day is None else f"{day.day:02d}.{day.month:02d}.{day.year:04d}" for day in days]

    assert read("date", texts, **GERMAN) == (days, {})


@given(st.lists(st.text("0123456789.-+,eE x", max_size=8), max_size=20))
def test_no_text_is_a_number_that_python_would_not_read_so(texts: list[str]) -> None:
    values, _ = read("decimal(10,3)", list(texts))

    for text, value in zip(texts, values, strict=True):
        if value is not None:
            assert value == Decimal(text)
            assert set(text) <= set("0123456789.-+")


SAME: list[tuple[str, pa.DataType, list[Any]]] = [
    ("integer", pa.int32(), [1, -2, None]), ("decimal(9,2)", pa.decimal128(9, 2), [Decimal("1.50"), Decimal("-0.01"), None]),
    ("decimal(38,12)", pa.decimal128(38, 12), [Decimal("0.000000000001"), Decimal(10**25), None]), ("real", pa.float64(), [1e300, -0.1, None]),
    ("boolean", pa.bool_(), [True, False, None]), ("date", pa.date32(), [Date(1, 1, 1), Date(9999, 12, 31), None]),
    ("time", pa.time64("us"), [Time(0), Time(23, 59, 59, 999999), None]), ("timestamp", pa.timestamp("us"), [Moment(1, 1, 1), Moment(2026, 6, 1, 1, 2, 3, 4), None]),
    ("timestamptz", pa.timestamp("us", "UTC"), [Moment(2026, 6, 1, tzinfo=datetime.UTC), None]), ("binary", pa.binary(), [b"", b"\x00\xff", None]),
    ("text", pa.string(), ["", "ä", None]), ("uuid", pa.string(), ["6f9619ff-8b86-d011-b42d-00c04fc964ff", None]),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "type_", "values"), SAME, ids=[row[0] for row in SAME])
def test_the_canonical_text_of_a_value_is_that_value(kind: str, type_: pa.DataType, values: list[Any]) -> None:
    column = pa.array(values, type_)

    back = read_column(as_texts(column), parse_kind(kind), CANONICAL, "Atlantic/Faroe")
    direct = read_values(column, parse_kind(kind), Layout())

    assert not back.misfits
    assert back.values.to_pylist() == direct.values.to_pylist() == values
