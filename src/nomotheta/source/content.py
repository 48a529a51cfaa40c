"""The content of a file, brought to UTF-8."""

from __future__ import annotations

import codecs
import contextlib
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa

from nomotheta.errors import DeliveryError
from nomotheta.formats import FORMATS
from nomotheta.unpack import Most, bytes_of, raw_chunks

_UTF8_BOM = codecs.BOM_UTF8


_SHEETS = (
    {"xl/workbook.xml"},
    {"xl/workbook.bin"},
    {"mimetype", "content.xml"},
)  # members of workbooks that are packed


def format_of(path: Path) -> str | None:
    """The format of a file that is not text, by its first bytes; None for any other."""
    with path.open("rb") as file:
        head = file.read(6)
    if head.startswith(b"PK\x03\x04"):
        import zipfile

        with contextlib.suppress(zipfile.BadZipFile), zipfile.ZipFile(path) as archive:
            names = set(archive.namelist())
            if any(members <= names for members in _SHEETS):
                return "sheet"
    return next((each.name for each in FORMATS.values() if each.magic and head.startswith(each.magic)), None)


def text_chunks(
    path: Path, name: str, encoding: str, most: Most | None = None, stretch: tuple[int, int] | None = None
) -> Iterator[bytes]:  # fmt: skip
    """The content of a file as UTF-8, without a byte order mark; no chunk ends between a CR and its LF.

    Of a `stretch`, only the bytes from one to another: of a file of UTF-8 that is not packed and has no such mark.

    Raises:
        DeliveryError: as `raw_chunks`, or the bytes are not in the declared encoding; with line and byte.
    """
    is_utf8 = codecs.lookup(encoding).name in {"utf-8", "utf-8-sig", "ascii"}
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    done, held, started = stretch[0] if stretch else 0, b"", stretch is not None
    for raw in bytes_of(path, name, *stretch) if stretch else raw_chunks(path, name, most=most):
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
