"""What of a delivery that has arrived is to be loaded: the place knows each content by itself."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import replace

from blake3 import blake3

from nomotheta.charter import Compiled, changed_keys
from nomotheta.errors import AwaitedError, DeliveryError, counted
from nomotheta.frozen import frozen
from nomotheta.ledger import LeftOut
from nomotheta.place.base import LoadedFile, Mark, Place
from nomotheta.place.marks import files_known, files_of_day, outlived
from nomotheta.place.render import Now
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.patterns import number_in
from nomotheta.source.whole import check_numbers
from nomotheta.unpack import raw_chunks
from nomotheta.workspace.arriving import Delivered, of_day
from nomotheta.workspace.context import Context

MENDED = "mended:"  # what the content of a load of mended rows begins with
_NAMED = 3  # files that a message names


def merged_over(standing: Sequence[Mark], load_no: int, day: datetime.date) -> bool:
    """Whether an earlier day was merged after a load, so that rows may have older values than it brought."""
    return any(mark.load_no > load_no and mark.day < day for mark in standing)


def check_day(place: Place, compiled: Compiled, day: datetime.date) -> None:
    """Whether all that belongs to a day is in the table, as far as the charter says what does.

    Raises:
        AwaitedError: files are missing.
        DeliveryError: two have one number.
    """
    delivery = compiled.charter.delivery
    if delivery is None or not (delivery.parts or delivery.numbered):
        return
    names = files_of_day(place, compiled.charter.table, day)
    if delivery.parts and len(names) < delivery.parts:
        told = f"{len(names)} of {counted(delivery.parts, 'file')} {'is' if len(names) == 1 else 'are'} in the table"
        raise AwaitedError(told, where=of_day(compiled, day), mend="wait for the others, or ask the sender")
    if delivery.numbered:
        check_numbers(delivery, names, of_day(compiled, day))


@frozen
class _Known:
    """What the place knows: the loads, those whose rows were replaced, and files of these contents and names."""

    marks: Sequence[Mark]
    gone: Mapping[int, int]
    by_content: Mapping[str, Sequence[LoadedFile]]
    by_name: Mapping[str, Sequence[LoadedFile]]
    daily: bool = True

    @classmethod
    def of(cls, place: Place, table: str, delivered: Delivered, now: Now) -> _Known:
        marks = [mark for mark in place.marks(table) if not mark.content.startswith(MENDED)]
        if not marks:
            return cls((), {}, {}, {})
        contents = {file.survey.content for file in delivered.files}
        numbers = {mark.load_no for mark in marks}
        found = files_known(place, table, contents, {file.name for file in delivered.files}, now)
        known = [each for each in found if each.load_no in numbers]
        by_content: dict[str, list[LoadedFile]] = {}
        by_name: dict[str, list[LoadedFile]] = {}
        for each in known:
            by_content.setdefault(each.content, []).append(each)
            by_name.setdefault(each.file, []).append(each)
        return cls(marks, outlived(marks), by_content, by_name, delivered.daily)

    def standing(self, day: datetime.date | None = None) -> list[Mark]:
        """The loads whose rows are in the table; of a day, or all."""
        return [mark for mark in self.marks if mark.load_no not in self.gone and day in {None, mark.day}]

    def in_table(self, file: ArrivedFile, *, merged: bool) -> LoadedFile | None:
        """The load that brought a file's content, if it is there.

        Merged, a later file of its name has undone it, or one of an earlier day that came after it.
        """
        found = [each for each in self.by_content.get(file.survey.content, ()) if each.load_no not in self.gone]
        if merged and self.daily and found and merged_over(self.standing(), found[-1].load_no, found[-1].day):
            return None
        newest = [each for each in self.by_name.get(file.name, ()) if each.load_no not in self.gone][-1:]
        if merged and newest and newest[0].content != file.survey.content:
            return None
        return found[-1] if found else None

    def before(self, file: ArrivedFile) -> LoadedFile | None:
        """What was loaded under a file's name, where it was something else."""
        named = [each for each in self.by_name.get(file.name, ()) if each.load_no not in self.gone]
        return named[-1] if named and named[-1].content != file.survey.content else None


def choose(
    context: Context, place: Place, compiled: Compiled, delivered: Delivered, day: datetime.date, now: Now, *,
    again: bool, until: datetime.date | None = None,
) -> Delivered:  # fmt: skip
    """What of a delivery is to be loaded, when what is in the table already is left out.

    Args:
        context: the workspace.
        place: where the table is.
        compiled: its charter.
        delivered: what has arrived.
        day: the delivery's.
        now: what conditions may speak of.
        again: whether a delivery that is loaded already is not a failure.
        until: the last of the days that are loaded after this one, in their order.

    Raises:
        DeliveryError: it was loaded for another day, or may not be loaded beside what the day brought before.
    """
    charter = compiled.charter
    delivered = _each_once(delivered)
    known = _Known.of(place, charter.table, delivered, now)
    _check_numbers(place, compiled, delivered, known, day)
    if delivered.daily:
        _check_other_days(charter.table, delivered, known, day)
    newer = _newer(compiled, delivered, known, day)
    if charter.load.how == "overwrite":
        if newer is None or not again:
            _check_newest(compiled, delivered, newer, known, day, until)
            return _overwriting(context, place, compiled, delivered, known, day, again=again)
        told = f"{newer.day} is in the table, as load {newer.load_no}, and replaced all; {day} is not needed"
        gone = tuple(LeftOut(file.name, newer.load_no, file.name) for file in delivered.files)
        return replace(delivered, files=(), since=newer.load_no, left_out=gone, notes=(told,))
    fresh, left = [], list(delivered.left_out)
    for file in delivered.files:
        there = known.in_table(file, merged=charter.load.how == "merge")
        if there is None:
            fresh.append(file)
        else:
            left.append(LeftOut(file.name, there.load_no, there.file))
    changed = changed_since(context, place, compiled, left)
    if not fresh and not (changed and charter.load.how == "merge"):
        return replace(_nothing_new(charter.table, delivered, left, day, again=again), changed=changed)
    if charter.load.how == "merge":
        _check_newest(compiled, delivered, newer, known, day, until)
        if changed:
            return replace(delivered, changed=changed, notes=(*delivered.notes, loaded_again(changed)))
        return replace(delivered, files=fresh, left_out=tuple(left))
    return _appending(
        context, place, compiled, replace(delivered, files=fresh, left_out=tuple(left)), delivered, known, day
    )


def _appending(
    context: Context, place: Place, compiled: Compiled, chosen: Delivered, delivered: Delivered, known: _Known,
    day: datetime.date,
) -> Delivered:  # fmt: skip
    """A delivery whose rows come beside what is in the table, or take the place of their day's."""
    charter = compiled.charter
    before = known.standing(day) if delivered.daily else []
    if before and charter.load.same_day == "replace":
        marks = place.marks(charter.table)
        gone = outlived(marks)
        own = [mark.load_no for mark in marks if mark.day == day and mark.load_no not in gone]
        return replace(chosen, files=delivered.files, left_out=delivered.left_out, replaced=tuple(own))
    if before and charter.load.same_day != "add":
        _check_awaited(context, chosen, before, day)
    return _beside(compiled, chosen, known)


def _check_numbers(
    place: Place, compiled: Compiled, delivered: Delivered, known: _Known, day: datetime.date
) -> None:  # fmt: skip
    """Numbers that run throughout go on from those of the day before; what of a day is loaded counts, too."""
    delivery, table = compiled.charter.delivery, compiled.charter.table
    if delivery is None or not delivery.numbered:
        return
    names = {file.name for file in delivered.files}
    names |= {each.file for each in delivered.bad}
    names |= {file for file in files_of_day(place, table, day) if number_in(delivery.patterns, file) is not None}
    before = None
    if delivery.numbered == "throughout":
        earlier = max((mark.day for mark in known.standing() if mark.day < day), default=None)
        numbers = [
            (number, f"{file}, {earlier}")
            for file in (files_of_day(place, table, earlier) if earlier else ())
            if (number := number_in(delivery.patterns, file)) is not None
        ]
        before = max(numbers, default=None)
    check_numbers(delivery, sorted(names), of_day(compiled, day), before)


def _each_once(delivered: Delivered) -> Delivered:
    """Of files with the same content the first; the others are left out, and that is a warning."""
    first: dict[str, str] = {}
    twice = []
    for file in delivered.files:
        name = first.setdefault(file.survey.content, file.name)
        if name != file.name:
            twice.append(LeftOut(file.name, None, name))
    if not twice:
        return delivered
    gone = {each.file for each in twice}
    told = tuple(f"{each.file} has the same content as {each.as_file} and was left out" for each in twice[:_NAMED])
    more = (f"so have {counted(len(twice) - _NAMED, 'more file')}",) if len(twice) > _NAMED else ()
    files = [file for file in delivered.files if file.name not in gone]
    return replace(delivered, files=files, left_out=tuple(twice), warnings=(*told, *more))


def _check_other_days(table: str, delivered: Delivered, known: _Known, day: datetime.date) -> None:
    """A content that was loaded for another day is that day's file under another name."""
    for file in delivered.files:
        other = next((each for each in known.by_content.get(file.survey.content, ()) if each.day != day), None)
        if other is not None:
            raise _came_before(table, file.name, other.load_no, other.day)


def _newer(compiled: Compiled, delivered: Delivered, known: _Known, day: datetime.date) -> Mark | None:
    """The newest day in the table whose rows a day that comes later would replace, or give older values."""
    load = compiled.charter.load
    if not delivered.daily or load.how == "append" or (load.how == "overwrite" and ":day" in (load.slice or "")):
        return None
    return max((mark for mark in known.standing() if mark.day > day), key=lambda mark: mark.day, default=None)


def _check_newest(
    compiled: Compiled, delivered: Delivered, newer: Mark | None, known: _Known, day: datetime.date,
    until: datetime.date | None,
) -> None:  # fmt: skip
    """Whether rows may be given older values: the newer days are merged once more after this one, up to `until`.

    A day that was merged from several deliveries cannot be: which of them held a row is not known any more.
    """
    if newer is None:
        return
    table, merged = compiled.charter.table, compiled.charter.load.how == "merge"
    contents: dict[datetime.date, set[str]] = {}
    for mark in known.standing():
        if mark.day > day:
            contents.setdefault(mark.day, set()).add(mark.content)
    once = all(len(each) == 1 for each in contents.values())
    if merged and once and until is not None and newer.day <= until:
        return
    told = f"{newer.day} is in the table, as load {newer.load_no}; its rows would be "
    told += f"given the values of {day}" if merged else f"replaced by those of {day}"
    mend = f"to load it all the same: nomotheta load {table} --day {day} --even-if-loaded"
    if merged and once:
        mend = f"load all days in their order: nomotheta run --from {day} {table}"
    raise DeliveryError(told, where=delivered.files[0].name, mend=mend)


def _came_before(table: str, file: str, load_no: int, day: datetime.date) -> DeliveryError:
    told = f"the same content was loaded before, as load {load_no} for {day}"
    mend = f"ask the sender for the file of this day; if it is the right file: nomotheta load {table} --even-if-loaded"
    return DeliveryError(told, where=file, mend=mend)


_UNKNOWN = "(under which charter it was loaded is not known here)"


def changed_since(context: Context, place: Place, compiled: Compiled, left: Sequence[LeftOut]) -> tuple[str, ...]:
    """The keys of the charter that have changed since files were loaded; for a list to be loaded, doubt is enough."""
    loads = {each.load_no for each in left if each.load_no is not None}
    version, now = context.charters.declared(compiled)
    table, how = compiled.charter.table, compiled.charter.load.how
    before = [context.ledger.charter_of(load_no, table, place.name) for load_no in sorted(loads)]
    if how != "append" and not all(before):
        return (_UNKNOWN,)
    versions = dict.fromkeys(each for each in before if each and each != version)
    kept = [context.ledger.charter(version) for version in versions if version]
    return tuple(dict.fromkeys(key for each in kept if each is not None for key in changed_keys(each[1], now)))


def loaded_again(changed: Sequence[str]) -> str:
    """What is said of a load that is carried out once more."""
    return f"loaded again, because the charter has changed: {', '.join(changed)}"


def _overwriting(
    context: Context, place: Place, compiled: Compiled, delivered: Delivered, known: _Known, day: datetime.date, *,
    again: bool,
) -> Delivered:  # fmt: skip
    """A delivery that takes the place of what is there is loaded as a whole, unless just that is there."""
    standing = known.standing(day if delivered.daily else None)
    if not standing or standing[-1].content != delivered.content:
        return delivered
    load_no = standing[-1].load_no
    left = [LeftOut(file.name, load_no, file.name) for file in delivered.files]
    changed = changed_since(context, place, compiled, left)
    if changed:
        return replace(delivered, changed=changed, notes=(*delivered.notes, loaded_again(changed)))
    return _nothing_new(compiled.charter.table, delivered, [*delivered.left_out, *left], day, again=again)


def _nothing_new(
    table: str, delivered: Delivered, left: Sequence[LeftOut], day: datetime.date, *, again: bool
) -> Delivered:  # fmt: skip
    """All of the delivery is in the table: no failure where that is a list, or was to be found out."""
    since = max(each.load_no for each in left if each.load_no is not None)
    if delivered.daily and not again:
        raise _came_before(table, delivered.files[0].name, since, day)
    return replace(delivered, files=(), left_out=tuple(left), since=since)


def _check_awaited(
    context: Context, chosen: Delivered, before: Sequence[Mark], day: datetime.date
) -> None:  # fmt: skip
    """A day that is loaded takes nothing more but files that were left out of its loads as bad."""
    kept = [context.ledger.load(mark.load_no) for mark in before]
    awaited = {bad.file for load in kept if load is not None for bad in load.bad}
    more = [file.name for file in chosen.files if file.name not in awaited]
    if not more:
        return
    loads = " and ".join(str(mark.load_no) for mark in before)
    others = f", with {counted(len(more), 'new file')}" if len(more) > 1 else ""
    told = f"{day} was loaded already, as load {loads}; this is a further delivery for it{others}"
    mend = (
        'write same_day = "replace" under [load] if it takes the place of what was loaded, or same_day = "add" if it '
        f"comes beside it; or undo that one first: nomotheta undo {before[-1].load_no}"
    )
    raise DeliveryError(told, where=more[0], mend=mend)


def _beside(compiled: Compiled, chosen: Delivered, known: _Known) -> Delivered:
    """Files that come beside what is in the table; what has changed since it was loaded is told by name."""
    charter, delivery = compiled.charter, compiled.charter.delivery
    keyed = any(key.sets_aside for key in charter.keys)
    notes, warnings = list[str](), list[str]()  # rows that a changed file no longer has are still in the table
    for file in chosen.files:
        before = known.before(file)
        if before is None:
            continue
        grown = _has_grown(file, before)
        what = f"grew from {before.size:,} to {file.survey.bytes_of_content:,} bytes" if grown else "changed"
        what = f"{what} since load {before.load_no} loaded it"
        if not keyed and (grown or chosen.daily or (delivery is not None and delivery.several)):
            told = f"the file {what}, and without a key its new rows cannot be told from those already loaded"
            raise DeliveryError(
                told, where=file.name,
                mend=f"add [[keys]], or undo that load first: nomotheta undo {before.load_no}",
            )  # fmt: skip
        (notes if keyed and grown else warnings).append(f"{file.name} {what}")
    return replace(chosen, notes=(*chosen.notes, *notes), warnings=(*chosen.warnings, *warnings))


def _has_grown(file: ArrivedFile, before: LoadedFile) -> bool:
    """Whether a file begins with what was loaded under its name before."""
    if file.survey.bytes_of_content <= before.size:
        return False
    seen, left = blake3(), before.size
    for chunk in raw_chunks(file.path, file.name):
        seen.update(memoryview(chunk)[:left])
        left -= len(chunk)
        if left <= 0:
            break
    return seen.hexdigest() == before.content


def _listed(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


def left_out_told(left: Sequence[LeftOut]) -> str:
    """Which files were left out because they are in the table, and from which load."""
    known = [each for each in left if each.load_no is not None]
    if not known:
        return ""
    loads = sorted({each.load_no for each in known if each.load_no is not None})
    by = f"load {loads[0]}" if len(loads) == 1 else f"loads {', '.join(map(str, loads[:-1]))} and {loads[-1]}"
    if len(loads) > _NAMED:
        by = f"loads {loads[0]} to {loads[-1]}"
    other = [f"{each.file} (as {each.as_file})" if each.file != each.as_file else each.file for each in known]
    told = "is already in the table ({}) and was" if len(known) == 1 else "are already in the table ({}) and were"
    return f"{counted(len(known), 'file')} {told.format(by)} left out: {_listed(other)}"
