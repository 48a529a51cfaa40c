"""The fingerprint of rows by `lanes-1`, worked out by Spark's workers with our own kernel: only sums leave them."""

from __future__ import annotations

import pickle
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.conditions import Kind
from nomotheta.kinds.lanes import Lanes, mixed
from nomotheta.kinds.read import arrow_type

UNALIKE = "nomotheta: a value is none of its kind"
SUMS, BUCKETS = "sums binary", "bucket bigint, rows bigint, high bigint, low bigint, below bigint"
HASHES = "bucket bigint, hash bigint"


def packed(kinds: Mapping[str, Kind], by: Sequence[str] = (), buckets: int = 1) -> bytes:
    """What a worker has to know."""
    return pickle.dumps((dict(kinds), tuple(by), buckets))


def sums(batches: Iterator[Any], blob: bytes) -> Iterator[Any]:
    """Of the rows of a partition their count, the sum of their hashes, and that of each column's."""
    kinds, _, _ = pickle.loads(blob)  # noqa: S301 - what our own driver has packed
    made = Lanes(kinds)
    for batch in batches:
        made.add(_as_kinds(batch, kinds))
    found = [made.rows, made.total, *(made.columns.get(name, 0) for name in kinds)]
    yield pa.record_batch([pa.array([pickle.dumps(found)], pa.binary())], ["sums"])


def added(found: Sequence[bytes], columns: int) -> list[int]:
    """What the partitions came to in all, modulo 2^64 but for the count of rows."""
    parts = [pickle.loads(each) for each in found]  # noqa: S301 - what our own workers have packed
    return [sum(part[at] for part in parts) % 2**64 for at in range(columns + 2)]


def in_buckets(batches: Iterator[Any], blob: bytes) -> Iterator[Any]:
    """Of the rows of a partition their count, and the sums of the halves of their hashes, by bucket."""
    kinds, by, buckets = pickle.loads(blob)  # noqa: S301 - what our own driver has packed
    total = np.zeros((4, buckets), np.int64)
    for batch in batches:
        rows, at = _hashed(batch, kinds, by, buckets)
        high, low = (rows.view(np.int64) >> 32), rows.astype(np.uint32).view(np.int32).astype(np.int64)
        parts = (None, high, low, (low < 0).astype(np.int64))
        for number, part in enumerate(parts):
            np.add.at(total[number], at, 1 if part is None else part)
    there = np.flatnonzero(total[0])
    columns = [there.astype(np.int64), *(each[there] for each in total)]
    yield pa.record_batch([pa.array(each) for each in columns], ["bucket", "rows", "high", "low", "below"])


def one_by_one(batches: Iterator[Any], blob: bytes) -> Iterator[Any]:
    """Of each row of a partition its bucket and its hash."""
    kinds, by, buckets = pickle.loads(blob)  # noqa: S301 - what our own driver has packed
    for batch in batches:
        rows, at = _hashed(batch, kinds, by, buckets)
        yield pa.record_batch([pa.array(at), pa.array(rows.view(np.int64))], ["bucket", "hash"])


def bucket_of(kinds: Mapping[str, Kind], by: Sequence[str], buckets: int, *columns: Any) -> Any:
    """The buckets of rows, of which each column of `by` (all, if none) is an Arrow array."""
    named = [name for name in kinds if not by or name in by]
    batch = pa.record_batch(list(columns), named)
    typed = _as_kinds(batch, {name: kinds[name] for name in named})
    at = mixed(typed, kinds, named) & np.uint64(buckets - 1)
    return pa.array(at.astype(np.int64))


def _hashed(batch: Any, kinds: Mapping[str, Kind], by: Sequence[str], buckets: int) -> tuple[Any, Any]:
    rows, keyed = Lanes(kinds).add(_as_kinds(batch, kinds), by)
    return rows, (keyed & np.uint64(buckets - 1)).astype(np.int64)


def _as_kinds(batch: Any, kinds: Mapping[str, Kind]) -> Any:
    """Rows in the types in which values of their kinds are held.

    Raises:
        ValueError: one holds what is none of its kind.
    """
    try:
        arrays = [batch.column(name).cast(arrow_type(kind)) for name, kind in kinds.items()]
    except pa.ArrowInvalid as error:
        raise ValueError(UNALIKE) from error
    return pa.record_batch(arrays, list(kinds))
