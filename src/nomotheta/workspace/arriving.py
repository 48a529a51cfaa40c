"""What has arrived for a table and a day: whole, of a plausible size, complete, and vouched for by its sender."""

from __future__ import annotations

import datetime
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from functools import partial
from pathlib import Path

from blake3 import blake3

from nomotheta.charter import Compiled, Delivery
from nomotheta.errors import AwaitedError, DeclarationError, DeliveryError, counted
from nomotheta.events import told as tell
from nomotheta.frozen import frozen
from nomotheta.ledger import BadFile, LeftOut
from nomotheta.source.delivery import ArrivedFile, arrived, expected, literal
from nomotheta.source.patterns import filled, number_in
from nomotheta.source.stated import check_sums, sidecars
from nomotheta.source.whole import check_numbers, check_whole
from nomotheta.unpack import check_regular
from nomotheta.urls import is_fetched
from nomotheta.workspace.context import Context


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


def arrive(
    context: Context, compiled: Compiled, day: datetime.date, files: Sequence[Path] = (), *, fetched: bool = False
) -> Delivered:  # fmt: skip
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
    _fetch(context, delivery, day, wanted=not (chosen or fetched))
    found = arrived(
        context.root, chosen or expected(delivery, day), compiled.layout,
        optional=not chosen and (delivery.optional or not delivery.expected_on(day)),
        leave_out=leave_out if some else None, whole=_asked_of(context, delivery, day, named=bool(chosen)),
        fits=(lambda _name: True) if chosen else partial(_is_meant, context.root, delivery, day),
    )  # fmt: skip
    if not found and not bad:
        raise NothingArrivedError
    if not chosen:
        _check_complete(compiled, delivery, day, [*(each.name for each in found), *(each.file for each in bad)])
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


def _fetch(context: Context, delivery: Delivery, day: datetime.date, *, wanted: bool) -> None:
    """Have copies of what lies elsewhere, as it is now."""
    if wanted and any(map(is_fetched, delivery.patterns)):
        context.elsewhere.bring(delivery, day, time.time())


def _asked_of(context: Context, delivery: Delivery, day: datetime.date, *, named: bool) -> Callable[[Path, str], None]:
    """What is asked of each file before it is read; a file that somebody names needs no marker."""
    asked = delivery.model_copy(update={"ready": None}) if named else delivery

    def whole(path: Path, name: str) -> None:
        check_whole(context.root, asked, path, name, day, time.time())

    return whole


def _is_meant(root: Path, delivery: Delivery, day: datetime.date, name: str) -> bool:
    """Whether a file that matches a pattern is one of the delivery: `*` stands for signs that are no number, too.

    Nor is what comes beside another file: its checksum, its marker, what is stated of it.
    """
    if delivery.numbered is not None and number_in(delivery.patterns, name) is None:
        return False
    for pattern in delivery.beside:
        first, of_file, last = pattern.partition("{file}")
        first, last = filled(first, day), filled(last, day)
        of = name[len(first) : len(name) - len(last)]
        if name == first if not of_file else name == f"{first}{of}{last}" and of != name and (root / of).is_file():
            return False
    return True


def of_day(compiled: Compiled, day: datetime.date) -> str:
    """A table and a day, as messages speak of them."""
    return f"{compiled.charter.table}, {day}"


def _named(root: Path, file: Path) -> str:
    """A file's path as a pattern, as messages and the ledger show it: from the workspace on, where it is in there.

    Raises:
        DeliveryError: it is not there, or is no file.
    """
    path = file.resolve()
    name = path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)
    check_regular(file, name)
    return literal(name)


def _check_complete(compiled: Compiled, delivery: Delivery, day: datetime.date, names: Sequence[str]) -> None:
    """Whether all files of a day are here; fewer will do where they are added one by one."""
    added, where = compiled.charter.load.same_day == "add", of_day(compiled, day)
    if delivery.parts:
        _check_parts(delivery.parts, where, len(names), added=added)
    if delivery.numbered == "each day" and not added:
        check_numbers(delivery, names, where)


def _check_parts(parts: int, where: str, here: int, *, added: bool) -> None:
    """Whether as many files are here as are expected for a day."""
    if here > parts:
        raise DeliveryError(f"{counted(here, 'file')} arrived, and the charter expects {parts}", where=where,
                            mend="take out what does not belong there, or correct parts in the charter")  # fmt: skip
    if here < parts and not added:
        raise AwaitedError(f"{here} of {parts} files have arrived" if here > 1 else f"1 of {parts} files has arrived",
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
