"""Values that are listed elsewhere, fetched: to look for those that are not, in another place or while rows come in."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Check
from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.keys import Ints
from nomotheta.keys.hashing import Hasher
from nomotheta.kinds.read import arrow_type
from nomotheta.place.base import Place
from nomotheta.rules.anew import listed_columns
from nomotheta.rules.question import Surroundings
from nomotheta.rules.shape import check_comparable, existing

MOST = 5_000_000  # different values that are kept in memory
_HERE, _THERE, _AT = own("here"), own("listed"), own("at")


def listed_values(check: Check, kinds: Sequence[Kind], place: Place, around: Surroundings | None) -> Any:
    """The values that a reference allows, as a `pa.Table` of its columns in their kinds; null is none.

    Raises:
        PlaceError: they cannot be read, cannot be compared, or are too many.
    """
    schema = pa.schema([(name, arrow_type(kind)) for name, kind in zip(check.columns, kinds, strict=True)])
    if check.listed is not None:
        return pa.table(
            [pa.array(cells, field.type) for cells, field in zip(check.listed, schema, strict=True)], schema
        )
    with _place_of(check, place, around) as there:
        return _of_table(check, kinds, there, schema)


@contextlib.contextmanager
def _place_of(check: Check, place: Place, around: Surroundings | None) -> Iterator[Place]:
    if check.place is None or check.place == place.name:
        yield place
    elif around is None:
        raise PlaceError(f"the place {check.place} cannot be reached from here")
    else:
        with around.place(check.place) as other:
            yield other


def _of_table(check: Check, kinds: Sequence[Kind], place: Place, schema: Any) -> Any:
    assert check.listed_in is not None  # noqa: S101 - a reference that is in no file
    table, names = check.listed_in
    there = {column.name: column for column in existing(place, table)}
    check_comparable(check, kinds, there)
    columns = listed_columns([there[name] for name in names], kinds)
    said = [
        place.exactly(quoted(each.name), there[each.name]) if each.reading is None else place.as_text(each.name)
        for each in columns
    ]
    named = ", ".join(f"{sql} AS {quoted(own(str(at)))}" for at, sql in enumerate(said))
    present = " AND ".join(f"{quoted(each.name)} IS NOT NULL" for each in columns)
    place.expect(table, {each.name: each.kind for each in columns if each.reading is None})
    batches, count = [], 0
    for batch in place.stream(f"SELECT DISTINCT {named} {place.rowset(table, present)}"):
        arrays = [each.read(values) for each, values in zip(columns, batch.columns, strict=True)]
        batches.append(pa.record_batch(arrays, schema=schema))
        count += batch.num_rows
    if count > MOST:
        told = f"{table} lists {count:,} different values, and at most {MOST:,} are compared outside its place"
        raise PlaceError(told, mend='write otherwise = "fail" in the charter')
    return pa.Table.from_batches(batches, schema)


def unlisted(rows: Any, values: Any, engine: Hasher) -> Ints:
    """The rows of a `pa.Table` whose values of the columns of `values` are all there, and are not among those."""
    names = values.column_names
    if len(names) == 1:
        column = rows.column(names[0])
        known = pc.is_in(column, value_set=values.column(0).combine_chunks())
        return np.flatnonzero(pc.and_not(column.is_valid(), known).to_numpy())
    here, there = quoted(_HERE), quoted(_THERE)
    same = " AND ".join(f"{here}.{quoted(name)} = {there}.{quoted(name)}" for name in names)
    present = " AND ".join(f"{here}.{quoted(name)} IS NOT NULL" for name in names)
    numbered = rows.select(names).append_column(_AT, pa.array(np.arange(rows.num_rows)))
    sql = f"SELECT {quoted(_AT)} FROM {here} WHERE {present} AND NOT EXISTS (SELECT 1 FROM {there} WHERE {same})"
    return np.sort(engine.fetch(sql, **{_HERE: numbered, _THERE: values}).column(0).to_numpy())
