"""A workspace opened: the Python API, which the command line uses.

workspace = nomotheta.open_workspace("skerry-line")
result = workspace.run(datetime.date(2026, 6, 1))
"""

from __future__ import annotations

import datetime
import zoneinfo
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import DeclarationError, NomothetaError
from nomotheta.events import Listener, nobody
from nomotheta.workspace.context import CHARTERS, REPORTS, SETTINGS, Context, moment

if TYPE_CHECKING:
    from nomotheta.charter import Compiled, Problem, Settings
    from nomotheta.ledger import (
        DocketEntry,
        DocketPage,
        Judgement,
        Ledger,
        LoadResult,
        OutgoingPage,
        RunResult,
        TableResult,
        Undone,
    )
    from nomotheta.peek.table import TableLook
    from nomotheta.reconcile import Reconciliation, RowCounts
    from nomotheta.workspace.aside import SetAside
    from nomotheta.workspace.charters import Charters
    from nomotheta.workspace.evidence import Evidence
    from nomotheta.workspace.places import Places


def folder_of(folder: Path) -> Path | None:
    """The workspace's folder, at or above a folder; None where there is none."""
    return next((at for at in [folder.resolve(), *folder.resolve().parents] if (at / SETTINGS).is_file()), None)


class Workspace:
    """A folder with `nomotheta.toml` and `charters/`; its memory is in `.nomotheta/`."""

    def __init__(self, context: Context) -> None:
        self.context, self.root = context, context.root

    @classmethod
    def open(cls, folder: Path, *, lazily: bool = False) -> Workspace:
        """The workspace at or above a folder; `lazily`, its settings are read only when they are needed.

        Raises:
            DeclarationError: there is none, or its settings cannot be read.
        """
        root = folder_of(folder)
        if root is None:
            raise DeclarationError(
                f"there is no {SETTINGS} here or in a folder above", where=str(folder),
                mend="change into a workspace, name one with --workspace FOLDER, or make one: nomotheta begin",
            )  # fmt: skip
        opened = cls(Context(root))
        if not lazily:
            opened.context.settings  # noqa: B018 - what is wrong with them is told at once
        return opened

    @property
    def settings(self) -> Settings:
        """What `nomotheta.toml` says."""
        return self.context.settings

    @property
    def places(self) -> Places:
        """Where tables live."""
        return self.context.places

    @property
    def charters(self) -> Charters:
        """What tables must be."""
        return self.context.charters

    @property
    def ledger(self) -> Ledger:
        """The workspace's memory."""
        return self.context.ledger

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone of days and due times."""
        return self.context.zone

    def today(self) -> datetime.date:
        """The day it is in the workspace's time zone."""
        return self.context.today()

    # ---- charters

    def lint(self) -> tuple[list[str], list[Problem]]:
        """The charters' files, and what is wrong with them; nothing of the data is touched."""
        from nomotheta.workspace.comparing import lint_comparisons

        names, problems = self.charters.lint()
        more, wrong = lint_comparisons(self.context)
        return [*names, *more], [*problems, *wrong]

    def lint_places(self) -> tuple[list[Problem], list[str], list[NomothetaError]]:
        """The charters held against the real tables: what is wrong, worth knowing, and the places that are silent."""
        from nomotheta.workspace.at_places import held_against_places

        return held_against_places(self.context)

    def notes(self) -> list[str]:
        """What is right, but worth knowing: loads that cannot be taken out again, rules that read private values."""
        return self.charters.notes()

    def compiled(self, tables: Sequence[str] = ()) -> list[Compiled]:
        """The charters of these tables, or all, each after those it refers to.

        Raises:
            DeclarationError: one has problems, or a table has no charter.
        """
        return self.charters.compiled(tables)

    # ---- looking

    def look_at_table(self, table: str, *, place: str | None = None, where: str = "", by: str = "") -> TableLook:
        """A look at a table: its rows, or those that meet a condition; its declared key, where it has a charter.

        Raises:
            PlaceError: there is no such table, or the place cannot be reached.
            DeclarationError: the condition or the column is none of this table.
        """
        from nomotheta.peek.table import look_at_table

        charters = self.charters.known()
        compiled = charters.get(table)
        name = place or (compiled.place if compiled else next(iter(self.settings.places)))
        now = self.context.now(moment(), self.today(), None)
        key = next((each.columns for each in compiled.charter.real_keys()), ()) if compiled else ()
        with self.places.open(name) as opened:
            return look_at_table(
                opened, table, now, where=where, by=by, key=key, kinds=compiled.charter.kinds() if compiled else None,
                private=compiled.charter.private() if compiled else frozenset(),
            )  # fmt: skip

    # ---- proposal

    def propose_files(
        self, files: Sequence[Path], table: str | None = None, listener: Listener = nobody, *, into: str | None = None,
        place: str | None = None,
    ) -> tuple[str, str]:  # fmt: skip
        """A charter to start from, as TOML, proposed from files of one pattern, and the name of its table.

        Args:
            files: of data, or one of metadata of CSV on the Web.
            table: the table's name; by default that of `into`, or what the files' names say.
            listener: told of the progress.
            into: a table that is there, whose columns and kinds are taken over.
            place: where it is; by default in the first place.

        Raises:
            DeliveryError: a file cannot be read, or the files differ.
            DeclarationError: the metadata describes no such table.
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.proposing import propose_of_files

        columns = None
        if into is not None:
            from nomotheta.rules.shape import existing

            with self.places.open(place or next(iter(self.settings.places))) as opened:
                columns = existing(opened, into)
        return propose_of_files(files, self.root, table or into, self.today(), listener, columns)

    def propose_table(self, table: str, place_name: str | None = None) -> str:
        """A charter to start from, as TOML, proposed from a table as it is.

        Raises:
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.proposing import propose_of_table

        name = place_name or next(iter(self.settings.places))
        return propose_of_table(lambda: self.places.open(name), table, self.today())

    def metadata(self, table: str) -> str:
        """The metadata (CSV on the Web) of a table's files as its charter declares them, as JSON.

        Raises:
            DeclarationError: there is no such charter, it has problems, or its files are not delimited text.
        """
        from nomotheta.workspace.proposing import metadata_of_charter

        return metadata_of_charter(self.compiled([table])[0])

    # ---- load

    def load(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False, again: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), run_id: int | None = None,
        listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """Load a table's delivery for a day, and judge what was loaded before it is committed.

        What goes wrong with the delivery or the place is told by the result, not raised. With `again`, a delivery
        that was loaded for this very day already is not a failure, but left alone; with `even_if_loaded` it is loaded
        once more, and the result says so. `files` are loaded in place of those that the charter names.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.loading import Wanted, load_delivery

        compiled, wanted = self.compiled([table])[0], Wanted(create, again, even_if_loaded, tuple(files))
        result = load_delivery(self.context, compiled, day, place, run_id, wanted, listener)
        charter = compiled.charter
        from nomotheta.ledger import RunResult

        alone = RunResult.of_one(result, self.settings.name, moment(), charter.about, tuple(charter.owners))
        self.ledger.note_failures(alone)
        return result

    def load_through(
        self, table: str, day: datetime.date, *, rehearse: bool = False, place: str | None = None, create: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), listener: Listener = nobody,
    ) -> list[LoadResult]:  # fmt: skip
        """The same, and what was landed is moved on into the table of its values: the results of both.

        With `rehearse` nothing of it stays; what would be landed only then is not moved.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        carry_out = self.rehearse if rehearse else self.load
        results = [carry_out(table, day, place=place, create=create, even_if_loaded=even_if_loaded, files=files,
                             listener=listener)]  # fmt: skip
        into = self.compiled([table])[0].charter.load.into
        if into is not None and results[0].state in {"loaded", "unchanged"}:
            results.append(self.load(into.typed, day, place=place, create=create, listener=listener))
        return results

    def undo(self, *loads: int, run_id: int | None = None) -> list[Undone]:
        """Take loads, or all of a run, out of their tables again, and put back what they replaced: all or none.

        Raises:
            DeclarationError: there is no such load, or its rows cannot be told apart.
        """
        from nomotheta.workspace.undoing import loads_of_run, undo_loads

        chosen = [*loads, *(loads_of_run(self.context, run_id) if run_id is not None else [])]
        return undo_loads(self.context, chosen)

    def rehearse(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False,
        even_if_loaded: bool = False, files: Sequence[Path] = (), listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """The whole load and its rules, and nothing stays; the ledger is not touched.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.loading import Wanted, rehearse_delivery

        compiled, wanted = self.compiled([table])[0], Wanted(create, even_if_loaded=even_if_loaded, files=tuple(files))
        return rehearse_delivery(self.context, compiled, day, place, wanted, listener)

    def load_mended(
        self, table: str, file: Path, *, place: str | None = None, listener: Listener = nobody
    ) -> LoadResult:
        """Load rows that an earlier load set aside and that were mended since, as `write_rejects` wrote them.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        from nomotheta.workspace.reloading import load_mended

        return load_mended(self.context, self.compiled([table])[0], file, place, listener)

    def load_open_again(self, table: str, *, place: str | None = None, listener: Listener = nobody) -> list[LoadResult]:
        """Load rows that were set aside for the sake of rows which have been taken out or replaced since.

        Raises:
            DeclarationError: the charter or the call is wrong.
            PlaceError: the place cannot be reached.
        """
        from nomotheta.workspace.reopening import load_open_again

        compiled = self.compiled([table])[0]
        return load_open_again(self.context, compiled, place or compiled.place, None, listener)

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
            found = {
                result.table: result
                for name, some in places.items()
                for result in judge_side_by_side(self.context, some, name, day, jobs, meanwhile)
            }
            return [found[each.charter.table] for each in chosen]
        if keep is not None and not keep.suffix:
            keep.mkdir(parents=True, exist_ok=True)
        files = [keep / f"{each.charter.table}.parquet" if keep and not keep.suffix else keep for each in chosen]
        return [
            judge_table(self.context, each, place or each.place, day, meanwhile, load_no=load_no, keep=file)
            for each, file in zip(chosen, files, strict=True)
        ]

    def sessions(self, places: Iterable[str]) -> dict[str, Sequence[str]]:
        """What a client of each place says first, so that statements which are made here mean the same there."""
        found = {}
        for name in places:
            with self.places.open(name) as place:
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
            return count_loads(self.context, self.compiled([table])[0], by, place, since, until, listener)
        context = self.context
        said = (
            asked_comparison(context, table, target, where, (), ()) if target else declared_comparison(context, table)
        )
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

    # ---- the whole path

    def run(
        self, day: datetime.date | None = None, tables: Sequence[str] = (), *, place: str | None = None,
        create: bool = False, listener: Listener = nobody, told: Callable[[TableResult], None] = lambda _: None,
    ) -> RunResult:  # fmt: skip
        """The whole path for all or some tables, in the order of their references.

        A table that fails, or whose charter is wrong, holds back only those that refer to it.

        Raises:
            DeclarationError: all charters or the call is wrong; nothing was done.
        """
        chosen, broken = self._delivered(tables)
        from nomotheta.workspace.running import Running

        running = Running(self.context, day or self.today(), place, listener, create=create)
        return running.run(chosen, broken, told)

    def rehearse_run(
        self, day: datetime.date | None = None, tables: Sequence[str] = (), *, place: str | None = None,
        create: bool = False, listener: Listener = nobody,
    ) -> RunResult:  # fmt: skip
        """The whole path but for reconciling, in order, and nothing of it stays; the ledger is not touched.

        Raises:
            DeclarationError: all charters or the call is wrong.
        """
        chosen, broken = self._delivered(tables)
        from nomotheta.workspace.rehearsing import rehearse_run

        return rehearse_run(self.context, chosen, broken, day or self.today(), place, listener, create=create)

    def _delivered(self, tables: Sequence[str]) -> tuple[list[Compiled], dict[str, DeclarationError]]:
        """The charters that declare a delivery, and what is wrong with others."""
        right, broken = self.charters.apart(tables)
        chosen = [each for each in right if each.charter.delivery is not None or each.source is not None]
        if not chosen and not broken:
            raise DeclarationError("no charter declares a [delivery], so there is nothing to run", where=CHARTERS)
        return chosen, broken

    # ---- rejects

    def rejects_file(self, load_no: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.context.rejects_file(load_no)

    def set_aside(self, which: int | str | None = None, limit: int | None = None) -> SetAside:
        """What a load, or the newest of a table or of all, set aside, and what became of those rows since.

        Raises:
            DeclarationError: no such load is in the ledger.
        """
        from nomotheta.workspace.aside import set_aside

        return set_aside(self.context, which, limit)

    def write_rejects(self, found: SetAside, file: Path) -> int:
        """Write the rows that are still open as CSV for mending, whole or not at all; how many they are.

        Raises:
            DeclarationError: the file cannot be written, or the table has no charter any more.
        """
        from nomotheta.load.mended import columns_of
        from nomotheta.workspace.mending import write_mendable

        compiled = self.compiled([found.load.table])[0]
        number = found.load.load_no or 0
        done = self.ledger.mended(number).keys() | self.ledger.closed(number).keys()
        return write_mendable(found, self.rejects_file(number), done, columns_of(compiled.charter), file)

    def close_rejects(self, load_no: int, reason: str, lines: Sequence[int] = ()) -> int:
        """Close rows that a load set aside and that will not come, those of some lines or all; how many they are.

        Raises:
            DeclarationError: no such row is open, or no reason is given.
        """
        from nomotheta.workspace.attempts import whoever
        from nomotheta.workspace.mending import close_rows

        if not reason.strip():
            raise DeclarationError("say why the rows will not come", mend='nomotheta rejects LOAD --close "REASON"')
        return close_rows(self.context, load_no, set(lines), reason, whoever())

    # ---- the docket

    def docket(
        self, entry_no: int | None = None, *, table: str | None = None, owner: str | None = None, closed: bool = False
    ) -> DocketPage:  # fmt: skip
        """What fails: of all, of a table, of an owner; or one entry, open or not, and what happened to it.

        Raises:
            DeclarationError: there is no such entry.
        """
        from nomotheta.workspace.docketing import page_of

        return page_of(self.context, entry_no, table, owner, closed=closed)

    def take_entry(self, entry_no: int, by: str | None = None, note: str = "") -> DocketEntry:
        """Take an open entry of the docket on; by default, whoever runs the program does.

        Raises:
            DeclarationError: there is no such entry, or it is closed.
        """
        from nomotheta.workspace.attempts import whoever

        return self.ledger.docket.take(entry_no, by or whoever(), note, moment())

    def excuse_entry(self, entry_no: int, until: datetime.date, reason: str, by: str | None = None) -> DocketEntry:
        """Nobody is told of an open entry up to a day. It still fails.

        Raises:
            DeclarationError: there is no such entry, it is closed, or the day is over.
        """
        from nomotheta.workspace.attempts import whoever

        if until < self.today():
            raise DeclarationError(f"{until} is over", where="--until", mend="name today or a later day")
        return self.ledger.docket.excuse(entry_no, until, reason, by or whoever(), moment())

    @staticmethod
    def write_docket(page: DocketPage, file: Path) -> int:
        """Write entries as CSV, or as Parquet by the file's name; how many.

        Raises:
            DeclarationError: the file cannot be written.
        """
        from nomotheta.report.rows import write_table

        return write_table(page.to_arrow(), file)

    # ---- tell

    def tell(self, result: RunResult | LoadResult | None = None) -> list[NomothetaError]:
        """Tell those who want to hear of a result, or of what else has changed, and send what could not be sent before.

        Returns:
            What could not be sent, which stays in the outbox for the next time.
        """
        from nomotheta.ledger import RunResult
        from nomotheta.workspace.telling import tell

        now = moment()
        nothing = RunResult(0, self.settings.name, now.astimezone(self.zone).date(), now, 0.0, "pass", ())
        return tell(self.settings, self.ledger, self.root, self.zone, self.context.identity, result or nothing)

    def outgoing(self, *, rehearse: bool = False) -> OutgoingPage:
        """What waits to be told; or, as a rehearsal, what the newest run would tell whom, and why."""
        from nomotheta.ledger import RunResult
        from nomotheta.workspace.telling import outgoing

        nothing = RunResult(0, self.settings.name, self.today(), moment(), 0.0, "pass", ())
        result = self.ledger.run() if rehearse else None
        return outgoing(self.settings, self.ledger, self.zone, result or nothing, rehearse=rehearse)

    def tell_test(self, name: str) -> list[NomothetaError]:
        """Send a test message by an entry; what went wrong in that.

        Raises:
            DeclarationError: there is no such entry.
        """
        from nomotheta.workspace.outgoing import send_test

        return send_test(self.settings, self.ledger, self.root, self.zone, self.context.identity, name)

    def evidence(
        self, first: datetime.date, last: datetime.date, file: Path, *, table: str | None = None
    ) -> Evidence:  # fmt: skip
        """Pack what an auditor asks for about the deliveries of some days, as a BagIt bag in a zip file.

        Raises:
            DeclarationError: nothing is known of these days, or the file cannot be written.
        """
        from nomotheta.workspace.evidence import pack

        return pack(self.context, first, last, table, file)

    def kept_load(self, load_no: int) -> tuple[LoadResult, datetime.datetime, str]:
        """A load as the ledger keeps it, when it began, and the charter that was carried out, as TOML.

        Raises:
            DeclarationError: there is no such load.
        """
        load, began = self.ledger.load(load_no), self.ledger.began(load_no)
        if load is None or began is None:
            raise DeclarationError(f"there is no load {load_no} in the ledger", mend="see: nomotheta ledger")
        charter = self.ledger.charter(load.charter)
        return load, began, charter[0] if charter else ""

    # ---- report

    def report(
        self, run_id: int | None = None, file: Path | None = None, *, load_no: int | None = None,
        judged: str | None = None,
    ) -> tuple[RunResult, Path]:  # fmt: skip
        """Write the page of a run, or of the newest one; or that of a load, or of the newest judgement of a table.

        Raises:
            DeclarationError: no such run, load or judgement is in the ledger, or the page cannot be written.
        """
        from nomotheta.report.page import page
        from nomotheta.report.write import write_file
        from nomotheta.workspace.reporting import page_of

        result, name = page_of(self.context, run_id, load_no, judged)
        path = file or self.root / REPORTS / f"{name}.html"
        try:
            write_file(path, page(result, moment().astimezone(self.zone)))
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
        return result, path

    def write_site(self, run: RunResult | None = None, entry: DocketEntry | None = None) -> Path:
        """Write the linked pages of the workspace into `reports/`; the index's path.

        After a run, or a change of an entry of the docket, those that it changes are, where there are such pages or
        `[report] base_url` says that there are.

        Raises:
            DeclarationError: they cannot be written.
        """
        from nomotheta.workspace.site import write_site

        folder = self.root / REPORTS
        partly = run is not None or entry is not None
        if partly and not (self.settings.report.base_url or (folder / "index.html").is_file()):
            return folder / "index.html"
        try:
            return write_site(self.context, folder, run, entry)
        except OSError as error:
            raise DeclarationError(f"the pages cannot be written: {error.strerror}", where=str(folder)) from None

    def write_as(self, form: str, run_id: int | None = None, file: Path | None = None) -> tuple[RunResult, Path]:
        """Write a run, or the newest, for other programs: `junit`, `openmetrics`, `findings`, `dqv`, `prov`.

        Raises:
            DeclarationError: there is no such form or run, or the file cannot be written.
        """
        from nomotheta.report.outputs import Shown, output
        from nomotheta.report.write import write_parts
        from nomotheta.workspace.reporting import page_of

        written, ending = output(form)
        result, name = page_of(self.context, run_id, None, None)
        entries, passed = self.ledger.docket.entries(), self.ledger.history.last_success_at()
        path = file or self.root / REPORTS / f"{name}-{form}{ending}"
        try:
            write_parts(path, [written(Shown(result, entries, passed))])
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
        return result, path

    def keep_pages(self, run: RunResult | None = None, entry: DocketEntry | None = None) -> list[NomothetaError]:
        """Write the pages that a run, or an entry of the docket, changes, if there are any; what went wrong in that."""
        try:
            self.write_site(run, entry)
        except NomothetaError as error:
            return [error]
        return []

    def charter_of(self, table: str) -> Compiled | None:
        """A table's charter, where it still has one."""
        return self.charters.of(table)

    def close(self) -> None:
        """Let go of the ledger."""
        self.context.close()
