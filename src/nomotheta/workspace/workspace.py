"""A workspace opened: the Python API, on which the command line stands.

workspace = nomotheta.open_workspace("skerry-line")
result = workspace.run(datetime.date(2026, 6, 1))
"""

from __future__ import annotations

import datetime
import time
import uuid
import zoneinfo
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property
from pathlib import Path

from nomotheta.charter import Compiled, Problem, Read, Settings, in_order, lint, read_charter, read_settings
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError, did_you_mean
from nomotheta.events import Listener, nobody
from nomotheta.ledger import Judgement, Ledger, LoadResult, RunResult, ShownReject, TableResult, Undone
from nomotheta.load import Balance, Reject, columns_of, delimiter_of, mended_charter, told_apart
from nomotheta.place import Now, Place, PlaceAnswer, connect, rehearsal, tried
from nomotheta.reconcile import LoadedFiles, Reconciliation, reconcile
from nomotheta.rules import Scope, gravest, judge, worst
from nomotheta.workspace.loading import Loading
from nomotheta.workspace.mending import SetAside, set_aside, shown, write_mendable
from nomotheta.workspace.telling import tell

SETTINGS, CHARTERS, MEMORY = "nomotheta.toml", "charters", ".nomotheta"


class Workspace:
    """A folder with `nomotheta.toml` and `charters/`; its memory is in `.nomotheta/`."""

    def __init__(self, root: Path, settings: Settings, settings_problems: Sequence[Problem] = ()) -> None:
        self.root, self.settings = root, settings
        self._problems = list(settings_problems)
        self._kept: dict[str, Place] | None = None

    @classmethod
    def open(cls, folder: Path) -> Workspace:
        """The workspace at or above a folder.

        Raises:
            DeclarationError: there is none, or its settings cannot be read.
        """
        root = next((at for at in [folder.resolve(), *folder.resolve().parents] if (at / SETTINGS).is_file()), None)
        if root is None:
            raise DeclarationError(
                f"there is no {SETTINGS} here or in a folder above", where=str(folder),
                mend="change into a workspace, name one with --workspace FOLDER, or start with: nomotheta demo",
            )  # fmt: skip
        settings, _, problems = read_settings(root / SETTINGS, SETTINGS)
        if settings is None:
            raise _declared_wrong(problems)
        return cls(root, settings)

    @cached_property
    def ledger(self) -> Ledger:
        """The workspace's memory."""
        return Ledger(self.root / MEMORY / "ledger.sqlite")

    @cached_property
    def identity(self) -> str:
        """What tells this workspace from any other in the places that both load into."""
        return self.ledger.identity(uuid.uuid4().hex)

    @cached_property
    def _loading(self) -> Loading:
        """What loads need of this workspace."""
        return Loading(self)

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone of days and due times."""
        return zoneinfo.ZoneInfo(self.settings.time_zone)

    def today(self) -> datetime.date:
        """The day it is in the workspace's time zone."""
        return datetime.datetime.now(self.zone).date()

    # ---- charters

    @cached_property
    def _linted(self) -> tuple[dict[str, Compiled], list[Problem], list[str]]:
        reads: list[Read] = []
        problems: list[Problem] = []
        names = []
        for path in sorted((self.root / CHARTERS).glob("*.toml")):
            name = f"{CHARTERS}/{path.name}"
            names.append(name)
            try:
                read, found = read_charter(path, name)
            except DeclarationError as error:
                file, _, line = error.where.rpartition(":")
                known = line.isdigit() and file == name
                found = [Problem(name, int(line) if known else 1, error.what, error.mend)]
                read = None
            problems += found
            reads += [read] if read else []
        compiled, more = lint(reads, self.settings)
        return compiled, sorted(problems + more, key=lambda p: (p.file, p.line)), names

    def lint(self) -> tuple[list[str], list[Problem]]:
        """The charters' files, and what is wrong with them; nothing of the data is touched."""
        _, problems, names = self._linted
        return names, problems

    def notes(self) -> list[str]:
        """Of the charters' loads, those that could not be taken out again, and why."""
        found = [(each, told_apart(each, each.charter.load.how)) for each in self._linted[0].values()]
        lasting = [f"{each.file}: a load cannot be taken out again: {why}" for each, why in found if why]
        return lasting + [note for each in self._linted[0].values() for note in _private_read(each)]

    def compiled(self, tables: Sequence[str] = ()) -> list[Compiled]:
        """The charters of these tables, or all, each after those it refers to.

        Raises:
            DeclarationError: one has problems, or a table has no charter.
        """
        known, problems, names = self._linted
        if not names:
            raise DeclarationError(f"there are no charters in {CHARTERS}/", where=str(self.root),
                                   mend=f"write {CHARTERS}/NAME.toml; see the charter reference")  # fmt: skip
        unknown = [table for table in tables if table not in known]
        files = {known[table].file for table in tables if table in known}
        relevant = problems if unknown or not tables else [each for each in problems if each.file in files]
        if relevant:
            raise _declared_wrong(relevant)
        if unknown:
            mend = did_you_mean(unknown[0], known, "charters: " + ", ".join(known))
            raise DeclarationError(f"no charter declares the table '{unknown[0]}'", where=CHARTERS, mend=mend)
        try:
            order = in_order(known)
        except ValueError:  # others refer to each other in a circle, which is told of where they are asked for
            order = in_order({table: known[table] for table in tables or known})
        chosen = set(tables) or set(known)
        return [known[table] for table in order if table in chosen]

    # ---- proposal

    def propose_file(self, file: Path, table: str | None = None, listener: Listener = nobody) -> str:
        """A charter to start from, as TOML, proposed from a file of data or from metadata of CSV on the Web.

        Raises:
            DeliveryError: the file cannot be read.
            DeclarationError: the metadata describes no such table.
        """
        from nomotheta.workspace.proposing import propose_of_file

        return propose_of_file(file, self.root, table, self.today(), listener)

    def propose_table(self, table: str, place_name: str | None = None) -> str:
        """A charter to start from, as TOML, proposed from a table as it is.

        Raises:
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.proposing import propose_of_table

        name = place_name or next(iter(self.settings.places))
        return propose_of_table(lambda: self.place(name), table, self.today())

    def metadata(self, table: str) -> str:
        """The metadata (CSV on the Web) of a table's files as its charter declares them, as JSON.

        Raises:
            DeclarationError: there is no such charter, it has problems, or its files are no delimited text.
        """
        from nomotheta.workspace.proposing import metadata_of_charter

        return metadata_of_charter(self.compiled([table])[0])

    def write_proposal(self, text: str, file: Path) -> None:
        """Write a proposal where no charter stands yet.

        Raises:
            DeclarationError: there is one already, or it cannot be written.
        """
        from nomotheta.report.write import write_file

        if file.exists():
            raise DeclarationError("this file is there already", where=str(file), mend="name another with --to FILE")
        try:
            write_file(file, text)
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None

    # ---- places

    @contextmanager
    def place(self, name: str, *, create: bool = False) -> Iterator[Place]:
        """A place, open for as long as the block lasts, or as its places are kept.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        place = self._kept_place(name) or connect(name, self._declared(name), self.root, create=create)
        kept = self._kept is not None
        try:
            if self._kept is not None:
                self._kept[name] = place
            yield place
        except BaseException:
            kept = False  # it may be in the middle of something
            raise
        finally:
            if not kept:
                if self._kept is not None:
                    self._kept.pop(name, None)
                place.close()

    @contextmanager
    def keeping_places(self) -> Iterator[None]:
        """Places that are opened meanwhile stay open until the end, and are used again."""
        kept = self._kept = dict[str, Place]()
        try:
            yield
        finally:
            self._kept = None
            for place in kept.values():
                place.close()

    def _kept_place(self, name: str) -> Place | None:
        """One that is open, if it still answers."""
        place = self._kept.get(name) if self._kept is not None else None
        if place is None:
            return None
        try:
            place.fetch("SELECT 1 AS one")
        except PlaceError:
            place.close()
            return None
        return place

    def places(self) -> list[PlaceAnswer]:
        """Every declared place, tried."""
        return [tried(name, place.url, self.root) for name, place in self.settings.places.items()]

    def _declared(self, name: str) -> str:
        """The URL of a place."""
        declared = self.settings.places.get(name)
        if declared is None:
            mend = did_you_mean(name, self.settings.places, "places: " + ", ".join(self.settings.places))
            raise DeclarationError(f"no place '{name}' is declared", where=SETTINGS, mend=mend)
        return declared.url

    @contextmanager
    def rehearsal_place(self, name: str, table: str) -> Iterator[tuple[Place, bool]]:
        """A place for a load that is not to stand, and whether it is one in memory.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        place, in_memory = rehearsal(name, self._declared(name), self.root, table)
        try:
            yield place, in_memory
        finally:
            place.close()

    # ---- load

    def load(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False, again: bool = False,
        even_if_loaded: bool = False, run_id: int | None = None, listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """Load a table's delivery for a day, and judge what was loaded before it is committed.

        What goes wrong with the delivery or the place is told by the result, not raised. With `again`, a delivery
        that was loaded for this very day already is no failure, but left alone; with `even_if_loaded` it is loaded
        once more, and the result says so.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        return self._loading.load(
            table, day, place, run_id, listener, create=create, again=again, even_if_loaded=even_if_loaded
        )

    def undo(self, load_no: int) -> Undone:
        """Take a load out of its table again, and put back what it replaced.

        Raises:
            DeclarationError: there is no such load, or its rows cannot be told apart.
        """
        return self._loading.undo(load_no)

    def rehearse(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False,
        even_if_loaded: bool = False, listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """The whole load and its rules, and nothing stands; the ledger is not touched.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        return self._loading.rehearse(table, day, place, listener, create=create, even_if_loaded=even_if_loaded)

    def load_mended(
        self, table: str, file: Path, *, place: str | None = None, listener: Listener = nobody
    ) -> LoadResult:
        """Load rows that an earlier load set aside and that were mended since, as `write_rejects` wrote them.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        return self._loading.load_mended(table, file, place, listener)

    # ---- judge

    def judge(
        self, tables: Sequence[str] = (), *, place: str | None = None, day: datetime.date | None = None
    ) -> list[Judgement]:
        """Hold tables against their charters, however they were loaded.

        Raises:
            DeclarationError: a charter or the call is wrong.
        """
        return [self._judge(compiled, place or compiled.place, day) for compiled in self.compiled(tables)]

    def _judge(self, compiled: Compiled, place_name: str, day: datetime.date | None) -> Judgement:
        started, clock = _now(), time.perf_counter()
        table = compiled.charter.table
        try:
            with self.place(place_name) as place:
                marks = place.marks(table)
                last = marks[-1].load_no if marks else None
                now = Now(started.astimezone(self.zone), day or self.today(), last)
                load_scope = self._loading.scope_of_load(compiled, last) if last else None
                findings = judge(place, compiled, now, Scope(), load_scope)
                result = Judgement(table, place_name, "table", worst(findings), tuple(findings))
        except PlaceError as error:
            where = f"{error.where}: " if error.where else ""
            result = Judgement(table, place_name, "table", "error", message=where + error.what, mend=error.mend)
        result = replace(result, seconds=round(time.perf_counter() - clock, 3))
        self.ledger.add_judgement(result, started)
        return result

    # ---- reconcile

    def reconcile(
        self, table: str, *, load_no: int | None = None, place: str | None = None, run_id: int | None = None,
        listener: Listener = nobody,
    ) -> Reconciliation:  # fmt: skip
        """Hold the files of a load against the table; the newest load, or all that stand where they cannot be told.

        Raises:
            DeclarationError: the charter or the call is wrong, or nothing was loaded.
            DeliveryError: a file is gone or has changed.
            PlaceError: the table is not there, or the place cannot be reached.
        """
        compiled = self.compiled([table])[0]
        started = _now()
        name = place or compiled.place
        with self.place(name) as opened:
            self._loading.settle(opened)
            loads, scope = self._to_reconcile(compiled, name, load_no)
            now = Now(started, loads[-1].day, loads[-1].load_no)
            merged = compiled.charter.keys[0].columns if compiled.charter.load.how == "merge" else ()
            where = opened.render(scope.where, now) if scope.where and not merged else None
            zone = self.settings.time_zone
            result = reconcile(opened, compiled, loads, where, scope.label, zone, listener, merged)
        self.ledger.add_reconciliation(result, started, run_id)
        return result

    def _to_reconcile(self, compiled: Compiled, place: str, load_no: int | None) -> tuple[list[LoadedFiles], Scope]:
        table = compiled.charter.table
        standing = self.ledger.standing(table, place)
        if not standing:
            raise DeclarationError(f"no load of {table} is in the ledger, so there are no files to hold it against",
                                   where=table, mend=f"load it first: nomotheta load {table}")  # fmt: skip
        loads = [self._loaded_files(compiled, result, at) for result, at in standing if result.balance]
        number = loads[-1].load_no if load_no is None else load_no
        family = self._loading.family(number)
        own = [each for each in loads if each.load_no in family]
        if not own:
            known = ", ".join(str(result.load_no) for result, _ in standing)
            raise DeclarationError(f"load {load_no} did not load into {table}", where=table, mend=f"its loads: {known}")
        scope = self._loading.scope_of_load(compiled, own[-1].load_no)
        if compiled.charter.load.how == "merge" and scope.label == "table":
            scope = Scope(f"load {own[-1].load_no}")
        if scope.label == "table":  # the rows of one load cannot be told from the others': the files of all are held
            return loads, Scope("all loads" if len(loads) > 1 else f"load {loads[-1].load_no}")
        return own, scope

    def _loaded_files(self, compiled: Compiled, result: LoadResult, at: datetime.datetime) -> LoadedFiles:
        """The files of a load, and how they are read."""
        number, balance = result.load_no or 0, result.balance or Balance()
        mended = result.mends is not None
        kept = self.mended_file(number)
        if mended:
            path = kept if kept.exists() else self.root / balance.files[0].file
            compiled = mended_charter(compiled, delimiter_of(path))
        return LoadedFiles(
            number, result.day, at, self.root, balance, self.rejects_file(number), compiled, mended,
            kept if mended and kept.exists() else None,
        )  # fmt: skip

    # ---- the whole path

    def run(
        self, day: datetime.date | None = None, tables: Sequence[str] = (), *, place: str | None = None,
        create: bool = False, listener: Listener = nobody, told: Callable[[TableResult], None] = lambda _: None,
    ) -> RunResult:  # fmt: skip
        """The whole path for all or some tables, in the order of their references.

        A table that fails holds back only those that refer to it.

        Raises:
            DeclarationError: a charter or the call is wrong; nothing was done.
        """
        day = day or self.today()
        chosen = [each for each in self.compiled(tables) if each.charter.delivery is not None]
        if not chosen:
            raise DeclarationError("no charter declares a [delivery], so there is nothing to run", where=CHARTERS)
        started, clock = _now(), time.perf_counter()
        run_id = self.ledger.begin_run(day, started)
        results: dict[str, TableResult] = {}
        with self.keeping_places():
            for compiled in chosen:
                result = self._run_table(compiled, day, place, results, run_id, create=create, listener=listener)
                results[compiled.charter.table] = result
                told(result)
        verdict = gravest(each.verdict for each in results.values())
        seconds = round(time.perf_counter() - clock, 3)
        run = RunResult(run_id, self.settings.name, day, started, seconds, verdict, tuple(results.values()))
        self.ledger.end_run(run)
        return run

    def _run_table(
        self, compiled: Compiled, day: datetime.date, place: str | None, results: Mapping[str, TableResult],
        run_id: int, *, create: bool, listener: Listener,
    ) -> TableResult:  # fmt: skip
        charter = compiled.charter
        about = {"about": charter.about, "owners": tuple(charter.owners)}
        waits = [name for name in sorted(compiled.after()) if name in results and not _stands(results[name])]
        if waits and not self._is_refused(compiled, day, place):
            told = f"waits for {' and '.join(waits)}"
            held = LoadResult(
                charter.table, place or compiled.place, day, "held back", "fail", message=told,
                mend=f"mend {waits[0]}, then: nomotheta run --day {day} {charter.table}",
                table_rows=self._loading.rows_there(charter.table, place or compiled.place),
            )  # fmt: skip
            self.ledger.add_load(held, _now(), run_id)
            return TableResult(charter.table, "fail", held, **about)  # type: ignore[arg-type]
        try:
            result = self.load(
                charter.table, day, place=place, create=create, again=True, run_id=run_id, listener=listener
            )
        except DeclarationError as error:  # a secret is not set, a driver is missing: the other tables have theirs
            why = (error.what, error.where, error.mend)
            failed = LoadResult(charter.table, place or compiled.place, day, "failed", "error", None, *why)
            self.ledger.add_load(failed, _now(), run_id)
            return TableResult(charter.table, "error", failed, **about)  # type: ignore[arg-type]
        reconciliation, message = None, ""
        if result.state == "unchanged":
            result = self._judged_again(compiled, result)
        verdict = result.verdict
        if result.state == "loaded" or (result.state == "unchanged" and not self._is_equal(result)):
            try:
                reconciliation = self.reconcile(
                    charter.table, load_no=result.load_no, place=place, run_id=run_id, listener=listener
                )
                verdict = gravest([verdict, reconciliation.verdict])
            except NomothetaError as error:
                message = f"it could not be reconciled: {error.what}"
                verdict = gravest([verdict, "fail" if isinstance(error, DeliveryError) else "error"])
        return TableResult(charter.table, verdict, result, reconciliation=reconciliation, message=message, **about)  # type: ignore[arg-type]

    def _judged_again(self, compiled: Compiled, result: LoadResult) -> LoadResult:
        """A table that has not changed is as well as it was: what failed then is open until it passes."""
        before = self.ledger.verdict(result.load_no or 0)
        if before in {None, "pass"}:
            return result
        judged = self._judge(compiled, result.place, result.day)
        told = f"{result.message}; load {result.load_no} ended in '{before}', so the table was judged again"
        return replace(
            result, verdict=judged.verdict, findings=judged.findings, message=judged.message or told, mend=judged.mend
        )

    def _is_equal(self, result: LoadResult) -> bool:
        """Whether the load was equal to its files, and the table has as many rows as its newest load left there."""
        if self.ledger.rows_left(result.table, result.place) != result.table_rows:
            return False  # somebody has added rows since, or taken some out
        return self.ledger.reconciled(result.table, result.place, result.load_no or 0) == "pass"

    def _is_refused(self, compiled: Compiled, day: datetime.date, place: str | None) -> bool:
        """Whether a table's own delivery would be refused, which is the better thing to say of one that waits."""
        try:
            delivered = self._loading.arrive(compiled, day)
            with self.place(place or compiled.place) as opened:
                self._loading.came_before(opened, compiled.charter.table, delivered, day)
        except DeliveryError:
            return True
        except PlaceError:
            return False
        return False

    # ---- rejects

    def rejects_file(self, load_no: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.root / MEMORY / "rejects" / f"load-{load_no}.parquet"

    def mended_file(self, load_no: int) -> Path:
        """Where the file of mended rows is kept that a load brought."""
        return self.root / MEMORY / "mended" / f"load-{load_no}.csv"

    def set_aside(self, load_no: int | None = None, limit: int | None = None) -> SetAside:
        """What a load set aside, or the newest that set rows aside, and what became of those rows since.

        Raises:
            DeclarationError: no such load is in the ledger.
        """
        return set_aside(self.ledger, self.rejects_file, load_no, limit)

    def write_rejects(self, found: SetAside, file: Path) -> int:
        """Write the rows that are still open as CSV for mending, whole or not at all; how many they are.

        Raises:
            DeclarationError: the file cannot be written, or the table has no charter any more.
        """
        compiled = self.compiled([found.load.table])[0]
        number = found.load.load_no or 0
        came = self.ledger.mended(number)
        return write_mendable(found, self.rejects_file(number), came, columns_of(compiled.charter), file)

    def shown(self, reject: Reject, compiled: Compiled | None) -> ShownReject:
        """A reject without private values."""
        return shown(reject, compiled)

    # ---- tell

    def tell(self, result: RunResult | LoadResult) -> list[NomothetaError]:
        """Tell those who want to hear of a result, and send what earlier attempts could not.

        Returns:
            What could not be sent, which stays in the outbox for the next time.
        """
        return tell(self.settings, self.ledger, self.root, self.zone, self.identity, result)

    # ---- report

    def report(self, run_id: int | None = None, file: Path | None = None) -> tuple[RunResult, Path]:
        """Write the page of a run, or of the newest one.

        Raises:
            DeclarationError: no such run is in the ledger.
        """
        from nomotheta.report.page import page
        from nomotheta.report.write import write_file

        result = self.ledger.run(run_id)
        if result is None:
            known = self.ledger.runs()
            told = f"there is no run {run_id} in the ledger" if run_id else "the ledger holds no run yet"
            mend = f"its runs: {', '.join(map(str, known[-10:]))}" if known else "start one: nomotheta run"
            raise DeclarationError(told, mend=mend)
        path = file or self.root / "reports" / f"run-{result.run_id}-{result.day}.html"
        try:
            write_file(path, page(result, _now().astimezone(self.zone)))
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
        return result, path

    def charter_of(self, table: str) -> Compiled | None:
        """A table's charter, where it still has one."""
        return self._linted[0].get(table)

    def close(self) -> None:
        """Let go of the ledger."""
        if "ledger" in self.__dict__:
            self.ledger.close()


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)


def _stands(result: TableResult) -> bool:
    """Whether a table has what its day brought, so that others may refer to it."""
    return result.load.state in {"loaded", "unchanged"}


def _declared_wrong(problems: Sequence[Problem]) -> DeclarationError:
    told = "\n".join(str(problem) for problem in problems)
    return DeclarationError(told, mend="")


def _private_read(compiled: Compiled) -> list[str]:
    """What is to be known of rules that compute with private values."""
    return [
        f"{compiled.file}: the rule '{check.name}' reads the private column {name}; what it computes is hidden, "
        "unless it is called like another column of the charter"
        for check in compiled.checks
        if check.sort == "offenders"
        for name in compiled.charter.reads_private(check.query)
    ]
