"""The fingerprints of a side by buckets of its rows, and the rows of some buckets, by either scheme."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from nomotheta.conditions import own, quoted
from nomotheta.kinds import lanes
from nomotheta.kinds.lanes import Lanes, mixed
from nomotheta.kinds.totals import ColumnTotal, Totals
from nomotheta.place.fingerprint import SCHEME as OF_TEXTS
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.reconcile.side import FILE, LINE, Compared, Side, Streamed, Unalike, asked
from nomotheta.reconcile.totals import read_totals, totals_in_sql

_N, _B, _H = (own(word) for word in ("rows", "bucket", "hash"))
_ALL, _HALF = 2**64, 2**32
_MANY, _MOST_ONE_BY_ONE = 1 << 14, 8_000_000  # buckets; rows whose hashes a database hands out one by one
_MOST_KEPT = 100_000_000  # rows whose hashes are kept in a file
_MOST_KEYS = 10_000  # that are named in a statement
_IN_A_BATCH = 1 << 20  # rows whose halves add up to less than a double holds exactly


class Hashes:
    """The hashes of rows and what their keys come to, in a file without a name; none any more where that is full."""

    def __init__(self) -> None:
        self._file, self.whole, self._rows = tempfile.TemporaryFile(prefix="nomotheta-"), True, 0  # noqa: SIM115

    def add(self, rows: NDArray[np.uint64], keyed: NDArray[np.uint64]) -> None:
        """Keep some."""
        self._rows += len(rows)
        self.whole = self.whole and self._rows <= _MOST_KEPT
        if self.whole:
            try:
                self._file.write(np.stack([rows, keyed], axis=1).tobytes())
            except OSError:
                self.whole = False

    def blocks(self) -> Iterator[tuple[NDArray[np.uint64], NDArray[np.uint64]]]:
        """All of them again."""
        self._file.seek(0)
        while piece := self._file.read(16 * _IN_A_BATCH):
            both = np.frombuffer(piece, np.uint64).reshape(-1, 2)
            yield both[:, 0], both[:, 1]


@dataclass(slots=True)
class Prints:
    """The count of the rows of a side and the sum of their hashes, in all and by bucket.

    `columns` are the fingerprints of the columns, and `totals` what they come to, where those are known; `kept` are the
    hashes of all rows, where they were worked out here, so that other buckets can be made of them.
    """

    counts: NDArray[np.int64]
    sums: NDArray[np.uint64]
    columns: dict[str, int] | None = None
    totals: dict[str, ColumnTotal] | None = None
    kept: Hashes | None = None

    def finer(self, buckets: int) -> Prints | None:
        """The same in more buckets, where the hashes of the rows were kept."""
        if self.kept is None or not self.kept.whole:
            return None
        made = _Buckets(buckets)
        for rows, keyed in self.kept.blocks():
            made.add(rows, keyed)
        return Prints(made.counts, made.sums)

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return int(self.counts.sum())

    @property
    def total(self) -> int:
        """The fingerprint of the rows."""
        return int(self.sums.sum(dtype=np.uint64))

    def same(self, other: Prints) -> bool:
        """Whether two sides have the same rows, as far as a fingerprint tells."""
        return (self.rows, self.total) == (other.rows, other.total) and not len(self.differing(other))

    def differing(self, other: Prints) -> NDArray[np.int64]:
        """The buckets whose rows are not the same."""
        return np.flatnonzero((self.counts != other.counts) | (self.sums != other.sums))


class Scheme(Protocol):
    """How rows are told apart: `name` stands with every number."""

    name: str

    def prints(self, side: Side, what: Compared, buckets: int, rows: int = 0) -> Prints:
        """The fingerprints of a side, which has that many rows, where that is known."""

    def rows(self, side: Side, what: Compared, buckets: int, chosen: Sequence[int]) -> Any:
        """The rows of some buckets, as a `pa.Table` of canonical texts."""

    def rows_by_key(
        self, side: Side, what: Compared, known: Prints, chosen: Sequence[int], keys: Any
    ) -> Any | None:  # fmt: skip
        """The same by keys that another side has there, where that takes less time; None where it cannot be said."""

    def columns(self, side: Side, what: Compared) -> dict[str, int]:
        """The fingerprint of each column."""


class ByLanes:
    """By `lanes-1`, inside the database, or here."""

    name = lanes.SCHEME

    def prints(self, side: Side, what: Compared, buckets: int, rows: int = 0) -> Prints:
        """The fingerprints of a side.

        Raises:
            Unalike: it has none.
        """
        if side.lanes == "inside":
            if 0 < rows <= _MOST_ONE_BY_ONE and buckets > _MANY:
                gathered = _Buckets(buckets)
                for at, hashes in side.hashes(what.key, buckets):
                    gathered.add(hashes, at)
                return Prints(gathered.counts, gathered.sums)
            found = side.sums(what.key, buckets)
            if found is None:
                raise Unalike
            return _by_bucket(found, buckets)
        sums, totals, made, kept = Lanes(what.kinds), Totals(what.kinds), _Buckets(buckets), Hashes()
        for batch in side.batches():
            hashes = sums.add(batch, what.key)
            made.add(*hashes)
            kept.add(*hashes)
            totals.add(batch)
        return Prints(made.counts, made.sums, sums.columns, totals.found(), kept)

    def columns(self, side: Side, what: Compared) -> dict[str, int]:
        """The fingerprint of each column."""
        if side.lanes == "inside":
            found = side.columns()
            if found is None:
                raise Unalike
            return dict(zip(what.kinds, found[2:], strict=True))
        sums = Lanes(what.kinds)
        for batch in side.batches():
            sums.add(batch)
        return {name: sums.columns.get(name, 0) for name in what.kinds}

    def rows(self, side: Side, what: Compared, buckets: int, chosen: Sequence[int]) -> Any:
        """The rows of some buckets."""
        if side.lanes == "inside":
            listed = ", ".join(map(str, chosen))
            bucket = side.bucket(what.key, buckets)
            return side.texts(lambda prints: _shown(prints, what), lambda _: f"{bucket} IN ({listed})")
        return self._told(side, what, self._chosen(side, what, buckets, chosen))

    def rows_by_key(
        self, side: Side, what: Compared, known: Prints, chosen: Sequence[int], keys: Any
    ) -> Any | None:  # fmt: skip
        """The rows of some buckets, found by keys that another side has there; None if these are not all of them.

        What is in each bucket is `known`, so that what the keys did not find does not stay unseen.
        """
        if side.lanes != "here" or not what.key or not 0 < keys.num_rows <= _MOST_KEYS:
            return None
        narrowed = side.among(keys.select(list(what.key)))
        if narrowed is None:
            return None
        buckets = len(known.counts)
        kept, found = list(self._chosen(narrowed, what, buckets, chosen)), _Buckets(buckets)
        for batch in kept:
            found.add(*Lanes(what.kinds).add(batch, what.key))
        at = np.array(chosen, np.int64)
        if (found.counts[at] != known.counts[at]).any() or (found.sums[at] != known.sums[at]).any():
            return None
        return self._told(side, what, iter(kept))

    @staticmethod
    def _chosen(side: Side, what: Compared, buckets: int, chosen: Sequence[int]) -> Iterator[Any]:
        """The rows of some buckets of a side that hands its rows on, as batches."""
        wanted = np.zeros(buckets, np.bool_)
        wanted[np.array(chosen, np.int64)] = True
        for batch in side.batches(origin=side.origin):
            mine = wanted[(mixed(batch, what.kinds, what.key) & np.uint64(buckets - 1)).astype(np.int64)]
            if mine.any():
                yield batch.filter(pa.array(mine))

    @staticmethod
    def _told(side: Side, what: Compared, kept: Iterator[Any]) -> Any:
        extra = [pa.field(FILE, pa.string()), pa.field(LINE, pa.int64())] if side.origin else []
        more = f", {quoted(FILE)}, {quoted(LINE)}" if side.origin else ""
        return asked(lambda prints: _shown(prints, what) + more, kept, pa.schema([*what.schema, *extra]))


class ByTexts:
    """By `md5-2`, in SQL on both sides."""

    name = OF_TEXTS

    def prints(self, side: Side, what: Compared, buckets: int, rows: int = 0) -> Prints:  # noqa: ARG002
        """The fingerprints of a side; of one that is streamed, in one bucket, with what its columns come to."""
        with_totals = buckets == 1 and isinstance(side, Streamed)

        def said(prints: Fingerprint) -> str:
            parts = [f"count(*) AS {quoted(_N)}", f"{prints.hash_sum(what.kinds)} AS {quoted(_H)}"]
            if buckets == 1:
                more = totals_in_sql(what.kinds, prints) if with_totals else ()
                return ", ".join([f"0 AS {quoted(_B)}", *parts, *more])
            return ", ".join([f"{prints.bucket(_by(what), buckets)} AS {quoted(_B)}", *parts])

        found = side.ask(said, None, "" if buckets == 1 else " GROUP BY 1")
        made = _Buckets(buckets)
        at = np.array([int(each) for each in found.column(0).to_pylist()], np.int64)
        made.counts[at] = [int(each) for each in found.column(1).to_pylist()]
        made.sums[at] = np.array([int(each) % _ALL for each in found.column(2).to_pylist()], np.uint64)
        return Prints(
            made.counts, made.sums, None, read_totals(what.kinds, found.to_pylist()[0]) if with_totals else None
        )  # fmt: skip

    def columns(self, side: Side, what: Compared) -> dict[str, int]:
        """The fingerprint of each column, as if it were a row's only one."""

        def said(prints: Fingerprint) -> str:
            sums = (prints.hash_sum({name: kind}) for name, kind in what.kinds.items())
            return ", ".join(f"{each} AS {quoted(own(str(at)))}" for at, each in enumerate(sums))

        (row,) = side.ask(said).to_pylist()
        return {name: int(value) % _ALL for name, value in zip(what.kinds, row.values(), strict=True)}

    def rows(self, side: Side, what: Compared, buckets: int, chosen: Sequence[int]) -> Any:
        """The rows of some buckets."""
        listed = ", ".join(map(str, chosen))
        return side.ask(
            lambda prints: _shown(prints, what), lambda prints: f"{prints.bucket(_by(what), buckets)} IN ({listed})",
            origin=side.origin,
        )  # fmt: skip

    def rows_by_key(self, *_asked: Any) -> None:
        """The database has to work out the buckets of all rows anyway."""


class _Buckets:
    """What rows come to by bucket."""

    def __init__(self, buckets: int) -> None:
        self.counts, self.sums = np.zeros(buckets, np.int64), np.zeros(buckets, np.uint64)

    def add(self, rows: NDArray[np.uint64], keyed: NDArray[np.uint64]) -> None:
        """Take in the hashes of some rows, and what the cells of their keys come to."""
        buckets = len(self.counts)
        for start in range(0, len(rows), _IN_A_BATCH):
            hashes = rows[start : start + _IN_A_BATCH]
            at = keyed[start : start + _IN_A_BATCH].astype(np.int64) & (buckets - 1)
            self.counts += np.bincount(at, minlength=buckets)
            high, low = (
                np.bincount(at, half.astype(np.float64), buckets).astype(np.uint64)
                for half in (hashes >> np.uint64(32), hashes & np.uint64(_HALF - 1))
            )
            self.sums += (high << np.uint64(32)) + low


def _by_bucket(found: Any, buckets: int) -> Prints:
    """The fingerprints that a place gives by bucket."""
    made = _Buckets(buckets)
    if found.num_rows:
        at, counts, high, low, below = (column.to_numpy().astype(np.int64) for column in found.columns)
        made.counts[at] = counts
        made.sums[at] = ((high + below).view(np.uint64) << np.uint64(32)) + low.view(np.uint64)
    return Prints(made.counts, made.sums)


def _by(what: Compared) -> dict[str, Any]:
    return {name: what.kinds[name] for name in what.key} if what.key else dict(what.kinds)


def _shown(prints: Fingerprint, what: Compared) -> str:
    return ", ".join(f"{prints.shown(name, kind)} AS {quoted(name)}" for name, kind in what.kinds.items())
