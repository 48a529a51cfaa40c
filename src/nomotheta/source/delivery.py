"""Which files a delivery is made of, and whether their header is the one that the charter expects."""

from __future__ import annotations

import datetime
import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import AwaitedError, DeliveryError, nearest
from nomotheta.formats import FORMATS
from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.source.content import format_of
from nomotheta.source.patterns import filled
from nomotheta.unpack import Survey, matching, readable, survey
from nomotheta.urls import as_url, is_fetched

if TYPE_CHECKING:
    from nomotheta.charter import Delivery

_MAGIC = (b"PK", *(magic for each in FORMATS.values() for magic in each.magic))  # of files that may be no text
_READERS, _MANY = 2, 100  # files that are read at a time, and more than which are shared out in groups
_MOST = 1_000  # files; so many are small ones, which one thread reads in less time than two that wait for each other


@frozen
class ArrivedFile:
    """A file of a delivery; `name` is its path as messages show it, from the workspace on."""

    path: Path
    name: str
    survey: Survey

    def check_unchanged(self) -> None:
        """Whether it still is what was surveyed.

        Raises:
            DeliveryError: it grew, shrank or was written to since.
        """
        if _stamp(self.path) != self.survey.stamp:
            mend = "wait until the transfer is done, then load again"
            raise AwaitedError("the file changed while it was read", where=self.name, mend=mend)


def expected(delivery: Delivery, day: datetime.date) -> list[str]:
    """The file patterns of a delivery with the day filled in."""
    return [filled(pattern, day) for pattern in delivery.patterns]


LeaveOut = Callable[[str, DeliveryError], None]
Whole = Callable[[Path, str], None]  # raises what keeps a file from being read


def arrived(
    root: Path, patterns: Sequence[str], layout: Layout, *, optional: bool = False, leave_out: LeaveOut | None = None,
    whole: Whole = lambda _path, _name: None, fits: Callable[[str], bool] = lambda _name: True,
) -> list[ArrivedFile]:  # fmt: skip
    """The files that match, in the order of their names, each read through once.

    Args:
        root: the folder that the patterns start from.
        patterns: as in file names.
        layout: how the files are written.
        optional: whether a pattern may match no file.
        leave_out: told of a file that cannot be read, is damaged or empty, and why; the others are gone on with.
        whole: asked of each file before it is read.
        fits: whether a file that matches is one that is meant, by its name.

    Raises:
        AwaitedError: a pattern matches no file, or a file is not there as a whole.
        DeliveryError: a file cannot be read, is damaged or empty.
    """
    found = there(root, patterns, optional=optional, fits=fits)
    with ThreadPoolExecutor(_READERS if len(found) < _MOST else 1) as pool:
        paths, many = list(found), len(found) // _MANY + 1
        groups = [paths[at : at + many] for at in range(0, len(paths), many)]
        seen = pool.map(lambda group: _all_seen(group, found, layout, leave_out, whole), groups)
        return [file for group in seen for file in group]


def there(
    root: Path, patterns: Sequence[str], *, optional: bool = False, fits: Callable[[str], bool] = lambda _name: True
) -> dict[Path, str]:  # fmt: skip
    """The files that match, in the order of their names, with the names by which messages show them.

    Raises:
        AwaitedError: a pattern matches no file.
        DeliveryError: a name cannot be written down.
    """
    found: dict[Path, str] = {}
    for pattern in patterns:
        matches = [path for path in matching(root, pattern) if fits(_shown(path, root))]
        for path in matches:
            _check_name(path, root)
        if not matches and not optional:
            raise AwaitedError("no such file has arrived", where=as_url(pattern), mend=_near_files(root, pattern))
        found |= {path: _shown(path, root) for path in matches}
    return found


def _check_name(path: Path, root: Path) -> None:
    """Whether a file's name can be written down: in the ledger, in documents, in mails.

    Raises:
        DeliveryError: it is not UTF-8.
    """
    try:
        str(path).encode()
    except UnicodeEncodeError:
        shown = readable(path.relative_to(root) if path.is_relative_to(root) else path)
        raise DeliveryError("the file's name is not UTF-8", where=shown, mend="rename the file") from None


def _all_seen(
    paths: Sequence[Path], names: Mapping[Path, str], layout: Layout, leave_out: LeaveOut | None, whole: Whole
) -> list[ArrivedFile]:  # fmt: skip
    found = []
    for path in paths:
        try:
            whole(path, names[path])
            found.append(_seen(path, names[path], layout))
        except DeliveryError as error:
            if leave_out is None:
                raise
            leave_out(names[path], error)
    return found


def _seen(path: Path, name: str, layout: Layout) -> ArrivedFile:
    packed = layout.is_text
    try:
        found = survey(path, name, packed=packed)
    except DeliveryError:
        if packed:
            _check_text(path, name, layout)  # which may know better what is wrong
        raise
    if packed and found.head.startswith(_MAGIC):
        _check_text(path, name, layout)
    return ArrivedFile(path, name, found)


def _check_text(path: Path, name: str, layout: Layout) -> None:
    """Whether a file that should be text is of a format that is none.

    Raises:
        DeliveryError: it is.
    """
    try:
        found = format_of(path)
    except OSError:  # which the reading itself tells of
        return
    if found:
        what = f"the layout says {layout.format}, but this is a file of the format {found}"
        raise DeliveryError(what, where=name, mend=f'write format = "{found}" in the layout')


def _stamp(path: Path) -> tuple[int, int]:
    """Size and time of the last change in nanoseconds; zeros for a file that is gone."""
    try:
        seen = os.stat(path)  # noqa: PTH116 - half the time of the path's own, of which thousands of files take heed
    except OSError:
        return (0, 0)
    return seen.st_size, seen.st_mtime_ns


def literal(name: str) -> str:
    """A file's name as a pattern that matches only itself."""
    return "".join(f"[{c}]" if c in "*?[" else c for c in name)


def _shown(path: Path, root: Path) -> str:
    return str(path).removeprefix(f"{root}{os.sep}")


def _near_files(root: Path, pattern: str) -> str:
    if is_fetched(pattern):
        return "wait for it, or ask the sender; what is there: nomotheta arrivals"
    folder = (root / pattern).parent
    if not folder.is_dir():
        return f"make the folder {_shown(folder, root)}, or correct the pattern in the charter"
    try:
        names = sorted(path.name for path in folder.iterdir() if path.is_file())
    except OSError as error:
        return f"let the folder {_shown(folder, root)} be read: {error.strerror}"
    close = nearest(Path(pattern).name, names)
    if not names:
        return f"wait for it, or ask the sender; the folder {_shown(folder, root)} is empty"
    if close:
        return f"wait for it, or ask the sender; the nearest name there is {close}"
    more = f" and {len(names) - 3:,} more" if len(names) > 3 else ""
    return f"wait for it, or correct the pattern; the folder holds {', '.join(names[:3])}{more}"
