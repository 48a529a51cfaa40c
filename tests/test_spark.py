"""Tables of Spark's own catalogue: conditions and fingerprints mean what they mean everywhere, and nothing is loaded."""

from __future__ import annotations

import contextlib
import datetime
import math
import random
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from conftest import DAY, SETTINGS, Space
from nomotheta.conditions import Kind, check, decimal, quoted
from nomotheta.place.base import Place
from nomotheta.place.connect import connect
from nomotheta.place.spark.place import SparkPlace, _type_of, in_backticks
from servers import USUAL, Database
from test_conditions import KINDS, MEANS, NOW, ROW, WHOLES
from test_delta import delete_two, foreign
from test_places import (  # noqa: F401
    BLANKS,
    WRITTEN,
    answered,
    fill,
    test_a_text_is_cast_to_the_number_that_loading_would_read_or_to_null,
    test_blank_means_the_same,
)
from test_random_conditions import (  # noqa: F401
    test_random_conditions_mean_the_same_in_every_place,
    test_values_are_counted_together_where_all_of_them_are_there,
    test_what_is_worked_out_of_sorted_values_is_the_same_everywhere,
)
from test_sides import (  # noqa: F401
    single_faults_are_found,
    test_different_values_are_counted_and_each_column_has_its_fingerprint,
    test_empty_tables_are_equal_and_one_row_is_not_none,
)
from test_written import DAYS, texts_are_read_alike


class Filled(SparkPlace):
    """A place that the tests fill, by Spark's own writer."""

    def create(self, table: str, _columns: Any) -> None:  # type: ignore[override]
        self.fetch(f"DROP TABLE IF EXISTS {quoted(table)}")

    @contextlib.contextmanager
    def transaction(self, *_tables: str) -> Iterator[None]:  # type: ignore[override]
        yield

    def append(self, table: str, _columns: Any, batches: Any, schema: Any) -> int:  # type: ignore[override]
        rows = pa.Table.from_batches(list(batches), schema)
        types = ", ".join(f"{in_backticks(each.name)} {_type_of(each.type)}" for each in schema)
        with self._session.translated():
            self._session.spark.createDataFrame(rows, types).write.format("parquet").saveAsTable(in_backticks(table))
        return rows.num_rows


@pytest.fixture(scope="session")
def house(spark: tuple[str, Any]) -> Iterator[SparkPlace]:
    opened = Filled("house", spark[0])
    opened.fetch("CREATE SCHEMA IF NOT EXISTS tests")
    for row in opened._rows("SHOW TABLES IN tests"):
        opened.fetch(f'DROP TABLE tests."{row[1]}"')
    opened.fetch("USE tests")
    yield opened
    opened.close()


@pytest.fixture
def place(house: SparkPlace) -> Place:
    if house.columns("written") is None:
        fill(house, "means", KINDS, [[ROW[name]] for name in KINDS])
        fill(house, "numbers", {"v": Kind("integer")}, [[10, 20, None]])
        fill(house, "written", {"v": Kind("text"), "n": Kind("integer")}, [WRITTEN, list(range(len(WRITTEN)))])
        fill(house, "texts", {"v": Kind("text"), "n": Kind("integer")}, [BLANKS, list(range(len(BLANKS)))])
    return house


def test_conditions_mean_the_same(place: Place) -> None:
    spoken = {name: kind for name, kind in KINDS.items() if kind.name not in {"uuid", "time"}}
    some = [(text, answer) for text, answer in MEANS if set(check(text, KINDS).columns()) <= set(spoken)]
    for first in range(0, len(some), 40):
        part = some[first : first + 40]
        said = [place.render(check(text, KINDS), NOW) for text, _ in part]
        listed = ", ".join(f"{sql} AS c{at}" for at, sql in enumerate(said))
        (found,) = place.fetch(f"SELECT {listed} {place.rowset('means')}").to_pylist()
        for (text, answer), met in zip(part, found.values(), strict=True):
            assert met == answer, text
    assert len(some) > 60


def test_wholes_mean_the_same(place: Place) -> None:
    for text, answer in WHOLES:
        kinds = {"v": Kind("integer")}
        assert answered(place, "numbers", check(text, kinds, "whole"), kinds) == [answer], text


@pytest.fixture
def places(house: SparkPlace) -> Iterator[dict[str, Place]]:
    with another("duckdb") as place:
        yield {"duckdb": place, "spark": house}


@contextlib.contextmanager
def another(sort: str) -> Iterator[Place]:
    database = Database(sort, USUAL.get(sort, ""))
    place = connect(sort, database.url, Path(), create=True)
    yield place
    place.close()
    database.drop()


@pytest.mark.parametrize("other", ["spark", "duckdb", "sqlite", "mariadb"])
def test_a_single_fault_is_found_and_named(other: str, house: SparkPlace) -> None:
    if other == "spark":
        single_faults_are_found("spark", "spark", {"spark": house}, 2)
        return
    with another(other) as place:
        single_faults_are_found("spark", other, {"spark": house, other: place}, 2)


def test_it_reads_texts_as_the_program_does_or_says_that_it_does_not(house: SparkPlace) -> None:
    texts_are_read_alike(house, 0, len(DAYS), every=2)


def test_reals_have_the_fewest_digits_in_texts_too(house: SparkPlace) -> None:
    chance, kinds = random.Random(8), {"r": Kind("real"), "t": Kind("text"), "d": decimal(38, 10)}
    reals = [
        0.0,
        -0.0,
        2e-3,
        1e22,
        2.0**-44,
        5e-324,
        1.7976931348623157e308,
        math.nan,
        math.inf,
        -math.inf,
        None,
        2.0**53,
    ]
    reals += [chance.choice([1, -1]) * chance.random() * 10.0 ** chance.randrange(-300, 300) for _ in range(500)]
    texts = [chance.choice(["", "a", "\\", "'", "é|:", "\U0001f6a2", None]) for _ in reals]
    numbers = [
        None if at % 7 == 0 else Decimal(chance.randrange(-(10**30), 10**30)).scaleb(-10) for at in range(len(reals))
    ]
    with another("duckdb") as place:
        found = []
        for each in (house, place):
            fill(each, "reals", kinds, [reals, texts, numbers])
            prints = each.fingerprint.knowing(each.columns("reals") or [])
            listed = ", ".join(f"{prints.row_text({name: kinds[name]})} AS {name}" for name in kinds)
            found.append(sorted(tuple(row.values()) for row in each.fetch(f"SELECT {listed} FROM reals").to_pylist()))
            found.append(each.fetch(f"SELECT {prints.hash_sum(kinds)} AS h FROM reals").to_pylist())
    assert found[0] == found[2]
    assert int(found[1][0]["h"]) == int(found[3][0]["h"])


CHARTER = """
table = "tickets"
place = "house"
[columns.ticket_no]
kind = "text(4)"
blank = "never"
[columns.fare]
kind = "decimal(8,2)"
[columns.sold_on]
kind = "date"
[columns.note]
kind = "text"
[[keys]]
columns = ["ticket_no"]
[[rules]]
name = "cheap"
each = '''fare < 10 and note like '%\\%' escape '!' '''
otherwise = "warn"
[[rules]]
name = "days"
whole = "count(distinct sold_on) = 2 and sum(fare) > 5 and median(fare) = 2.75"
[[references]]
columns = ["ticket_no"]
listed_in = "known(no)"
"""


@pytest.fixture
def workspace(space: Space, house: SparkPlace, spark: tuple[str, Any]) -> Space:
    """A workspace whose tickets somebody else has put into Spark's catalogue, and a copy of them in its warehouse."""
    kinds = {"ticket_no": Kind("text"), "fare": decimal(8, 2), "sold_on": Kind("date"), "note": Kind("text")}
    day, next_day = datetime.date(2026, 6, 1), datetime.date(2026, 6, 2)
    rows = [
        ("T001", "1.50", day, "a\\b"),
        ("T002", "2.50", day, None),
        ("T003", "12.00", next_day, "it's \\"),
        ("T003", "3.00", next_day, "\\"),
    ]
    columns = [
        [Decimal(value) if name == "fare" else value for value in column]
        for name, column in zip(kinds, zip(*rows, strict=True), strict=True)
    ]
    fill(house, "tickets", kinds, columns)
    fill(house, "known", {"no": Kind("text")}, [["T001", "T002"]])
    url = spark[0].replace("sc://", "spark://")
    space.write("nomotheta.toml", SETTINGS + f'[places.house]\nurl = "{url}/tests"\n')
    space.charter(CHARTER)
    with contextlib.closing(connect("warehouse", "duckdb:///warehouse.duckdb", space.root, create=True)) as place:
        fill(place, "copy", kinds, columns)
    return space


def test_a_table_of_the_catalogue_is_judged_where_it_is(workspace: Space) -> None:
    found = workspace.judge()

    told = {name: (each["verdict"], each["breaks"]) for name, each in found.items() if isinstance(each, dict)}
    assert told["cheap"] == ("warn", 1)
    assert told["days"][0] == "pass"
    assert [each["breaks"] for name, each in found.items() if name.startswith("key")] == [1]
    assert next(each for name, each in told.items() if "known" in name) == ("fail", 2)
    assert not any(each["embedded"] for each in found.values() if isinstance(each, dict))


def test_a_table_of_the_catalogue_is_compared_with_any_other(workspace: Space) -> None:
    same = workspace.run("reconcile", "house:tickets", "--with", "warehouse:copy", "--json")
    workspace.sql("UPDATE copy SET note = 'a/b' WHERE ticket_no = 'T001'")
    other = workspace.run("reconcile", "house:tickets", "--with", "warehouse:copy")

    assert same.code == 0, same.text
    assert other.code == 1 and "a\\b" in other.text and "a/b" in other.text


def test_what_cannot_be_done_in_the_catalogue_is_said(workspace: Space) -> None:
    workspace.write("inbox/t.csv", "ticket_no,fare,sold_on,note\nT009,1,2026-06-01,x\n")
    workspace.charter(
        CHARTER.replace("[columns.ticket_no]", '[delivery]\nfiles = "inbox/t.csv"\n[columns.ticket_no]', 1)
    )
    load = workspace.run("load", "tickets")
    places = workspace.run("places")
    gone = workspace.run("judge", "tickets")
    workspace.write("nomotheta.toml", SETTINGS + '[places.house]\nurl = "spark://127.0.0.1:9/tests"\n')
    off = workspace.run("judge", "tickets")

    assert load.code == 3 and "tables of Spark's own catalogue are not loaded" in load.text, load.text
    assert "Apache Spark 4" in places.text
    assert gone.code == 1
    assert (
        off.code == 3 and "place house" in off.text and "cannot be reached" in off.text and "Traceback" not in off.text
    )


LAKE = """
table = "tickets"
[delivery]
files = "inbox/tickets-{day}.csv"
[load]
tolerate = "all"
after_fail = "keep"
[columns.ticket_no]
kind = "text(4)"
blank = "never"
[columns.fare]
kind = "decimal(8,2)"
[columns.sold_on]
kind = "date"
[columns.key]
kind = "uuid"
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["ticket_no"]
[[rules]]
name = "cheap"
each = "fare < 10"
otherwise = "warn"
[[rules]]
name = "sums"
whole = "sum(fare) > 5 and count(distinct sold_on) = 2"
over = "table"
"""


@pytest.fixture
def lake(space: Space, spark: tuple[str, Any]) -> Space:
    """A lake with two loads, and an engine that may be asked."""
    settings = SETTINGS.replace("duckdb:///warehouse.duckdb", "delta:///lake")
    space.write("nomotheta.toml", settings + f'[engines.cluster]\nurl = "{spark[0]}"\n')
    space.charter(LAKE)
    for day, lines in {DAY: "T001,1.5\nT002,\nT003,12\n", "2026-06-02": "T004,2.25\nT005,x\n"}.items():
        rows = "".join(
            f"{line},{day},0e37df36-f698-11e6-8dd4-cb9ced3df97{at}\n" for at, line in enumerate(lines.split())
        )
        space.write(f"inbox/tickets-{day}.csv", "ticket_no,fare,sold_on,key\n" + rows)
        assert space.load(day=day)["balance"]["loaded"] == len(lines.split()) - lines.count("x")
    return space


def test_a_lake_is_judged_and_reconciled_by_an_engine_as_without_one(lake: Space) -> None:
    def said(*words: str) -> tuple[int, list[Any]]:
        ended = lake.run(*words, "--json")
        if words[0] == "reconcile":
            ((found,),) = [each for each in ended.json.values() if isinstance(each, list)]
            return ended.code, [found["verdict"], found["totals"], found["source_rows"], found["target_rows"]]
        findings = [finding for each in ended.json["tables"] for finding in each["findings"]]
        by_text = "the column is stored as string (uuid)"  # which an engine does not read as what it is
        return ended.code, [
            {name: value for name, value in each.items() if name not in {"sql", "embedded"}}
            | {"message": each["message"].replace(by_text, "")}
            for each in findings
        ]

    for words in (["judge"], ["judge", "--jobs", "2"], ["judge", "tickets", "--load", "1"], ["reconcile", "tickets"]):
        by_engine, alone = said(*words, "--engine", "cluster"), said(*words)
        assert by_engine[0] == alone[0], words
        for one, other in zip(by_engine[1], alone[1], strict=True):
            assert one == other, words
    assert "COLLATE UTF8_BINARY" in lake.run("judge", "--show-sql", "--engine", "cluster").out
    file = min(lake.root.glob("lake/tickets/*.parquet"))
    pq.write_table(pq.read_table(file).slice(1), file)

    assert "and the log says" in lake.run("judge", "--engine", "cluster").text


def test_rows_that_are_deleted_from_files_of_a_lake_are_not_there_for_an_engine_either(
    space: Space, spark: tuple[str, Any]
) -> None:  # fmt: skip
    settings = SETTINGS.replace("duckdb:///warehouse.duckdb", "delta:///lake")
    space.write("nomotheta.toml", settings + f'[engines.cluster]\nurl = "{spark[0]}"\n')
    space.charter('table = "t"\n[columns.k]\nkind = "text"\n[columns.p]\nkind = "text"\n[[rules]]\nname = "all"\n'
                  "whole = \"count(*) = 4 and min(k) = 'A' and max(k) = 'G' and count(distinct k) = 4\"\n")  # fmt: skip
    rows = pa.table({"k": list("ABCDEFGH"), "p": ["x"] * 4 + ["y z"] * 4})
    delete_two(foreign(space, rows, partition_by=["p"]))

    for words in (["judge"], ["judge", "--engine", "cluster"]):
        assert space.run(*words).code == 0, space.run(*words).text
    assert space.run("judge", "--engine", "cluster", "--show-sql").out.count("COLLATE UTF8_BINARY")


def test_what_an_engine_would_not_see_of_a_lake_is_an_error(lake: Space) -> None:
    table = lake.root / "lake/tickets"
    (first, *_) = sorted(table.glob("*.parquet"))
    for entry in (table / "_delta_log").glob("*.json"):
        entry.write_text(entry.read_text().replace(first.name, f"_{first.name}"))
    first.rename(first.with_name(f"_{first.name}"))

    alone, by_engine = lake.run("judge"), lake.run("judge", "--engine", "cluster")

    assert alone.code == 0, alone.text
    assert by_engine.code == 3 and "Spark does not read a file by this name" in by_engine.text
