"""One delivery into one table, all or nothing: in one transaction, with its balance, its mark and its rules."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from nomotheta.charter import Compiled
from nomotheta.errors import DeliveryError, NomothetaError, PlaceError, counted
from nomotheta.events import Listener, nobody
from nomotheta.load import rejects_table
from nomotheta.load.balance import Balance
from nomotheta.load.compare import compare
from nomotheta.load.copies import Comparing, Told
from nomotheta.load.order import CollisionError, Judge, Order, Outcome, OvertakenError, UndoneError
from nomotheta.load.rejects import RejectFile
from nomotheta.load.settlement import Settlement
from nomotheta.load.stage import clear, gather, gathered_mark
from nomotheta.load.steps import carry_out, without_temporary
from nomotheta.load.stream import Stream, columns_to_merge
from nomotheta.load.undo import keeping, kept_mark, kept_table
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.marks import leave_files
from nomotheta.place.render import Now
from nomotheta.place.staging import Merge
from nomotheta.rules.finding import worst

if TYPE_CHECKING:
    from nomotheta.load.inside import Moving

_SEEDS = 5


@dataclass(slots=True)
class _Load:
    """A load being carried out: its stream of rows, and what comes of them."""

    place: Place
    compiled: Compiled
    order: Order
    judge: Judge
    now: Now
    stream: Stream
    settlement: Settlement
    one_by_one: bool = False
    newest: list[int] = field(default_factory=list)
    told: Told | None = None
    committing: bool = False

    @property
    def table(self) -> str:
        return self.compiled.charter.table

    def run(self, rejects: RejectFile) -> None:
        """Everything that happens inside the transaction."""
        how = self.compiled.charter.load.how
        standing = tuple(mark.load_no for mark in self.place.marks(self.table))
        overtaken = standing != self.order.marks or any(number >= self.order.load_no for number in standing)
        if overtaken and not self.order.rehearsed:
            raise OvertakenError
        carry_out(self.place, self.order.steps, "before")
        before = self.place.count(self.table)
        removed = self.remove()
        merged, loaded, columns = None, 0, self.stream.columns
        if self.order.staging:
            self.check_alone()
            loaded = self.place.copy(self.order.staging, self.table, columns, None)
        else:
            with self.moving() as moving:
                rows, schema = self.stream.incoming(rejects, before)
                with self.stream.sent.explaining(self.compiled.charter.private()):
                    if how == "merge":
                        merge = Merge(columns, *columns_to_merge(self.compiled, columns))
                        merged = self.place.merge(self.table, merge, rows, schema)
                    loaded = merged.rows if merged else self.place.append(self.table, columns, rows, schema)
                self.compare_repeats([self.table], rejects)
                if moving is not None:
                    more = moving.put(columns)
                    merged = merged and merged.with_new(more)
                    loaded += more
                    self.stream.account.counts[0] = moving.counted(self.stream.account.counts[0])
        after = (
            self.place.count(self.table) if merged else self.place.count_after(self.table, before, removed, loaded)
        )  # fmt: skip
        counts = self.stream.account.counts
        self.settlement.balance = Balance.of(how, counts, loaded, before, removed, after, merged)
        rejects.finish()
        self.settlement.check(self.stream.account)
        self.mark(loaded)
        aside = self.compiled.charter.load.rejects
        if aside is not None and self.place.columns(aside.table) is not None:
            rejects_table.write(self.place, self.compiled.charter, aside.table, self.order.load_no, rejects.written)
        self.settlement.judged(self.judge(self.stream.set_aside.by_check, self.one_by_one, "", self.stream.flown()))
        carry_out(self.place, self.order.steps, "after")

    @contextmanager
    def moving(self) -> Iterator[Moving | None]:
        """The rows that the place moves by itself, once the others are in the file that is loaded."""
        if self.order.inside is None:
            yield None
            return
        with self.order.inside.begun(self.order.files[0].path) as moving:
            self.order = self.stream.order = self.settlement.order = replace(self.order, files=[moving.file])
            yield moving

    def remove(self) -> int:
        """Take out the rows that the load replaces; how many they were."""
        removal = self.order.removal
        if removal is None:
            return 0
        where = self.place.render(removal.where, self.now) if removal.where else None
        self.place.expect(self.table, self.compiled.charter.kinds())
        if removal.kept:
            kept = kept_table(self.table, self.order.load_no)
            rows = self.place.copy(self.table, kept, self.place.stored(self.table), where)
            self.place.mark(kept_mark(self.order.mark(self.table, 0), kept, rows))
        return self.place.delete(self.table, where)

    def compare_repeats(self, tables: Sequence[str], rejects: RejectFile) -> None:
        """Tell copies from conflicts, now that the rows whose keys they repeat are in some tables.

        Raises:
            CollisionError: two keys share a hash.
        """
        stream = self.stream
        if stream.repeats.collided():
            raise CollisionError
        waiting = stream.repeats.waiting
        if not waiting.count:
            return
        told = Comparing(self.place, tables, self.compiled.charter, stream.keys, stream.engine).told(waiting)
        self.settlement.told = told
        stream.account.take_conflicts(told.by_file)
        reasons = stream.set_aside.reasons
        del reasons["repeated"]
        for part in told.reasons:
            for each in part.value_counts().to_pylist():
                reasons[each["values"]] += each["counts"]
        rejects.tell_repeats(told.reasons, told.messages, told.loads)

    def gather(self, rejects: RejectFile) -> None:
        """Everything that happens before the transaction, where rows are gathered beside the table."""
        charter, staging = self.compiled.charter, self.compiled.charter.load.staging
        assert staging is not None  # noqa: S101 - only then is there a table to gather them in
        self.newest = [mark.load_no for mark in self.place.marks(self.table)]
        rows, schema = self.stream.incoming(rejects, self.place.count(self.table))
        mark = gathered_mark(self.order.mark(self.table, 0), self.order.staging)
        there = gather(self.place, mark, self.compiled, self.stream.columns, rows, schema, staging.rows)
        counts = self.stream.account.counts
        kept = sum(file.records - file.set_aside for file in counts)
        if there != kept:
            raise PlaceError(
                f"{counted(kept, 'row')} accepted, but {there:,} are in {self.order.staging}", where=self.table,
                mend=f"drop that table, and load again: DROP TABLE {self.order.staging}",
            )  # fmt: skip
        self.compare_repeats([self.order.staging, self.table], rejects)
        before = self.place.count(self.table)
        counts = self.stream.account.counts
        self.settlement.balance = Balance.of(charter.load.how, counts, there, before, 0, before + there)
        self.settlement.judged(self.judge(self.stream.set_aside.by_check, self.one_by_one, self.order.staging, {}))

    def check_alone(self) -> None:
        """Nobody may have loaded into the table while rows were gathered beside it."""
        if [mark.load_no for mark in self.place.marks(self.table)] != self.newest:
            raise PlaceError("another load changed the table meanwhile", where=self.table,
                             mend="load again: the rows gathered so far were discarded")  # fmt: skip

    def mark(self, rows: int) -> None:
        """Leave the load's mark in the place, and the files that it brought."""
        mark = self.order.mark(self.table, rows)
        if not self.place.mark(mark):
            raise DeliveryError("this content was loaded before", where=self.order.files[0].name)
        files = [(file.name, file.survey.content, file.survey.bytes_of_content) for file in self.order.files]
        brought = self.order.brought if self.order.opened else files
        if brought:
            leave_files(self.place, mark, brought)

    def outcome(self, undone: str | None = None) -> Outcome:
        """What comes of it, if it stands, or why it does not."""
        settlement, stream = self.settlement, self.stream
        told = settlement.message if undone is None else undone
        notes = (*stream.notes, *([] if undone else self.told_of_steps()), *self.place.hints)
        return Outcome(
            "loaded" if undone is None else "undone", settlement.balance, tuple(settlement.findings),
            dict(stream.set_aside.reasons), told, notes,
            tuple(settlement.warnings),
            dict(settlement.told.in_the_way), stream.imprint() if undone is None else None,
            tuple(stream.account.stated),
        )  # fmt: skip

    def told_of_steps(self) -> list[str]:
        """The team's own steps that were carried out within the transaction."""
        return [step.told for step in self.order.steps if step.when != "after commit" and not self.order.rehearsed]

    def give_up(self, rejects: RejectFile) -> None:
        """Forget the rejects, unless it failed while it was committed: then nobody knows yet whether it stands."""
        if not self.committing:
            rejects.discard()


class _RehearsedError(Exception):
    """The load would stand; since it is a rehearsal, it is undone."""


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
            rules that speak of them alone: then it is called with that table's name. Last comes what was seen of rules
            while the rows came in.
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
        step = _begun(place, compiled, order, judge, now, there, listener, seed)
        step.one_by_one = one_by_one
        try:
            _carry_out(step, rejects, ready)
        except _RehearsedError:
            pass
        except CollisionError:
            rejects.discard()
            _cleared(place, compiled, order)
            continue
        except UndoneError as undone:
            if worst(step.settlement.findings) == "error" and not one_by_one:
                # an error ends the transaction, so that it can no longer be told which rule it was: once more, slowly
                one_by_one = True
                rejects.discard()
                continue
            rejects.keep()
            _cleared(place, compiled, order)
            return step.outcome(undone.message)
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


def _begun(
    place: Place, compiled: Compiled, order: Order, judge: Judge, now: Now, there: Mapping[str, PlaceColumn],
    listener: Listener, seed: int,
) -> _Load:  # fmt: skip
    stream: Stream = (order.streams or Stream)(place, compiled, order, now, there, listener, seed)
    return _Load(place, compiled, order, judge, now, stream, Settlement(compiled, order))


def _carry_out(step: _Load, rejects: RejectFile, ready: Callable[[Outcome], None]) -> None:
    """Gather the rows, if they are gathered, and do the rest in one transaction."""
    place, compiled, order = step.place, step.compiled, step.order
    if order.staging:
        step.gather(rejects)
    keep, aside = order.removal is not None and order.removal.kept, compiled.charter.load.rejects
    if aside is not None and not order.rehearsed:
        rejects_table.prepare(place, aside.table)
    with (
        without_temporary(place, order.steps),
        keeping(place, compiled, order.load_no, lambda: step.committing, keep=keep),
        place.transaction(compiled.charter.table),
    ):
        step.run(rejects)
        if order.rehearsed:
            raise _RehearsedError
        ready(step.outcome())
        step.committing = True


def _cleared(place: Place, compiled: Compiled, order: Order) -> None:
    if order.staging:
        clear(place, compiled.charter.table, order.workspace)
