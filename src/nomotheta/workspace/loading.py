"""From a delivery to a load, as a workspace does it: what has arrived, whether it may be loaded, what came of it."""

from __future__ import annotations

import contextlib
import datetime
import shutil
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from blake3 import blake3

from nomotheta.charter import Compiled
from nomotheta.conditions import check
from nomotheta.errors import DeclarationError, DeliveryError, NomothetaError, PlaceError
from nomotheta.events import Listener
from nomotheta.ledger import Ledger, LoadResult, Undone
from nomotheta.load.compare import compare
from nomotheta.load.load import Order, Outcome, OvertakenError, load
from nomotheta.load.mended import Mended, open_mended, read_mended
from nomotheta.load.rejects import part_of, read_rejects, recover
from nomotheta.load.stage import begun, stage_name, stage_token
from nomotheta.load.undo import undo
from nomotheta.place import Now, Place, warm
from nomotheta.rules import Finding, Scope, Verdict, check_spelled, gravest, judge, worst
from nomotheta.source import ArrivedFile, arrived, check_sums, expected, sidecars
from nomotheta.workspace.mending import check_mended, shown, still_out

if TYPE_CHECKING:
    from nomotheta.workspace.workspace import Workspace

_SHOWN_REJECTS = 20
_MENDED = "mended:"
_NUMBERS = 5  # that are tried for one load


@dataclass(frozen=True, slots=True)
class Delivered:
    """A delivery that has arrived and may be loaded; `stated` are the texts beside it that state counts, by file."""

    files: Sequence[ArrivedFile]
    content: str
    daily: bool
    stated: Mapping[str, str]


@dataclass(slots=True)
class _Attempt:
    """A load on its way; its number and its entry in the ledger are set once it has begun."""

    compiled: Compiled
    place: str
    day: datetime.date
    started: datetime.datetime
    clock: float
    run_id: int | None = None
    mends: int | None = None
    load_no: int | None = None
    entry: int | None = None
    despite: int | None = None

    @property
    def table(self) -> str:
        return self.compiled.charter.table

    def numbered(self, ledger: Ledger, place: Place, exact: int | None = None) -> int:
        """Its number, a new one each time it is asked for one; it stands in the ledger from now on."""
        least = place.next_load_no()
        if self.entry is None:
            self.entry, self.load_no = ledger.begin_load(
                self.table, self.place, self.day, self.started, self.run_id, least, exact
            )
        else:
            self.load_no = ledger.renumber_load(self.entry, least)
        return self.load_no


class Loading:
    """The loads of a workspace."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

    @property
    def ledger(self) -> Ledger:
        """The workspace's memory."""
        return self.workspace.ledger

    # ---- arrive

    def arrive(self, compiled: Compiled, day: datetime.date) -> Delivered:
        """The files of a table's delivery for a day, each read through once; no place is touched.

        Raises:
            DeclarationError: the charter declares no delivery.
            DeliveryError: a file is missing, cannot be read, is damaged, empty, or not what its checksum says.
        """
        delivery, root = compiled.charter.delivery, self.workspace.root
        if delivery is None:
            raise DeclarationError("the charter declares no [delivery], so there is nothing to load",
                                   where=compiled.file, mend='add [delivery] files = "inbox/…-{day}.csv"')  # fmt: skip
        files = arrived(root, expected(delivery, day), compiled.layout)
        if delivery.checksums:
            check_sums(root, delivery.checksums, files, day)
        stated = sidecars(root, delivery.stated, files, day) if delivery.stated else {}
        parts = [file.survey.content for file in files]
        content = parts[0] if len(parts) == 1 else blake3("".join(parts).encode()).hexdigest()
        return Delivered(files, content, delivery.daily, stated)

    # ---- load

    def load(
        self, table: str, day: datetime.date, place: str | None, run_id: int | None, listener: Listener, *,
        create: bool, again: bool, even_if_loaded: bool,
    ) -> LoadResult:  # fmt: skip
        """Load a table's delivery for a day."""
        compiled = self.workspace.compiled([table])[0]
        attempt = _Attempt(compiled, place or compiled.place, day, _now(), time.perf_counter(), run_id)
        try:
            result = self._load(
                attempt, create=create, again=again, even_if_loaded=even_if_loaded, listener=listener
            )  # fmt: skip
        except DeclarationError:
            raise
        except NomothetaError as error:
            result = self._failed(attempt, error)
        return self._entered(attempt, result)

    def _entered(self, attempt: _Attempt, result: LoadResult) -> LoadResult:
        """The result, kept in the ledger."""
        result = self._of(attempt, result)
        if attempt.entry is None:
            self.ledger.add_load(result, attempt.started, attempt.run_id)
        elif result.state != "failed":
            self.ledger.end_load(attempt.entry, result)
        else:
            result = self._after_failure(attempt, attempt.entry, result)
        return result

    def _of(self, attempt: _Attempt, result: LoadResult) -> LoadResult:
        """A result with what the attempt alone knows."""
        seconds = round(time.perf_counter() - attempt.clock, 3)
        return replace(result, seconds=seconds, mends=attempt.mends, despite=attempt.despite)

    def _after_failure(self, attempt: _Attempt, entry: int, result: LoadResult) -> LoadResult:
        """What became of a load whose place failed: it may have been while it was committed.

        Where the place cannot be asked now, the entry is left to be settled when it can.
        """
        state = self._settled(attempt.place, entry)
        kept = self.ledger.load(attempt.load_no or 0) if state == "loaded" else None
        if kept is not None:
            told = f"it was committed, though the answer to the commit was lost: {result.message}"
            return replace(kept, notes=(*kept.notes, told))
        if state != "started":
            self.ledger.end_load(entry, result)
        return result

    def _settled(self, place_name: str, entry: int) -> str:
        """The state of an entry whose work has failed, after its place was asked what became of it, if that answers."""
        self.ledger.let_go(entry)
        with contextlib.suppress(NomothetaError), self.workspace.places.open(place_name) as place:
            self.settle(place)
        return self.ledger.state(entry)

    def _stands(self, place: Place, table: str, load_no: int | None) -> bool:
        """Whether a load's mark is in its place."""
        own = self.workspace.identity
        return any(mark.load_no == load_no and mark.workspace == own for mark in place.marks(table))

    def _load(
        self, attempt: _Attempt, *, create: bool, again: bool, even_if_loaded: bool, listener: Listener
    ) -> LoadResult:
        compiled, day, table = attempt.compiled, attempt.day, attempt.table
        if attempt.place in self.workspace.settings.places:
            warm(self.workspace.settings.places[attempt.place].url)
        delivered = self.arrive(compiled, day)
        with self.workspace.places.open(attempt.place, create=create) as place:
            self.settle(place)
            if create and place.columns(table) is None:
                check_spelled(place, table)
                place.create(table, compiled.charter.kinds())
            compare(place, compiled)
            attempt.despite = self._same_before(place, table, delivered) if even_if_loaded else None
            unchanged = None if even_if_loaded else self._unchanged(attempt, place, delivered, day if again else None)
            if unchanged:
                return unchanged
            once = delivered.content if delivered.daily and attempt.despite is None else ""

            def ordered() -> Order:
                load_no, staging = self._numbered(attempt, place, delivered)
                order = self._order(attempt, load_no, delivered, once or f"{delivered.content}:{load_no}")
                return replace(order, staging=staging)

            return self._tried(attempt, place, compiled, ordered, listener)

    def _tried(
        self, attempt: _Attempt, place: Place, compiled: Compiled, ordered: Callable[[], Order], listener: Listener
    ) -> LoadResult:
        """The load, with another number where another workspace's load has come in with it."""
        for _ in range(_NUMBERS):
            order = ordered()
            try:
                outcome = self._carried_out(place, compiled, order, listener, attempt)
            except OvertakenError:
                continue
            return self._result(attempt, order.load_no, outcome, order.rejects)
        raise PlaceError("loads of other workspaces came in between, again and again", where=attempt.table,
                         mend="load again when they have ended")  # fmt: skip

    def _numbered(self, attempt: _Attempt, place: Place, delivered: Delivered) -> tuple[int, str]:
        """The load's number, and the table in which its rows are gathered, if they are.

        A load that goes on where another was cut off has that one's number and moment.
        """
        if not attempt.compiled.charter.load.staging:
            return attempt.numbered(self.ledger, place), ""
        token = stage_token(place, attempt.compiled, self.workspace.identity, delivered.content)
        number = begun(place, attempt.compiled, token) if attempt.entry is None else None
        first = self.ledger.began(number) if number else None
        if number is None or first is None:
            fresh = attempt.numbered(self.ledger, place)
            return fresh, stage_name(attempt.table, fresh, token)
        attempt.started = first
        return attempt.numbered(self.ledger, place, number), stage_name(attempt.table, number, token)

    def _same_before(self, place: Place, table: str, delivered: Delivered) -> int | None:
        """The newest load that brought the same content."""
        same = [mark.load_no for mark in place.marks(table) if mark.content == delivered.content]
        return same[-1] if same else None

    def _unchanged(
        self, attempt: _Attempt, place: Place, delivered: Delivered, again: datetime.date | None
    ) -> LoadResult | None:
        """The result for a delivery that is in the table already, and need not be loaded."""
        standing = self.came_before(place, attempt.table, delivered, again)
        if not standing:
            return None
        told, rows = f"unchanged since load {standing}; nothing to do", place.count(attempt.table)
        return LoadResult(
            attempt.table, attempt.place, attempt.day, "unchanged", "pass", standing, told, table_rows=rows
        )

    def _order(
        self, attempt: _Attempt, load_no: int, delivered: Delivered, once: str, rejects: Path | None = None
    ) -> Order:
        return Order(
            load_no, self.workspace.identity, attempt.day, attempt.started, self.workspace.settings.time_zone,
            delivered.files, delivered.content, once, rejects or self.workspace.rejects_file(load_no),
            stated=delivered.stated,
        )  # fmt: skip

    def _carried_out(
        self, place: Place, compiled: Compiled, order: Order, listener: Listener, attempt: _Attempt
    ) -> Outcome:
        """The load itself; its rows are judged together with those that it mends or that mend it."""
        now = Now(order.at.astimezone(self.workspace.zone), order.day, order.load_no)
        scope = self.scope_of_load(compiled, order.load_no)

        def judged(set_aside: Mapping[str, int], one_by_one: bool, beside: str) -> list[Finding]:
            if beside:
                return judge(place, _of_these_rows(compiled, beside), now, None, None, set_aside, one_by_one=one_by_one)
            return judge(place, compiled, now, scope, scope, set_aside, one_by_one=one_by_one)

        def ready(outcome: Outcome) -> None:
            if attempt.entry is not None:
                result = self._result(attempt, order.load_no, outcome, part_of(order.rejects))
                self.ledger.expect_load(attempt.entry, self._of(attempt, result))

        return load(place, compiled, order, now, judged, listener, ready)

    # ---- rehearse

    def rehearse(
        self, table: str, day: datetime.date, place_name: str | None, listener: Listener, *, create: bool,
        even_if_loaded: bool,
    ) -> LoadResult:  # fmt: skip
        """The whole load in memory, to find out whether a delivery would pass."""
        compiled = self.workspace.compiled([table])[0]
        attempt = _Attempt(compiled, place_name or compiled.place, day, _now(), time.perf_counter())
        try:
            delivered = self.arrive(compiled, day)
            with (
                self.workspace.places.rehearsal(attempt.place, table) as (place, in_memory),
                tempfile.TemporaryDirectory(prefix="nomotheta-") as folder,
            ):
                if create and place.columns(table) is None:
                    if not in_memory:
                        raise PlaceError("there is no table for the trial run", where=f"{table} in {place.shown}",
                                         mend="create it first: in this place a rehearsal makes none")  # fmt: skip
                    place.create(table, compiled.charter.kinds())
                compare(place, compiled)
                result = None if even_if_loaded else self._unchanged(attempt, place, delivered, None)
                if result is None:
                    load_no = max(place.next_load_no(), self.ledger.highest_load_no() + 1)
                    once = f"{delivered.content}:{load_no}" if even_if_loaded else delivered.content
                    order = self._order(attempt, load_no, delivered, once, Path(folder) / "rejects.parquet")
                    order = replace(order, rehearsed=not in_memory)
                    result = self._result(
                        attempt, load_no, self._carried_out(place, compiled, order, listener, attempt), order.rejects
                    )
                    told = f"would be undone: {result.message}" if result.state == "undone" else "would be loaded"
                    rows = result.balance.before if result.balance else None
                    result = replace(result, state="rehearsed", load_no=None, message=told, table_rows=rows)
        except DeclarationError:
            raise
        except NomothetaError as error:
            result = self._failed(attempt, error)
        return replace(result, seconds=round(time.perf_counter() - attempt.clock, 3))

    # ---- rows that were mended

    def load_mended(self, table: str, file: Path, place: str | None, listener: Listener) -> LoadResult:
        """Load the mended rows of an earlier load."""
        compiled = self.workspace.compiled([table])[0]
        attempt = _Attempt(compiled, place or compiled.place, self.workspace.today(), _now(), time.perf_counter())
        try:
            mended = read_mended(self.workspace.root, file.resolve(), compiled)
            origin = check_mended(self.ledger, self.workspace.rejects_file, mended, table)
            attempt.day, attempt.mends, attempt.place = origin.day, mended.of_load, place or origin.place
            result = self._load_mended(attempt, mended, listener)
        except DeclarationError:
            raise
        except NomothetaError as error:
            result = self._failed(attempt, error)
        result = self._entered(attempt, result)
        if attempt.load_no is not None:
            loaded = result.state == "loaded"
            gone = still_out(mended, self.workspace.rejects_file(attempt.load_no)) if loaded else mended.rows
            some = gone if len(gone) < len(mended.rows) else None
            self.ledger.drop_mended(mended.of_load, attempt.load_no, some)
            if not loaded:
                self.workspace.mended_file(attempt.load_no).unlink(missing_ok=True)
        return result

    def _load_mended(self, attempt: _Attempt, mended: Mended, listener: Listener) -> LoadResult:
        with self.workspace.places.open(attempt.place) as place:
            self.settle(place)
            compare(place, attempt.compiled)
            content = f"{_MENDED}{mended.of_load}:{mended.file.survey.content}"
            delivered = Delivered([mended.file], content, daily=True, stated={})
            untouched = mended.untouched(self.workspace.rejects_file(mended.of_load))

            def ordered() -> Order:
                if attempt.load_no is not None:
                    self.ledger.drop_mended(mended.of_load, attempt.load_no, None)
                    self.workspace.mended_file(attempt.load_no).unlink(missing_ok=True)
                load_no = attempt.numbered(self.ledger, place)
                self.ledger.expect_mended(mended.of_load, load_no, mended.rows)
                self._keep(mended.file, self.workspace.mended_file(load_no))
                order = self._order(attempt, load_no, delivered, content)
                return replace(order, opened=lambda file: open_mended(file, mended.compiled, untouched))

            return self._tried(attempt, place, mended.compiled, ordered, listener)

    @staticmethod
    def _keep(file: ArrivedFile, kept: Path) -> None:
        """Keep a file of mended rows as it is: the next ones are often written under the same name."""
        try:
            kept.parent.mkdir(parents=True, exist_ok=True)
            kept.touch(0o600)
            shutil.copyfile(file.path, kept)
        except OSError as error:
            raise DeliveryError(f"no copy of it can be kept: {error.strerror}", where=file.name) from None

    # ---- a load taken out again

    def undo(self, load_no: int) -> Undone:
        """Take a load out of its table.

        Raises:
            DeclarationError: there is no such load, or its rows cannot be told.
        """
        load, started, clock = self.ledger.load(load_no), _now(), time.perf_counter()
        if load is None or load.balance is None or load.state != "loaded":
            told = "is not in the ledger" if load is None else f"has no rows in its table: it was {load.state}"
            raise DeclarationError(f"load {load_no} {told}", mend="see: nomotheta ledger")
        compiled = self.workspace.compiled([load.table])[0]
        later = self.ledger.mending(load_no)
        if later:
            raise DeclarationError(
                f"load {later[-1]} brought mended rows of load {load_no}", where=load.table,
                mend=f"take that out first: nomotheta undo {later[-1]}",
            )  # fmt: skip
        entry: int | None = None
        now = Now(started.astimezone(self.workspace.zone), load.day, load_no)
        result = Undone(load_no, load.table, load.place, "error", "was cut off")
        try:
            with self.workspace.places.open(load.place) as place:
                self.settle(place)
                entry = self.ledger.begin_undo(load, started)
                place.expect(load.table, compiled.charter.kinds())
                found = undo(place, compiled, load_no, self.workspace.identity, load.balance.how, now)
            result = replace(
                result, verdict="pass", message="", before=found.before, removed=found.removed,
                restored=found.restored, after=found.after,
            )  # fmt: skip
        except DeclarationError as error:
            result = replace(result, message=error.what)
            raise
        except NomothetaError as error:
            verdict: Verdict = "fail" if isinstance(error, DeliveryError) else "error"
            result = replace(result, verdict=verdict, message=error.what, where=error.where, mend=error.mend)
        finally:
            result = replace(result, seconds=round(time.perf_counter() - clock, 3))
            failed = result.verdict == "error"
            if entry is not None and (not failed or self._settled(load.place, entry) == "cut off"):
                self.ledger.end_undo(entry, result)
        return result

    def family(self, load_no: int) -> set[int]:
        """A load with those that mend its rows, or that whose rows it mends."""
        root = self.ledger.mends(load_no) or load_no
        return {root, load_no, *self.ledger.mending(root)}

    # ---- what came of it

    def _failed(self, attempt: _Attempt, error: NomothetaError) -> LoadResult:
        """What became of a load whose delivery was refused, or whose place failed."""
        refused = isinstance(error, DeliveryError)
        return LoadResult(
            attempt.table, attempt.place, attempt.day, "refused" if refused else "failed",
            "fail" if refused else "error", attempt.load_no, error.what, error.where, error.mend,
            table_rows=self.rows_there(attempt.table, attempt.place),
        )  # fmt: skip

    def rows_there(self, table: str, place: str) -> int | None:
        """How many rows a table holds, where that can be found out."""
        try:
            with self.workspace.places.open(place) as opened:
                return opened.count(table)
        except NomothetaError:
            return None

    def came_before(
        self, place: Place, table: str, delivered: Delivered, again: datetime.date | None = None
    ) -> int | None:
        """The load in which a standing list came that has not changed since, or the delivery of the day `again`.

        Raises:
            DeliveryError: a daily delivery's content was loaded before.
        """
        marks = [mark for mark in place.marks(table) if not mark.content.startswith(_MENDED)]
        if not delivered.daily:
            return marks[-1].load_no if marks and marks[-1].content == delivered.content else None
        before = next((mark for mark in marks if mark.content == delivered.content), None)
        if before and before.day == again:
            return before.load_no
        if before:
            told = f"the same content was loaded before, as load {before.load_no} for {before.day}"
            mend = f"ask the sender for the file of this day; if it is meant: nomotheta load {table} --even-if-loaded"
            raise DeliveryError(told, where=delivered.files[0].name, mend=mend)
        return None

    def settle(self, place: Place) -> None:
        """Loads that were cut off are settled from their marks in the place."""
        for entry, load_no, table, what in self.ledger.unsettled(place.name):
            try:
                with place.transaction(table):  # which begins when the place, too, is done with what was cut off
                    stands = self._stands(place, table, load_no)
            except PlaceError:
                continue
            if what == "undo":
                self.ledger.settle_undo(entry, load_no, stands=stands)
                continue
            recover(self.workspace.rejects_file(load_no), stands=stands)
            self.ledger.settle(entry, stands=stands)

    def _result(self, attempt: _Attempt, load_no: int, outcome: Outcome, file: Path) -> LoadResult:
        verdict = worst(outcome.findings)
        if outcome.state == "undone":
            verdict = gravest([verdict, "fail"])
        rejects = read_rejects(file, _SHOWN_REJECTS)
        return LoadResult(
            attempt.table, attempt.place, attempt.day, outcome.state, verdict, load_no,
            outcome.message, balance=outcome.balance, findings=outcome.findings, reasons=outcome.reasons,
            rejects=tuple(shown(reject, attempt.compiled) for reject in rejects), notes=outcome.notes,
            table_rows=outcome.balance.after if outcome.state == "loaded" else outcome.balance.before,
        )  # fmt: skip

    def scope_of_load(self, compiled: Compiled, load_no: int) -> Scope:
        """The rows of a load and of those that belong to it, where they can be told apart in the table."""
        column = compiled.charter.load_column()
        if column:
            numbers = sorted(self.family(load_no))
            listed = ", ".join(map(str, numbers))
            condition = check(f'"{column}" in ({listed})', compiled.charter.kinds())
            label = f"load {numbers[0]}" + "".join(f" + {number}" for number in numbers[1:])
            return Scope(label, condition)
        if compiled.charter.load.how == "overwrite":
            return Scope(f"load {load_no}", compiled.slice)
        return Scope()


def _of_these_rows(compiled: Compiled, table: str) -> Compiled:
    """A charter for rows that lie in another table, with the rules that can be judged by them alone."""
    checks = [
        check
        for check in compiled.checks
        if check.node is not None and check.otherwise != "reject" and (check.sort != "whole" or check.over == "load")
    ]
    return replace(compiled, charter=compiled.charter.model_copy(update={"table": table}), checks=tuple(checks))


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)
