"""A workspace opened: the Python API, on which the command line stands.

workspace = nomotheta.open_workspace("skerry-line")
result = workspace.run(datetime.date(2026, 6, 1))
"""

from __future__ import annotations

import datetime
import hashlib
import re
import time
import uuid
import zoneinfo
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from nomotheta.charter import Compiled, Problem, Read, Settings, draft_text, in_order, lint, read_charter, read_settings
from nomotheta.conditions import check
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError, did_you_mean
from nomotheta.events import Listener, nobody
from nomotheta.ledger import Judgement, Ledger, LoadResult, RunResult, ShownReject, TableResult
from nomotheta.load import Order, Outcome, Reject, compare, left_out, load, read_rejects
from nomotheta.place import Now, Place, connect
from nomotheta.reconcile import LoadedFiles, Reconciliation, reconcile
from nomotheta.rules import HIDDEN, Finding, Scope, gravest, judge, worst
from nomotheta.source import ArrivedFile, arrived, expected

SETTINGS, CHARTERS, MEMORY = "nomotheta.toml", "charters", ".nomotheta"
_SHOWN_REJECTS = 20


@dataclass(frozen=True, slots=True)
class Delivered:
    """A delivery that has arrived and may be loaded. `once` may stand only once in the place for the table."""

    files: Sequence[ArrivedFile]
    content: str
    daily: bool


@dataclass(slots=True)
class _Attempt:
    """A load on its way; its number and its entry in the ledger are set once it has begun."""

    compiled: Compiled
    place: str
    day: datetime.date
    started: datetime.datetime
    clock: float
    run_id: int | None
    load_id: int | None = None
    entry: int | None = None

    def begun(self, ledger: Ledger, load_id: int) -> None:
        table = self.compiled.charter.table
        self.load_id = load_id
        self.entry = ledger.begin_load(table, self.place, self.day, self.started, load_id, self.run_id)


class Workspace:
    """A folder with `nomotheta.toml` and `charters/`; its memory is in `.nomotheta/`."""

    def __init__(self, root: Path, settings: Settings, settings_problems: Sequence[Problem] = ()) -> None:
        self.root, self.settings = root, settings
        self._problems = list(settings_problems)

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
        chosen = set(tables) or set(known)
        return [known[table] for table in in_order(known) if table in chosen]

    # ---- draft

    def draft_file(self, file: Path, table: str | None = None, listener: Listener = nobody) -> str:
        """A charter to start from, as TOML, drafted from a file.

        Raises:
            DeliveryError: the file cannot be read.
        """
        from nomotheta.peek import draft_from_look, look

        path = file.resolve()
        name = path.relative_to(self.root).as_posix() if path.is_relative_to(self.root) else str(path)
        plain = re.sub(r"[^a-z]+", "_", path.name.lower().partition(".")[0]).strip("_")
        return draft_text(draft_from_look(look(file, None, listener), table or plain or "table", name, self.today()))

    def draft_table(self, table: str, place_name: str | None = None) -> str:
        """A charter to start from, as TOML, drafted from a table as it is.

        Raises:
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.peek import draft_from_table

        name = place_name or next(iter(self.settings.places))
        with self.place(name) as place:
            return draft_text(draft_from_table(place, table, self.today()))

    def write_draft(self, text: str, file: Path) -> None:
        """Write a draft where no charter stands yet.

        Raises:
            DeclarationError: there is one already, or it cannot be written.
        """
        from nomotheta.report import write_file

        if file.exists():
            raise DeclarationError("there is a charter already", where=str(file), mend="name another with --to FILE")
        try:
            write_file(file, text)
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None

    # ---- places

    @contextmanager
    def place(self, name: str, *, create: bool = False) -> Iterator[Place]:
        """A place, open for as long as the block lasts.

        Raises:
            DeclarationError: no such place is declared, or its URL is wrong.
            PlaceError: it cannot be reached.
        """
        declared = self.settings.places.get(name)
        if declared is None:
            mend = did_you_mean(name, self.settings.places, "places: " + ", ".join(self.settings.places))
            raise DeclarationError(f"no place '{name}' is declared", where=SETTINGS, mend=mend)
        place = connect(name, declared.url, self.root, create=create)
        try:
            yield place
        finally:
            place.close()

    # ---- arrive

    def arrive(self, compiled: Compiled, day: datetime.date) -> Delivered:
        """The files of a table's delivery for a day, each read through once; no place is touched.

        Raises:
            DeclarationError: the charter declares no delivery.
            DeliveryError: a file is missing, cannot be read, is damaged or empty.
        """
        delivery = compiled.charter.delivery
        if delivery is None:
            raise DeclarationError("the charter declares no [delivery], so there is nothing to load",
                                   where=compiled.file, mend='add [delivery] files = "inbox/…-{day}.csv"')  # fmt: skip
        files = arrived(self.root, expected(delivery, day), compiled.layout)
        parts = [file.survey.content for file in files]
        content = parts[0] if len(parts) == 1 else hashlib.blake2b("".join(parts).encode(), digest_size=32).hexdigest()
        return Delivered(files, content, delivery.daily)

    # ---- load

    def load(
        self, table: str, day: datetime.date, *, place: str | None = None, create: bool = False, again: bool = False,
        run_id: int | None = None, listener: Listener = nobody,
    ) -> LoadResult:  # fmt: skip
        """Load a table's delivery for a day, and judge what was loaded before it is committed.

        What goes wrong with the delivery or the place is told by the result, not raised. With `again`, a delivery
        that was loaded for this very day already is no failure, but left alone.

        Raises:
            DeclarationError: the charter or the call is wrong.
        """
        compiled = self.compiled([table])[0]
        attempt = _Attempt(compiled, place or compiled.place, day, _now(), time.perf_counter(), run_id)
        try:
            result = self._load(attempt, create=create, again=again, listener=listener)
        except DeclarationError:
            raise
        except NomothetaError as error:
            result = self._failed(attempt, error)
        result = replace(result, seconds=round(time.perf_counter() - attempt.clock, 3))
        if attempt.entry is None:
            self.ledger.add_load(result, attempt.started, run_id)
        else:
            self.ledger.end_load(attempt.entry, result)
        return result

    def _load(self, attempt: _Attempt, *, create: bool, again: bool, listener: Listener) -> LoadResult:
        compiled, day = attempt.compiled, attempt.day
        table = compiled.charter.table
        delivered = self.arrive(compiled, day)
        with self.place(attempt.place, create=create) as place:
            self._settle(place)
            if create and place.columns(table) is None:
                place.create(table, compiled.charter.kinds())
            compare(place, compiled)
            standing = self._came_before(place, table, delivered, day if again else None)
            if standing:
                told = f"unchanged since load {standing}; nothing to do"
                rows = place.count(table)
                return LoadResult(table, attempt.place, day, "unchanged", "pass", standing, told, table_rows=rows)
            load_id = max(place.next_load_id(), self.ledger.highest_load_id() + 1)
            attempt.begun(self.ledger, load_id)
            once = delivered.content if delivered.daily else f"{delivered.content}:{load_id}"
            order = Order(
                load_id, self.identity, day, attempt.started, self.settings.time_zone, delivered.files,
                delivered.content, once, self.rejects_file(load_id),
            )  # fmt: skip
            now = Now(attempt.started.astimezone(self.zone), day, load_id)
            scope = self._scope_of_load(compiled, load_id)

            def judged(set_aside: Mapping[str, int], one_by_one: bool) -> list[Finding]:
                return judge(place, compiled, now, scope, scope, set_aside, one_by_one=one_by_one)

            return self._result(attempt, load_id, load(place, compiled, order, now, judged, listener))

    def _failed(self, attempt: _Attempt, error: NomothetaError) -> LoadResult:
        """What became of a load whose delivery was refused, or whose place failed."""
        refused = isinstance(error, DeliveryError)
        return LoadResult(
            attempt.compiled.charter.table, attempt.place, attempt.day, "refused" if refused else "failed",
            "fail" if refused else "error", attempt.load_id, error.what, error.where, error.mend,
            table_rows=self._rows_there(attempt.compiled.charter.table, attempt.place),
        )  # fmt: skip

    def _rows_there(self, table: str, place: str) -> int | None:
        """How many rows a table holds, where that can be found out."""
        try:
            with self.place(place) as opened:
                return opened.count(table)
        except NomothetaError:
            return None

    def _came_before(
        self, place: Place, table: str, delivered: Delivered, again: datetime.date | None = None
    ) -> int | None:
        """The load in which a standing list came that has not changed since, or the delivery of the day `again`.

        Raises:
            DeliveryError: a daily delivery's content was loaded before.
        """
        marks = place.marks(table)
        if not delivered.daily:
            return marks[-1].load_id if marks and marks[-1].content == delivered.content else None
        before = next((mark for mark in marks if mark.content == delivered.content), None)
        if before and before.day == again:
            return before.load_id
        if before:
            told = f"the same content was loaded before, as load {before.load_id} for {before.day}"
            raise DeliveryError(told, where=delivered.files[0].name, mend="ask the sender for the file of this day")
        return None

    def _settle(self, place: Place) -> None:
        """Loads that were cut off are settled from their marks in the place."""
        for entry, load_id, table in self.ledger.unsettled(place.name):
            marks = place.marks(table)
            stands = any(mark.load_id == load_id and mark.workspace == self.identity for mark in marks)
            self.ledger.settle(entry, stands=stands)

    def _result(self, attempt: _Attempt, load_id: int, outcome: Outcome) -> LoadResult:
        verdict = worst(outcome.findings)
        if outcome.state == "undone":
            verdict = gravest([verdict, "fail"])
        rejects = read_rejects(self.rejects_file(load_id), _SHOWN_REJECTS)
        return LoadResult(
            attempt.compiled.charter.table, attempt.place, attempt.day, outcome.state, verdict, load_id,
            outcome.message, balance=outcome.balance, findings=outcome.findings, reasons=outcome.reasons,
            notes=outcome.notes,
            rejects=tuple(self.shown(reject, attempt.compiled) for reject in rejects),
            table_rows=outcome.balance.after if outcome.state == "loaded" else outcome.balance.before,
        )  # fmt: skip

    def _scope_of_load(self, compiled: Compiled, load_id: int) -> Scope:
        """The rows of a load, where they can be told apart in the table."""
        column = compiled.charter.load_column()
        if column:
            condition = check(f'"{column}" = :load_id', compiled.charter.kinds())
            return Scope(f"load {load_id}", condition)
        if compiled.charter.load.how == "overwrite":
            return Scope(f"load {load_id}", compiled.slice)
        return Scope()

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
                last = marks[-1].load_id if marks else None
                now = Now(started.astimezone(self.zone), day or self.today(), last)
                load_scope = self._scope_of_load(compiled, last) if last else None
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
        self, table: str, *, load_id: int | None = None, place: str | None = None, run_id: int | None = None,
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
            self._settle(opened)
            loads, scope = self._to_reconcile(compiled, name, load_id)
            now = Now(started, loads[-1].day, loads[-1].load_id)
            where = opened.render(scope.where, now) if scope.where else None
            result = reconcile(opened, compiled, loads, where, scope.label, self.settings.time_zone, listener)
        self.ledger.add_reconciliation(result, started, run_id)
        return result

    def _to_reconcile(self, compiled: Compiled, place: str, load_id: int | None) -> tuple[list[LoadedFiles], Scope]:
        table = compiled.charter.table
        standing = self.ledger.standing(table, place)
        if not standing:
            raise DeclarationError(f"no load of {table} is in the ledger, so there are no files to hold it against",
                                   where=table, mend=f"load it first: nomotheta load {table}")  # fmt: skip
        loads = [
            LoadedFiles(number, result.day, at, self.root, result.balance, self.rejects_file(number))
            for result, at in standing
            if result.balance and (number := result.load_id)
        ]  # fmt: skip
        if load_id is not None:
            loads = [each for each in loads if each.load_id == load_id]
            if not loads:
                known = ", ".join(str(result.load_id) for result, _ in standing)
                raise DeclarationError(
                    f"load {load_id} did not load into {table}", where=table, mend=f"its loads: {known}"
                )
        scope = self._scope_of_load(compiled, loads[-1].load_id)
        if scope.label == "table":
            return loads, Scope("all loads" if len(loads) > 1 else f"load {loads[-1].load_id}")
        return loads[-1:], scope

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
                table_rows=self._rows_there(charter.table, place or compiled.place),
            )  # fmt: skip
            self.ledger.add_load(held, _now(), run_id)
            return TableResult(charter.table, "fail", held, **about)  # type: ignore[arg-type]
        result = self.load(charter.table, day, place=place, create=create, again=True, run_id=run_id, listener=listener)
        reconciliation, message = None, ""
        verdict = result.verdict
        if result.state == "loaded":
            try:
                reconciliation = self.reconcile(
                    charter.table, load_id=result.load_id, place=place, run_id=run_id, listener=listener
                )
                verdict = gravest([verdict, reconciliation.verdict])
            except NomothetaError as error:
                message = f"it could not be reconciled: {error.what}"
                verdict = gravest([verdict, "fail" if isinstance(error, DeliveryError) else "error"])
        return TableResult(charter.table, verdict, result, reconciliation=reconciliation, message=message, **about)  # type: ignore[arg-type]

    def _is_refused(self, compiled: Compiled, day: datetime.date, place: str | None) -> bool:
        """Whether a table's own delivery would be refused, which is the better thing to say of one that waits."""
        try:
            delivered = self.arrive(compiled, day)
            with self.place(place or compiled.place) as opened:
                self._came_before(opened, compiled.charter.table, delivered, day)
        except DeliveryError:
            return True
        except PlaceError:
            return False
        return False

    # ---- rejects

    def rejects_file(self, load_id: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.root / MEMORY / "rejects" / f"load-{load_id}.parquet"

    def rejects(self, load_id: int | None = None, limit: int | None = None) -> tuple[LoadResult, Sequence[Reject]]:
        """A load, or the newest that set rows aside, and its rejects.

        Raises:
            DeclarationError: no such load is in the ledger.
        """
        if load_id is None:
            kept = sorted(
                int(path.stem.partition("-")[2]) for path in self.rejects_file(0).parent.glob("load-*.parquet")
            )
            if not kept:
                raise DeclarationError("no load has set rows aside so far", where="ledger")
            load_id = kept[-1]
        result = self.ledger.load(load_id)
        if result is None:
            raise DeclarationError(f"there is no load {load_id} in the ledger", mend="see: nomotheta ledger")
        return result, read_rejects(self.rejects_file(load_id), limit)

    def rejected_rows(self, load_id: int) -> int:
        """How many rows a load set aside, each counted once."""
        return sum(len(records) for records in left_out(self.rejects_file(load_id)).values())

    def write_rejects(self, rejects: Sequence[Reject], file: Path) -> None:
        """Write rejects as CSV, whole or not at all.

        Raises:
            DeclarationError: the file cannot be written.
        """
        from nomotheta.report import rejects_csv, write_file

        try:
            write_file(file, rejects_csv(rejects))
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None

    def shown(self, reject: Reject, compiled: Compiled | None) -> ShownReject:
        """A reject without private values."""
        private = compiled.charter.private() if compiled else frozenset[str]()
        return ShownReject(
            reject.file, reject.line, reject.record, reject.column,
            HIDDEN if reject.column in private else reject.value, reject.reason, reject.message,
            None if private else reject.original,
        )  # fmt: skip

    # ---- tell

    def tell(self, result: RunResult | LoadResult) -> list[NomothetaError]:
        """Tell those who want to hear of a result, and send what earlier attempts could not.

        Returns:
            What could not be sent, which stays in the outbox for the next time.
        """
        if not self.settings.tell or (result.verdict == "pass" and not self.ledger.unsent() and not self._tells_passes):
            return []
        from nomotheta.tell import as_run, send, worth_telling, written

        run = as_run(result, self.settings.name, _now()) if isinstance(result, LoadResult) else result
        for name, tell in self.settings.tell.items():
            tables = worth_telling(run, tell)
            if tables:
                self.ledger.post(name, *written(run, tables), _now())
        failed: list[NomothetaError] = []
        for mail in self.ledger.unsent():
            declared = self.settings.tell.get(mail.tell)
            if declared is None or any(error.where.startswith(f"tell {mail.tell}") for error in failed):
                continue
            try:
                send(mail, declared, self.root, _now().astimezone(self.zone))
            except NomothetaError as error:
                failed.append(error)
            else:
                self.ledger.sent(mail.mail_id, _now())
        return failed

    @property
    def _tells_passes(self) -> bool:
        return any("pass" in tell.on for tell in self.settings.tell.values())

    # ---- report

    def report(self, run_id: int | None = None, file: Path | None = None) -> tuple[RunResult, Path]:
        """Write the page of a run, or of the newest one.

        Raises:
            DeclarationError: no such run is in the ledger.
        """
        from nomotheta.report import page, write_file

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


__all__ = ["Delivered", "Workspace"]
