"""What a workspace judges and reconciles."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import DeclarationError
from nomotheta.events import Listener, nobody

if TYPE_CHECKING:
    from nomotheta.ledger import Judgement
    from nomotheta.reconcile import Reconciliation, RowCounts


from nomotheta.workspace.opened import Opened


class Checks(Opened):
    """What a workspace judges and reconciles."""

    def _asking(self) -> AbstractContextManager[None]:
        """Places are only asked meanwhile, and an engine that is declared or chosen does that for a lake."""
        return self.places.asked_by(self.context.engines)

    # ---- judge

    def judge(
        self, tables: Sequence[str] = (), *, place: str | None = None, day: datetime.date | None = None,
        load_no: int | None = None, keep: Path | None = None, jobs: int = 1, meanwhile: Sequence[str] = (),
    ) -> list[Judgement]:  # fmt: skip
        """Check tables against their charters, however they were loaded.

        Args:
            tables: their names; all where there are none.
            place: another place than the charters'.
            day: what `:day` stands for; today where it is None.
            load_no: look at the rows of this load alone, of one table.
            keep: a .parquet or .csv file for all rows that break rules, or a folder for one of each table.
            jobs: how many tables of a place are judged at a time, on connections that see one moment.
            meanwhile: modules that are imported while the place works.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        from nomotheta.workspace.judging import judge_table

        chosen = self.compiled(tables)
        if (load_no is not None or (keep is not None and keep.suffix)) and len(chosen) != 1:
            what = (
                f"load {load_no} is one of a single table" if load_no is not None else f"{keep} is for a single table"
            )
            raise DeclarationError(what, mend="name the table" + (", or a folder" if load_no is None else ""))
        if jobs > 1 and keep is None and load_no is None:
            from nomotheta.workspace.side_by_side import judge_side_by_side

            places = {name: [each for each in chosen if (place or each.place) == name]
                      for name in dict.fromkeys(place or each.place for each in chosen)}  # fmt: skip
            with self._asking():
                found = {
                    result.table: result
                    for name, some in places.items()
                    for result in judge_side_by_side(self.context, some, name, day, jobs, meanwhile)
                }
            return [found[each.charter.table] for each in chosen]
        if keep is not None and not keep.suffix:
            keep.mkdir(parents=True, exist_ok=True)
        files = [keep / f"{each.charter.table}.parquet" if keep and not keep.suffix else keep for each in chosen]
        with self._asking():
            return [
                judge_table(self.context, each, place or each.place, day, meanwhile, load_no=load_no, keep=file)
                for each, file in zip(chosen, files, strict=True)
            ]

    def sessions(self, places: Iterable[str]) -> dict[str, Sequence[str]]:
        """What a client of each place says first, so that statements which are made here mean the same there."""
        found = {}
        for name in places:
            with self._asking(), self.places.open(name) as place:
                found[name] = place.session
        return found

    # ---- reconcile

    def reconcile(
        self, table: str, *, load_no: int | None = None, place: str | None = None, run_id: int | None = None,
        limit: int | None = 20, listener: Listener = nobody,
    ) -> Reconciliation:  # fmt: skip
        """Compare the files of a load with the table: of the newest, or of all where rows cannot be told apart.

        So many of the rows that differ are told (`limit`), None for all.

        Raises:
            DeclarationError: the charter or the call is wrong, or nothing was loaded.
            DeliveryError: a file is gone or has changed.
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.reconciling import reconcile_table

        with self._asking():
            return reconcile_table(self.context, self.compiled([table])[0], load_no, place, run_id, listener, limit)

    def compare(
        self, source: str, target: str = "", *, where: str | None = None, key: Sequence[str] = (),
        without: Sequence[str] = (), distinct: Sequence[str] = (), fingerprints: bool = False,
        day: datetime.date | None = None, run_id: int | None = None, limit: int | None = 20,
        listener: Listener = nobody,
    ) -> Reconciliation:  # fmt: skip
        """Compare any two sides: rows, totals, fingerprints, and the rows that differ.

        Args:
            source: what should be there: a table, PLACE:TABLE or a file; without a target, the name of a comparison
                that is kept in `comparisons/`.
            target: what is there.
            where: a condition that narrows both sides.
            key: columns by which rows are told apart; by default a key of either side.
            without: columns that are not compared.
            distinct: columns whose different values are counted.
            fingerprints: whether that of each column is told.
            day: what `{day}` and `:day` stand for; by default today.
            run_id: the run it is part of.
            limit: how many of the rows that differ are told, None for all.
            listener: told of the progress.

        Raises:
            DeclarationError: the call or the comparison is wrong, or values cannot be compared.
            DeliveryError: a file cannot be read.
            PlaceError: a table is not there, or a place cannot be reached.
        """
        from nomotheta.workspace.comparing import asked_comparison, compare_sides, declared_comparison

        context = self.context
        said = (
            asked_comparison(context, source, target, where, key, without, distinct, fingerprints=fingerprints)
            if target
            else declared_comparison(context, source)
        )
        with self._asking():
            return compare_sides(context, said, source, day or self.today(), run_id, listener, limit)

    def count(
        self, table: str, by: str, target: str = "", *, where: str | None = None, place: str | None = None,
        since: datetime.date | None = None, until: datetime.date | None = None, day: datetime.date | None = None,
        listener: Listener = nobody,
    ) -> RowCounts:  # fmt: skip
        """Count rows by groups on both sides: what the loads of a table brought and what is in it, or any two sides.

        Args:
            table: the table, or the first of two sides, as in `compare`; or the name of a comparison.
            by: a column; of the loads of a table also `load`, `day` or `file`.
            target: the other of two sides.
            where: a condition that narrows both sides.
            place: another place than the charter's.
            since: the first day of the loads that are counted.
            until: the last of them.
            day: what `{day}` and `:day` stand for in a comparison; by default today.
            listener: told of the progress.

        Raises:
            DeclarationError: the call is wrong, or rows cannot be told apart so.
            DeliveryError: a file is gone or has changed.
            PlaceError: a table is not there, or a place cannot be reached.
        """
        from nomotheta.workspace.comparing import asked_comparison, count_by, declared_comparison
        from nomotheta.workspace.counting import count_loads

        if not target and table not in self.comparisons():
            with self._asking():
                return count_loads(self.context, self.compiled([table])[0], by, place, since, until, listener)
        context = self.context
        said = (
            asked_comparison(context, table, target, where, (), ()) if target else declared_comparison(context, table)
        )
        with self._asking():
            return count_by(context, said, table, day or self.today(), by, listener)

    def comparisons(self) -> list[str]:
        """The names of the comparisons that are kept in `comparisons/`."""
        from nomotheta.workspace.comparing import comparison_names

        return comparison_names(self.context)

    def write_differences(self, results: Sequence[Reconciliation], file: Path) -> int:
        """Write the rows that differ to a file, CSV or Parquet by its ending; how many lines.

        Raises:
            DeclarationError: it cannot be written.
        """
        from nomotheta.report.rows import write_differences

        return write_differences(results, file)

    def loaded_tables(self, place: str | None = None) -> list[str]:
        """The tables with a charter into which something was loaded, each after those it refers to.

        Raises:
            DeclarationError: nothing was loaded so far.
        """
        charters = self.charters.apart(())[0]
        found = [each.charter.table for each in charters
                 if self.ledger.standing(each.charter.table, place or each.place)]  # fmt: skip
        if not found:
            raise DeclarationError("nothing was loaded so far", where="ledger", mend="load it first: nomotheta run")
        return found
