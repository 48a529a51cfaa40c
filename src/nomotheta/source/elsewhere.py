"""Files of deliveries that lie elsewhere, behind a URL: listed there, and fetched block by block before they are read.

A URL's files have their copies, and their names, in the folder `elsewhere/` of the workspace: those of
`s3://line/in/a.csv` are `elsewhere/s3/line/in/a.csv`. All that is asked of a file is then asked of its copy, which has
the size and the time of what it was made of.
"""

from __future__ import annotations

import contextlib
import datetime
import glob
import json
import os
import re
import threading
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from blake3 import blake3

from nomotheta.errors import AwaitedError, DeclarationError, ElsewhereError, counted
from nomotheta.events import told as tell
from nomotheta.frozen import frozen
from nomotheta.secrets import scrubbed
from nomotheta.source.patterns import day_in, filled
from nomotheta.source.whole import check_quiet
from nomotheta.urls import FETCHED, as_url, is_fetched

if TYPE_CHECKING:
    from nomotheta.charter import Delivery

_PART = ".part"  # of a copy that is being made
_PIECE = 4 << 20  # bytes that are fetched at a time
_PLACE = re.compile(r"\{[^{}]*\}")
_SIGNS = re.compile(r"[*?\[]")
_DRIVERS = {"s3": "s3fs", "sftp": "paramiko", "https": "aiohttp", "http": "aiohttp"}
_USUAL: Mapping[str, Mapping[str, Any]] = {  # so that nobody waits for ever
    "s3": {"config_kwargs": {"connect_timeout": 10, "read_timeout": 60, "retries": {"max_attempts": 3}}},
    "sftp": {"timeout": 20, "banner_timeout": 20, "auth_timeout": 20},
}


@frozen
class Remote:
    """A file that lies elsewhere: the name of its copy, its size in bytes and when it was written to, if told there."""

    name: str
    size: int | None
    written: datetime.datetime | None
    tag: str = ""

    @property
    def is_told_apart(self) -> bool:
        """Whether another file in its stead would surely be known from it: by the ETag of an object store.

        A size and a time say too little: senders set times, and correct a digit. Web servers make ETags of both.
        """
        return bool(self.tag) and self.name.startswith(f"{FETCHED}/s3/")

    @property
    def stamp(self) -> list[Any]:
        """What is otherwise once it is another file."""
        return [self.size, self.written.isoformat() if self.written else None, self.tag]


class Elsewhere:
    """What lies elsewhere, for a workspace.

    Args:
        root: the workspace's folder.
        memory: where is kept what each copy was made of.
        stores: by the beginning of a URL, how what is behind it is opened.
    """

    def __init__(self, root: Path, memory: Path, stores: Mapping[str, Mapping[str, Any]]) -> None:
        self.root, self.memory, self.stores = root, memory / FETCHED, stores
        self._open: dict[str, Any] = {}

    # ---- listing

    def listed(self, pattern: str) -> list[Remote]:
        """The files that match a pattern, by the names of their copies.

        Raises:
            ElsewhereError: they cannot be listed.
        """
        url = as_url(pattern)
        with self._translated(url):
            system, path = self._system(url)
            system.invalidate_cache()
            if _SIGNS.search(path):
                found = list(system.glob(path, detail=True).values())
                if url.startswith("http"):  # where a list of links tells nothing of files
                    found = [system.info(each["name"]) for each in found]
            else:
                try:
                    found = [system.info(path)]
                except FileNotFoundError:
                    found = []
            names = [_remote(pattern, each) for each in found if each.get("type") == "file"]
        return sorted(names, key=lambda each: each.name)

    def of_any_day(self, patterns: Iterable[str]) -> Iterator[Remote]:
        """The files that match patterns on whatever day.

        Raises:
            ElsewhereError: they cannot be listed.
        """
        for pattern in filter(is_fetched, patterns):
            yield from (each for each in self.listed(_PLACE.sub("*", pattern)) if day_in(pattern, each.name))

    def beside(self, patterns: Iterable[str]) -> dict[str, int]:
        """All files in the folders that patterns speak of, with their sizes; none where a folder cannot be listed."""
        found: dict[str, int] = {}
        for folder in dict.fromkeys(_PLACE.sub("*", each).rpartition("/")[0] for each in patterns if is_fetched(each)):
            with contextlib.suppress(ElsewhereError):
                found |= {each.name: each.size or 0 for each in self.listed(f"{folder}/*")}
        return found

    # ---- copies

    def bring(self, delivery: Delivery, day: datetime.date, now: float) -> None:
        """Fetch what there is of a delivery for a day, and what comes beside it; copies of what is gone go, too.

        Args:
            delivery: what is declared.
            day: the delivery's.
            now: seconds since 1970.

        Raises:
            AwaitedError: a file is still being written.
            ElsewhereError: it cannot be listed, or fetched.
        """
        names = []
        for pattern in filter(is_fetched, delivery.patterns):
            names += self._brought(filled(pattern, day), delivery, now)
        for pattern in delivery.beside:
            of = names if "{file}" in pattern else [""]
            for beside in dict.fromkeys(filled(pattern, day, name) for name in of):
                if is_fetched(beside):
                    self._brought(beside, None, now)

    def _brought(self, pattern: str, delivery: Delivery | None, now: float) -> list[str]:
        found = {each.name: each for each in self.listed(pattern)}
        folder, _, last = pattern.rpartition("/")
        for path in self.root.glob(pattern) if _SIGNS.search(folder) else (self.root / folder).glob(last):
            name = path.relative_to(self.root).as_posix()
            if name in found or path.name.startswith("."):
                continue
            if not self._record(name).is_file():
                raise ElsewhereError("this file is in the folder of copies, but the store does not have it", where=name,
                                     mend="move it to another folder; to load it from there: --file PATH")  # fmt: skip
            path.unlink()
            self._record(name).unlink()
        for each in found.values():
            if delivery is not None and delivery.steady:
                check_quiet(delivery.steady, now - self._since(each, now), as_url(each.name))
            self._fetch(each)
        return [*found]

    def _fetch(self, remote: Remote) -> None:
        path, url = self.root / remote.name, as_url(remote.name)
        if self._is_copy(path, remote):
            return
        _swept(path)
        part = path.with_name(f".{path.name}.{os.getpid()}.{threading.get_ident()}{_PART}")
        try:
            with self._translated(url):
                path.parent.mkdir(parents=True, exist_ok=True)
                system, there = self._system(url)
                size, content = _copied(system, there, part)
                after = _remote(remote.name, system.info(there))
            if (remote.size is not None and size != remote.size) or after.stamp != remote.stamp:
                raise AwaitedError("the file changed while it was fetched", where=url,
                                   mend="wait until the transfer is done, then load again")  # fmt: skip
            if remote.written is not None:
                os.utime(part, (remote.written.timestamp(),) * 2)
            record = self._record(remote.name)
            record.parent.mkdir(parents=True, exist_ok=True)
            told = {"of": remote.stamp, "copy": _stamp(part), "content": content, "sure": remote.is_told_apart}
            record.write_text(json.dumps(told))  # before the copy is there: none is without its record
            part.replace(path)
        finally:
            part.unlink(missing_ok=True)
        tell(remote.name, f"fetched from {url}: {counted(size, 'byte')}")

    def _is_copy(self, path: Path, remote: Remote) -> bool:
        """Whether the copy is of that very file, and has not been touched since."""
        try:
            kept = json.loads(self._record(remote.name).read_text())
            return bool(kept["sure"] and kept["of"] == remote.stamp and kept["copy"] == _stamp(path))
        except (OSError, ValueError, KeyError, TypeError):
            return False

    def _since(self, remote: Remote, now: float) -> float:
        """Since when a file is as it is, in seconds since 1970: as is told there, else since it was first seen so.

        Raises:
            ElsewhereError: nothing is told there by which it would be known.
        """
        if remote.written is not None:
            return remote.written.timestamp()
        if remote.size is None and not remote.tag:
            raise ElsewhereError(
                "the server gives neither its size nor its time, so whether it is still being written cannot be known",
                where=as_url(remote.name), mend="have the sender write a marker, and declare ready in place of steady",
            )  # fmt: skip
        seen = self._record(remote.name).with_suffix(".seen")
        with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
            kept = json.loads(seen.read_text())
            if kept["of"] == remote.stamp:
                return float(kept["since"])
        seen.parent.mkdir(parents=True, exist_ok=True)
        seen.write_text(json.dumps({"of": remote.stamp, "since": now}))
        return now

    def _record(self, name: str) -> Path:
        return self.memory / f"{name.removeprefix(FETCHED + '/')}.json"

    def remove(self, name: str) -> str:
        """Remove the file of which a copy was put away, if it still is that file.

        Returns:
            Why it could not be removed; empty where it was, or is gone.
        """
        url, record = as_url(name), self._record(name)
        try:
            kept = json.loads(record.read_text())
            with self._translated(url):
                system, path = self._system(url)
                system.invalidate_cache()
                try:
                    now = _remote(name, system.info(path))
                except FileNotFoundError:
                    return ""
                if now.stamp != kept["of"] or (not kept["sure"] and _content(system, path) != kept["content"]):
                    return f"{url} has changed since it was loaded, and was left where it is"
                system.rm_file(path)
        except ElsewhereError as error:
            return f"{url} was put away, but could not be removed: {error.what}"
        except (OSError, ValueError, KeyError, TypeError):
            return f"{url} was put away, but what it was is not known, and it was left where it is"
        record.unlink(missing_ok=True)
        return ""

    # ---- file systems

    def _system(self, url: str) -> tuple[Any, str]:
        """The file system behind a URL, and what the URL's path is called in it."""
        scheme, _, rest = url.partition("://")
        host = rest.partition("/")[0]
        stores = [each for each in self.stores if url.startswith(each)]
        options = dict(_USUAL.get(scheme, {})) | dict(self.stores[max(stores, key=len)] if stores else {})
        key = f"{scheme}://{host}"
        if key not in self._open:
            self._open[key] = _opened(scheme, host, options)
        return self._open[key], _path_in(scheme, rest)

    @contextlib.contextmanager
    def _translated(self, url: str) -> Iterator[None]:
        """What goes wrong elsewhere, as an error of ours."""
        try:
            yield
        except (ElsewhereError, DeclarationError, AwaitedError):
            raise
        except ImportError as error:
            scheme = url.partition("://")[0]
            name = error.name or _DRIVERS.get(scheme, "fsspec")
            raise DeclarationError(f"{scheme}:// needs a package that is not installed: {name}", where=url,
                                   mend="pip install 'nomotheta[elsewhere]'") from None  # fmt: skip
        except Exception as error:  # each file system has errors of its own
            told = " ".join(str(error).split()) or type(error).__name__
            raise ElsewhereError(
                f"it cannot be reached: {scrubbed(told)}", where=url,
                mend="check the URL, the rights there, and [stores] in nomotheta.toml",
            ) from None  # fmt: skip


def _opened(scheme: str, host: str, options: dict[str, Any]) -> Any:
    import fsspec

    common = {"skip_instance_cache": True, "use_listings_cache": False}
    if scheme == "sftp":
        from nomotheta.source.sftp import opened

        return opened(host, options)
    return fsspec.filesystem(scheme, **common, **options)


def _path_in(scheme: str, rest: str) -> str:
    if scheme == "sftp":
        return "/" + rest.partition("/")[2]
    return f"{scheme}://{rest}" if scheme in {"http", "https"} else rest


def _remote(pattern: str, info: Mapping[str, Any]) -> Remote:
    """A file as its file system tells of it, whose copy lies where a pattern says."""
    scheme, host = pattern.split("/")[1:3]
    path = str(info["name"])
    if scheme in {"http", "https"}:
        path = "/" + path.partition("://")[2].partition("/")[2]
    name = f"{FETCHED}/{scheme}/{path if scheme == 's3' else host + path}"
    written = info.get("LastModified") or info.get("mtime") or info.get("Last-Modified") or info.get("last_modified")
    tag = str(info.get("ETag") or info.get("etag") or "")
    return Remote(name, info.get("size"), _moment(written), tag)


def _moment(told: Any) -> datetime.datetime | None:
    if isinstance(told, datetime.datetime):
        return told if told.tzinfo else told.replace(tzinfo=datetime.UTC)
    if isinstance(told, (int, float)):
        return datetime.datetime.fromtimestamp(told, datetime.UTC)
    if isinstance(told, str):
        from email.utils import parsedate_to_datetime

        with contextlib.suppress(ValueError):
            return parsedate_to_datetime(told)
    return None


def _swept(path: Path) -> None:
    """Take away what a program that was killed had fetched of a file."""
    import psutil

    for part in path.parent.glob(f".{glob.escape(path.name)}.*{_PART}"):
        process = part.name.removesuffix(_PART).split(".")[-2]
        if process.isdecimal() and not psutil.pid_exists(int(process)):
            part.unlink(missing_ok=True)


def _pieces(system: Any, path: str) -> Iterator[bytes]:
    with system.open(path, "rb", block_size=_PIECE) as source:
        while piece := source.read(_PIECE):
            yield piece


def _copied(system: Any, path: str, part: Path) -> tuple[int, str]:
    """Copy a file, a few of its bytes at a time; how many they were, and their BLAKE3."""
    size, content = 0, blake3()
    with part.open("wb") as file:
        for piece in _pieces(system, path):
            file.write(piece)
            content.update(piece)
            size += len(piece)
        file.flush()
        os.fsync(file.fileno())
    return size, content.hexdigest()


def _content(system: Any, path: str) -> str:
    content = blake3()
    for piece in _pieces(system, path):
        content.update(piece)
    return content.hexdigest()


def _stamp(path: Path) -> list[int]:
    seen = path.stat()
    return [seen.st_size, seen.st_mtime_ns, seen.st_ino]
