"""Conditions: what they refuse, what they point at, and that they mean what they say."""

from __future__ import annotations

import datetime
import re
from decimal import Decimal

import duckdb
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nomotheta.conditions import (
    ConditionError,
    Kind,
    PatternError,
    build,
    check,
    decimal,
    parse_kind,
    parse_pattern,
    render_pattern,
)
from nomotheta.place.render import Now, Renderer

KINDS = {
    "n": Kind("integer"), "m": Kind("integer"), "fare": decimal(8, 2), "share": Kind("real"),
    "name": Kind("text", 20), "note": Kind("text"), "day": Kind("date"), "at": Kind("timestamp"),
    "paid": Kind("boolean"), "left_at": Kind("timestamptz"), "leaves": Kind("time"),
}  # fmt: skip
NOW = Now(datetime.datetime(2026, 6, 1, 12, 0, tzinfo=datetime.UTC), datetime.date(2026, 6, 1), 7)

REFUSED = [
    ("fares > 3", "no column 'fares'", "fares", "did you mean 'fare'?"),
    ("fare > 'abc'", "cannot compare: fare is decimal(8,2), 'abc' is text", "'abc'", ""),
    (
        "day = '2026-01-01'",
        "cannot compare: day is date, '2026-01-01' is text",
        "'2026-01-01'",
        "write date '2026-01-01'",
    ),
    ("n = '3'", "cannot compare: n is integer, '3' is text", "'3'", "write 3 without quotes"),
    ("sum(fare) > 3", "sum(...) is an aggregate; 'each' looks at one row at a time", "sum", "write it under 'whole'"),
    ("fare > 3; drop table x", "';' is not expected here", ";", "one condition, and nothing after it"),
    ("fare > 3 and", "a value is missing at the end", "", ""),
    ("lenght(name) > 3", "no function 'lenght'", "lenght", "did you mean 'length'?"),
    ("fare in (select 1)", "a condition cannot hold a query", "select", "a query is written under 'offenders'"),
    ("name ~ 'a(?=b)'", "this pattern has (?...), which not every database knows", "?", ""),
    ("paid = 1", "cannot compare: paid is boolean, 1 is integer", "1", "write true or false"),
    ("not fare", "'not' needs boolean, but fare is decimal(8,2)", "fare", ""),
    ("1 < fare < 3", "comparisons do not chain", "<", "write a < b and b < c"),
    ("fare == 3", "'==' is not expected here", "==", "write ="),
    ("n::text = '3'", "'::' is not expected here", "::", "write cast(x as kind)"),
    ("date '2026-02-30' < day", "'2026-02-30' is not a date", "date '2026-02-30'", "write date '2026-12-31'"),
    ("name = 'abc", "this text has no closing quote", "'abc", ""),
    ("fare = null", "a comparison with null is never true", "null", "write is null"),
    ("cast(name as date) > day", "text cannot be cast to date", "date", None),
    ("substring(name, 0, 2) = 'a'", "substring counts with a whole number, from 1", "0", ""),
    ("(fare > 1", "expected ')', but the condition ends here", "", ""),
    ("fare > 0x1F", "this is not a number", "0x1F", ""),
    ("b.fare > 1", "'.' is not expected here", ".", None),
    ("day > :dya", "no parameter ':dya'", ":dya", "did you mean 'day'?"),
    ("paid > true", "boolean has no order", ">", ""),
    ("", "the condition is empty", "", ""),
    ("fare", "a condition is true or false, but this is decimal(8,2)", "fare", ""),
    ("round(fare, n) = 1", "the places of round are a whole number from 0 to 10", "n", ""),
    ("concat(name, note) = 'a'", "no function 'concat'", "concat", "write a || b"),
    ("at - day > 3", "cannot compare: at - day is duration, 3 is integer", "3", "write an interval: interval '3' day"),
    ("at - day > interval '1' month", "a month has no fixed length", "interval", "write it in days"),
    ("(at - day) * 1.5 > interval '1' day", "'*' has no meaning between duration and decimal(2,1)", "*", None),
    ("interval '1' day < interval '2' day", "two intervals are always the same", "interval", None),
    ("at at time zone 'UTC' > at", "'at time zone' needs timestamptz, but at is timestamp", "at", None),
    ("current_timestamp at time zone 'Nowhere' > at", "'Nowhere' is not a time zone", "at time", None),
    (
        "at < timestamp '2026-01-01 12:00+01'",
        "cannot compare: at is timestamp, timestamp '2026-01-01 12:00+01' is timestamptz",
        "timestamp",
        "write cast(x as timestamp) for the local time of an instant in the workspace's zone",
    ),
    ("regexp_like(name, 'a', 'x')", "behind the pattern comes 'i', for letters in any case", "'x'", ""),
    ("(n, m) in ((1, 2), (1, 2, 3))", "each row of this list must have 2 values", "(1, 2, 3)", ""),
    ("(n, m) = (1, 2)", "a list of values is not expected here", "=", ""),
    ("1 + (n, m) in (1)", "a list of values is not expected here", "(n, m)", ""),
    ("abs(n, m) > 1", "abs takes 1 value, not 2", "abs", ""),
]


@pytest.mark.parametrize(("text", "what", "at", "hint"), REFUSED, ids=[row[0] or "empty" for row in REFUSED])
def test_a_wrong_condition_is_refused_with_its_place_and_a_hint(
    text: str, what: str, at: str, hint: str | None
) -> None:
    with pytest.raises(ConditionError) as caught:
        check(text, KINDS)

    error = caught.value
    assert error.what == what
    assert text[error.start : error.end].startswith(at)
    assert hint is None or error.hint == hint
    assert error.pointed(text).splitlines()[1].strip("^ ") == ""


WHOLES_REFUSED = [("fare > 3", "'fare' is used outside"), ("sum(name) > 1", "sum needs"), ("max(paid)", "max has no meaning"),
                  ("percentile_cont(2) within group (order by fare) > 1", "takes a share from 0 to 1"), ("stddev(fare) > 1", "no function"),
                  ("percentile_cont(0.5) > 1", "expected 'within'"), ("median(day) > day", "median needs"), ("stddev_pop(distinct fare) > 1", "is of all values"),
                  ("sum(sum(fare)) > 1", "an aggregate cannot hold another"), ("1 = 1", "a 'whole' condition needs")]  # fmt: skip


@pytest.mark.parametrize(("text", "what"), WHOLES_REFUSED)
def test_a_whole_needs_aggregates_that_fit(text: str, what: str) -> None:
    with pytest.raises(ConditionError, match=re.escape(what)):
        check(text, KINDS, "whole")


ROW = {
    "n": 7, "m": 2, "fare": Decimal("12.50"), "share": 0.25, "name": " Alda ", "note": None,
    "day": datetime.date(2026, 1, 31), "at": datetime.datetime(2026, 1, 31, 23, 5), "paid": True,
    "left_at": datetime.datetime(2026, 6, 1, 11, 30, tzinfo=datetime.UTC), "leaves": datetime.time(23, 50, 30),
}  # fmt: skip
# what each condition says of that row; None is null, which is no break
MEANS = [
    ("n / m = 3.5", True), ("n / 0 is null", True), ("n % 0 is null", True), ("-n % m = -1", True),
    ("n * 9000000000000000 > 0", True), ("floor(n) + ceil(m) = 9", True), ("fare between 12.5 and 13", True),
    ("fare in (1, 12.50)", True), ("fare * 2 = n + 18", True), ("trim(name) = 'Alda'", True),
    ("name = 'Alda'", False), ("name like '%lda%' and not name like 'A%'", True),
    ("name like '!%%' escape '!'", False), ("trim(name) || '_' like 'Alda!_' escape '!'", True),
    ("trim(name) || 'x' like 'Alda!_' escape '!'", False), ("char_length(name) = 6", True), ("note = 'x'", None),
    ("note is null or note = 'x'", True), ("note is distinct from 'x'", True),
    ("coalesce(note, 'none') = 'none'", True), ("name ~ '[A-Z]lda'", True), ("name !~ '^Alda$'", True),
    ("day + interval '1' month = date '2026-02-28'", True), ("day + 1 = date '2026-02-01'", True),
    ("day - date '2026-01-01' = 30", True), ("at > day", True),
    ("at < current_timestamp and day < current_date", True),
    ("extract(isodow from day) = 6 and extract(hour from at) = 23", True),
    ("case when paid then 1 else 2 end = 1", True), ("case n when 7 then paid end", True),
    ("round(2.5) = 3 and round(-2.5) = -3", True), ("round(share * 10, 0) = 3", True),
    ("cast(name as integer) is null", True), ("cast('12' as integer) = 12", True),
    ("cast('-9223372036854775809' as integer) is null and cast('9223372036854775808' as integer) is null", True),
    ("cast('-9223372036854775808' as integer) < -1 and cast('9223372036854775807' as integer) > 1", True),
    ("cast('999999.99' as decimal(8,2)) > 1 and cast('1000000' as decimal(8,2)) is null", True),
    ("position('d' in name) = 4", True), ("replace(name, 'a', 'o') || '!' = ' Aldo !'", True),
    ("left(name, 3) = ' Al' and right(name, 2) = 'a '", True), ("substring(name from 2 for 2) = 'Al'", True),
    ("upper(name) = ' ALDA ' and lower('É') = 'é'", True), ("day = :day or :load_no = 7", True),
    ("nullif(n, 7) is null", True), ("(paid is true) and (not paid) is false", True),
    ("(n, trim(name)) in ((7, 'x'), (7, 'Alda')) and (n, m) not in ((2, 7))", True), ("(n, note) in ((7, 'x'))", None),
    ("(n, note) in ((8, 'x'), (9, 'y'))", False), ("(day + 1, n) in ((date '2026-02-01', 7), (date '2026-02-02', 7))", True),
    ("extract(week from day) = 5 and extract(week from date '2027-01-03') = 53", True),
    ("extract(isoyear from day) = 2026 and extract(isoyear from date '2027-01-03') = 2026", True),
    ("extract(hour from time '23:59:07') = 23 and extract(second from time '23:59:07') = 7", True),
    ("extract(minute from time '23:59:07.9') = 59 and extract(second from time '23:59:07.9') = 7", True),
    ("floor(fare) = 12 and ceil(fare) = 13 and abs(-fare) = 12.5", True), ("n > 1e0 and share < .5", True),
    ("at - day = interval '1385' minute and at - day > interval '23' hour + interval '4' minute", True),
    ("(at - day) / interval '1' minute = 1385 and (day - at) / interval '1' hour < -23", True),
    ("abs(day - at) * 2 < interval '2' day and -(at - day) < interval '0' second", True),
    ("coalesce(at - timestamp '2026-01-31 23:00', interval '1' day) = interval '300' second", True),
    ("leaves - time '00:00:30' = interval '23' hour + interval '50' minute", True),
    ("left_at > current_timestamp - interval '31' minute and left_at < current_timestamp", True),
    ("left_at + interval '30' minute = current_timestamp and current_timestamp - left_at = interval '1800' second", True),
    ("left_at = timestamp '2026-06-01 12:30+01:00' and left_at = timestamptz '2026-06-01 11:30'", True),
    ("left_at < timestamp with time zone '2026-06-01T11:30:00.000001Z' and left_at > timestamp '2026-06-01 11:29'", True),
    ("extract(hour from left_at) = 11 and extract(hour from left_at at time zone 'Europe/Berlin') = 13", True),
    ("left_at at time zone 'Atlantic/Faroe' = timestamp '2026-06-01 12:30:00'", True),
    ("cast(left_at as date) = date '2026-06-01' and cast(left_at as timestamp) < localtimestamp", True),
    ("regexp_like(name, 'ALDA', 'i') and not regexp_like(name, 'ALDA', 'c') and name ~ 'Alda'", True),
    ('"n" >= +7', True), ("mod(n, 4) = 3", True), ("at = timestamp '2026-01-31 23:05:00'", True),
]  # fmt: skip


@pytest.mark.parametrize(("text", "answer"), MEANS, ids=[row[0] for row in MEANS])
def test_a_condition_means_what_the_reference_says(text: str, answer: bool | None) -> None:
    names = {"n": "BIGINT", "m": "BIGINT", "fare": "DECIMAL(8,2)", "share": "DOUBLE", "name": "VARCHAR", "note": "VARCHAR",
             "day": "DATE", "at": "TIMESTAMP", "paid": "BOOLEAN", "left_at": "TIMESTAMPTZ", "leaves": "TIME"}  # fmt: skip
    values = ", ".join(f"CAST(? AS {kind}) AS {name}" for name, kind in names.items())
    sql = Renderer(NOW).render(check(text, KINDS))

    with duckdb.connect() as connection:
        found = connection.execute(f"SELECT {sql} FROM (SELECT {values})", list(ROW.values())).fetchall()

    assert found == [(answer,)]


WHOLES = [
    ("count(*) = 3 and count(v) = 2", True),
    ("sum(v) = 30 and avg(v) = 15", True),
    ("sum(v) filter (where v > 10) = 20", True),
    ("count(distinct v) between 1 and 2", True),
    ("sum(distinct v - v + 1) = 1 and sum(v - v + 1) = 2 and count(distinct v - v) = 1 and count(v - v) = 2", True),
    ("min(v) < max(v)", True),
    ("count(distinct v, v - v) = 2 and count(distinct v - v, v - v) = 1", True),
    ("count(distinct v, v + 1) filter (where v > 10) = 1", True),
    ("count(*) filter (where v is null) * 100 > count(*) * 50", False),
    ("avg(v) filter (where v > 100) > 1", None),
    ("median(v) = 15 and percentile_cont(0.9) within group (order by v) = 19", True),
    (
        "percentile_disc(0.5) within group (order by v) = 10 and percentile_disc(0.51) within group (order by v) = 20",
        True,
    ),
    ("median(v) filter (where v > 10) = 20 and percentile_cont(1) within group (order by -v) = -10", True),
    ("stddev_samp(v) between 7.0710678 and 7.0710679 and stddev_pop(v) = 5", True),
    ("stddev_samp(v) filter (where v > 10) is null and median(v) filter (where v > 20) is null", True),
]


@pytest.mark.parametrize(("text", "answer"), WHOLES)
def test_a_whole_speaks_of_all_rows(text: str, answer: bool | None) -> None:
    sql = Renderer(NOW).render(check(text, {"v": Kind("integer")}, "whole"))

    with duckdb.connect() as connection:
        found = connection.execute(f"SELECT {sql} FROM (VALUES (10), (20), (NULL)) AS t(v)").fetchall()

    assert found == [(answer,)]


@pytest.mark.parametrize("text", ["", " ", "\t", "\u3000", "\u00a0 ", "a", " a ", "é", "字", "\u200b", "\x1f"])
def test_blank_is_null_empty_or_unicode_white_space(text: str) -> None:
    sql = Renderer(NOW).render(build.not_blank("v", Kind("text")))

    with duckdb.connect() as connection:
        found = connection.execute(f"SELECT {sql} FROM (SELECT ? AS v)", [text]).fetchall()
        null = connection.execute(f"SELECT {sql} FROM (SELECT CAST(NULL AS VARCHAR) AS v)").fetchall()

    white = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2028\u2029\u202f\u205f\u3000" + "".join(map(chr, range(0x2000, 0x200B)))
    assert found == [(text.strip(white) != "",)]
    assert null == [(False,)]


@pytest.mark.parametrize(
    ("text", "what"),
    [("(?=a)", "(?...)"), ("a**", "after a count"), ("[z-a]", "runs backwards"), ("a\\b", "word edge"), ("(a", "unclosed ("),
     ("a{300}", "beyond 255"), ("", "is empty"), ("a^", "elsewhere than first"), ("[[:alpha:]]", "has [ inside"),
     ("(a{200}){200}", "more than 1000"), ("a)", "has ) without"), ("\\1", "refers back"), ("a|", "empty branch")],
)  # fmt: skip
def test_a_pattern_outside_the_common_set_is_refused(text: str, what: str) -> None:
    with pytest.raises(PatternError, match=re.escape(what)):
        parse_pattern(text)


_ATOMS = st.sampled_from(["a", "b", ".", "\\d", "[ab]", "[^a]", "\\.", "é", "\\w", "[0-9x]", "(a|b)", "(?:ab)"])
_PARTS = st.tuples(_ATOMS, st.sampled_from(["", "", "*", "+", "?", "{2}", "{1,3}"])).map("".join)


@given(st.lists(_PARTS, min_size=1, max_size=5).map("".join), st.lists(st.text("ab1é.x\n", max_size=6), max_size=8))
def test_a_pattern_means_the_same_in_python_and_in_the_engine(pattern: str, texts: list[str]) -> None:
    part = parse_pattern(pattern)
    python = re.compile(render_pattern(part, "python", full=True), re.ASCII)
    engine = render_pattern(part, "re2", full=True)

    with duckdb.connect() as connection:
        for text in texts:
            (found,) = connection.execute("SELECT regexp_matches(?, ?)", [text, engine]).fetchall()
            assert found[0] is bool(python.search(text))


@pytest.mark.parametrize("text", ["text(9)", "integer", "decimal(8,2)", "timestamptz", "uuid"])
def test_a_kind_is_written_as_it_is_read(text: str) -> None:
    assert str(parse_kind(f" {text} ".replace(",", ", "))) == text


@pytest.mark.parametrize(
    ("text", "what"),
    [("txt", "did you mean 'text'?"), ("decimal", "needs its digits"), ("decimal(40,2)", "1 to 38"), ("date(3)", "cannot have"),
     ("text(0)", "cannot have"), ("decimal(2,3)", "needs its digits"), ("9", "is not a kind")],
)  # fmt: skip
def test_what_is_no_kind_is_refused(text: str, what: str) -> None:
    with pytest.raises(ValueError, match=re.escape(what)):
        parse_kind(text)
