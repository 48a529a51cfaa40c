"""The rows of a delivery on their way into a table: what is known of keys before, and block by block what may go in."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import build
from nomotheta.errors import counted
from nomotheta.events import Listener, Progress
from nomotheta.keys import InOrder, SeenKeys
from nomotheta.load.account import Account
from nomotheta.load.blocks import Piece, worked_files
from nomotheta.load.compare import held_to_limits
from nomotheta.load.engine import Engine
from nomotheta.load.flight import Flight, in_flight
from nomotheta.load.imprint import Imprint, Imprinting
from nomotheta.load.known import InTable
from nomotheta.load.order import Order
from nomotheta.load.rejects import RejectFile
from nomotheta.load.repeats import Repeats, decide
from nomotheta.load.sent import Sent
from nomotheta.load.work import Plan, Worked, constants, loaded_schema
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.render import Now
from nomotheta.rules.flown import Flown
from nomotheta.rules.listing import listed_values
from nomotheta.source.base import SourceFile
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns


@dataclass(slots=True)
class SetAside:
    """How many faults there are of rows that do not go in: by reason, and by the check that set them aside."""

    reasons: Counter[str] = field(default_factory=Counter)
    by_check: Counter[str] = field(default_factory=Counter)

    def add(self, faults: Any) -> None:
        """Take in the faults of a block."""
        for tally, name in ((self.reasons, "reason"), (self.by_check, "rule")):
            for each in pc.value_counts(faults[name]).to_pylist() if faults.num_rows else ():
                tally[each["values"]] += each["counts"]


@dataclass
class Stream:
    """The rows of one delivery, once through; what was seen of them is in `account`, `set_aside` and `repeats`."""

    place: Place
    compiled: Compiled
    order: Order
    now: Now
    there: Mapping[str, PlaceColumn]
    listener: Listener
    seed: int
    account: Account = field(default_factory=lambda: Account(()))
    set_aside: SetAside = field(default_factory=SetAside)
    repeats: Repeats = field(default_factory=Repeats)
    notes: list[str] = field(default_factory=list)
    sent: Sent = field(default_factory=Sent)

    @property
    def columns(self) -> list[str]:
        """The columns that are loaded."""
        return [name for name, column in self.compiled.charter.columns.items() if column.filled != "@place"]

    @cached_property
    def flight(self) -> Flight | None:
        """Judges rules while the rows come in; None where there are none such, or the place may change the rows."""
        order, charter = self.order, self.compiled.charter
        if charter.load.how == "merge" or order.staging or order.opened or self.place.changes_rows(charter.table):
            return None
        checks = in_flight(self.compiled, self.columns, over_load=order.own_rows)
        return Flight(self.compiled, checks, self.now) if checks else None

    @cached_property
    def imprinting(self) -> Imprinting | None:
        """Records what the rows come to; None where they do not all come through here."""
        return None if self.order.inside is not None or self.order.rehearsed else Imprinting(self.compiled.charter)

    def imprint(self) -> Imprint | None:
        """What the rows came to that went in."""
        return self.imprinting.told() if self.imprinting is not None else None

    def flown(self) -> Mapping[str, Flown]:
        """What was seen of rules while the rows came in."""
        return self.flight.results() if self.flight is not None else {}

    @cached_property
    def keys(self) -> list[Check]:
        """The keys that set repeated rows aside."""
        return [check for check in self.compiled.checks if check.sort == "key" and check.otherwise == "reject"]

    @cached_property
    def engine(self) -> Engine:
        """Judges the conditions that set rows aside."""
        checks = [check for check in self.compiled.checks if check.on_rows and check.otherwise == "reject"]
        checks = [each for check in checks if (each := self._but_for_excused(check)) is not None]
        within = [self.compiled.within] if self.compiled.within is not None else []
        # what cannot be stored is refused by the kinds themselves, before any condition
        rows = [check for check in checks if check.sort != "text_length"]
        return Engine([*within, *rows, *self._references], self.now, self.listed)

    @property
    def listed(self) -> Mapping[str, Any]:
        """By the check of a reference that sets rows aside, the values that are listed."""
        kinds = self.compiled.charter.kinds()
        return {
            check.name: listed_values(check, [kinds[name] for name in check.columns], self.place, self.order.around)
            for check in self._references
        }

    def _but_for_excused(self, check: Check) -> Check | None:
        """A check that the rows pass which are excused today; None where all are."""
        active = [excuse for excuse in check.excuses if excuse.holds(self.now.moment.date())]
        if any(excuse.node is None for excuse in active):
            return None
        nodes = [excuse.node for excuse in active if excuse.node is not None]
        return replace(check, node=build.excused(check.node, nodes)) if nodes and check.node is not None else check

    @property
    def _references(self) -> list[Check]:
        """Those that set rows aside whose values are not listed."""
        return [each for each in self.compiled.checks if each.sort == "reference" and each.otherwise == "reject"]

    def incoming(self, rejects: RejectFile, before: int) -> tuple[Iterator[Any], Any]:
        """The rows that go into a table that has so many, as record batches, and their Arrow schema."""
        named = self.place.names_rows(self.compiled.charter.table)  # before it is busy with the rows
        self.engine, self.flight, self.imprinting  # noqa: B018 - which ask the place for what they need
        self.repeats = self._known(before)
        return self._accepted(rejects, named=named), loaded_schema(self.compiled.charter)

    # ---- the files

    def _plan(self, file: ArrivedFile) -> tuple[Plan, SourceFile]:
        order, compiled = self.order, self.compiled
        opened = order.opened
        source = opened(file) if opened else open_file(file.path, file.name, compiled.layout, compiled.charter)
        shape = match_columns(source, compiled.charter)
        fixed = constants(compiled.charter, order.load_no, order.at, order.day, order.zone)
        fixed |= dict.fromkeys(shape.absent)
        self.notes += [f"{file.name} has no column '{name}': filled with null" for name in shape.absent]
        ascending = self.repeats.in_order is not None
        positions = {**shape.positions, **compiled.carried_at}
        plan = Plan(
            compiled, file.name, positions, shape.width, fixed, self.keys, self.engine, order.zone, self.seed,
            ascending, self.flight, self.imprinting,
        )  # fmt: skip
        return plan, source

    def _pieces(self) -> Iterator[Piece]:
        """All blocks of the delivery's files."""
        delivery = self.compiled.charter.delivery
        alone = self.order.opened is not None or (delivery is not None and delivery.read_alone)
        return worked_files(self.order.files, self._plan, join=not alone)

    def _size(self) -> int:
        return sum(file.survey.bytes_of_content for file in self.order.files)

    # ---- keys

    def _known(self, before: int) -> Repeats:
        """What is known of the keys before the first row goes in."""
        keys, removal = self.keys, self.order.removal
        replaced = self.compiled.charter.load.how == "merge" or (removal is not None and removal.where is None)
        if replaced or not keys or not before:
            seen = [SeenKeys(len(keys)) for _ in keys]
        else:
            asked = InTable(self.place, self.compiled, self.order, self.now, self.engine, self.seed)
            seen = asked.keys(keys, before, self._read_before)
            self.notes.clear()  # they are said of the reading that counts
        found = Repeats(keys, seen, self.engine.cells, list(self.compiled.charter.file_columns()))
        if len(keys) == 1:
            key = keys[0]
            found.hashed = lambda table, key: self.engine.keyed(table, key, self.seed)
            plain = len(key.columns) == 1 and not (key.whole_row or key.parts)
            if plain and key.keep == "first" and not seen[0].count:
                found.in_order = InOrder()
        later = next((key for key in keys if key.keep != "first"), None)
        if later is not None:
            found.decided = decide(later, self._read_before(), found.owners)
            self.notes.clear()
        return found

    def _read_before(self) -> Iterator[tuple[int, Worked]]:
        """All blocks of the delivery, each with how many records come before it."""
        total, done, before = self._size(), 0, 0
        table = self.compiled.charter.table
        told = f"looking for repeated rows of {table}"
        for piece in self._pieces():
            if piece.worked is not None:
                yield before, piece.worked
                before += piece.worked.batch.count
                done += piece.worked.size
                self.listener(Progress(told, done, total, "bytes", table=table))
        self.listener(Progress(told, total, total, "bytes", ended=True, table=table))

    # ---- the rows

    def _accepted(self, rejects: RejectFile, *, named: bool) -> Iterator[Any]:
        """The rows that go in, block by block, in the order of the files."""
        total, done, sent = self._size(), 0, 0
        table, private = self.compiled.charter.table, self.compiled.charter.private()
        told = f"loading {table}"
        account, repeats = Account(self.order.files), self.repeats
        self.account = account
        for piece in self._pieces():
            worked = piece.worked
            if worked is None:
                account.end(piece)
                continue
            held_to_limits(worked, self.there, private)
            if repeats.keys and repeats.decided is None:
                repeats.owners.add(account.in_all, worked)
            rows, staying, repeated = self._without_repeats(worked, piece.plan, rejects)
            account.add(piece, worked, repeated)
            if named:
                self.sent.remember(worked, staying, rows)
            yield from rows.to_batches()
            done += worked.size
            sent += rows.num_rows
            self.listener(Progress(told, done, total, "bytes", rows=sent, table=table))
        self.notes += account.notes
        self.note_overlap()
        self.listener(Progress(told, total, total, "bytes", ended=True, table=table))

    def before(self) -> int:
        """How many records of the delivery come before the block in hand."""
        return self.account.in_all

    def note_overlap(self) -> None:
        """Say how many rows have keys that were in the table before."""
        count = self.repeats.in_table
        if count:
            has = "has a key that was" if count == 1 else "have keys that were"
            told = f"{counted(count, 'row')} {has} in the table before: the delivery overlaps an earlier one"
            self.notes.append(told)

    def _without_repeats(self, worked: Worked, plan: Plan, rejects: RejectFile) -> tuple[Any, Any, Any]:
        """The good rows of a block but those that stay out for another's sake, and the records of both."""
        found = worked.set_aside
        gone = np.zeros(worked.good.num_rows, np.bool_)
        if self.repeats.keys:
            gone, faults = self.repeats.of(worked, self.before(), plan.charter.private())
            worked.hashes.clear()  # the rows may still be needed, their keys are not
            found = found if faults is None else found.with_more(faults)
        self.set_aside.add(found.faults)
        rejects.add(found.tables(self.account.before))
        if self.flight is not None:
            self.flight.take(worked.good, worked.seen, gone, lambda row: worked.place_of(int(worked.records[row])))
        if self.imprinting is not None and worked.imprint is not None:
            self.imprinting.take(worked.imprint, worked.good, gone)
        if not gone.any():
            return worked.good, worked.records, worked.records[:0]
        return worked.good.filter(pa.array(~gone)), worked.records[~gone], worked.records[gone]


def columns_to_merge(compiled: Compiled, columns: Sequence[str]) -> tuple[Sequence[str], list[str]]:
    """The first key's columns, and those that decide whether a row has changed: what the load itself fills does not."""
    charter = compiled.charter
    key = charter.keys[0].columns
    return key, [name for name in columns if name not in key and not charter.columns[name].filled]
