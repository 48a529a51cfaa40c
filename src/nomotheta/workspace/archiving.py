"""Files put away by day: what was loaded into an archive, what was refused into quarantine; none overwrites another.

A file is taken out of the inbox first, looked at, listed in the manifest, and given its name: what comes under the same
name meanwhile stays where it is, and what a crash leaves half done is done the next time.
"""

from __future__ import annotations

import contextlib
import datetime
import errno
import hashlib
import os
import re
import shutil
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import psutil

from nomotheta.charter import Compiled, Delivery
from nomotheta.errors import AwaitedError, DeliveryError, NomothetaError
from nomotheta.events import told as tell
from nomotheta.source.patterns import day_in, filled
from nomotheta.unpack import survey
from nomotheta.urls import as_url, is_fetched
from nomotheta.workspace.context import Context

if TYPE_CHECKING:
    from nomotheta.ledger import LoadResult

MANIFEST, WHY, _TAKEN = "manifest-sha256.txt", "why.txt", ".moving"
_BLOCK = 1 << 20
_MOVING = threading.RLock()  # held while this process, whose number such a file bears, moves one
_MOST_NAMES = 10_000  # of one file that comes again and again


def is_put_away(context: Context, delivery: Delivery | None) -> bool:
    """Whether files of a delivery go into the archive: those of a day do, and standing lists only if declared so."""
    if delivery is None or context.settings.archive is None:
        return False
    if any(as_url(pattern).startswith("http") for pattern in delivery.patterns):
        return False  # nobody takes files away there
    return delivery.daily if delivery.archive is None else delivery.archive


def put_away(context: Context, compiled: Compiled, result: LoadResult) -> str:
    """Move the files that a load brought, or that are in the table already, into the archive of its day.

    Returns:
        What could not be done, in words; empty where all was.
    """
    delivery, archive = compiled.charter.delivery, context.settings.archive
    if archive is None or delivery is None or not is_put_away(context, delivery):
        return ""
    if result.state not in {"loaded", "unchanged"} or result.mends is not None:
        return ""
    names: dict[str, str | None] = {}
    if result.balance is not None:
        names |= {file.file: file.content for file in result.balance.files}
    for each in result.left_out:
        before = context.ledger.load(each.load_no) if each.load_no is not None else None
        known = {file.file: file.content for file in before.balance.files} if before and before.balance else {}
        names[each.file] = known.get(each.as_file) or names.get(each.as_file)
    ours = {name: content for name, content in names.items() if _is_ours(context, delivery, result.day, name)}
    return _moved(context, delivery, result.day, ours, archive.folder)


def quarantine(context: Context, compiled: Compiled, day: datetime.date, names: Iterable[str], why: str) -> str:
    """Move files that cannot be loaded into the quarantine of their day, with the reason beside them.

    Returns:
        What could not be done, in words; empty where all was.
    """
    delivery, archive = compiled.charter.delivery, context.settings.archive
    if archive is None or archive.quarantine is None or delivery is None or not is_put_away(context, delivery):
        return ""
    names = [name for name in names if _of_delivery(delivery, name)]
    told = _moved(context, delivery, day, dict.fromkeys(names), archive.quarantine)
    folder = context.root / filled(archive.quarantine, day)
    if told:
        tell(compiled.charter.table, told)
    elif names:
        with contextlib.suppress(OSError), (folder / WHY).open("a", encoding="utf-8") as file:
            file.write("".join(f"{Path(name).name}: {why}\n" for name in names))
    return told


def refused_files(error: NomothetaError, delivery: Delivery | None) -> list[str]:
    """The file that an error speaks of, where waiting will not make it better."""
    if delivery is None or not isinstance(error, DeliveryError) or isinstance(error, AwaitedError):
        return []
    name = error.where.split(", ")[0]
    name = name if _of_delivery(delivery, name) else name.rpartition(":")[0]
    return [name] if _of_delivery(delivery, name) else []


def _is_ours(context: Context, delivery: Delivery, day: datetime.date, name: str) -> bool:
    """Whether a file was delivered, or lies in quarantine; one that somebody named elsewhere stays where it is."""
    archive = context.settings.archive
    apart = filled(archive.quarantine, day) if archive is not None and archive.quarantine else None
    return _of_delivery(delivery, name) or (apart is not None and Path(name).is_relative_to(apart))


def _of_delivery(delivery: Delivery, name: str) -> bool:
    """Whether a name is that of a file which the charter's patterns name, on whatever day."""
    return any(day_in(pattern, name) for pattern in delivery.patterns)


def away(context: Context, day: datetime.date, name: str) -> list[Path]:
    """Where a file of a day may be that was put away: in the archive, then in quarantine, the oldest first."""
    archive = context.settings.archive
    if archive is None:
        return []
    found = []
    for pattern in filter(None, (archive.folder, archive.quarantine)):
        for path in _names(context.root / filled(pattern, day) / Path(name).name):
            if not path.exists():
                break
            found.append(path)
    return found


def found_away(context: Context, table: str, day: datetime.date, error: AwaitedError) -> AwaitedError:
    """An error that says where a file is that has not arrived, if it was put away."""
    archive = context.settings.archive
    if archive is None or not error.where:
        return error
    folders = [context.root / filled(each, day) for each in (archive.folder, archive.quarantine) if each]
    found = [
        path for folder in folders for path in sorted(folder.glob(Path(error.where).name)) if path.name != MANIFEST
    ]
    if not found:
        return error
    name = found[-1].relative_to(context.root) if found[-1].is_relative_to(context.root) else found[-1]
    mend = f"it was put away; to load it: nomotheta load {table} --day {day} --file {name}"
    return AwaitedError(error.what, where=error.where, mend=mend)


def _names(path: Path) -> Iterator[Path]:
    """The names that a file may get in a folder, until one is free."""
    yield path
    stem, dot, ending = path.name.partition(".")
    for number in range(2, _MOST_NAMES):
        yield path.with_name(f"{stem}-{number}{dot}{ending}")


def _moved(
    context: Context, delivery: Delivery, day: datetime.date, names: Mapping[str, str | None], into: str
) -> str:  # fmt: skip
    """Move files, by their names with what they must hold (None: whatever), and what belongs to each."""
    root, folder = context.root, context.root / filled(into, day)
    told = []
    try:
        for name, content in names.items():
            source = root / name
            if not source.is_file() or source.is_relative_to(folder):
                continue  # it was put away before, or somebody has taken it
            if move(source, folder, lambda path, content=content: _holds(path, content)) is None:  # type: ignore[misc]
                told.append(f"{name} has changed since it was loaded, and was left where it is")
                continue
            tell(name, f"put away into {folder.relative_to(root) if folder.is_relative_to(root) else folder}")
            for pattern in delivery.beside:
                beside = root / filled(pattern, day, name)
                if "{file}" in pattern and beside.is_file():
                    move(beside, folder)
                    told += _removed(context, filled(pattern, day, name))
            told += _removed(context, name)
    except OSError as error:
        told.append(f"it could not be put away into {filled(into, day)}: {error.strerror or error}")
    return "; ".join(told)


def _removed(context: Context, name: str) -> list[str]:
    """Remove what a copy that was put away was made of; what could not be done."""
    told = context.elsewhere.remove(name) if is_fetched(name) else ""
    return [told] if told else []


def _holds(path: Path, content: str | None) -> bool:
    """Whether a file holds what was loaded: packed or not, as the load knew it."""
    if content is None:
        return True
    for packed in (False, True):
        with contextlib.suppress(DeliveryError):
            if survey(path, path.name, packed=packed).content == content:
                return True
    return False


def move(source: Path, folder: Path, is_it: Callable[[Path], bool] = lambda _: True) -> Path | None:
    """Move a file into a folder, under its name or, where another file has it, one with a number.

    It is taken out of its folder first, and looked at then: what a sender puts there in its stead meanwhile stays.

    Args:
        source: the file.
        folder: where it goes.
        is_it: whether it is the file that is meant.

    Returns:
        Where it is now; None where it is not the one that is meant, and was put back.

    Raises:
        OSError: it cannot be moved; then it is where it was, or is put away the next time.
    """
    with _MOVING:
        folder.mkdir(parents=True, exist_ok=True)
        finish(folder)
        return _move(source, folder, is_it)


def _move(source: Path, folder: Path, is_it: Callable[[Path], bool]) -> Path | None:
    taken = folder / f".{source.name}.{os.getpid()}{_TAKEN}"
    try:
        source.rename(taken)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        return _from_elsewhere(source, taken, folder, is_it)
    if not is_it(taken):
        for path in _names(source):
            with contextlib.suppress(FileExistsError):
                _linked(taken, path)
                taken.unlink()
                return None
    return _settled(taken, folder, source.name)


def _from_elsewhere(source: Path, taken: Path, folder: Path, is_it: Callable[[Path], bool]) -> Path | None:
    """The same from another disk: a copy, and then the file goes, unless it has changed meanwhile."""
    before = _stamp(source)
    shutil.copy2(source, taken)
    with taken.open("rb") as file:
        os.fsync(file.fileno())
    if _stamp(source) != before or not is_it(taken):
        taken.unlink()
        return None
    path = _settled(taken, folder, source.name)
    source.unlink()
    return path


def _stamp(path: Path) -> tuple[int, int, int]:
    seen = path.stat()
    return seen.st_ino, seen.st_size, seen.st_mtime_ns


def _settled(taken: Path, folder: Path, name: str) -> Path:
    """Give a file that was taken its name in the folder, where the manifest states it before it is there."""
    digest = _digest(taken)
    for path in _names(folder / name):
        if path.exists() and _digest(path) != digest:
            continue
        _listed(folder, path.name, digest)
        if not path.exists():
            try:
                _linked(taken, path)
            except FileExistsError:  # by another program, just now
                continue
        taken.unlink()
        return path
    raise OSError(errno.EEXIST, "ten thousand files of that name are there", str(folder))


def finish(folder: Path) -> None:
    """Put files away whose move into a folder was cut off."""
    for taken in sorted(folder.glob(f".*{_TAKEN}")):
        name, _, process = taken.name[1 : -len(_TAKEN)].rpartition(".")
        if name and process.isdecimal() and not _is_alive(int(process)):
            _settled(taken, folder, name)


def finish_day(context: Context, day: datetime.date) -> None:
    """Put files of a day away whose move was cut off."""
    archive = context.settings.archive
    for pattern in filter(None, (archive.folder, archive.quarantine) if archive is not None else ()):
        with _MOVING, contextlib.suppress(OSError):
            finish(context.root / filled(pattern, day))


def _is_alive(process: int) -> bool:
    """Whether another process is there that may be moving it."""
    return process != os.getpid() and psutil.pid_exists(process)


def _linked(source: Path, path: Path) -> None:
    """Give a file a second name.

    Raises:
        FileExistsError: there is a file of that name.
    """
    try:
        os.link(source, path)
    except FileExistsError:
        raise
    except OSError:  # a file system without links
        with path.open("xb"):  # so that nobody else takes the name
            pass
        copy = path.with_name(f".{path.name}.{os.getpid()}.part")
        shutil.copy2(source, copy)
        copy.replace(path)


def _digest(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            digest.update(block)
    return digest.hexdigest()


def _listed(folder: Path, name: str, digest: str) -> None:
    """Have the manifest state a file, in the form that `sha256sum --check` reads."""
    manifest, line = folder / MANIFEST, f"{digest}  {name}\n"
    with manifest.open("a+", encoding="utf-8") as file:
        file.seek(0)
        if line not in file.readlines():
            file.write(line)
            file.flush()
            os.fsync(file.fileno())


def discard_old(context: Context, today: datetime.date) -> list[Path]:
    """Take away what has been in the archive for longer than it is kept: files that its manifests list, and no others.

    Returns:
        The files.
    """
    archive = context.settings.archive
    if archive is None or archive.keep is None:
        return []
    first, gone = today - datetime.timedelta(days=archive.keep), list[Path]()
    for folder in _day_folders(context.root, archive.folder):
        name = str(folder) if Path(archive.folder).is_absolute() else folder.relative_to(context.root).as_posix()
        day = day_in(archive.folder, name)
        if isinstance(day, datetime.date) and day < first:
            gone += _emptied(folder)
    return gone


def _day_folders(root: Path, pattern: str) -> list[Path]:
    """The folders that a pattern names, of whatever day."""
    globbed = Path(re.sub(r"\{day[^{}]*\}", "*", pattern))
    base = Path(globbed.anchor) if globbed.is_absolute() else root
    return sorted(path for path in base.glob(str(globbed.relative_to(globbed.anchor))) if path.is_dir())


def _emptied(folder: Path) -> list[Path]:
    gone = []
    with contextlib.suppress(OSError):
        manifest = folder / MANIFEST
        listed = [line.rstrip("\n").partition("  ")[2] for line in manifest.read_text("utf-8").splitlines()]
        for name in listed:
            path = folder / name
            if path.is_file() and path.parent == folder:
                path.unlink()
                gone.append(path)
        manifest.unlink()
        folder.rmdir()
    return gone
