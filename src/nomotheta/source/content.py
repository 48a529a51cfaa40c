"""The bytes of a file: decompressed by what they are, not by the file's name, and brought to UTF-8."""

from __future__ import annotations

import codecs
import contextlib
import gzip
import hashlib
import importlib
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import pyarrow as pa

from nomotheta.errors import DeliveryError

CHUNK = 8 << 20
_SURVEYED = 1 << 20
_UNPACKED = 6 << 20  # what unpacks needs memory of its own
_UTF8_BOM = codecs.BOM_UTF8


@dataclass(frozen=True, slots=True)
class Survey:
    """A file seen whole once: its size on disk, the size and SHA-256 of its decompressed content (FIPS 180-4)."""

    bytes_on_disk: int
    bytes_of_content: int
    content: str


def survey(path: Path, name: str, *, packed: bool = True) -> Survey:
    """Read the whole file once and say what its content is; not `packed` if the format packs its content itself.

    Raises:
        DeliveryError: it cannot be read, its compression is damaged, or it is empty.
    """
    seen, size = hashlib.sha256(), 0
    with ThreadPoolExecutor(1) as beside:  # a chunk is hashed while the next is read, or unpacked
        hashing = beside.submit(seen.update, b"")
        for chunk in raw_chunks(path, name, packed=packed, size=_SURVEYED):
            hashing.result()
            hashing = beside.submit(seen.update, chunk)
            size += len(chunk)
        hashing.result()
    if not size:
        raise DeliveryError("the file is empty: 0 bytes", where=name, mend="ask the sender to send it again")
    return Survey(path.stat().st_size, size, seen.hexdigest())


def packing_of(path: Path) -> str:
    """How a file is packed, by its first bytes: gzip, bzip2, xz, zstd, zip, or empty for not at all."""
    with path.open("rb") as file:
        head = file.read(6)
    return next((packing for magic, packing in _PACKINGS.items() if head.startswith(magic)), "")


_FORMATS = {b"PAR1": "parquet", b"ARROW1": "arrow", b"\xd0\xcf\x11\xe0\xa1\xb1": "sheet", b"\xff\xff\xff\xff": "arrow"}


def format_of(path: Path) -> str | None:
    """The format of a file that is no text, by its first bytes: parquet, arrow or sheet; None for any other."""
    with path.open("rb") as file:
        head = file.read(6)
    if head.startswith(b"PK\x03\x04"):
        import zipfile

        with contextlib.suppress(zipfile.BadZipFile), zipfile.ZipFile(path) as archive:
            names = set(archive.namelist())
            if names & {"xl/workbook.xml", "xl/workbook.bin"} or {"mimetype", "content.xml"} <= names:
                return "sheet"
    return next((name for magic, name in _FORMATS.items() if head.startswith(magic)), None)


def raw_chunks(path: Path, name: str, *, packed: bool = True, size: int | None = None) -> Iterator[bytes]:
    """The decompressed bytes of a file, a chunk of at most `size` at a time.

    Raises:
        DeliveryError: it cannot be read, or its compression is damaged or cut off.
    """
    try:
        with path.open("rb") as file:
            if packed:
                yield from _decompressed(file, name, size or CHUNK)
            else:
                while chunk := file.read(size or CHUNK):
                    yield chunk
    except FileNotFoundError:
        raise DeliveryError("the file is not there", where=name) from None
    except IsADirectoryError:
        raise DeliveryError("this is a folder, not a file", where=name) from None
    except PermissionError:
        raise DeliveryError("the file may not be read", where=name, mend="check the rights of the file") from None


def _decompressed(file: BinaryIO, name: str, size: int) -> Iterator[bytes]:
    head = file.read(6)
    file.seek(0)
    packing = next((packing for magic, packing in _PACKINGS.items() if head.startswith(magic)), None)
    done = 0
    try:
        source = _OPENERS[packing](file) if packing else file
        while chunk := source.read(min(size, _UNPACKED) if packing else size):
            done += len(chunk)
            yield chunk
    except DeliveryError as error:
        raise DeliveryError(error.what, where=name, mend=error.mend) from None
    except Exception as error:
        if packing is None or isinstance(error, MemoryError):
            raise
        raise _damaged(packing, error, done, name) from None


def _damaged(packing: str, error: Exception, done: int, name: str) -> DeliveryError:
    if isinstance(error, EOFError) or "truncated" in str(error).lower() or "ended before" in str(error):
        what = f"the {packing} data ends in the middle, after {done:,} bytes of content"
        return DeliveryError(what, where=name, mend="the transfer was cut off: have the file sent again")
    what = f"the {packing} data is damaged after {done:,} bytes of content ({error})"
    return DeliveryError(what, where=name, mend="have the file sent again")


_PACKINGS = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zXZ\x00": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"PK\x03\x04": "zip",
    b"PK\x05\x06": "zip",
}


def _open_bzip2(file: BinaryIO) -> Any:
    import bz2

    return bz2.BZ2File(file)


def _open_gzip(file: BinaryIO) -> Any:
    try:
        igzip = importlib.import_module("isal.igzip")  # three times as fast
    except ImportError:  # not made for every machine
        return gzip.GzipFile(fileobj=file)
    return igzip.IGzipFile(fileobj=file)


def _open_xz(file: BinaryIO) -> Any:
    import lzma

    return lzma.LZMAFile(file)


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
    if members[0].flag_bits & 1:
        raise DeliveryError("the zip archive is encrypted", mend="unpack it before it is delivered")
    return archive.open(members[0])


_OPENERS: dict[str, Callable[[BinaryIO], Any]] = {
    "gzip": _open_gzip,
    "bzip2": _open_bzip2,
    "xz": _open_xz,
    "zstd": _open_zstd,
    "zip": _open_zip,
}


def text_chunks(path: Path, name: str, encoding: str, size: int | None = None) -> Iterator[bytes]:
    """The content of a file as UTF-8, without a byte order mark; no chunk ends between a CR and its LF.

    Raises:
        DeliveryError: as `raw_chunks`, or the bytes are not in the declared encoding; with line and byte.
    """
    is_utf8 = codecs.lookup(encoding).name in {"utf-8", "utf-8-sig", "ascii"}
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    done, held, started = 0, b"", False
    for raw in raw_chunks(path, name, size=size):
        data = raw
        if not (is_utf8 and (raw.isascii() or _is_utf8(raw)) and not decoder.getstate()[0]):
            try:
                text = decoder.decode(raw)
            except UnicodeError as error:
                raise _not_encoded(error, path, name, encoding, done) from None
            data = raw if is_utf8 else text.encode("utf-8", "surrogatepass")
        if not started and data:
            data, started = data.removeprefix(_UTF8_BOM), True
        done += len(raw)
        data = held + data
        held = b"\r" if data.endswith(b"\r") else b""
        if len(data) > len(held):
            yield data[: len(data) - len(held)]
    try:
        decoder.decode(b"", final=True)
    except UnicodeError as error:
        raise _not_encoded(error, path, name, encoding, done) from None
    if held:
        yield held


def _is_utf8(data: bytes) -> bool:
    """Whether data is UTF-8 and ends with a whole character, by Arrow's check, which is ten times Python's speed."""
    edges = pa.array([0, len(data)], pa.int32()).buffers()[1]
    try:
        pa.Array.from_buffers(pa.string(), 1, [None, edges, pa.py_buffer(data)]).validate(full=True)
    except pa.ArrowInvalid:
        return False
    return True


def _not_encoded(error: UnicodeError, path: Path, name: str, encoding: str, done: int) -> DeliveryError:
    if not isinstance(error, UnicodeDecodeError):  # a UTF-16 text that does not say its byte order
        mend = 'write encoding = "utf-16-le" or "utf-16-be" in the layout'
        return DeliveryError(f"the file does not start as {encoding} must: {error}", where=name, mend=mend)
    line = _line_of(path, name, encoding, done + error.start)
    byte = error.object[error.start : error.start + 1].hex().upper()
    others = [other for other in ("utf-8", "cp1252", "latin-1") if _decodes(error.object, other) and other != encoding]
    mend = f'it could be {others[0]}: write encoding = "{others[0]}" in the layout' if others else ""
    return DeliveryError(
        f"the byte {byte} is not {encoding}, which the layout declares", where=f"{name}:{line}", mend=mend
    )


def _line_of(path: Path, name: str, encoding: str, position: int) -> int:
    """The line, from 1, in which a byte of the content stands."""
    decoder = codecs.getincrementaldecoder(encoding)("replace")
    line = 1
    for raw in raw_chunks(path, name):
        try:
            line += decoder.decode(raw[: max(position, 0)]).count("\n")
        except UnicodeError:  # not even a byte order mark before the place
            break
        position -= len(raw)
        if position <= 0:
            break
    return line


def _decodes(data: bytes, encoding: str) -> bool:
    try:
        codecs.getincrementaldecoder(encoding)().decode(data)
    except UnicodeDecodeError:
        return False
    return True
