"""Rows that may repeat a key, wherever they lie: the engine groups the hashes of all keys.

It hands on the rows that share one. They are few; of these, the driver says which stay out, by the same rules as on one
machine.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from nomotheta.charter import Check
from nomotheta.cluster.parts import Ints, Origins, Out
from nomotheta.cluster.worker import HASHES, IN_TABLE_TASK
from nomotheta.keys import IN_TABLE, Hashes, Keys, SeenKeys, take_in
from nomotheta.load.repeats import Decided, stay_out
from nomotheta.place.delta.store import Store


def repeated_here(store: Store, paths: Sequence[str]) -> list[Any]:
    """Of the keys in some staged files, those that several rows have, and one of them a file's: grouped here."""
    bare = [_read(store, path, ["task", "key", "hash"]) for path in paths]
    whole = pa.concat_tables([*bare, HASHES.empty_table().select(["task", "key", "hash"])])
    several: dict[int, Any] = {}
    for key in pc.unique(whole["key"]).to_pylist():
        own = pc.equal(whole["key"], key)
        hashes = whole["hash"].filter(own).to_numpy()
        ordered = np.sort(hashes)
        again = ordered[1:][ordered[1:] == ordered[:-1]]
        if len(again):
            ours = whole["hash"].filter(pc.and_(own, pc.greater_equal(whole["task"], 0)))
            several[key] = pc.unique(ours.filter(pc.is_in(ours, pa.array(again))))
    if not any(len(each) for each in several.values()):
        return []
    found = []
    for path in paths:
        rows = _read(store, path, None)
        kept = [
            pc.and_(pc.equal(rows["key"], key), pc.is_in(rows["hash"], each))
            for key, each in several.items()
        ]  # fmt: skip
        found.append(rows.filter(functools.reduce(pc.or_, kept)))
    return found


def _read(store: Store, path: str, columns: list[str] | None) -> Any:
    with store.files.open_input_file(path) as file:
        return pq.read_table(file, columns=columns)


def decided(keys: Sequence[Check], groups: Iterable[Any], starts: Ints) -> tuple[list[Out], Origins]:
    """Which rows stay out, for each key, and where the rows are for whose sake they do.

    Args:
        keys: those that set repeated rows aside.
        groups: tables of HASHES, with every row whose key another row has too, of the delivery or the table.
        starts: for each task, how many records come before its first.
    """
    whole = pa.concat_tables(groups).combine_chunks()
    tasks = whole["task"].to_numpy()
    own = np.flatnonzero(tasks != IN_TABLE_TASK)
    rows = whole.take(pa.array(own))
    records = rows["record"].to_numpy() + starts[rows["task"].to_numpy()]
    numbers, hashes = rows["key"].to_numpy(), rows["hash"].to_numpy().view(np.uint64)
    seen = _in_table(whole.filter(pc.equal(whole["task"], IN_TABLE_TASK)), len(keys))
    every, place = np.unique(records, return_inverse=True)
    if keys and keys[0].keep != "first":
        entries = [rows[name].to_numpy() for name in ("by", "low")]
        found = [_by_rank(keys[0], records, hashes, entries, seen[0])]
    else:
        by_key = [
            Keys.of(hashes[numbers == at], place[numbers == at].astype(np.int64)) for at in range(len(keys))
        ]  # fmt: skip
        found = [(every[repeated], firsts, hashed) for repeated, firsts, hashed in take_in(seen, by_key, every)]
    _, first = np.unique(records, return_index=True)
    origins = Origins(every, rows["file"].take(pa.array(first)).to_pylist(), rows["line"].to_numpy()[first])
    return [_ordered(*each) for each in found], origins


def _in_table(rows: Any, count: int) -> list[SeenKeys]:
    """The keys that are in the table."""
    seen = [SeenKeys(count) for _ in range(count)]
    numbers, hashes = rows["key"].to_numpy(), rows["hash"].to_numpy().view(np.uint64)
    for number, known in enumerate(seen):
        own = hashes[numbers == number]
        known.add(own, np.full(len(own), IN_TABLE))
    return seen


def _by_rank(
    key: Check, records: Ints, hashes: Hashes, ranks: Sequence[Ints], seen: SeenKeys
) -> tuple[Ints, Ints, Hashes]:
    """Where the last row of a key stays, or none."""
    out, others = stay_out(hashes, records, ranks[0], ranks[1].view(np.uint64), key.keep)
    order = np.argsort(out)
    stay = Decided(out[order], others[order]).of(records)
    stay[seen.find(hashes)[0]] = IN_TABLE
    out = np.flatnonzero(stay)
    return records[out], stay[out], hashes[out]


def _ordered(records: Ints, firsts: Ints, hashes: Hashes) -> Out:
    order = np.argsort(records, kind="stable")
    return Out(records[order], np.asarray(firsts)[order], hashes[order])


def of_task(out: Sequence[Out], first: int, count: int) -> list[Out]:
    """What stays out of the records of one task."""
    found = []
    for each in out:
        low, high = np.searchsorted(each.records, [first + 1, first + count + 1])
        found.append(Out(each.records[low:high], each.firsts[low:high], each.hashes[low:high]))
    return found
