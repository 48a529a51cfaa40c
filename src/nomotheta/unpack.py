"""The bytes of a file, decompressed by what they are, not by the file's name; and a file seen whole once.

Nothing large is imported here: a file can be read while the rest of the program is still being imported.
"""

from __future__ import annotations

import atexit
import contextlib
import fnmatch
import gzip
import importlib
import io
import itertools
import os
import re
import stat
import sys
import tempfile
import threading
import weakref
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

from blake3 import blake3

from nomotheta.errors import DeliveryError, counted
from nomotheta.frozen import frozen

CHUNK = 4 << 20
Most = Callable[[], int]
_FIRST = (1 << 20, 2 << 20, 4 << 20)
_SEVERAL = re.compile(r"[*?[]")  # what makes a part of a path stand for several
_HEAD = 6  # bytes of a file by which its packing is known
_SMALL, _SMALL_KEPT = 1 << 20, 64 << 20  # bytes of a file that is kept once it was read, and of all such together
_MOST_AHEAD = 200  # files that are surveyed ahead; of more, none is
_KEPT = 512 << 20  # bytes of content that are kept unpacked, of all files together


Stamp = tuple[int, int]  # a file's size, and its last change in nanoseconds


@frozen
class Survey:
    """A file seen whole once: its size on disk, the size of its decompressed content and that content's BLAKE3 hash.

    `stamp` is what the file system said of it as it was opened, `head` its first bytes. While it lives, what was
    unpacked of the file to see it need not be unpacked again, nor a small file be read again.
    """

    bytes_on_disk: int
    bytes_of_content: int
    content: str
    stamp: Stamp = (0, 0)
    head: bytes = b""
    copy: _Copy | _Small | None = field(default=None, repr=False, compare=False)

    @property
    def held(self) -> bytes | None:
        """The content of a small file, where it is in memory."""
        return self.copy.data if isinstance(self.copy, _Small) else None


def let_go(found: Survey) -> None:
    """Forget what a file holds, where others are to read it."""
    object.__setattr__(found, "copy", None)


def survey(path: Path, name: str, *, packed: bool = True) -> Survey:
    """Read the whole file once and say what its content is; not `packed` if the format packs its content itself.

    Raises:
        DeliveryError: it cannot be read, its compression is damaged, or it is empty.
    """
    ahead = _AHEAD.pop(path, None) if packed else None
    if ahead is not None:
        found = ahead.result()
        if found is not None:
            return found
    return _surveyed(path, name, packed=packed)


def survey_ahead(paths: Iterable[Path]) -> None:
    """Begin to survey files that will be asked for, one after the other, beside what else is done until then."""
    ending = threading.Event()
    waiting = [_Ahead(path) for path in itertools.islice(paths, _MOST_AHEAD + 1)]
    if len(waiting) > _MOST_AHEAD:  # what there is to do for small files is no work for another thread
        return
    _AHEAD.update((each.path, each) for each in waiting)

    def run() -> None:
        for each in waiting:
            each.run(ending)

    def end() -> None:  # with the process, which may take no thread along that is in another language
        ending.set()
        thread.join()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    atexit.register(end)


def _surveyed(path: Path, name: str, *, packed: bool, ending: threading.Event | None = None) -> Survey:
    small = _surveyed_at_once(path) if packed else None
    if small is not None:
        return small
    seen, size, opened = blake3(), 0, _Opened()
    copy: _Copy | _Small | None = None
    for chunk in raw_chunks(path, name, packed=packed, opened=opened):
        if packed and not size:
            copy = _Copy.begun(opened.stamp) if _packing(opened.head) else _Small.of(opened.stamp)
        if ending is not None and ending.is_set():
            raise InterruptedError
        size += len(chunk)
        seen.update(chunk)
        if copy is not None and not copy.add(chunk):
            copy = None
    if not size:
        raise DeliveryError("the file is empty: 0 bytes", where=name, mend="ask the sender to send it again")
    if copy is not None:
        _COPIES[path] = copy
    return Survey(opened.stamp[0], size, seen.hexdigest(), opened.stamp, opened.head, copy)


def _surveyed_at_once(path: Path) -> Survey | None:
    """A small file that is not packed, seen by one read; None for any other, or where something is in the way."""
    try:
        number = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0))
    except OSError:
        return None
    try:
        seen = os.fstat(number)
        stamp = (seen.st_size, seen.st_mtime_ns)
        copy = _Small.of(stamp) if stat.S_ISREG(seen.st_mode) and seen.st_size else None
        data = os.read(number, stamp[0] + 1) if copy is not None else b""
    except OSError:
        return None
    finally:
        os.close(number)
    if copy is None or len(data) != stamp[0] or _packing(data[:_HEAD]):
        return None
    copy.add(data)
    _COPIES[path] = copy
    return Survey(len(data), len(data), blake3(data).hexdigest(), stamp, data[:_HEAD], copy)


def packing_of(path: Path) -> str:
    """How a file is packed, by its first bytes: gzip, bzip2, xz, zstd, zip, or empty for not at all."""
    with path.open("rb") as file:
        return _packing(file.read(_HEAD))


def _packing(head: bytes) -> str:
    return next((packing for magic, packing in _PACKINGS.items() if head.startswith(magic)), "")


class _Copy:
    """What a packed file holds, in a file without a name, for those who read it after it was surveyed."""

    def __init__(self, stamp: Stamp) -> None:
        self.stamp, self.size = stamp, 0
        self._file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 - it is closed as soon as nobody knows it
        self._lock = threading.Lock()

    @classmethod
    def begun(cls, stamp: Stamp) -> _Copy | None:
        """One that is empty yet; None where there is no room for one."""
        try:
            return cls(stamp)
        except OSError:
            return None

    def add(self, chunk: bytes) -> bool:
        """Keep a chunk; False where that is more than there is room for, or than is to be kept."""
        self.size += len(chunk)
        if self.size + sum(each.size for each in list(_COPIES.values()) if isinstance(each, _Copy)) > _KEPT:
            return False
        try:
            return self._file.write(chunk) == len(chunk)
        except OSError:
            return False

    def chunks(self, sizes: Iterator[int]) -> Iterator[bytes]:
        """The content, as often as it is asked for."""
        done = 0
        while done < self.size:
            with self._lock:
                self._file.seek(done)
                chunk = self._file.read(min(next(sizes), self.size - done))
            done += len(chunk)
            yield chunk


class _Small:
    """What a small file holds, which is cheaper to keep than to read again."""

    held = 0  # bytes, of all of them together, as last counted
    asked = 0

    def __init__(self) -> None:
        self._data = b""

    @classmethod
    def of(cls, stamp: Stamp) -> _Small | None:
        """One that is empty yet; None for a file that is not small, or where enough are kept."""
        if stamp[0] > _SMALL:
            return None
        cls.asked += 1
        if cls.held >= _SMALL_KEPT and cls.asked % 256 == 0:  # some may have gone since
            cls.held = sum(len(each._data) for each in list(_COPIES.values()) if isinstance(each, cls))
        return cls() if cls.held < _SMALL_KEPT else None

    def add(self, chunk: bytes) -> bool:
        """Keep a chunk; False if the file is larger than it was said to be."""
        self._data += chunk
        _Small.held += len(chunk)
        return len(self._data) <= _SMALL

    @property
    def data(self) -> bytes:
        """All of the content."""
        return self._data

    def chunks(self, sizes: Iterator[int]) -> Iterator[bytes]:
        """The content, as often as it is asked for."""
        done = 0
        while done < len(self._data):
            chunk = self._data[done : done + next(sizes)]
            done += len(chunk)
            yield chunk


_COPIES: weakref.WeakValueDictionary[Path, _Copy | _Small] = weakref.WeakValueDictionary()


class _Ahead:
    """A survey that is to be made before it is asked for."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.found: Survey | None = None
        self.begun, self.done = threading.Lock(), threading.Event()

    def run(self, ending: threading.Event) -> None:
        """Make it, unless it was begun."""
        if self.begun.acquire(blocking=False):
            with contextlib.suppress(Exception):  # whatever is wrong is told when the file is asked for
                self.found = _surveyed(self.path, str(self.path), packed=True, ending=ending)
            self.done.set()

    def result(self) -> Survey | None:
        """What came of it; None where it was not begun, came to nothing, or the file has changed since."""
        if self.begun.acquire(blocking=False):
            return None
        self.done.wait()
        return self.found if self.found is not None and _stamp(self.path) == self.found.stamp else None


_AHEAD: dict[Path, _Ahead] = {}


def _stamp(path: Path) -> Stamp:
    found = os.stat(path)  # noqa: PTH116 - half the time of the path's own, of which thousands of files take heed
    return found.st_size, found.st_mtime_ns


@dataclass(slots=True)
class _Opened:
    """What is known of a file once it is open."""

    stamp: Stamp = (0, 0)
    head: bytes = b""


def raw_chunks(
    path: Path, name: str, *, packed: bool = True, most: Most | None = None, opened: _Opened | None = None
) -> Iterator[bytes]:
    """The decompressed bytes of a file, a chunk at a time, of `most` bytes as it is asked for each.

    Of a large file, smaller ones come first.

    Raises:
        DeliveryError: it cannot be read, or its compression is damaged or cut off.
    """
    copy = _COPIES.get(path) if packed and opened is None else None
    opened = opened or _Opened()
    try:
        if copy is not None and (isinstance(copy, _Small) or copy.stamp == _stamp(path)):
            yield from copy.chunks(_at_most(most, itertools.repeat(CHUNK)))
            return
        raw, seen = _open(path, name)
        with io.BufferedReader(raw) as file:
            there, sizes = seen.st_size, _sizes(seen.st_size, most)
            data = raw.read(there + 1 if there <= _SMALL else _HEAD)  # a small file is read at once
            opened.stamp, opened.head = (there, seen.st_mtime_ns), data[:_HEAD]
            packing = _packing(opened.head) if packed else ""
            if there <= _SMALL and len(data) <= there and not packing:
                yield from _read(io.BytesIO(data), sizes)
                return
            file.seek(0)
            yield from _decompressed(file, packing, name, sizes) if packed else _read(file, sizes)
    except FileNotFoundError:
        raise DeliveryError("the file is not there", where=name) from None
    except IsADirectoryError:
        raise DeliveryError("this is a folder, not a file", where=name) from None
    except PermissionError:
        raise DeliveryError("the file may not be read", where=name, mend="check the rights of the file") from None
    except OSError as error:
        raise DeliveryError(f"the file cannot be read: {error.strerror}", where=name) from None


def bytes_of(path: Path, name: str, start: int, stop: int) -> Iterator[bytes]:
    """Some bytes of a file that is not packed, a chunk at a time.

    Raises:
        DeliveryError: they cannot be read.
    """
    try:
        with path.open("rb") as file:
            file.seek(start)
            while start < stop:
                chunk = file.read(min(CHUNK, stop - start))
                if not chunk:
                    raise DeliveryError("the file became shorter while it was read", where=name)
                yield chunk
                start += len(chunk)
    except OSError as error:
        raise DeliveryError(f"the file cannot be read: {error.strerror}", where=name) from None


def matching(root: Path, pattern: str) -> list[Path]:
    """The files that match a pattern, a folder's or an absolute one, in the order of their names."""
    folder, name = os.path.split(root / pattern)
    if _SEVERAL.search(folder) or "**" in name:
        base = Path(pattern)
        paths = Path(base.anchor).glob(str(base.relative_to(base.anchor))) if base.is_absolute() else root.glob(pattern)
        return sorted(path for path in paths if path.is_file())
    wanted = re.compile(fnmatch.translate(name))
    try:
        entries = os.scandir(folder)
    except OSError:
        return []
    with entries:  # which know of most files what they are without asking the file system
        return [
            Path(path) for path in sorted(each.path for each in entries if wanted.match(each.name) and _is_file(each))
        ]


def _is_file(entry: os.DirEntry[str]) -> bool:
    """Whether it is a file, or a link to one."""
    return Path(entry.path).is_file() if entry.is_symlink() else entry.is_file()


def readable(path: Path) -> str:
    """A path as it can be written: bytes of its name that are not UTF-8 are written as escapes."""
    return os.fsencode(path).decode("utf-8", "backslashreplace")


def check_regular(path: Path, name: str) -> None:
    """Whether a path is a file that can be read more than once, from its start.

    Raises:
        DeliveryError: it is a folder, a pipe, a socket or a device, or a link that leads nowhere.
    """
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        told = "the link leads to no file" if path.is_symlink() else "the file is not there"
        raise DeliveryError(told, where=name) from None
    except OSError as error:
        raise DeliveryError(f"the file cannot be read: {error.strerror}", where=name) from None
    if stat.S_ISDIR(mode):
        raise DeliveryError("this is a folder, not a file", where=name)
    if not stat.S_ISREG(mode):
        mend = "save its content as a file first: it is read more than once"
        raise DeliveryError("this is a pipe, a socket or a device, not a file", where=name, mend=mend)


def _open(path: Path, name: str) -> tuple[io.FileIO, os.stat_result]:
    """A regular file, open, and what the file system says of it; what is none is told of, and not waited for.

    Raises:
        DeliveryError: as `check_regular`.
    """
    try:
        number = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0))
    except PermissionError:
        raise
    except OSError:
        check_regular(path, name)
        raise
    seen = os.fstat(number)
    if not stat.S_ISREG(seen.st_mode):
        os.close(number)
        check_regular(path, name)
    return io.FileIO(number, "rb"), seen


def _sizes(there: int, most: Most | None) -> Iterator[int]:
    """How much is read at a time: of a large file, whoever takes it further is not to wait long for its first rows."""
    large = there > 4 * sum(_FIRST)
    usual = min(CHUNK, max(there + 1, 1 << 16))  # a small file's is not made room for that it does not fill
    return _at_most(most, itertools.chain(_FIRST if large else (), itertools.repeat(usual)))


def _at_most(most: Most | None, sizes: Iterator[int]) -> Iterator[int]:
    return sizes if most is None else (min(size, most()) for size in sizes)


def _read(source: Any, sizes: Iterator[int]) -> Iterator[bytes]:
    while chunk := source.read(next(sizes)):
        yield chunk


def _decompressed(file: BinaryIO, packing: str, name: str, sizes: Iterator[int]) -> Iterator[bytes]:
    done = 0
    try:
        source = _OPENERS[packing](file) if packing else file
        for chunk in _read(source, sizes):
            done += len(chunk)
            yield chunk
    except DeliveryError as error:
        raise DeliveryError(error.what, where=name, mend=error.mend) from None
    except Exception as error:
        if not packing or isinstance(error, MemoryError):
            raise
        raise _damaged(packing, error, done, name) from None


def _damaged(packing: str, error: Exception, done: int, name: str) -> DeliveryError:
    if isinstance(error, EOFError) or "truncated" in str(error).lower() or "ended before" in str(error):
        what = f"the {packing} data ends in the middle, after {counted(done, 'byte')} of content"
        return DeliveryError(what, where=name, mend="the transfer was cut off: have the file sent again")
    what = f"the {packing} data is damaged after {counted(done, 'byte')} of content ({error})"
    return DeliveryError(what, where=name, mend="have the file sent again")


_PACKINGS = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zXZ\x00": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"PK\x03\x04": "zip",
    b"PK\x05\x06": "zip",
}


class _Members:
    """The content of a packed file of one or more members, each of which must be whole, with nothing behind the last.

    The standard library's own readers of these packings drop what is behind the first member if it does not begin like
    another, and with it whatever was damaged there.
    """

    def __init__(self, file: BinaryIO, begin: Callable[[], Any], padding: bytes = b"") -> None:
        self._file, self._begin, self._padding = file, begin, padding
        self._member, self._waiting = begin(), b""

    def read(self, size: int) -> bytes:
        """Up to so many bytes; none at the end.

        Raises:
            EOFError: it ends within a member.
            Exception: what the packing's library raises of data that is damaged.
        """
        while True:
            if self._member.eof and not self._next():
                return b""
            if self._member.needs_input and not self._waiting:
                self._waiting = self._file.read(1 << 20)
                if not self._waiting:
                    raise EOFError
            data, self._waiting = self._waiting, b""
            found: bytes = self._member.decompress(data, max_length=size)
            if found:
                return found

    def _next(self) -> bool:
        """Begin the member that is next; False where the file ends."""
        rest = self._member.unused_data
        while True:
            rest = rest.lstrip(self._padding) if self._padding else rest
            more = b"" if len(rest) >= _MAGIC else self._file.read(1 << 20)
            if not more:
                break
            rest += more
        if rest:
            self._member, self._waiting = self._begin(), rest
        return bool(rest)


_MAGIC = 6  # bytes that say what a member is


def _open_bzip2(file: BinaryIO) -> Any:
    import bz2

    return _Members(file, bz2.BZ2Decompressor)


def _open_gzip(file: BinaryIO) -> Any:
    try:
        igzip = importlib.import_module("isal.igzip")  # three times as fast
    except ImportError:  # not made for every machine
        return gzip.GzipFile(fileobj=file)
    return igzip.IGzipFile(fileobj=file)


def _open_xz(file: BinaryIO) -> Any:
    import lzma

    # xz has its own padding between members: zeros, four at a time, which say nothing
    return _Members(file, lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ), padding=b"\0")


def _open_zstd(file: BinaryIO) -> Any:
    if sys.version_info >= (3, 14):
        from compression import zstd
    else:
        from backports import zstd

    return zstd.ZstdFile(file)


def _open_zip(file: BinaryIO) -> Any:
    import zipfile

    archive = zipfile.ZipFile(file)
    members = [member for member in archive.infolist() if not member.is_dir()]
    if len(members) != 1:
        told = ", ".join(member.filename for member in members[:3]) + (", …" if len(members) > 3 else "")
        what = f"the zip archive holds {len(members)} files{f' ({told})' if told else ''}, where one is expected"
        raise DeliveryError(what, mend="unpack it, and name the files in the charter")
    end = archive.start_dir + sum(_entry_size(each) for each in archive.infolist())
    if min(each.header_offset for each in archive.infolist()) or _behind(file, end, len(archive.comment)):
        mend = "the archive may be two, one behind the other, or cut: have the file sent again"
        raise DeliveryError("there are bytes before or after the zip archive's own that belong to no file", mend=mend)
    if members[0].flag_bits & 1:
        raise DeliveryError("the zip archive is encrypted", mend="unpack it before it is delivered")
    return archive.open(members[0])


def _entry_size(member: Any) -> int:
    """The bytes that an entry takes in a zip archive's directory."""
    return (
        46
        + len(member.orig_filename.encode("utf-8" if member.flag_bits & 0x800 else "cp437"))
        + len(member.extra)
        + len(member.comment)
    )


def _behind(file: BinaryIO, end: int, comment: int) -> int:
    """How many bytes stand behind the end of a zip archive whose directory ends at `end`."""
    size = file.seek(0, 2)
    file.seek(end)
    mark = file.read(4)
    longer = 76 if mark == b"PK\x06\x06" else 0  # with an end record of 64 bits before the usual one
    return size - (end + longer + 22 + comment)


_OPENERS: dict[str, Callable[[BinaryIO], Any]] = {
    "gzip": _open_gzip,
    "bzip2": _open_bzip2,
    "xz": _open_xz,
    "zstd": _open_zstd,
    "zip": _open_zip,
}
