"""Two sides held against each other: rows and fingerprints first, totals beside them, the rows only where they differ.

The fingerprints are asked for by buckets of rows, so that where they differ, the second question is already for the
few buckets that do. Where these hold too many rows, finer buckets narrow them once more.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from nomotheta.conditions import own, quoted
from nomotheta.frozen import frozen
from nomotheta.kinds.totals import ColumnTotal
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import text_literal
from nomotheta.reconcile.differences import Differences, compared
from nomotheta.reconcile.prints import ByLanes, ByTexts, Prints, Scheme
from nomotheta.reconcile.reconciliation import ColumnTotals
from nomotheta.reconcile.side import Compared, InPlace, Side, Streamed, Unalike
from nomotheta.reconcile.totals import compared_totals, distinct_in_sql, read_totals, totals_in_sql, with_more

Given = TypeVar("Given")
# one server works at most questions with all its processors, but not at those of very many buckets
Beside = Literal["all", "what is heavy", "nothing"]
_N = own("rows")
_MOST_ROWS = 100_000  # of both sides that are fetched to be compared
_FEW_ROWS = 20_000  # for which finer buckets are not worth a reading
_BUCKETS, _FINER = 1 << 10, 1 << 19
_FEWEST_OF_TEXTS, _IN_A_BUCKET = 1 << 10, 64


@frozen
class Comparison:
    """What came of it: `rows` and `prints` of both sides."""

    same: bool
    scheme: str
    rows: tuple[int, int]
    prints: tuple[int, int]
    totals: tuple[ColumnTotals, ...]
    columns: tuple[str, ...] = ()
    differences: Differences | None = None


def compare(source: Side, target: Side, what: Compared, *, beside: Beside, limit: int | None) -> Comparison:
    """Compare two sides.

    Args:
        source: what should be there.
        target: what is there.
        what: the columns, and their key.
        beside: which questions both may be asked at the same time.
        limit: how many of the rows that differ are told, None for all.
    """
    if "nowhere" not in {source.lanes, target.lanes}:
        with contextlib.suppress(Unalike):
            return _Compare(ByLanes(), source, target, what, beside, limit).run(_BUCKETS)
    return _Compare(ByTexts(), source, target, what, beside, limit).run(1)


class _Compare:
    def __init__(
        self, scheme: Scheme, source: Side, target: Side, what: Compared, beside: Beside, limit: int | None
    ) -> None:  # fmt: skip
        self.scheme, self.sides, self.what, self.beside, self.limit = scheme, (source, target), what, beside, limit

    def run(self, buckets: int) -> Comparison:
        """The verdict, and what it rests on."""
        prints = self._both(lambda side: self.scheme.prints(side, self.what, buckets))
        alike = prints[0].same(prints[1])
        known = {side: each.totals for side, each in zip((0, 1), prints, strict=True) if each.totals is not None}
        found = Differences((), {}, None, frozenset()) if alike else self._narrowed(prints, buckets, known)
        totals = self._totals(prints, known, alike=alike)
        rows, sums = (prints[0].rows, prints[1].rows), (prints[0].total, prints[1].total)
        same = alike and all(each.equal for each in totals)
        if same:
            return Comparison(same, self.scheme.name, rows, sums, totals)
        unequal = set(found.columns)
        if rows[0] == rows[1]:  # else the totals of all columns differ
            unequal |= {each.column for each in totals if not each.equal}
        if rows[0] == rows[1] and found.count is None:
            unequal |= self._unequal_columns()
        columns = tuple(name for name in self.what.kinds if name in unequal)
        return Comparison(same, self.scheme.name, rows, sums, totals, columns, found)

    def _totals(
        self, prints: tuple[Prints, Prints], known: dict[int, dict[str, ColumnTotal]], *, alike: bool
    ) -> tuple[ColumnTotals, ...]:  # fmt: skip
        """The totals of both sides; equal rows have the same, so that one side need not be asked.

        Where nobody but servers would count, texts of equal rows are told in bytes: characters take half the time of
        all totals there, and would prove nothing more.
        """
        octets = alike and not known and all(side.lanes == "inside" for side in self.sides)
        if alike and not known:
            known = {0: self._asked_totals(min(self.sides, key=lambda side: side.lanes != "inside"), octets=octets)}
        given = known.get(0) or known.get(1) or {}
        both = [known.get(at) or (given if alike else self._asked_totals(side)) for at, side in enumerate(self.sides)]
        distinct = self._distinct(alike=alike)
        told = self._of_columns(prints) if self.what.each else ({}, {})
        hidden = self.what.private
        return tuple(
            with_more(
                compared_totals(name, kind, *(each[name] for each in both), hide=name in hidden, octets=octets),
                *(each.get(name) for each in (*distinct, *told)),
                hide=name in hidden,
            )
            for name, kind in self.what.kinds.items()
        )

    def _distinct(self, *, alike: bool) -> tuple[dict[str, int], dict[str, int]]:
        """How many different values the columns have of which that is asked."""
        if not self.what.distinct:
            return {}, {}
        source, target = self.sides
        if alike and type(source) is not type(target):
            source = target = min(self.sides, key=lambda side: isinstance(side, Streamed))
        found = self._asked_distinct(target)
        return (found if source is target else self._asked_distinct(source)), found

    def _asked_distinct(self, side: Side) -> dict[str, int]:
        kinds = {name: kind for name, kind in self.what.kinds.items() if name in self.what.distinct}
        (row,) = side.ask(lambda prints: ", ".join(distinct_in_sql(kinds, prints, side.exactly))).to_pylist()
        return {name: int(count) for name, count in zip(kinds, row.values(), strict=True)}

    def _of_columns(self, prints: tuple[Prints, Prints]) -> tuple[dict[str, int], dict[str, int]]:
        """The fingerprint of each column; some sides know it already."""
        found = [
            each.columns if each.columns is not None else self.scheme.columns(side, self.what)
            for each, side in zip(prints, self.sides, strict=True)
        ]
        return found[0], found[1]

    def _asked_totals(self, side: Side, *, octets: bool = False) -> dict[str, ColumnTotal]:
        (row,) = side.ask(lambda prints: ", ".join(totals_in_sql(self.what.kinds, prints, octets=octets))).to_pylist()
        return read_totals(self.what.kinds, row)

    def _unequal_columns(self) -> set[str]:
        source, target = self._both(lambda side: self.scheme.columns(side, self.what))
        return {name for name in self.what.kinds if source[name] != target[name]}

    # ---- the rows that differ

    def _narrowed(
        self, prints: tuple[Prints, Prints], buckets: int, known: dict[int, dict[str, ColumnTotal]]
    ) -> Differences:  # fmt: skip
        """The rows of the buckets that differ, as many as may be fetched; each side's totals, as far as not `known`.

        The totals are asked for with the rows: while one side looks for its own, the other is at work, too.
        """
        if buckets == 1:
            buckets = _FEWEST_OF_TEXTS
            while buckets < min(max(prints[0].rows, prints[1].rows) // _IN_A_BUCKET, _FINER):
                buckets *= 2
            prints = self._both(lambda side: self.scheme.prints(side, self.what, buckets))
        elif self._sizes(prints).sum() > _FEW_ROWS:
            buckets = _FINER
            prints = self._finer(prints, buckets)
        differing = prints[0].differing(prints[1])
        if not len(differing):  # the totals see what the hashes do not
            return Differences((), {}, None, frozenset())
        fetched = np.cumsum(self._sizes(prints))
        chosen = differing[: max(1, int(np.searchsorted(fetched, _MOST_ROWS, "right")))]

        def rows(side: Side) -> Any:
            return self.scheme.rows(side, self.what, buckets, chosen.tolist())

        def learn(side: Side) -> None:
            at = int(side is self.sides[1])
            if at not in known:
                known[at] = self._asked_totals(side)

        def both(side: Side) -> Any:
            learn(side)
            return rows(side)

        source, target = self._found_by_key(prints, chosen.tolist(), rows, learn) or self._both(both)
        whole = len(chosen) == len(differing)
        return compared(source, target, self.what, whole=whole, limit=self.limit, others=self._others)

    def _found_by_key(
        self, prints: tuple[Prints, Prints], chosen: list[int], rows: Callable[[Side], Any],
        learn: Callable[[Side], None],
    ) -> tuple[Any, Any] | None:  # fmt: skip
        """The rows of both, where one's can be found by the keys of the other's; None where neither's can.

        All of its rows would have to travel else. The keys may turn out not to be all; then they do.
        """
        at = next((at for at in (0, 1) if isinstance(self.sides[at], InPlace) and self.sides[at].lanes == "here"), None)
        if at is None or not self.what.key or self.scheme.name != ByLanes.name:
            return None
        keys = rows(self.sides[1 - at])

        def found(side: Side) -> Any:
            learn(side)
            if side is not self.sides[at]:
                return keys
            told = self.scheme.rows_by_key(side, self.what, prints[at], chosen, keys)
            return rows(side) if told is None else told

        return self._both(found)

    def _finer(self, prints: tuple[Prints, Prints], buckets: int) -> tuple[Prints, Prints]:
        """Both sides in more buckets."""
        rows = max(prints[0].rows, prints[1].rows)

        def asked(side: Side) -> Prints:
            own = prints[int(side is self.sides[1])]
            return own.finer(buckets) or self.scheme.prints(side, self.what, buckets, rows)

        return self._both(asked, heavy=True)

    def _others(self, at: int, name: str, text: str | None) -> bool:
        """Whether a side has rows with another value of a column; of a moment, of another day."""
        kind = self.what.kinds[name]

        def other(prints: Fingerprint) -> str:
            shown = prints.shown(name, kind)
            if text is None:
                return f"{shown} IS NOT NULL"
            day = f"left({shown}, {len(text)})" if kind.name.startswith("timestamp") else shown
            return f"coalesce({day} <> {text_literal(text)}, TRUE)"

        found = self.sides[at].ask(lambda _: f"count(*) AS {quoted(_N)}", other)
        return bool(int(found.column(0)[0].as_py()))

    @staticmethod
    def _sizes(prints: tuple[Prints, Prints]) -> NDArray[np.int64]:
        """How many rows each differing bucket has on both sides."""
        differing = prints[0].differing(prints[1])
        return prints[0].counts[differing] + prints[1].counts[differing]

    # ---- both sides

    def _both(self, ask: Callable[[Side], Given], *, heavy: bool = False) -> tuple[Given, Given]:
        """What both sides answer, at the same time if they may be asked so."""
        source, target = self.sides
        if self.beside == "nothing" or (self.beside == "what is heavy" and not heavy):
            return ask(source), ask(target)
        with _at_work(target, ask) as later:
            return ask(source), later.result()


@contextlib.contextmanager
def _at_work(side: Side, ask: Callable[[Side], Given]) -> Iterator[Future[Given]]:
    with ThreadPoolExecutor(1) as pool:
        try:
            yield pool.submit(ask, side)
        except BaseException:
            side.interrupt()  # else its answer would be waited for
            raise
