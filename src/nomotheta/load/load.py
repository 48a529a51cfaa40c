"""One delivery into one table, all or nothing: in one transaction, with its balance, its mark and its rules."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError, NomothetaError, PlaceError, counted
from nomotheta.events import Listener, Progress, nobody
from nomotheta.keys import IN_TABLE, InOrder, SeenKeys
from nomotheta.load.account import Account
from nomotheta.load.aside import Fault, as_table
from nomotheta.load.balance import Balance
from nomotheta.load.blocks import Piece, worked_files
from nomotheta.load.compare import compare, held_to_limits
from nomotheta.load.engine import Engine
from nomotheta.load.rejects import RejectFile
from nomotheta.load.repeats import Repeats, decide
from nomotheta.load.sent import Sent
from nomotheta.load.stage import clear, gather, gathered_mark
from nomotheta.load.undo import keeping, kept_mark, kept_table
from nomotheta.load.work import Plan, Worked, constants, loaded_schema
from nomotheta.place import Mark, Merge, Now, Place, PlaceColumn, quoted
from nomotheta.rules import Finding, as_kind, worst
from nomotheta.source import ArrivedFile, SourceFile, match_columns, open_file

_SEEDS = 5
_LARGE, _SMALL = 100_000, 32 << 20  # rows of a table, bytes of a delivery: its keys are asked for one by one
State = Literal["loaded", "undone"]
Judge = Callable[[Mapping[str, int], bool, str], list[Finding]]


@dataclass(frozen=True, slots=True)
class Order:
    """A load to be carried out.

    `once` is what may stand only once in the place for this table; `opened` opens a file, where the layout alone does
    not say how; `staging` is the table in which rows are gathered first, if they are; with `rehearsed` all of it is
    done and then undone; `stated` are the texts beside the files that state counts, by file, or under "" for all.
    """

    load_no: int
    workspace: str
    day: datetime.date
    at: datetime.datetime
    zone: str
    files: Sequence[ArrivedFile]
    content: str
    once: str
    rejects: Path
    rehearsed: bool = False
    staging: str = ""
    opened: Callable[[ArrivedFile], SourceFile] | None = None
    stated: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of a load. `reasons` counts faults by reason; a row can have several. `notes` say more."""

    state: State
    balance: Balance
    findings: tuple[Finding, ...]
    reasons: Mapping[str, int]
    message: str
    notes: tuple[str, ...] = ()


class OvertakenError(Exception):
    """Another workspace's load of the table came in with this load's number or a higher one: it needs a new one."""


class _UndoneError(Exception):
    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.message = message


@dataclass(slots=True)
class _Load:
    place: Place
    compiled: Compiled
    order: Order
    judge: Judge
    listener: Listener
    seed: int
    now: Now
    there: Mapping[str, PlaceColumn]
    one_by_one: bool = False
    repeats: Repeats = field(default_factory=lambda: Repeats((), ()))
    newest: list[int] = field(default_factory=list)
    told_rows: int = 0
    before: int = 0
    rows_named: bool = True
    committing: bool = False
    balance: Balance = field(default_factory=Balance)
    findings: list[Finding] = field(default_factory=list)
    account: Account = field(default_factory=lambda: Account(()))
    reasons: Counter[str] = field(default_factory=Counter)
    by_check: Counter[str] = field(default_factory=Counter)
    notes: list[str] = field(default_factory=list)
    sent: Sent = field(default_factory=Sent)

    def keys(self) -> list[Check]:
        return [check for check in self.compiled.checks if check.sort == "key" and check.otherwise == "reject"]

    def engine(self) -> Engine:
        checks = [check for check in self.compiled.checks if check.on_rows and check.otherwise == "reject"]
        # what cannot be stored is refused by the kinds themselves, before any condition
        return Engine([check for check in checks if check.sort != "text_length"], self.now)

    def run(self, rejects: RejectFile) -> None:
        """Everything that happens inside the transaction."""
        charter, table = self.compiled.charter, self.compiled.charter.table
        if not self.order.rehearsed and any(m.load_no >= self.order.load_no for m in self.place.marks(table)):
            raise OvertakenError
        before = self.before = self.place.count(table)
        removed = 0
        if charter.load.how == "overwrite":
            where = self.place.render(self.compiled.slice, self.now) if self.compiled.slice else None
            self.place.expect(table, charter.kinds())
            if charter.load.keep_previous:
                kept = kept_table(table, self.order.load_no)
                rows = self.place.copy(table, kept, self.place.stored(kept), where)
                self.place.mark(kept_mark(self.mark(0), kept, rows))
            removed = self.place.delete(table, where)
        merged, loaded = None, 0
        if self.order.staging:
            self.check_alone()
            loaded = self.place.copy(self.order.staging, table, self.columns, None)
        else:
            stream, schema = self.incoming(rejects)
            with self.sent.explaining(charter.private()):
                if charter.load.how == "merge":
                    merged = self.place.merge(table, self.merge(self.columns), stream, schema)
                loaded = merged.rows if merged else self.place.append(table, self.columns, stream, schema)
        if self.has_collision(self.repeats):
            raise _CollisionError
        after = self.place.count(table) if merged else self.place.count_after(table, before, removed, loaded)
        self.balance = Balance.of(charter.load.how, self.account.counts, loaded, before, removed, after, merged)
        rejects.finish()
        self.notes += self.place.hints
        self.settle()

    @property
    def columns(self) -> list[str]:
        """The columns that are loaded."""
        return [name for name, column in self.compiled.charter.columns.items() if column.filled != "@place"]

    def incoming(self, rejects: RejectFile) -> tuple[Iterator[Any], Any]:
        """The rows that go in, and their Arrow schema."""
        engine = self.engine()
        self.rows_named = self.place.names_rows(self.compiled.charter.table)  # before it is busy with the rows
        self.repeats = self.known(engine)
        return self.accepted(engine, self.repeats, rejects), loaded_schema(self.compiled.charter)

    def gather(self, rejects: RejectFile) -> None:
        """Everything that happens before the transaction, where rows are gathered beside the table."""
        charter, staging = self.compiled.charter, self.compiled.charter.load.staging
        assert staging is not None  # noqa: S101 - only then is there a table to gather them in
        self.before = self.place.count(charter.table)
        self.newest = [mark.load_no for mark in self.place.marks(charter.table)]
        stream, schema = self.incoming(rejects)
        there = gather(
            self.place, gathered_mark(self.mark(0), self.order.staging), self.compiled, self.columns, stream, schema,
            staging.rows,
        )  # fmt: skip
        kept = sum(file.records - file.rejected - file.repeated for file in self.account.counts)
        if there != kept:
            raise PlaceError(
                f"{counted(kept, 'row')} accepted, but {there:,} are in {self.order.staging}", where=charter.table,
                mend=f"drop that table, and load again: DROP TABLE {self.order.staging}",
            )  # fmt: skip
        before = self.place.count(charter.table)
        self.balance = Balance.of(charter.load.how, self.account.counts, there, before, 0, before + there)
        self.judged(self.judge(self.by_check, self.one_by_one, self.order.staging))

    def check_alone(self) -> None:
        """Nobody may have loaded into the table while rows were gathered beside it."""
        if [mark.load_no for mark in self.place.marks(self.compiled.charter.table)] != self.newest:
            raise PlaceError("another load has come in meanwhile", where=self.compiled.charter.table,
                             mend="load again; what was gathered is not used")  # fmt: skip

    def merge(self, columns: Sequence[str]) -> Merge:
        """By the first key; what the load itself fills does not make a row another."""
        charter = self.compiled.charter
        key = charter.keys[0].columns
        return Merge(columns, key, [name for name in columns if name not in key and not charter.columns[name].filled])

    def settle(self) -> None:
        """Whether what was loaded may stand."""
        for file in self.order.files:
            file.check_unchanged()
        faults = self.balance.faults()
        if faults:
            raise PlaceError("the balance does not add up: " + "; ".join(faults), where=self.compiled.charter.table)
        stated = self.compiled.charter.delivery.stated if self.compiled.charter.delivery else None
        if stated is not None and not self.order.opened:
            self.account.check_stated(stated, self.order.stated, self.compiled)
        load, balance = self.compiled.charter.load, self.balance
        if not balance.records and load.empty == "refuse":
            mend = 'write empty = "accept" under [load] if a delivery may hold no rows'
            raise DeliveryError("the delivery holds no rows", where=self.order.files[0].name, mend=mend)
        if not load.tolerate.allows(balance.rejected, balance.records):
            share = f" ({balance.rejected / balance.records:.2%})"
            raise _UndoneError(
                f"{balance.rejected:,} of {counted(balance.records, 'row')} rejected{share}; tolerated: {load.tolerate}"
            )
        if not self.place.mark(self.mark(balance.loaded)):
            raise DeliveryError("this content was loaded before", where=self.order.files[0].name)
        self.judged(self.judge(self.by_check, self.one_by_one, ""))

    def mark(self, rows: int) -> Mark:
        """What the load leaves in the place."""
        order, table = self.order, self.compiled.charter.table
        return Mark(order.load_no, order.workspace, table, order.content, order.once, order.day, order.at, rows)

    def judged(self, findings: list[Finding]) -> None:
        """Whether the rules let it stand."""
        self.findings = findings
        broken = [each for each in self.findings if each.verdict == "fail"]
        if any(each.verdict == "error" for each in self.findings):
            raise _UndoneError("a rule could not be judged")
        if broken and self.compiled.charter.load.after_fail == "undo":
            names = ", ".join(f"'{each.rule}'" for each in broken[:3]) + (", …" if len(broken) > 3 else "")
            raise _UndoneError(f"{len(broken)} {'rule fails' if len(broken) == 1 else 'rules fail'}: {names}")

    def outcome(self) -> Outcome:
        """What comes of it if it stands."""
        failing = worst(self.findings) == "fail"
        told = "loaded; a rule fails, and the charter keeps the rows" if failing else ""
        return Outcome("loaded", self.balance, tuple(self.findings), dict(self.reasons), told, tuple(self.notes))

    def give_up(self, rejects: RejectFile) -> None:
        """Forget the rejects, unless it failed while it was committed: then nobody knows yet whether it stands."""
        if not self.committing:
            rejects.discard()

    def plan(self, file: ArrivedFile, engine: Engine) -> tuple[Plan, SourceFile]:
        opened = self.order.opened
        compiled = self.compiled
        source = opened(file) if opened else open_file(file.path, file.name, compiled.layout, compiled.charter)
        shape = match_columns(source, self.compiled.charter)
        order = self.order
        fixed = constants(compiled.charter, order.load_no, order.at, order.day, order.zone)
        fixed |= dict.fromkeys(shape.absent)
        self.notes += [f"{file.name} has no column '{name}': it is filled with null" for name in shape.absent]
        plan = Plan(
            self.compiled,
            file.name,
            shape.positions,
            shape.width,
            fixed,
            self.keys(),
            engine,
            self.order.zone,
            self.seed,
            self.repeats.in_order is not None,
        )
        return plan, source

    def known(self, engine: Engine) -> Repeats:
        """What is known of the keys before the first row goes in."""
        keys, how = self.keys(), self.compiled.charter.load.how
        replaced = how == "merge" or (how == "overwrite" and self.compiled.slice is None)
        nothing = replaced or not keys or not self.before
        seen = [SeenKeys(len(keys)) for _ in keys] if nothing else self.known_in_table(keys, engine)
        found = Repeats(keys, seen)
        if len(keys) == 1:
            key = keys[0]
            found.hashed = lambda table, key: engine.hashes(table, key.columns, self.seed, whole_row=key.whole_row)
            if len(key.columns) == 1 and key.keep == "first" and not key.whole_row and not seen[0].count:
                found.in_order = InOrder()
        later = next((key for key in keys if key.keep != "first"), None)
        if later is not None:
            found.decided = decide(later, self.read_before(engine), found.owners)
            self.notes.clear()  # they are said of the reading that counts
        return found

    def pieces(self, engine: Engine) -> Iterator[Piece]:
        """All blocks of the delivery's files."""
        delivery = self.compiled.charter.delivery
        alone = self.order.opened is not None or (delivery is not None and delivery.stated is not None)
        return worked_files(self.order.files, lambda file: self.plan(file, engine), join=not alone)

    def read_before(self, engine: Engine) -> Iterator[tuple[int, Worked]]:
        """All blocks of the delivery, each with how many records stand before it."""
        total, done, before = sum(file.survey.bytes_of_content for file in self.order.files), 0, 0
        told = f"looking for repeated rows of {self.compiled.charter.table}"
        for piece in self.pieces(engine):
            if piece.worked is not None:
                yield before, piece.worked
                before += piece.worked.batch.count
                done += piece.worked.size
                self.listener(Progress(told, done, total, "bytes"))
        self.listener(Progress(told, total, total, "bytes", ended=True))

    def known_in_table(self, keys: Sequence[Check], engine: Engine) -> list[SeenKeys]:
        """The keys that are in the table already: of a small delivery its own are asked for, else all are read."""
        size = sum(file.survey.bytes_of_content for file in self.order.files)
        if self.before < _LARGE or size > _SMALL or not all(self.place.probes(key.columns, self.kinds) for key in keys):
            return [self.known_keys(key, engine) for key in keys]
        own: list[list[Any]] = [[] for _ in keys]
        for _, worked in self.read_before(engine):
            for tables, key in zip(own, keys, strict=True):
                tables.append(worked.good.select(list(key.columns)))
        self.notes.clear()  # they are said of the reading that counts
        return [self.known_among(key, pa.concat_tables(tables), engine) for key, tables in zip(keys, own, strict=True)]

    def known_among(self, key: Check, cells: Any, engine: Engine) -> SeenKeys:
        """Those of some keys that are in the table already."""
        seen, table = SeenKeys(len(self.keys())), self.compiled.charter.table
        self.place.expect(table, self.kinds)
        if not key.whole_row:  # with a null it is no key
            cells = cells.drop_null()
        sliced = self.compiled.slice
        stays = f"NOT coalesce({self.place.render(sliced, self.now)}, FALSE)" if sliced else None
        for batch in self.place.present(table, cells, stays, nulls=key.whole_row) if cells.num_rows else ():
            self._add_known(seen, batch, key, engine)
        return seen

    def _add_known(self, seen: SeenKeys, batch: Any, key: Check, engine: Engine) -> None:
        columns = [as_kind(batch.column(at), self.kinds[name]) for at, name in enumerate(key.columns)]
        whole = pa.table(columns, list(key.columns))
        hashes, _ = engine.hashes(whole, key.columns, self.seed, whole_row=key.whole_row)
        seen.add(hashes, np.full(len(hashes), IN_TABLE))

    @property
    def kinds(self) -> Mapping[str, Kind]:
        """What the charter's columns are meant to be."""
        return self.compiled.charter.kinds()

    def known_keys(self, key: Check, engine: Engine) -> SeenKeys:
        """All keys that are in the table already."""
        seen, table = SeenKeys(len(self.keys())), self.compiled.charter.table
        self.place.expect(table, self.kinds)
        listed = ", ".join(quoted(name) for name in key.columns)
        sliced = self.compiled.slice
        stays = f"NOT coalesce({self.place.render(sliced, self.now)}, FALSE)" if sliced else None
        for batch in self.place.stream(f"SELECT {listed} {self.place.rowset(table, stays)}"):
            self._add_known(seen, batch, key, engine)
        return seen

    def accepted(self, engine: Engine, repeats: Repeats, rejects: RejectFile) -> Iterator[Any]:
        """The rows that go in, block by block, in the order of the files."""
        total, done = sum(file.survey.bytes_of_content for file in self.order.files), 0
        told, private = f"loading {self.compiled.charter.table}", self.compiled.charter.private()
        account = self.account = Account(self.order.files)
        for piece in self.pieces(engine):
            worked = piece.worked
            if worked is None:
                account.end(piece)
                continue
            held_to_limits(worked, self.there, private)
            if repeats.keys and repeats.decided is None:
                repeats.owners.add(account.in_all, worked)
            rows, staying, repeated = self.without_repeats(worked, piece.plan, repeats, rejects)
            account.add(piece, worked, repeated)
            if self.rows_named:
                self.sent.remember(worked, staying, rows)
            yield from rows.to_batches()
            done += worked.size
            self.told_rows += rows.num_rows
            self.listener(Progress(told, done, total, "bytes", rows=self.told_rows))
        self.notes += account.notes
        if repeats.in_table:
            many = repeats.in_table > 1
            rows = f"{repeats.in_table:,} rows have keys that were" if many else "1 row has a key that was"
            self.notes.append(f"{rows} in the table before: the delivery overlaps an earlier one")
        self.listener(Progress(told, total, total, "bytes", ended=True))

    def without_repeats(
        self, worked: Worked, plan: Plan, repeats: Repeats, rejects: RejectFile
    ) -> tuple[Any, Any, Any]:  # fmt: skip
        """The good rows of a block but those that stay out for another's sake, and the records of both."""
        found = worked.set_aside
        gone, faults = np.zeros(worked.good.num_rows, np.bool_), list[Fault]()
        if repeats.keys:
            gone, faults = repeats.of(worked, self.account.in_all, plan.charter.private())
            worked.hashes.clear()  # the rows may still be needed, their keys are not
        if faults:
            found = found.with_more(as_table(faults))
        for tally, name in ((self.reasons, "reason"), (self.by_check, "rule")):
            for each in pc.value_counts(found.faults[name]).to_pylist() if found.faults.num_rows else ():
                tally[each["values"]] += each["counts"]
        rejects.add(found.tables(self.account.before))
        if not gone.any():
            return worked.good, worked.records, worked.records[:0]
        return worked.good.filter(pa.array(~gone)), worked.records[~gone], worked.records[gone]

    def has_collision(self, repeats: Repeats) -> bool:
        """Whether a row was taken for a repeat whose key does not stand in the table, nor among those that stay out."""
        standing = [(key, cells) for key, cells, _ in repeats.doubtful if key.keep != "none"]
        return repeats.collided() or any(
            self.place.missing(self.compiled.charter.table, cells, nulls=key.whole_row) for key, cells in standing
        )


class _RehearsedError(Exception):
    """The load would stand; since it is a rehearsal, it is undone."""


class _CollisionError(Exception):
    """Two keys with one hash: the load starts over with another seed."""


def load(
    place: Place, compiled: Compiled, order: Order, now: Now, judge: Judge, listener: Listener = nobody,
    ready: Callable[[Outcome], None] = lambda _: None,
) -> Outcome:  # fmt: skip
    """Load a delivery.

    Args:
        place: where the table is.
        compiled: its charter.
        order: the files, and the numbers of this load.
        now: the moment and day that conditions may speak of.
        judge: called inside the transaction, with the rows set aside by each check, and whether to judge the rules one
            by one; what fails undoes the load. Rows that are gathered beside the table are judged there before, by the
            rules that speak of them alone: then it is called with that table's name.
        listener: told of the progress.
        ready: told what comes of the load just before it is committed; what it raises undoes the load.

    Returns:
        The outcome: `loaded`, or `undone` with the table as it was.

    Raises:
        OvertakenError: the load needs another number; the table is as it was.
        DeliveryError: a file is missing, corrupt, empty, not as declared, or was loaded before; the table is as it was.
        PlaceError: the place cannot be reached or refuses; the table is as it was, or, if the answer to the commit was
            lost, the load's mark in the place says what became of it.
    """
    there = compare(place, compiled)
    one_by_one = False
    for seed in range(_SEEDS):
        rejects = RejectFile(order.rejects)
        step = _Load(place, compiled, order, judge, listener, seed, now, there, one_by_one)
        try:
            if order.staging:
                step.gather(rejects)
            with (
                keeping(place, compiled, order.load_no, lambda step=step: step.committing),  # type: ignore[misc]
                place.transaction(compiled.charter.table),
            ):
                step.run(rejects)
                if order.rehearsed:
                    raise _RehearsedError
                ready(step.outcome())
                step.committing = True
        except _RehearsedError:
            pass
        except _CollisionError:
            rejects.discard()
            _cleared(place, compiled, order)
            continue
        except _UndoneError as undone:
            if worst(step.findings) == "error" and not one_by_one:
                # an error ends the transaction, so that it can no longer be told which rule it was: once more, slowly
                one_by_one = True
                rejects.discard()
                continue
            rejects.keep()
            _cleared(place, compiled, order)
            return Outcome(
                "undone", step.balance, tuple(step.findings), dict(step.reasons), undone.message, tuple(step.notes)
            )
        except (DeliveryError, OvertakenError):  # what was gathered has the number in its rows
            rejects.discard()
            _cleared(place, compiled, order)
            raise
        except BaseException:
            step.give_up(rejects)
            raise
        rejects.keep()
        _cleared(place, compiled, order)
        return step.outcome()
    raise NomothetaError(f"keys of different rows share a hash under {_SEEDS} seeds", where=compiled.charter.table)


def _cleared(place: Place, compiled: Compiled, order: Order) -> None:
    if order.staging:
        clear(place, compiled.charter.table, order.workspace)
