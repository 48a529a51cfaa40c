"""Cells changed behind the program's back, in every kind and place: reconciling names just these, whatever they are."""

from __future__ import annotations

import math
import random
import re
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa

from conftest import Space
from nomotheta.conditions import parse_kind
from nomotheta.kinds.native import as_texts
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.layout import CANONICAL, UNTYPED
from nomotheta.place.connect import connect
from servers import Database
from test_round_trips import EDGES, database, running, sent, sort  # noqa: F401

REALS = [
    "0.1", "0.30000000000000004", "-1e300", "5e-324", "1.7976931348623157e308", "123456789.125", "0", "1e15", "1e23",
    "9007199254740993", "374138644878749600", "4503599627370497", "-2.2250738585072014e-308", "6.02e22", "1e-7", "17",
]  # fmt: skip
VALUES = EDGES | {
    "real": REALS,
    "decimal(38,38)": ["0.00000000000000000000000000000000000001", "-0.5", "0.99999999999999999999999999999999999999"],
    "text": [*EDGES["text"], "strasse", "Strasse", "STRASSE"],
}
ROWS, ROUNDS, MOST = 40, 6, 5
UNLIKE = {"general": {"text(5)", "decimal(38,0)", "decimal(38,20)", "decimal(38,38)", "timestamp", "date"}}


def read(written: str, texts: list[str | None]) -> Any:
    layout = UNTYPED if written == "boolean" else CANONICAL
    typed = read_column(pa.array(texts, pa.string()), parse_kind(written), layout)
    assert not typed.misfits, (written, texts)
    return typed.values


def neighbour(written: str, text: str | None, chance: random.Random) -> str | None:
    """Another value of the kind: mostly as near as there is one."""
    if text is None or chance.random() < 0.15:
        return chance.choice(VALUES[written]) if text is None else None
    kind = parse_kind(written)
    match kind.name:
        case "real":
            double = float(text)
            return repr(math.nextafter(double, 0.0 if double else 1.0))
        case "integer":
            return str(int(text) + (1 if int(text) < 0 else -1))
        case "decimal":
            unit = Decimal((0, (1,), -kind.scale))
            return (
                format(Decimal(text).fma(1, unit if text.startswith("-") else -unit), "f") if len(text) < 30 else None
            )
        case "text":
            return (
                text.swapcase()
                if text.swapcase() not in {text, "SS"}
                else text[:-1] + ("b" if text[-1] != "b" else "c")
            )
        case "boolean":
            return "false" if text == "true" else "true"
        case "binary":
            return f"{text[:-1]}{'0' if text[-1] != '0' else '1'}"
    others = [each for each in VALUES[written] if each != text]
    return chance.choice(others)


def plain(written: str, text: str | None) -> Any:
    """A value whose text has zeros that say nothing, or digits that may be others."""
    if text is None or not written.startswith(("time", "real")):
        return text
    return float(text) if written == "real" else re.sub(r"\.?0*(Z?)$", r"\1", text) if "." in text else text


def test_planted_faults_are_named_and_nothing_else(
    space: Space,
    database: Database,  # noqa: F811
    sort: str,  # noqa: F811
) -> None:
    chance = random.Random(23)
    kinds = {"n": "integer", **{f"c{at}": written for at, written in enumerate(VALUES)}}
    if sort == "general":
        kinds = {name: written for name, written in kinds.items() if written not in UNLIKE[sort]}
    rows: list[list[str | None]] = [
        [str(at), *(chance.choice([*VALUES[written], None]) for written in list(kinds.values())[1:])]
        for at in range(ROWS)
    ]
    keyed = '[[keys]]\ncolumns = ["n"]'
    load = sent(space, database, kinds, rows, keyed, create=True)
    assert (load["exit"], load["balance"]["loaded"]) == (0, ROWS), load
    equal = space.run("reconcile", "t")
    assert equal.code == 0, equal.text

    place = connect("there", database.url, Path())
    try:
        schema = pa.schema([(name, arrow_type(parse_kind(written))) for name, written in kinds.items()])
        for _ in range(ROUNDS):
            planted: dict[tuple[str, str], tuple[Any, Any]] = {}
            changed = [list(row) for row in rows]
            for _ in range(chance.randrange(1, MOST)):
                at, column = chance.randrange(ROWS), chance.choice(list(kinds)[1:])
                new = neighbour(kinds[column], rows[at][list(kinds).index(column)], chance)
                before, after = (
                    as_texts(read(kinds[column], [text])).to_pylist()[0]
                    for text in (rows[at][list(kinds).index(column)], new)
                )
                if before != after:
                    changed[at][list(kinds).index(column)] = new
                    planted[str(at), column] = (before, after)
            columns = [read(written, [row[at] for row in changed]) for at, written in enumerate(kinds.values())]
            with place.transaction("t"):
                place.delete("t", None)
                place.append("t", list(kinds), iter(pa.table(columns, schema).to_batches()), schema)
            ended = space.run("reconcile", "t", "--json")
            (found,) = ended.json["tables"]
            seen = {
                (row["key"][0][1], cell["column"]): (cell["source"], cell["target"])
                for row in found["differences"]
                for cell in row["cells"]
            }
            assert ended.code == (1 if planted else 0)
            assert seen.keys() == planted.keys()
            assert set(found["differing"]) == {column for _, column in planted}
            for cell, values in seen.items():
                written = kinds[cell[1]]
                assert [plain(written, text) for text in values] == [plain(written, text) for text in planted[cell]]
    finally:
        place.close()
