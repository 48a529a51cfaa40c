"""Any two sides: whatever differs is found and named, whatever is equal passes, in all pairs of places."""

from __future__ import annotations

import datetime
import random
from collections import Counter
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from nomotheta.charter.differ import ReconcileKeys
from nomotheta.conditions import Kind, decimal
from nomotheta.place.base import Place
from nomotheta.place.connect import connect
from nomotheta.place.render import NOWHERE
from nomotheta.reconcile import Reconciliation
from nomotheta.reconcile.given import GivenInPlace
from nomotheta.reconcile.sides import reconcile_sides
from nomotheta.rules.shape import existing
from servers import server
from test_places import SORTS, fill, made

KINDS = {
    "id": Kind("integer"), "line": Kind("integer"), "code": Kind("text", 40), "fare": decimal(12, 3), "on_day": Kind("date"),
    "at": Kind("timestamp"), "paid": Kind("boolean"), "share": Kind("real"),
}  # fmt: skip
TEXTS = [
    "",
    "x",
    "X",
    "x ",
    " x",
    "NULL",
    "ä",
    "a\u0308",
    "5:x",
    "a|b",
    "'",
    '"',
    "-- ;",
    "😀",
    "\\",
    "line\nend",
    "\t",
    "0",
    "00",
]
Row = tuple[Any, ...]


def some(chance: random.Random, kind: Kind) -> Any:
    if chance.random() < 0.12:
        return None
    match kind.name:
        case "integer":
            return chance.choice([0, -1, 1, 7, 2**53 + 1, -(2**62), chance.randrange(100)])
        case "text":
            return chance.choice(TEXTS) + chance.choice(["", "", "y"])
        case "decimal":
            return Decimal(chance.choice([0, 1, -1, 1000, chance.randrange(-(10**8), 10**8)])).scaleb(
                -chance.randrange(4)
            )
        case "date":
            return datetime.date(1900, 1, 1) + datetime.timedelta(chance.randrange(80_000))
        case "timestamp":
            return datetime.datetime(1970, 1, 2) + datetime.timedelta(
                seconds=chance.randrange(10**9), microseconds=chance.choice([0, 1, 500_000])
            )
        case "boolean":
            return chance.random() < 0.5
    return chance.choice([0.0, 1.5, -0.1, 1e-300, 1e22, 0.1 + 0.2, chance.random()])


FAULTS = ["cell", "lost", "doubled", "swapped", "added", "space", "moved", "shifted", "null"]
NAMES = list(KINDS)


def with_fault(chance: random.Random, rows: list[Row]) -> list[Row]:
    """The rows with one fault; the same where it happens to change nothing."""
    wrong, at, column = [list(row) for row in rows], chance.randrange(len(rows)), chance.randrange(1, len(NAMES))
    row, other = wrong[at], wrong[chance.randrange(len(rows))]
    match chance.choice(FAULTS):
        case "cell":
            row[column] = some(chance, KINDS[NAMES[column]])
        case "lost":
            del wrong[at]
        case "doubled":
            wrong.insert(chance.randrange(len(wrong)), [*row])
        case "swapped":
            row[column], other[column] = other[column], row[column]
        case "added":
            wrong.append([chance.randrange(10**6, 10**7), *(some(chance, kind) for kind in list(KINDS.values())[1:])])
        case fault:
            at, change = chance.choice(CHANGES[fault])
            row[at] = change(row[at])
    return [tuple(each) for each in wrong]


def to_empty(value: Any) -> Any:
    """Null for a value, empty for null."""
    return None if value is not None else ""


CHANGES: dict[str, list[tuple[int, Any]]] = {
    "space": [(NAMES.index("code"), lambda value: (value or "") + " ")],
    "moved": [(NAMES.index("fare"), lambda value: ((value or Decimal(0)) / 10).quantize(Decimal("0.001")))],
    "shifted": [
        (NAMES.index(name), lambda value: value and value + datetime.timedelta(days=1)) for name in ("on_day", "at")
    ],
    "null": [(NAMES.index("code"), to_empty), (NAMES.index("share"), lambda value: 0.0 if value is None else None)],
}


def expected(source: list[Row], target: list[Row], key: tuple[str, ...]) -> tuple[Counter[str], set[str]]:
    """How many rows of each sort differ, and in which columns rows changed: by comparing every row with every other."""
    names, at = list(KINDS), [list(KINDS).index(name) for name in key]
    only = [list((Counter(a) - Counter(b)).elements()) for a, b in ((source, target), (target, source))]
    sorts, columns = Counter[str](), set[str]()
    of = [tuple(row[each] for each in at or range(len(names))) for row in source]
    for row in only[0]:
        partner = next((each for each in only[1] if at and all(each[one] == row[one] for one in at)), None)
        if partner is None:
            sorts["missing"] += 1
            continue
        only[1].remove(partner)
        sorts["changed"] += 1
        columns |= {name for name, mine, its in zip(names, row, partner, strict=True) if mine != its}
    for row in only[1]:
        sorts["repeated" if tuple(row[each] for each in at or range(len(names))) in of else "unexpected"] += 1
    return sorts, columns


@pytest.fixture(scope="module")
def places() -> Iterator[dict[str, Place]]:
    """A place of every sort."""
    opened: dict[str, Place] = {}
    closing = []
    for sort in SORTS:
        running = server("mariadb" if sort == "general" else sort)
        database = made(sort, running.__enter__())
        opened[sort] = connect(sort, database.url, Path(), create=True)
        closing += [opened[sort].close, database.drop, lambda running=running: running.__exit__(None, None, None)]
    yield opened
    for each in closing:
        each()


def given(place: Place, table: str) -> GivenInPlace:
    shape = existing(place, table)
    kinds = {column.name: KINDS[column.name] for column in shape}
    place.expect(table, kinds)
    meant = {} if place.native else kinds
    return GivenInPlace(place, f"{place.name}:{table}", place.rowset(table), shape, NOWHERE, meant, table=table)


def held(place: Place, table: str, rows: list[Row]) -> GivenInPlace:
    fill(place, table, KINDS, [list(column) for column in zip(*rows, strict=True)] if rows else [[] for _ in KINDS])
    return given(place, table)


def reconciled(source: GivenInPlace, target: GivenInPlace, key: tuple[str, ...], **said: Any) -> Reconciliation:
    return reconcile_sides(
        source, target, ReconcileKeys(key=list(key), **said), "fares", keys=tuple, beside="nothing", limit=None
    )  # fmt: skip


PAIRS = [(a, b) for a in SORTS for b in SORTS if a <= b or "duckdb" in (a, b)]


@pytest.mark.parametrize(("a", "b"), PAIRS, ids=[f"{a} {b}" for a, b in PAIRS])
def test_a_single_fault_is_found_and_named_and_what_is_equal_passes(a: str, b: str, places: dict[str, Place]) -> None:
    single_faults_are_found(a, b, places, ROUNDS)


def single_faults_are_found(a: str, b: str, places: dict[str, Place], rounds: int) -> None:
    chance = random.Random(f"{a} {b}")
    for at in range(rounds):
        rows = [(n, *(some(chance, kind) for kind in list(KINDS.values())[1:])) for n in range(chance.randrange(2, 30))]
        key: tuple[str, ...] = chance.choice([("id",), ("id", "line"), ()])
        if not key or chance.random() < 0.2:
            rows += chance.choices(rows, k=2)
        wrong = with_fault(chance, rows)
        source = held(places[a], f"s_{at}_{b}", rows)
        same = held(places[b], f"e_{at}_{a}", chance.sample(rows, len(rows)))
        target = held(places[b], f"t_{at}_{a}", chance.sample(wrong, len(wrong)))

        equal, found = reconciled(source, same, key), reconciled(source, target, key)

        assert (equal.verdict, equal.differing_rows) == ("pass", 0), (rows, equal)
        sorts, columns = expected(rows, wrong, key)
        assert found.verdict == ("fail" if sorts else "pass"), (rows, wrong)
        assert (Counter(found.sorts), found.differing_rows) == (sorts, sum(sorts.values())), (
            rows,
            wrong,
            found.differences,
        )
        if set(sorts) == {"changed"}:
            assert set(found.differing) == columns, (rows, wrong)


ROUNDS = 3


def test_different_values_are_counted_and_each_column_has_its_fingerprint(places: dict[str, Place]) -> None:
    chance, names = random.Random(16), list(KINDS)
    rows = [(n, *(some(chance, kind) for kind in list(KINDS.values())[1:])) for n in range(40)]
    at = next(at for at, kind in enumerate(KINDS.values()) if kind.name == "text")
    rows = [(*row[:at], text, *row[at + 1 :]) for row, text in zip(rows, ["a", "A", "a ", "á", None] * 8, strict=True)]
    wrong = [(*row[:at], "b" if row[0] == 0 else row[at], *row[at + 1 :]) for row in rows]
    told = set()
    for sort, place in places.items():
        source, other = held(places["duckdb"], f"d_{sort}", rows), held(place, "d", wrong)
        found = reconciled(source, other, ("id",), distinct=names, fingerprints=True)

        for column, (name, mine, its) in zip(
            found.totals, zip(names, zip(*rows, strict=True), zip(*wrong, strict=True), strict=True), strict=True
        ):
            counts = tuple(len({*values} - {None}) for values in (mine, its))
            assert (column.source_distinct, column.target_distinct) == counts, (sort, name)
            assert (column.source_fingerprint == column.target_fingerprint) == (name != names[at]), (sort, name)
        told.add(tuple((each.source_fingerprint, each.target_fingerprint) for each in found.totals))
    assert len(told) == 1  # one scheme in all places


def test_empty_tables_are_equal_and_one_row_is_not_none(places: dict[str, Place]) -> None:
    row = (1, 2, "x", Decimal("1.500"), datetime.date(2026, 6, 1), datetime.datetime(2026, 6, 1), True, 0.5)
    for sort, place in places.items():
        none, other = held(place, "none", []), held(places["duckdb"], f"none_{sort}", [])
        one = held(place, "one", [row])
        ten, nine = held(place, "ten", [row] * 10), held(places["duckdb"], f"nine_{sort}", [row] * 9)

        assert reconciled(none, other, ("id",)).verdict == "pass", sort
        assert reconciled(none, one, ("id",)).sorts == {"unexpected": 1}, sort
        assert reconciled(one, none, ()).sorts == {"missing": 1}, sort
        assert (reconciled(ten, nine, ()).sorts, reconciled(nine, ten, ()).sorts) == (
            {"missing": 1},
            {"repeated": 1},
        ), sort


def test_where_much_differs_finer_buckets_narrow_it(places: dict[str, Place], monkeypatch: pytest.MonkeyPatch) -> None:
    rows = [(n, n % 3, f"c{n}", None, None, None, None, None) for n in range(3000)]
    wrong = [(n, k, "other" if n % 10 == 0 else code, *rest) for n, k, code, *rest in rows]
    monkeypatch.setattr("nomotheta.reconcile.compare._FEW_ROWS", 50)
    for sort in ("postgresql", "duckdb", "mariadb"):
        source, target = held(places[sort], "many", rows), held(places["duckdb"], f"wrong_{sort}", wrong)

        found = reconciled(source, target, ("id",))

        assert (found.sorts, found.differing, found.differing_rows) == ({"changed": 300}, ("code",), 300), sort
        monkeypatch.setattr("nomotheta.reconcile.compare._MOST_ROWS", 100)
        found = reconciled(source, target, ("id",))
        assert (found.verdict, found.differing, found.differing_rows) == ("fail", ("code",), None), sort
        monkeypatch.undo()
        monkeypatch.setattr("nomotheta.reconcile.compare._FEW_ROWS", 50)
