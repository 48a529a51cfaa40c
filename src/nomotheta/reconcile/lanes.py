"""The lanes of a table: worked out by the place itself, or here of its rows, where those are at hand."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor

import pyarrow as pa

from nomotheta.conditions import Kind, quoted
from nomotheta.kinds.lanes import Lanes
from nomotheta.place.base import Place
from nomotheta.rules.anew import as_kind
from nomotheta.rules.shape import existing


def lanes_of(
    place: Place, table: str, kinds: Mapping[str, Kind], where: str | None
) -> contextlib.AbstractContextManager[Future[Lanes | None]] | None:
    """The lanes of the rows of a table that meet a rendered condition, to come; None where it has none.

    It is worked out beside what is done meanwhile; the place must not be asked anything else until it is there.
    """
    there = {column.name: column.kind for column in existing(place, table)}
    alike = all((held := there.get(name)) is not None and held.name == kind.name for name, kind in kinds.items())
    if place.lanes == "nowhere" or not alike:
        return None
    return _asked(place, table, kinds, where)


@contextlib.contextmanager
def _asked(place: Place, table: str, kinds: Mapping[str, Kind], where: str | None) -> Iterator[Future[Lanes | None]]:
    work = _inside if place.lanes == "inside" else _of_rows
    with ThreadPoolExecutor(1) as pool:
        try:
            yield pool.submit(work, place, kinds, place.rowset(table, where))
        except BaseException:
            place.interrupt()  # else its answer would be waited for
            raise


def _inside(place: Place, kinds: Mapping[str, Kind], rowset: str) -> Lanes | None:
    sums = place.lane_sums(kinds, rowset)
    if sums is None:
        return None
    rows, total, *columns = sums
    return Lanes(kinds, rows, total, dict(zip(kinds, columns, strict=True)))


def _of_rows(place: Place, kinds: Mapping[str, Kind], rowset: str) -> Lanes | None:
    lanes = Lanes(kinds)
    for batch in place.stream(f"SELECT {', '.join(map(quoted, kinds))} {rowset}"):
        try:
            columns = [as_kind(values, kind) for values, kind in zip(batch.columns, kinds.values(), strict=True)]
        except pa.ArrowInvalid:  # a value that the kind does not hold: its text tells more
            return None
        lanes.add(pa.record_batch(columns, names=list(kinds)))
    return lanes
