"""Files in the folders of deliveries that belong to no charter, and what they nearly are."""

from __future__ import annotations

import contextlib
import datetime
import difflib
import re
from collections.abc import Container, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.source.arrivals import Stray
from nomotheta.source.patterns import day_in, filled
from nomotheta.urls import as_url, is_fetched

if TYPE_CHECKING:
    from nomotheta.charter import Delivery

_UNDER_WAY = re.compile(r"\.(tmp|temp|part|partial|filepart|incomplete|inprogress|uploading|crdownload|swp)$|~$", re.I)
_METADATA = re.compile(r"-metadata\.json$|/csv-metadata\.json$")  # of CSV on the Web, beside the files it speaks of
_ALIKE = 0.8
_PLACE = re.compile(r"\{[^{}]*\}")


def strays(
    root: Path, deliveries: Mapping[str, Delivery], day: datetime.date, own: Container[str] = (),
    elsewhere: Mapping[str, int] | None = None,
) -> list[Stray]:  # fmt: skip
    """The files beside those of deliveries that are none of theirs, on whatever day.

    Args:
        root: the folder that patterns start from.
        deliveries: by their tables.
        day: for which files are expected.
        own: folders of the workspace itself, into which nobody delivers.
        elsewhere: the names and sizes of files that lie beside others elsewhere.
    """
    patterns = [(table, pattern) for table, each in deliveries.items() for pattern in each.patterns]
    beside = [pattern for each in deliveries.values() for pattern in _beside(each)]
    found, sizes = dict[str, Stray](), dict[str, int](elsewhere or {})
    for folder in dict.fromkeys(folder for _, pattern in patterns for folder in folders_of(root, pattern)):
        within = folder.relative_to(root) if folder.is_relative_to(root) else None
        if folder == root or (within is not None and (within.parts[0] in own or is_fetched(f"{within.as_posix()}/"))):
            continue
        for path in sorted(each for each in _in(folder) if each.is_file()):
            name = path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)
            with contextlib.suppress(OSError):  # it is gone by now
                sizes[name] = path.stat().st_size
    for name, size in sizes.items():
        if _METADATA.search(name):
            continue
        if any(day_in(pattern, name) for _, pattern in patterns) or any(day_in(each, name) for each in beside):
            continue
        told, table = _nearly(name, patterns, day)
        if Path(name).name.startswith(".") and not table:
            continue
        found[name] = Stray(as_url(name), size, told, table)
    return list(found.values())


def any_day(root: Path, pattern: str) -> Iterator[str]:
    """The names of files that may match a pattern on some day."""
    for folder in folders_of(root, pattern):
        for path in _in(folder):
            yield path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)


def _in(folder: Path) -> list[Path]:
    """What is in a folder; nothing where it cannot be read, which is told of where its files are missed."""
    try:
        return list(folder.iterdir())
    except OSError:
        return []


def folders_of(root: Path, pattern: str) -> list[Path]:
    """The folders that a pattern may speak of."""
    folder = Path(_PLACE.sub("*", pattern)).parent
    if not any(sign in str(folder) for sign in "*?["):
        return [root / folder] if (root / folder).is_dir() else []
    base = Path(folder.anchor) if folder.is_absolute() else root
    return sorted(each for each in base.glob(str(folder.relative_to(folder.anchor))) if each.is_dir())


def _beside(delivery: Delivery) -> Iterator[str]:
    """The patterns of the files that come with those of a delivery, by the patterns of these."""
    for pattern in delivery.beside:
        of = delivery.patterns if "{file}" in pattern else [""]
        yield from (pattern.replace("{file}", each) for each in of)


def _nearly(name: str, patterns: list[tuple[str, str]], day: datetime.date) -> tuple[str, str]:
    """What a file may be, and of which table."""
    plain = _UNDER_WAY.sub("", name)
    hidden = str(Path(plain).with_name(Path(plain).name.removeprefix(".")))
    for table, pattern in patterns:
        for known in {plain, hidden} - {name}:
            if day_in(pattern, known):
                return f"a transfer to {Path(known).name} that is not done, or was given up", table
        if day_in(pattern, name, folded=True):
            return f"capital and small letters are not those of {as_url(pattern)}", table
    best = max(
        ((difflib.SequenceMatcher(None, Path(name).name.lower(), Path(filled(pattern, day)).name.lower()).ratio(),
          table, pattern) for table, pattern in patterns),
        default=(0.0, "", ""),
    )  # fmt: skip
    if best[0] >= _ALIKE:
        return f"nearly {as_url(filled(best[2], day))}", best[1]
    return "belongs to no charter", ""
