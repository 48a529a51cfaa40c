"""Rows that were set aside, as they are shown: what a load left out, what of it came later, and what is still open."""

from __future__ import annotations

import contextlib
import csv
import io
import tomllib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any, ClassVar

from nomotheta.errors import DeclarationError, counted, did_you_mean, visible
from nomotheta.frozen import frozen
from nomotheta.ledger import LoadResult, ShownReject
from nomotheta.rules.finding import HIDDEN
from nomotheta.tabular import Tabular
from nomotheta.workspace.context import CHARTERS, Context

if TYPE_CHECKING:
    from nomotheta.load.rejects import Reject

FIRST = 20  # faults of a load that the ledger keeps, so that they are shown without a look into the rejects


@frozen
class SetAside(Tabular):
    """What a load set aside: `rows` in all, of which `came` later with the loads `by`; `shown` of those still open.

    `faults` counts all faults of the open rows, of which `shown` may be the first; `closed` are the rows that will not
    come, counted by the reason. `private` tells that the original rows may not be shown.
    """

    load: LoadResult
    shown: Sequence[ShownReject]
    faults: int
    rows: int
    came: int
    by: tuple[int, ...]
    closed: Mapping[str, int] = field(default_factory=dict)
    private: bool = False
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "file": "text", "line": "integer", "record": "integer", "column": "text", "value": "text", "reason": "text",
        "message": "text", "original": "text",
    }  # fmt: skip

    def caption(self) -> str:
        """The table, the load, and how many rows it set aside."""
        return f"{self.load.table}, load {self.load.load_no}: {counted(self.rows, 'row')} set aside, {self.open:,} open"

    def as_rows(self) -> list[dict[str, Any]]:
        """The faults of open rows, one a row; a row of the file may have several."""
        return [{name: getattr(each, name) for name in self.COLUMNS} for each in self.shown]

    @property
    def visible(self) -> list[ShownReject]:
        """Those that are shown, without the rows as they came where these may not be."""
        return [replace(each, original=None) for each in self.shown] if self.private else list(self.shown)

    @property
    def open(self) -> int:
        """How many rows are in no table yet, and may still come."""
        return self.rows - self.came - sum(self.closed.values())


def set_aside(context: Context, which: int | str | None, limit: int | None) -> SetAside:
    """What a load set aside: that of a number, the newest of a table that set rows aside, or the newest of all.

    Args:
        context: the workspace's.
        which: a load's number, or the name of a table.
        limit: faults that are wanted, what does not fit before repeats; None for all, in the order of the file.

    Raises:
        DeclarationError: no such load is in the ledger.
    """
    load = _load(context, which)
    if not isinstance(which, int) and load.mends is not None:  # the rows it mends are open or closed there
        return set_aside(context, load.mends, limit)
    number, private = load.load_no or 0, _private(context, load)
    came, closed = context.ledger.mended(number), context.ledger.closed(number)
    shown, faults = _open(context, load, limit, came.keys() | closed.keys())
    rows = load.balance.rejected + load.balance.repeated if load.balance else 0
    return SetAside(
        load, tuple(masked(each, private) for each in shown), faults, rows, len(came),
        tuple(sorted(set(came.values()))), dict(Counter(closed.values())),
        bool(private),
    )  # fmt: skip


def as_csv(context: Context, load_no: int, most: int) -> str:
    """The rows that a load set aside, as they may be shown, as CSV: so many at most, and how many more there are."""
    from nomotheta.kinds.formulas import safe_text

    found = set_aside(context, load_no, most)
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    names = [name for name in found.COLUMNS if name != "original" or not found.private]
    writer.writerow(names)
    for row in found.as_rows():
        writer.writerow(["" if row[name] is None else safe_text(visible(row[name])) for name in names])
    if found.faults > most:
        writer.writerow([f"and {found.faults - most:,} more"])
    return text.getvalue()


def _load(context: Context, which: int | str | None) -> LoadResult:
    ledger = context.ledger
    if isinstance(which, int):
        load = ledger.load(which)
        if load is None:
            raise DeclarationError(f"there is no load {which} in the ledger", mend="see: nomotheta ledger")
        return load
    newest = ledger.newest_with_rejects(which)
    load = None if newest is None else ledger.load(newest)
    if load is not None:
        return load
    if which is None:
        raise DeclarationError("no load has set rows aside so far", where="ledger")
    tables = [each.charter.table for each in context.charters.apart(())[0]]
    mend = "see: nomotheta ledger" if which in tables else did_you_mean(which, tables)
    raise DeclarationError(f"no load of {which} has set rows aside", where="ledger", mend=mend)


def _open(
    context: Context, load: LoadResult, limit: int | None, done: Sequence[tuple[str, int]] | set[tuple[str, int]]
) -> tuple[Sequence[ShownReject], int]:
    """The first faults of rows that are open, and how many there are in all."""
    kept, faults = load.rejects, sum(load.reasons.values())
    if not done and limit is not None and (limit <= len(kept) or len(kept) == faults):
        return kept[:limit], faults
    from nomotheta.load.rejects import count_faults, read_rejects

    file = context.rejects_kept(load.load_no or 0)
    shown = [shown_of(each) for each in read_rejects(file, limit, done)]
    return shown, count_faults(file, done) if done else faults


def shown_of(reject: Reject) -> ShownReject:
    """A reject as it may be shown where nothing is private."""
    return ShownReject(
        reject.file, reject.line, reject.record, reject.column, reject.value, reject.reason, reject.message,
        reject.original,
    )  # fmt: skip


def masked(reject: ShownReject, private: frozenset[str]) -> ShownReject:
    """A reject without the values of private columns."""
    if not private:
        return reject
    return replace(reject, value=HIDDEN if reject.column in private else reject.value, original=None)


def _private(context: Context, load: LoadResult) -> frozenset[str]:
    """The columns that are private by today's charter of the table, or were by the one that it was loaded under.

    Where neither is known any more, nobody can say that a value may be shown: all are private.
    """
    known = [*_charters(context, load.table)]
    then = context.ledger.charter(load.charter)
    if then is not None:
        with contextlib.suppress(ValueError):
            known.append(tomllib.loads(then[0]))
        known.append(then[1])
    if not known:
        return ALL
    return frozenset(name for each in known for name in _named_private(each.get("columns")))


def _charters(context: Context, table: str) -> Iterator[Mapping[str, Any]]:
    """What charters of a table declare, whatever else may be wrong with them."""
    for path in sorted((context.root / CHARTERS).glob("*.toml")):
        with contextlib.suppress(OSError, ValueError):
            document = tomllib.loads(path.read_text(encoding="utf-8"))
            if document.get("table") == table:
                yield document


def _named_private(columns: Any) -> Iterator[str]:
    for name, column in columns.items() if isinstance(columns, dict) else ():
        if isinstance(column, dict) and column.get("private"):
            yield name


class _All(frozenset[str]):
    """Every name there is."""

    def __contains__(self, _: object) -> bool:
        return True

    def __bool__(self) -> bool:
        return True


ALL = _All()
