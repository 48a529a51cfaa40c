"""What the sender states about a delivery: checksums of its files, row counts and totals."""

from __future__ import annotations

import datetime
import hashlib
import re
import urllib.parse
from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

import pyarrow as pa

from nomotheta.conditions import decimal
from nomotheta.errors import AwaitedError, DeliveryError
from nomotheta.errors import counted as _counted
from nomotheta.frozen import frozen
from nomotheta.kinds.read import read_column
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.patterns import filled
from nomotheta.unpack import raw_chunks

if TYPE_CHECKING:
    from nomotheta.charter import Compiled, Stated

_ALGORITHMS = {32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}
_LARGEST = 16 << 20  # bytes of a file that states something


def check_sums(root: Path, pattern: str, files: Sequence[ArrivedFile], day: datetime.date) -> None:
    """Check files against the checksums that came with them, before anything is loaded.

    Two forms are read: lines as `sha256sum` writes them (also with --tag), and BagIt manifests (RFC 8493), whose list
    must be complete. The algorithm is told by the length: MD5, SHA-1, SHA-256, SHA-384 or SHA-512.

    Raises:
        DeliveryError: the checksum file is not there, does not list a file, or states another checksum.
    """
    listed: dict[Path, dict[str, str]] = {}
    for file in files:
        path = root / filled(pattern, day, file.name)
        if path not in listed:
            listed[path] = _sums(path, _name(root, path))
        sums, where = listed[path], _name(root, path)
        stated = _stated_for(file.path, path, sums)
        if stated is None:
            mend = "ask the sender for its checksum"
            raise DeliveryError(f"{where} states no checksum of this file", where=file.name, mend=mend)
        algorithm = _ALGORITHMS[len(stated)]
        found = _digest(file, algorithm)
        if found != stated.lower():
            what = f"its {algorithm} checksum is {found[:16]}…, but {where} states {stated.lower()[:16]}…"
            raise DeliveryError(what, where=file.name, mend="the file was damaged or changed: have it sent again")
    for path, sums in listed.items():
        if path.name.startswith("manifest-"):
            gone = [name for name in sums if not (path.parent / name).is_file()]
            if gone:
                told = f"it lists '{gone[0]}', which has not arrived" + f" ({len(gone):,} in all)" * (len(gone) > 1)
                raise AwaitedError(told, where=_name(root, path), mend="wait for the rest, or ask the sender")


def _digest(file: ArrivedFile, algorithm: str) -> str:
    digest = hashlib.new(algorithm, usedforsecurity=False)
    for chunk in raw_chunks(file.path, file.name, packed=False):
        digest.update(chunk)
    return digest.hexdigest()


def _name(root: Path, path: Path) -> str:
    return str(path.relative_to(root)) if path.is_relative_to(root) else str(path)


def _text_of(path: Path, name: str) -> str:
    """A small text file as a whole."""
    try:
        with path.open("rb") as file:
            return file.read(_LARGEST).decode("utf-8-sig", "replace")
    except FileNotFoundError:
        raise AwaitedError("the file is not there, and the charter says that it comes with the delivery", where=name,
                           mend="wait for it, or ask the sender") from None  # fmt: skip
    except OSError as error:
        raise DeliveryError(f"it cannot be read: {error.strerror}", where=name) from None


def _sums(path: Path, name: str) -> dict[str, str]:
    """File name → checksum in hexadecimal digits; a checksum without a name stands under the empty one."""
    found: dict[str, str] = {}
    text = _text_of(path, name)
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        tagged = re.fullmatch(r"[A-Z0-9-]+ \((.+)\) = ([0-9a-fA-F]+)", line.strip())
        plain = re.fullmatch(r"(\\?)([0-9a-fA-F]+)(?:[ \t]+\*?(.+))?", line.rstrip())
        if tagged:
            file, digits = tagged.groups()
        elif plain:
            digits, file = plain[2], plain[3] or ""
            if plain[1]:  # a name with a backslash or a line end in it is written escaped
                file = file.replace("\\n", "\n").replace("\\r", "\r").replace("\\\\", "\\")
        else:
            file, digits = "", ""
        if len(digits) not in _ALGORITHMS:
            mend = "lines must look as sha256sum writes them: CHECKSUM  FILE"
            raise DeliveryError("this line states no checksum", where=f"{name}:{number}", mend=mend)
        if path.name.startswith("manifest-"):
            file = urllib.parse.unquote(file)
        found[file] = digits
    return found


def _stated_for(file: Path, sums_file: Path, sums: Mapping[str, str]) -> str | None:
    """The checksum of a file: by its path from the checksum file on, by its name, or the only one without a name."""
    for name, digits in sums.items():
        if name and (sums_file.parent / name).resolve() == file.resolve():
            return digits
    by_name = [digits for name, digits in sums.items() if Path(name).name == file.name]
    return by_name[0] if len(by_name) == 1 else sums.get("") if len(sums) == 1 else None


@frozen
class Statement:
    """What is stated, and where: a count of rows, totals by column."""

    where: str
    rows: int | None
    totals: Mapping[str, Decimal]

    def told(self) -> StatementTold:
        """As it is kept."""
        return StatementTold(self.where, self.rows, {name: f"{total:f}" for name, total in self.totals.items()})


@frozen
class StatementTold:
    """What a sender stated, and where: a count of rows, totals by column as digits. A load holds it, or is refused."""

    where: str
    rows: int | None
    totals: Mapping[str, str]


@frozen
class Counted:
    """What a file, or a delivery, was found to hold: totals by column, and how many of its values were unreadable.

    `first` is the first of these, by column: its line, and what is there, in words.
    """

    rows: int
    totals: Mapping[str, Decimal]
    unreadable: Mapping[str, int]
    first: Mapping[str, tuple[int, str]] = field(default_factory=dict)


def sidecars(
    root: Path, stated: Stated, files: Sequence[ArrivedFile], day: datetime.date, *, of: int
) -> dict[str, str]:  # fmt: skip
    """The texts of the files that state counts, by the file they speak of; under "" for the delivery as a whole.

    Args:
        root: the folder that the pattern starts from.
        stated: where it is stated.
        files: those of which it is.
        day: the delivery's.
        of: how many files the delivery has.

    Raises:
        DeliveryError: one is not there.
    """
    if stated.in_ in {"header", "footer"}:
        return {}
    each = "{file}" in stated.in_ or of == 1
    found = {}
    for file in files if each else files[:1]:
        path = root / filled(stated.in_, day, file.name)
        found[file.name if each else ""] = _text_of(path, _name(root, path))
    return found


def statement(text: str, where: str, compiled: Compiled) -> Statement:
    """What a text states, by the charter's pattern.

    Raises:
        DeliveryError: the pattern finds nothing in it, or a number cannot be read.
    """
    stated = compiled.charter.delivery.stated if compiled.charter.delivery else None
    assert stated is not None  # noqa: S101 - asked only where the charter has it
    match = re.search(stated.pattern, text, re.M)
    if match is None:
        shown = text.strip().replace("\n", " ⏎ ")[:80]
        told = f"it does not state what the charter expects: '{stated.pattern}' is not found in '{shown}'"
        raise DeliveryError(told, where=where, mend="correct the pattern under [delivery.stated], or ask the sender")
    numbers = {name: _number(name, value, where, compiled) for name, value in match.groupdict().items() if value}
    rows = numbers.pop("rows", None)
    return Statement(where, None if rows is None else int(rows), numbers)


def _number(name: str, value: str, where: str, compiled: Compiled) -> Decimal:
    layout = replace(compiled.layout, null_words=[])
    scale = 0 if name == "rows" else compiled.charter.kinds()[name].scale
    read = read_column(pa.array([value.strip()], pa.string()), decimal(38, scale), layout).values[0].as_py()
    if read is None:
        raise DeliveryError(f"it states '{value}' for {name}, which is not a number", where=where)
    return Decimal(read)


def check_stated(said: Statement, counted: Counted) -> None:
    """Compare what was counted with what is stated.

    Raises:
        DeliveryError: they differ.
    """
    wrong = []
    if said.rows is not None and said.rows != counted.rows:
        wrong.append(f"{_counted(said.rows, 'row')}, and {counted.rows:,} came")
    for name, total in said.totals.items():
        if total == counted.totals.get(name, Decimal(0)):
            continue
        unread = counted.unreadable.get(name, 0)
        hint = ""
        if unread:
            line, what = counted.first.get(name, (0, ""))
            at = f", the first in line {line:,}: {what}" if line else ""
            hint = f" (and {_counted(unread, 'row')} without a readable {name}{at})"
        wrong.append(f"a total of {name} of {total:,}, and {counted.totals.get(name, Decimal(0)):,} came{hint}")
    if wrong:
        raise DeliveryError("the sender states " + "; ".join(wrong), where=said.where,
                            mend="the delivery is not whole: have it sent again")  # fmt: skip
