"""A load taken out of its table again, where its rows can be told; and the rows that it replaced, kept for that.

They are kept in a table beside the one that is loaded, whose name ends in the load's number: those of the newest load.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from nomotheta.charter import Compiled
from nomotheta.conditions import check
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError, counted
from nomotheta.frozen import frozen
from nomotheta.load import rejects_table
from nomotheta.load.apart import told_apart
from nomotheta.load.balance import How
from nomotheta.load.beside import beside
from nomotheta.place.base import Mark, Place
from nomotheta.place.marks import forget_files, outlived
from nomotheta.place.render import Now


@frozen
class TakenOut:
    """The rows of a table before, those that were removed and put back, and after."""

    before: int
    removed: int
    restored: int
    after: int


def kept_table(table: str, load_no: int) -> str:
    """Where the rows are kept that a load replaced."""
    return f"{beside(table)}_before_{load_no}"


@contextlib.contextmanager
def keeping(
    place: Place, compiled: Compiled, load_no: int, committing: Callable[[], bool], *, keep: bool
) -> Iterator[None]:  # fmt: skip
    """Around a load that may keep what it replaces: the table for it is made before, and older ones go afterwards.

    What fails while it is `committing` may have been committed all the same, and the table with it.
    """
    charter = compiled.charter
    if not keep:
        yield
        return
    kept = kept_table(charter.table, load_no)
    if place.keeps_versions:
        yield
        return
    place.make_like(kept, charter.table, place.stored(charter.table))
    try:
        yield
    except BaseException:
        if not committing():
            with contextlib.suppress(NomothetaError):
                place.drop(kept)
        raise
    former = re.compile(re.escape(beside(charter.table)) + r"_before_\d+")
    with contextlib.suppress(PlaceError):  # the load stands, whatever becomes of them
        for name in place.tables():
            if former.fullmatch(name) and name != kept:
                _drop_kept(place, charter.table, name)


def kept_mark(mark: Mark, kept: str, rows: int) -> Mark:
    """What says, in the place itself, that a load made the table of the rows that it replaced."""
    return replace(mark, table=kept, content="kept", once=f"kept:{mark.load_no}", rows=rows)


def _drop_kept(place: Place, table: str, name: str) -> None:
    """Drop a table of rows that were kept, if a load has made it: one of that name may be somebody else's."""
    marks = place.marks(name)
    if marks:
        place.drop(name)
        with place.transaction(table):
            for mark in marks:
                place.unmark(mark)


@frozen
class TakeOut:
    """A load to be taken out: the charter of its table, how it was loaded, and the moment and day that it was for.

    `restores` says whether an append replaced what its day had brought before.
    """

    load_no: int
    compiled: Compiled
    how: How
    now: Now
    restores: bool = False

    @property
    def table(self) -> str:
        """The table that it was loaded into."""
        return self.compiled.charter.table

    @property
    def puts_back(self) -> bool:
        """Whether rows that it replaced are put back."""
        return self.restores or self.how == "overwrite"


def undo(place: Place, loads: Sequence[TakeOut], workspace: str) -> list[TakenOut]:
    """Take the rows of loads out of their tables, and put back those that they replaced, in one transaction.

    Args:
        place: where the tables are.
        loads: which, the newest first.
        workspace: whose loads they are.

    Raises:
        DeclarationError: the rows of one cannot be told, or were not kept; no load was undone.
        DeliveryError: one is not in its table, or is not the newest; no load was undone.
        PlaceError: the place cannot be reached or refuses; the tables are as they were.
    """
    for each in loads:
        why = told_apart(each.compiled, each.how)
        if why and not place.keeps_versions:
            raise DeclarationError(f"load {each.load_no} cannot be undone: {why}", where=each.compiled.file)
    tables = sorted({each.table for each in loads})
    if place.apart_tables and len(tables) > 1:
        raise DeclarationError("no load was undone: the tables of a lake are changed one at a time",
                               where=f"{' and '.join(tables)} in {place.shown}",
                               mend="undo the loads of each by their numbers: nomotheta undo N")  # fmt: skip
    with place.transaction(*tables):
        found = [_taken_out(place, each, workspace) for each in loads]
    for each in loads:
        if each.puts_back:
            with contextlib.suppress(PlaceError):
                _drop_kept(place, each.table, kept_table(each.table, each.load_no))
    return found


def _taken_out(place: Place, load: TakeOut, workspace: str) -> TakenOut:
    """One of them, inside the transaction."""
    table, charter = load.table, load.compiled.charter
    kept = kept_table(table, load.load_no)
    place.expect(table, charter.kinds())
    mark = _standing(place, table, load.load_no, workspace, load.how)
    before = place.count(table)
    older = place.take_back(mark)
    if older is not None:
        return _marked_out(place, load, mark, before, *older)
    why = told_apart(load.compiled, load.how)
    if why:
        raise DeclarationError(f"load {load.load_no} cannot be undone: {why}; and the table was changed since",
                               where=load.compiled.file)  # fmt: skip
    condition = load.compiled.slice
    if load.how == "append":
        condition = check(f'"{charter.load_column()}" = {int(load.load_no)}', charter.kinds())
    if load.puts_back and (place.columns(kept) is None or not place.marks(kept)):
        raise DeclarationError(f"the rows that load {load.load_no} replaced are not there: {kept}", where=place.shown)
    removed = place.delete(table, place.render(condition, load.now) if condition else None)
    restored = place.copy(kept, table, place.stored(kept), None) if load.puts_back else 0
    return _marked_out(place, load, mark, before, removed, restored)


def _marked_out(place: Place, load: TakeOut, mark: Mark, before: int, removed: int, restored: int) -> TakenOut:
    """Take its mark away too, once its rows are out, and those that it replaced are back."""
    table, charter = load.table, load.compiled.charter
    after = place.count(table)
    if after != before - removed + restored:
        raise PlaceError(
            f"the table holds {counted(after, 'row')}, but before {before:,} − removed {removed:,} + "
            f"restored {restored:,} are {before - removed + restored:,}", where=table,
        )  # fmt: skip
    place.unmark(mark)
    forget_files(place, mark, load.now)
    if charter.load.rejects is not None:
        rejects_table.take_out(place, charter.load.rejects.table, load.load_no, load.now)
    return TakenOut(before, removed, restored, after)


def _standing(place: Place, table: str, load_no: int, workspace: str, how: How) -> Mark:
    marks = place.marks(table)
    mark = next((each for each in marks if each.load_no == load_no and each.workspace == workspace), None)
    if mark is None:
        raise DeliveryError(
            f"the rows of load {load_no} are not in {table}", where=place.shown, mend="see: nomotheta ledger"
        )
    later = outlived(marks).get(load_no)
    if later is None and how == "overwrite" and marks[-1].load_no != load_no:
        later = marks[-1].load_no
    if later is not None:
        raise DeliveryError(
            f"load {later} replaced rows after it", where=table, mend=f"undo that one first: nomotheta undo {later}"
        )
    return mark
