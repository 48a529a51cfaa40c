"""What has arrived for a table and a day, and what of it is to be loaded: the place knows each content by itself."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path

from blake3 import blake3

from nomotheta.charter import Compiled, changed_keys
from nomotheta.errors import DeclarationError, DeliveryError, counted
from nomotheta.events import told as tell
from nomotheta.frozen import frozen
from nomotheta.ledger import BadFile, LeftOut
from nomotheta.place.base import LoadedFile, Mark, Place
from nomotheta.place.marks import files_known, outlived
from nomotheta.place.render import Now
from nomotheta.source.delivery import ArrivedFile, arrived, expected, literal
from nomotheta.source.stated import check_sums, sidecars
from nomotheta.unpack import check_regular, raw_chunks
from nomotheta.workspace.context import Context

MENDED = "mended:"  # what the content of a load of mended rows begins with
_NAMED = 3  # files that a message names


@frozen
class Delivered:
    """A delivery that has arrived.

    `files` are those to be loaded, `stated` the texts beside them that state counts, by file; `bad` files cannot be
    loaded, and `left_out` are in the table already, or are there twice. `since` is the newest load that brought what is
    in the table, where all is; `replaced` are the loads whose rows go, because this delivery takes their place;
    `changed` are the keys of the charter that have changed since what is in the table was loaded.
    """

    files: Sequence[ArrivedFile]
    daily: bool
    stated: Mapping[str, str] = field(default_factory=dict)
    bad: tuple[BadFile, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    since: int | None = None
    replaced: tuple[int, ...] = ()
    warnings: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()

    @property
    def content(self) -> str:
        """What the files hold, as one hash; that of the file where there is only one."""
        parts = [file.survey.content for file in self.files]
        return parts[0] if len(parts) == 1 else blake3("".join(parts).encode()).hexdigest()

    def without(self, error: DeliveryError) -> Delivered | None:
        """The delivery but for the file that an error speaks of, which is bad; None where none is left."""
        of = next((each for each in self.files if _speaks_of(error.where, each.name)), None)
        if of is None or len(self.files) == 1:
            return None
        bad = (*self.bad, BadFile(of.name, error.what, error.mend))
        return replace(self, files=[each for each in self.files if each is not of], bad=bad)


def _speaks_of(where: str, name: str) -> bool:
    return where == name or where.startswith((f"{name}:", f"{name},"))


class NothingArrivedError(Exception):
    """No file of a delivery has arrived, and the charter says that this may be."""


# ---- what has arrived


def arrive(context: Context, compiled: Compiled, day: datetime.date, files: Sequence[Path] = ()) -> Delivered:
    """The files of a table's delivery for a day, or those that are named, each read through once; no place is touched.

    Raises:
        DeclarationError: the charter declares no delivery.
        DeliveryError: a file is missing, cannot be read, is damaged, empty, or not what its checksum says.
        NothingArrivedError: there is no file, and there need be none.
    """
    delivery = compiled.charter.delivery
    if delivery is None:
        raise DeclarationError("the charter declares no [delivery], so there is nothing to load",
                               where=compiled.file, mend='add [delivery] files = "inbox/…-{day}.csv"')  # fmt: skip
    bad: list[BadFile] = []
    some = delivery.on_bad_file == "leave out"

    def leave_out(name: str, error: DeliveryError) -> None:
        bad.append(BadFile(name, error.what, error.mend))

    chosen = [_named(context.root, file) for file in files]
    found = arrived(
        context.root, chosen or expected(delivery, day), compiled.layout, optional=delivery.optional and not chosen,
        leave_out=leave_out if some else None,
    )  # fmt: skip
    if not found and not bad:
        raise NothingArrivedError
    if delivery.parts and not chosen:
        _check_parts(delivery.parts, compiled, day, len(found) + len(bad))
    for each in found:
        tell(each.name, f"arrived: {each.survey.bytes_of_content:,} bytes, BLAKE3 {each.survey.content[:16]}…")
    sound, stated = list[ArrivedFile](), dict[str, str]()
    for group in [[file] for file in found] if some else [found]:
        try:
            stated |= _vouched(context, compiled, group, day, len(found))
            sound += group
        except DeliveryError as error:
            if not some:
                raise
            leave_out(group[0].name, error)
    if not sound:
        first = bad[0]
        more = f" ({counted(len(bad) - 1, 'more file')} cannot be loaded either)" if len(bad) > 1 else ""
        raise DeliveryError(first.message + more, where=first.file, mend=first.mend)
    return Delivered(sound, delivery.daily, stated, tuple(sorted(bad, key=lambda each: each.file)))


def _named(root: Path, file: Path) -> str:
    """A file's path as a pattern, as messages and the ledger show it: from the workspace on, where it is in there.

    Raises:
        DeliveryError: it is not there, or is no file.
    """
    path = file.resolve()
    name = path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)
    check_regular(file, name)
    return literal(name)


def _check_parts(parts: int, compiled: Compiled, day: datetime.date, here: int) -> None:
    """Whether as many files are here as are expected for a day; fewer will do where they are added one by one."""
    where = f"{compiled.charter.table}, {day}"
    if here > parts:
        raise DeliveryError(f"{counted(here, 'file')} arrived, and the charter expects {parts}", where=where,
                            mend="take out what does not belong there, or correct parts in the charter")  # fmt: skip
    if here < parts and compiled.charter.load.same_day != "add":
        raise DeliveryError(f"{here} of {parts} files have arrived" if here > 1 else f"1 of {parts} files has arrived",
                            where=where, mend="wait for the others, or ask the sender")  # fmt: skip


def _vouched(
    context: Context, compiled: Compiled, files: Sequence[ArrivedFile], day: datetime.date, of: int
) -> dict[str, str]:  # fmt: skip
    """Files held against their checksums, and what is stated beside them."""
    delivery = compiled.charter.delivery
    assert delivery is not None  # noqa: S101 - only then is there something that arrives
    if delivery.checksums:
        check_sums(context.root, delivery.checksums, files, day)
    if not delivery.stated:
        return {}
    return sidecars(context.root, delivery.stated, files, day, of=of)


# ---- what of it is to be loaded


@frozen
class _Known:
    """What the place knows: the loads, those whose rows were replaced, and files of these contents and names."""

    marks: Sequence[Mark]
    gone: Mapping[int, int]
    by_content: Mapping[str, Sequence[LoadedFile]]
    by_name: Mapping[str, Sequence[LoadedFile]]

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
        return cls(marks, outlived(marks), by_content, by_name)

    def standing(self, day: datetime.date | None = None) -> list[Mark]:
        """The loads whose rows are in the table; of a day, or all."""
        return [mark for mark in self.marks if mark.load_no not in self.gone and day in {None, mark.day}]

    def in_table(self, file: ArrivedFile, *, merged: bool) -> LoadedFile | None:
        """The load that brought a file's content, if it is there; merged, a later file of its name has undone it."""
        found = [each for each in self.by_content.get(file.survey.content, ()) if each.load_no not in self.gone]
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
    again: bool,
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

    Raises:
        DeliveryError: it was loaded for another day, or may not be loaded beside what the day brought before.
    """
    charter = compiled.charter
    delivered = _each_once(delivered)
    known = _Known.of(place, charter.table, delivered, now)
    if delivered.daily:
        _check_other_days(charter.table, delivered, known, day)
    if charter.load.how == "overwrite":
        return _overwriting(context, place, compiled, delivered, known, day, again=again)
    fresh, left = [], list(delivered.left_out)
    for file in delivered.files:
        there = known.in_table(file, merged=charter.load.how == "merge")
        if there is None:
            fresh.append(file)
        else:
            left.append(LeftOut(file.name, there.load_no, there.file))
    changed = changed_since(context, place, compiled, left)
    if charter.load.how == "merge" and changed:
        return replace(delivered, changed=changed, notes=(*delivered.notes, loaded_again(changed)))
    if not fresh:
        return replace(_nothing_new(charter.table, delivered, left, day, again=again), changed=changed)
    chosen = replace(delivered, files=fresh, left_out=tuple(left))
    if charter.load.how == "merge":
        return chosen
    before = known.standing(day) if delivered.daily else []
    if before and charter.load.same_day == "replace":
        marks = place.marks(charter.table)
        gone = outlived(marks)
        own = [mark.load_no for mark in marks if mark.day == day and mark.load_no not in gone]
        return replace(chosen, files=delivered.files, left_out=delivered.left_out, replaced=tuple(own))
    if before and charter.load.same_day != "add":
        _check_awaited(context, chosen, before, day)
    return _beside(compiled, chosen, known)


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
