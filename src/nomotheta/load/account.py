"""The account of a load's files while their rows stream by: lines and records of each, notes, and what was stated."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from nomotheta.charter import Compiled, Stated
from nomotheta.errors import DeliveryError
from nomotheta.load.balance import Altered, FileCount
from nomotheta.load.blocks import Piece
from nomotheta.load.footers import check_footer
from nomotheta.load.tally import Tally
from nomotheta.load.work import Worked
from nomotheta.source.base import Batch, Lines
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.stated import Statement, StatementTold, check_stated, statement

Ints = NDArray[np.int64]
_SOME, _MANY = 3, 1_000  # rows of one wrong shape that tell of a file, and after which its end is not waited for


@dataclass(slots=True)
class Account:
    """Of some files: what each holds, once it was read to its end.

    `before` are the records of the file in hand, and `in_all` those of the files, that come before the next block.
    """

    files: Sequence[ArrivedFile]
    counts: list[FileCount] = field(default_factory=list)
    seen: list[tuple[str, Counter[tuple[str, str]]]] = field(default_factory=list)  # by file, what there is to say
    stated: list[StatementTold] = field(default_factory=list)
    before: int = 0
    in_all: int = 0
    _records: int = 0
    _rejected: int = 0
    _repeated: int = 0
    _skipped: int = 0
    _shapes: set[str] = field(default_factory=set)
    _altered: dict[str, list[int]] = field(default_factory=dict)
    _seen: Counter[tuple[str, str]] = field(default_factory=Counter)
    _tally: Tally = field(default_factory=Tally)
    tallies: list[tuple[str, str | None, str | None, Tally]] = field(default_factory=list)  # file, heading, footer

    def add(self, piece: Piece, worked: Worked, repeated: Ints) -> None:
        """Take in a block, of which some records repeat others."""
        batch, rejected = worked.batch, worked.set_aside.records
        self.in_all += batch.count
        if worked.parts is not None:
            parts = worked.parts
            records, rejects, repeats = np.diff(parts.records), parts.counted(rejected), parts.counted(repeated)
            skipped = parts.counted(worked.skipped)
            altered = _altered_parts(worked)
            for at in range(len(parts.names)):
                file, lines = self.files[piece.at + at], parts.account(at)
                count = _count(file, lines, int(records[at]), int(rejects[at]), int(repeats[at]), int(skipped[at]))
                self.counts.append(replace(count, altered=altered[at]) if at in altered else count)
            return
        self.before += batch.count
        self._records += batch.count - batch.headings
        self._rejected += len(rejected)
        self._repeated += len(repeated)
        self._skipped += len(worked.skipped)
        self._shapes.add(worked.misshapen)
        if self._records >= _MANY:
            self._check_shape(piece)
        for what, (of, times) in worked.altered.items():
            first = int(batch.line_numbers(of[:1])[0])
            before = self._altered.setdefault(what, [0, first])
            before[0] += int(times.sum())
        self._seen.update(worked.notes)
        self._tally.add(worked)
        _take_in(piece.source.lines, batch)

    def end(self, piece: Piece) -> None:
        """A file has ended."""
        file, source = self.files[piece.at], piece.source
        source.check_whole()
        self._check_shape(piece)
        if source.stretch is None or source.stretch.last:
            check_footer(source, piece.plan)
        count = _count(file, source.lines, self._records, self._rejected, self._repeated, self._skipped)
        altered = tuple(Altered(what, times, line) for what, (times, line) in self._altered.items())
        self.counts.append(replace(count, altered=altered))
        self.tallies.append((file.name, source.heading, source.footer, self._tally))
        self.seen.append((file.name, self._seen))
        self.before = self._records = self._rejected = self._repeated = self._skipped = 0
        self._seen, self._tally, self._altered, self._shapes = Counter(), Tally(), {}, set()

    @property
    def notes(self) -> list[str]:
        """What there is to say of the files."""
        return [
            f"{file}: {name}: {count:,} {told}" for file, seen in self.seen for (name, told), count in seen.items()
        ]  # fmt: skip

    def join(self, other: Account, *, goes_on: bool) -> None:
        """Take in files that were read elsewhere; the first of them `goes_on` where the last before it ended."""
        counts, tallies, seen = list(other.counts), list(other.tallies), list(other.seen)
        if goes_on:
            self.counts.append(_one(self.counts.pop(), counts.pop(0)))
            (name, heading, _, before), (_, _, footer, more) = self.tallies.pop(), tallies.pop(0)
            before.rows += more.rows
            before.take(more.totals)
            self.tallies.append((name, heading, footer, before))
            self.seen[-1][1].update(seen.pop(0)[1])
        self.counts += counts
        self.tallies += tallies
        self.seen += seen
        self.in_all += other.in_all

    def _check_shape(self, piece: Piece) -> None:
        """A file of which no row has the width of the header is another file, and no matter for the rejects.

        Raises:
            DeliveryError: this is one.
        """
        stretch = piece.source.stretch
        if len(self._shapes) != 1 or "" in self._shapes or self._records < _SOME or (stretch and not stretch.first):
            return
        (told,) = self._shapes
        raise DeliveryError(
            f"no row has the shape that the charter expects: each of the {self._records:,} that were read {told}",
            where=self.files[piece.at].name, mend="see what the file is like: nomotheta peek FILE",
        )  # fmt: skip

    def take_conflicts(self, by_file: Mapping[str, int]) -> None:
        """Of the rows that repeat a key, so many of each file are not copies."""
        for at, file in enumerate(self.counts):
            conflicts = by_file.get(file.file, 0)
            if conflicts:
                self.counts[at] = replace(file, copies=file.copies - conflicts, conflicts=conflicts)

    def check_stated(self, stated: Stated, beside: Mapping[str, str], compiled: Compiled) -> None:
        """Compare the files with what the sender states of them; `beside` are texts by file, or under "" for all.

        Raises:
            DeliveryError: they hold something else.
        """
        whole = Tally()
        for name, heading, footer, tally in self.tallies:
            whole.rows += tally.rows
            whole.take(tally.totals)
            text = beside.get(name)
            if stated.in_ in {"header", "footer"}:
                text = footer if stated.in_ == "footer" else heading
            if text is not None:
                where = (
                    f"{name}, its {stated.in_}" if stated.in_ in {"header", "footer"} else _filled_name(stated, name)
                )
                self._check(statement(text, where, compiled), tally)
        if "" in beside:
            self._check(statement(beside[""], stated.in_, compiled), whole)

    def _check(self, said: Statement, tally: Tally) -> None:
        check_stated(said, tally.counted())
        self.stated.append(said.told())


def _filled_name(stated: Stated, file: str) -> str:
    """Where a file's counts are stated, as messages show it."""
    return stated.in_.replace("{file}", file)


def _take_in(lines: Lines, batch: Batch) -> None:
    """What the lines of a block turned out to be."""
    lines.empty += batch.empty
    lines.comment += batch.comments
    lines.header += batch.headers
    lines.records += batch.lines - batch.empty - batch.comments - batch.headers


def _altered_parts(worked: Worked) -> dict[int, tuple[Altered, ...]]:
    """By the number of each file that was read with others, what was not taken as it came."""
    parts, found = worked.parts, dict[int, list[Altered]]()
    if parts is None:
        return {}
    for what, (records, times) in worked.altered.items():
        of = parts.of(records)
        for at in np.unique(of).tolist():
            own = of == at
            lines = worked.batch.line_numbers(records[own][:1])
            line = int(parts.places(records[own][:1], lines, lines)[0][0])
            found.setdefault(at, []).append(Altered(what, int(times[own].sum()), line))
    return {at: tuple(each) for at, each in found.items()}


def _count(
    file: ArrivedFile, lines: Lines, records: int, rejected: int, repeated: int, skipped: int
) -> FileCount:  # fmt: skip
    return FileCount(
        file.name, file.survey.content, file.survey.bytes_of_content, lines.read, lines.header, lines.comment,
        lines.empty, lines.footer, lines.records, records, rejected, repeated, skipped=skipped,
    )  # fmt: skip


def _one(before: FileCount, more: FileCount) -> FileCount:
    """The parts of one file as one."""
    summed = {name: getattr(before, name) + getattr(more, name) for name in _SUMMED}
    altered = {each.what: each for each in before.altered}
    for each in more.altered:
        known = altered.get(each.what)
        altered[each.what] = each if known is None else replace(known, count=known.count + each.count)
    return replace(before, altered=tuple(altered.values()), **summed)


_SUMMED = (
    "lines", "header", "comment", "empty", "footer", "record_lines", "records", "rejected", "copies", "conflicts",
    "skipped",
)  # fmt: skip
