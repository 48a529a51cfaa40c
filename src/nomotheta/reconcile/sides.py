"""Any two sides reconciled: what of them is compared, what came of it, and what was excused."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

from nomotheta.charter.differ import ReconcileKeys
from nomotheta.errors import DeclarationError, counted
from nomotheta.reconcile.compare import Beside, Comparison, compare
from nomotheta.reconcile.excused import Apart, excused, tolerated
from nomotheta.reconcile.given import Given
from nomotheta.reconcile.groups import RowCounts, counted_by, paired, row_counts
from nomotheta.reconcile.match import Matched, matched
from nomotheta.reconcile.reconciliation import Reconciliation
from nomotheta.reconcile.side import Compared


def reconcile_sides(
    source: Given, target: Given, said: ReconcileKeys, name: str, *, keys: Callable[[], Sequence[str]], beside: Beside,
    limit: int | None,
) -> Reconciliation:  # fmt: skip
    """Reconcile two sides.

    Args:
        source: what should be there.
        target: what is there.
        said: what may differ.
        name: what the comparison is called, or how it was asked for.
        keys: gives the key by which rows are told apart where none is declared.
        beside: which questions both may be asked at the same time.
        limit: how many of the rows that differ are told, None for all.

    Raises:
        DeclarationError: values cannot be compared, or a column that is declared is not there.
        DeliveryError: a file cannot be read.
        PlaceError: a place cannot be reached, or does not answer.
    """
    filled = source.about.filled | target.about.filled
    match = matched(source.columns, target.columns, said, keys() if not said.key else (), filled, name)
    what = match.compared(_private(source, target, match))
    if not what.kinds:
        mend = "leave at least one column to be compared exactly"
        raise DeclarationError("no column is compared exactly", where=name, mend=mend)
    pairs = match.pairs
    found = compare(source.side(what, pairs, 0), target.side(what, pairs, 1), what, beside=beside, limit=limit)
    apart = tolerated(source, target, match, what, limit, differ=not found.same)
    given = excused(source, target, match)
    for pair in pairs:
        if apart is not None and apart.within.get(pair.name):
            given.setdefault(pair.name, {})[_tolerance(pair.may.within, pair.may.within_share)] = apart.within[
                pair.name
            ]
    unread, notes = _unread(source, target)
    if found.rows == (0, 0):
        notes = (*notes, "both sides have no rows: nothing was compared")
    return _result(source, target, name, match, found, apart, given, unread, notes)


def count_sides(
    source: Given, target: Given, said: ReconcileKeys, name: str, by: str
) -> RowCounts:  # fmt: skip
    """Count the rows of two sides by a column.

    Raises:
        DeclarationError: there is no such column, or its values are not told.
    """
    match = matched(source.columns, target.columns, said, (), source.about.filled | target.about.filled, name)
    chosen = [pair for pair in match.pairs if pair.name.casefold() == by.casefold()]
    what = Compared({pair.name: pair.kind for pair in match.pairs}, (), _private(source, target, match))
    by = chosen[0].name if chosen else by
    counts = [counted_by(given.side(what, match.pairs, at), by) for at, given in enumerate((source, target))]
    placed = target.place or source.place
    return row_counts(
        name, placed.name if placed is not None else "", _over(source, target), by, (source.told, target.told),
        paired(*counts),
    )  # fmt: skip


def _result(
    source: Given, target: Given, name: str, match: Matched, found: Comparison, apart: Apart | None,
    given: dict[str, dict[str, int]], unread: int, notes: tuple[str, ...],
) -> Reconciliation:  # fmt: skip
    rows = found.differences
    beyond = [pair.name for pair in match.pairs if apart is not None and apart.beyond.get(pair.name)]
    same = found.same and not match.lacking and not beyond and not unread
    sorts = Counter(rows.sorts if rows else {})
    listed, count = (rows.rows if rows else ()), (rows.count if rows else 0)
    if apart is not None and apart.count:
        sorts["changed"] += apart.count
        listed, count = (*listed, *apart.rows), None if count is None else count + apart.count
    placed = target.place or source.place
    return Reconciliation(
        table=name, place=placed.name if placed is not None else "", over=_over(source, target), loads=(),
        files=_files(source, target), verdict="pass" if same else "fail",
        records=0, rejected=0, copies=0, conflicts=0, mended=0,
        source_rows=found.rows[0], target_rows=found.rows[1], totals=found.totals, scheme=found.scheme,
        source_fingerprint=f"{found.prints[0]:016x}", target_fingerprint=f"{found.prints[1]:016x}",
        source=source.told, target=target.told, key=match.key,
        differing=tuple(each.name for each in match.pairs if each.name in {*found.columns, *beyond}),
        sorts=dict(sorts), differences=listed, differing_rows=count, cause=rows.cause if rows and not beyond else "",
        uncompared=match.left_out, lacking=match.lacking, unread=unread, excused=given, notes=notes,
    )  # fmt: skip


def _over(source: Given, target: Given) -> str:
    return f"{source.told} with {target.told}"


def _private(source: Given, target: Given, match: Matched) -> frozenset[str]:
    """The columns that are private on either side, or worked out of one that is."""
    hidden = (source.about.private, target.about.private)
    return frozenset(
        pair.name
        for pair in match.pairs
        if any(name in own for own, node in zip(hidden, pair.values, strict=True) for name in node.columns())
    )


def _files(source: Given, target: Given) -> tuple[str, ...]:
    return tuple(
        file if isinstance(file, str) else file.name
        for given in (source, target)
        if given.files is not None
        for file in given.files.files
    )


def _unread(source: Given, target: Given) -> tuple[int, tuple[str, ...]]:
    """How many rows of files cannot be read, and the first of them."""
    number, told = 0, list[str]()
    for given in (source, target):
        if given.files is not None and given.files.unread:
            number += given.files.unread
            told.append(f"{counted(given.files.unread, 'row')} of {given.told} cannot be read:")
            told += [f"  {each}" for each in given.files.told]
            more = given.files.unread - len(given.files.told)
            told += [f"  and {more:,} more"] if more > 0 else []
    return number, tuple(told)


def _tolerance(within: object, share: object) -> str:
    parts = [f"within {within:f}"] if within is not None else []
    parts += [f"within {float(share):.6g} of the value"] if share is not None else []  # type: ignore[arg-type]
    return " or ".join(parts)
