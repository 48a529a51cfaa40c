"""Whether a file that is there has arrived: nobody writes it any more, its marker is there, its size can be right.

All of this is asked of the file system alone, before a byte of the file is read.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import AwaitedError, DeliveryError, counted
from nomotheta.source.patterns import filled, number_in
from nomotheta.urls import as_url, is_fetched

if TYPE_CHECKING:
    from nomotheta.charter import Delivery

_NAMED = 5  # numbers that a message names


def check_whole(root: Path, delivery: Delivery, path: Path, name: str, day: datetime.date, now: float) -> None:
    """Whether a file has arrived as a whole.

    Args:
        root: the folder that patterns start from.
        delivery: what is declared of it.
        path: the file.
        name: as messages show it.
        day: the delivery's.
        now: seconds since 1970.

    Raises:
        AwaitedError: it is still being written, or its marker is not there.
        DeliveryError: its size is implausible.
    """
    if delivery.ready:
        marker = filled(delivery.ready, day, name)
        if not (root / marker).is_file():
            raise AwaitedError(
                f"its marker {as_url(marker)} has not arrived", where=name, mend="wait until the sender is done"
            )
    if not delivery.steady and delivery.size is None:
        return
    try:
        seen = path.stat()
    except OSError as error:
        raise DeliveryError(f"the file cannot be read: {error.strerror}", where=name) from None
    # a sender may set the time of the content; only the file system sets that of the last change of anything
    if delivery.steady and not is_fetched(name):  # of which that is asked where it lies
        check_quiet(delivery.steady, now - max(seen.st_mtime, seen.st_ctime), name)
    if delivery.size is not None:
        least, most = delivery.size
        word = "less" if least is not None and seen.st_size < least else "more"
        limit = least if word == "less" else most
        if limit is not None and ((seen.st_size < limit) if word == "less" else (seen.st_size > limit)):
            told = f"it has {counted(seen.st_size, 'byte')}, {word} than the {limit:,} that are plausible"
            raise DeliveryError(
                told, where=name, mend="ask the sender; if the file is right, correct size in the charter"
            )


def check_quiet(steady: float, quiet: float, name: str) -> None:
    """Whether a file has not changed for as many seconds as it must not have.

    Raises:
        AwaitedError: it has.
    """
    if quiet < steady:
        told = f"it was written to {_ago(quiet)}; it is complete when it has not changed for {_lasting(steady)}"
        raise AwaitedError(told, where=name, mend="wait until the transfer is done")


def _ago(seconds: float) -> str:
    return f"{_lasting(seconds)} ago" if seconds >= 1 else "just now"


def _lasting(seconds: float) -> str:
    """A span of time in words, in whole seconds."""
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    told = [counted(count, unit) for count, unit in ((hours, "hour"), (minutes, "minute"), (rest, "second")) if count]
    return " ".join(told) or f"{seconds:.1f} seconds"


def check_numbers(delivery: Delivery, names: Sequence[str], where: str, before: tuple[int, str] | None = None) -> None:
    """Whether the running numbers of files are without gaps.

    Args:
        delivery: what is declared of them.
        names: of the files of one day.
        where: what a message speaks of.
        before: the highest number of the days before, and where it was; None where the numbers begin anew.

    Raises:
        AwaitedError: a number is missing.
        DeliveryError: a number is there twice.
    """
    found: dict[int, str] = {}
    for name in names:
        number = number_in(delivery.patterns, name)
        if number is None:
            continue
        if number in found:
            told = f"two files have the number {number}: {found[number]} and {name}"
            raise DeliveryError(told, where=where, mend="take out the one that does not belong there")
        found[number] = name
    if not found:
        return
    first = before[0] + 1 if before else 1 if delivery.numbered == "each day" else min(found)
    if min(found) < first:
        told = f"it has the number {min(found)}, and {before[0] if before else 0} came before" + (
            f" ({before[1]})" if before else ""
        )
        raise DeliveryError(told, where=found[min(found)], mend="ask the sender which file is right")
    # a number far off would make a list of millions
    gaps = [(a + 1, b - 1) for a, b in zip([first - 1, *sorted(found)], sorted(found), strict=False) if b > a + 1]
    if gaps:
        count = sum(last - start + 1 for start, last in gaps)
        told = ", ".join(str(start) if start == last else f"{start} to {last}" for start, last in gaps[:_NAMED])
        more = ", …" if len(gaps) > _NAMED else ""
        after = f"; {before[0]} came last ({before[1]})" if before and gaps[0][0] == first else ""
        what = f"number {told}{more} is missing" if count == 1 else f"{count:,} numbers are missing: {told}{more}"
        raise AwaitedError(what + after, where=where, mend="wait for them, or ask the sender")
