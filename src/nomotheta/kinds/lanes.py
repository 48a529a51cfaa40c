"""The fingerprint of rows that lie in memory, and of each of their columns (scheme `lanes-1`, see docs/fingerprint.md).

Each cell has a hash by its kind and its column's number; those of a row are mixed into one; what is summed does not
depend on the order of the rows. The compiled kernel does it where there is one; here is the same in NumPy.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.kernel import lanes as kernel
from nomotheta.kinds.cells import Cells

SCHEME = "lanes-1"
NULL = 5381  # the word whose hash stands for no value
Hashes = NDArray[np.uint64]
Words = NDArray[np.uint32]
_STEP = 0x9E3779B97F4A7C15  # between the seeds of columns
_START, _OF_WORD = 0x9E3779B9 + 3923095, 4  # lookup3's own start, with PostgreSQL's addition; bytes of a word
_EPOCH = 10_957  # days from 1970-01-01 to 2000-01-01
_DAY = 86_400_000_000  # microseconds
_GROUP = 10_000  # base of a decimal's digits
_ALL = 2**64


def seed_of(number: int) -> int:
    """The seed of a column by its number, from 1."""
    return number * _STEP % _ALL


@dataclass(slots=True)
class Lanes:
    """The sums of the hashes of rows, and of the cells of each column: `kinds` are the columns in their order."""

    kinds: Mapping[str, Kind]
    rows: int = 0
    total: int = 0
    columns: dict[str, int] = field(default_factory=dict)

    def add(self, batch: Any, by: Collection[str] = ()) -> tuple[Hashes, Hashes]:
        """Take in some rows: a `pa.RecordBatch` or `pa.Table` with a column for each of `kinds`.

        The hashes of the rows are given back, and what the cells of some columns of each (all, if none) come to.
        """
        found = np.zeros(batch.num_rows, np.uint64)
        keyed = None
        numbered = dict(enumerate(self.kinds.items(), 1))
        for number in sorted(numbered, key=lambda number: numbered[number][0] not in by):
            name, kind = numbered[number]
            if keyed is None and by and name not in by:
                keyed = found.copy()
            column = one_chunk(batch.column(name))
            self.columns[name] = (self.columns.get(name, 0) + mix_in(column, kind, number, found)) % _ALL
        keyed = found.copy() if keyed is None else keyed
        self.rows += batch.num_rows
        self.total = (self.total + end_rows(found)) % _ALL
        return found, keyed


def mixed(batch: Any, kinds: Mapping[str, Kind], by: Collection[str]) -> Hashes:
    """What the cells of some columns (all, if none) come to in each row, as `Lanes.add` gives it."""
    found = np.zeros(batch.num_rows, np.uint64)
    for number, (name, kind) in enumerate(kinds.items(), 1):
        if not by or name in by:
            mix_in(one_chunk(batch.column(name)), kind, number, found)
    return found


def one_chunk(column: Any) -> Any:
    """A column as one array."""
    return column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column


def mix_in(values: Any, kind: Kind, number: int, rows: Hashes) -> int:
    """Mix the hashes of a column's n values into those of their rows, in place; the sum of them."""
    seed = seed_of(number)
    found = kernel.mix_in(values, kind.name, kind.scale, seed, rows)
    if found is not None:
        return found
    seeds = np.full(len(values), seed, np.uint64)
    hashes = _plain(values, kind, seeds)
    nulls = values.is_null().to_numpy(zero_copy_only=False)
    hashes[nulls] = _of_words(np.full(len(values), NULL, np.uint32), seeds)[nulls]
    rows ^= hashes
    return int(hashes.sum(dtype=np.uint64))


def end_rows(rows: Hashes) -> int:
    """Make what the cells of n rows came to the hashes of the rows, in place; the sum of them."""
    found = kernel.end_rows(rows)
    if found is not None:
        return found
    rows[:] = _of_integers(rows.view(np.int64), np.zeros(len(rows), np.uint64))
    return int(rows.sum(dtype=np.uint64))


def null_hash(number: int) -> int:
    """The hash of no value in a column."""
    return int(_of_words(np.full(1, NULL, np.uint32), np.full(1, seed_of(number), np.uint64))[0])


# ---- the same in NumPy


def _plain(values: Any, kind: Kind, seeds: Hashes) -> Hashes:
    name = kind.name
    if name == "integer":
        return _of_integers(_numbers(values, pa.int64()), seeds)
    if name == "boolean":
        return _of_words(_numbers(values.cast(pa.int8()), pa.int8()).astype(np.uint32), seeds)
    if name == "date":
        return _of_words((_numbers(values, pa.int32()) - np.int32(_EPOCH)).view(np.uint32), seeds)
    if name in {"timestamp", "timestamptz"}:
        since = _numbers(values, pa.int64()) - _EPOCH * _DAY
        days = (since // _DAY).astype(np.int32).view(np.uint32)
        return _of_folded(since, _of_words(days, seeds))
    if name == "decimal":
        return _of_decimals(values, kind.scale, seeds)
    if name == "real":
        return _of_reals(_numbers(values, pa.float64()), seeds)
    texts = values
    if name == "time":
        shown = values.cast(pa.string())
        texts = pc.replace_substring_regex(shown, r"\.?0*$", "") if len(shown) else shown
    elif name == "binary":
        texts = pa.array([None if each is None else each.hex() for each in values.to_pylist()], pa.string())
    elif name == "uuid":
        digits = pc.replace_substring(values, "-", "").to_pylist()
        texts = pa.array([b"" if each is None else bytes.fromhex(each) for each in digits], pa.binary())
    return _of_bytes(texts, seeds)


def _numbers(values: Any, kind: Any) -> NDArray[Any]:
    """Values as numbers of the type in which Arrow holds them; those that are null are zero."""
    plain = values.view(kind) if values.type != kind else values
    found = pc.fill_null(plain, 0).to_numpy(zero_copy_only=False)
    return np.ascontiguousarray(found)


def _rotated(word: Words, by: int) -> Words:
    return word << np.uint32(by) | word >> np.uint32(32 - by)


def _mixed(a: Words, b: Words, c: Words) -> tuple[Words, Words, Words]:
    for by in (4, 16):
        a = (a - c) ^ _rotated(c, by)
        c = c + b
        b = (b - a) ^ _rotated(a, 6 if by == 4 else 19)
        a = a + c
        c = (c - b) ^ _rotated(b, 8 if by == 4 else 4)
        b = b + a
    return a, b, c


def _last(a: Words, b: Words, c: Words) -> Hashes:
    c = (c ^ b) - _rotated(b, 14)
    a = (a ^ c) - _rotated(c, 11)
    b = (b ^ a) - _rotated(a, 25)
    c = (c ^ b) - _rotated(b, 16)
    a = (a ^ c) - _rotated(c, 4)
    b = (b ^ a) - _rotated(a, 14)
    c = (c ^ b) - _rotated(b, 24)
    return b.astype(np.uint64) << np.uint64(32) | c.astype(np.uint64)


def _first(lengths: Words, seeds: Hashes) -> tuple[Words, Words, Words]:
    start = np.uint32(_START & 0xFFFFFFFF) + lengths
    high, low = (seeds >> np.uint64(32)).astype(np.uint32), seeds.astype(np.uint32)
    a, b, c = _mixed(start + high, start + low, start)
    plain = seeds == 0  # which is not mixed in
    return np.where(plain, start, a), np.where(plain, start, b), np.where(plain, start, c)


def _of_words(words: Words, seeds: Hashes) -> Hashes:
    a, b, c = _first(np.full(len(words), _OF_WORD, np.uint32), seeds)
    return _last(a + words, b, c)


def _of_folded(values: NDArray[np.int64], seeds: Hashes) -> Hashes:
    low, high = values.astype(np.uint32), (values >> 32).astype(np.uint32)
    return _of_words(low ^ np.where(values >= 0, high, ~high), seeds)


def _of_integers(values: NDArray[np.int64], seeds: Hashes) -> Hashes:
    return _of_words((values >> 32).astype(np.uint32), _of_folded(values, seeds))


def _of_bytes(texts: Any, seeds: Hashes) -> Hashes:
    cells = Cells.of(texts.cast(pa.string(), safe=False) if pa.types.is_binary(texts.type) else texts)
    lengths = np.where(cells.valid, cells.lengths, 0).astype(np.int64)
    width = (int(lengths.max(initial=0)) // 12 + 1) * 12
    a, b, c = _first(lengths.astype(np.uint32), seeds)
    for at in range(0, width, 12):
        block = np.zeros((len(lengths), 12), np.uint8)
        some = np.flatnonzero(lengths > at)
        for byte in range(12):
            of = some[lengths[some] > at + byte]
            block[of, byte] = cells.data[cells.starts[of] + at + byte]
        words = block.view("<u4")
        full = lengths >= at + 12
        mixed = _mixed(a + words[:, 0], b + words[:, 1], c + words[:, 2])
        ends = (lengths >= at) & ~full  # in this block, or just before it
        last = (a + words[:, 0], b + words[:, 1], c + (words[:, 2] << np.uint32(8)))
        a, b, c = (
            np.where(full, more, np.where(ends, end, old))
            for more, end, old in zip(mixed, last, (a, b, c), strict=True)
        )
    return _last(a, b, c)


def _of_reals(values: NDArray[np.float64], seeds: Hashes) -> Hashes:
    values = np.where(np.isnan(values), np.nan, values)
    halves = values.view(np.uint64)
    a, b, c = _first(np.full(len(values), 8, np.uint32), seeds)
    found = _last(a + halves.astype(np.uint32), b + (halves >> np.uint64(32)).astype(np.uint32), c)
    return np.where(values == 0, seeds, found)


def _of_decimals(values: Any, scale: int, seeds: Hashes) -> Hashes:
    """By their digits of base 10000, without zeros at either end, the power of the first, and the sign."""
    groups, weights, negative = [], np.zeros(len(values), np.int64), np.zeros(len(values), np.bool_)
    data, first = memoryview(values.buffers()[1]), values.offset
    for at in range(len(values)):
        value = int.from_bytes(data[16 * (first + at) : 16 * (first + at + 1)], "little", signed=True)
        digits, weight, negative[at] = _groups(value, scale)
        groups.append(digits)
        weights[at] = weight
    turned = np.where(negative, ~seeds, seeds)
    found = _of_bytes(pa.array(groups, pa.binary()), turned) ^ weights.view(np.uint64)
    return np.where(np.array([not each for each in groups], np.bool_), turned - np.uint64(1), found)


def _groups(value: int, scale: int) -> tuple[bytes, int, bool]:
    """The digits of a number as bytes, the power of the first, and whether it is below zero."""
    padding = -scale % 4
    behind, left = (scale + padding) // 4, abs(value) * 10**padding
    found: list[int] = []
    while left or len(found) < behind:
        left, digit = divmod(left, _GROUP)
        found.append(digit)
    weight = len(found) - behind - 1
    while found and not found[-1]:
        found.pop()
        weight -= 1
    while found and not found[0]:
        found.pop(0)
    return np.array(found[::-1], "<u2").tobytes(), weight, value < 0
