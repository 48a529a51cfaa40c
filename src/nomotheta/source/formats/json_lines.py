"""JSON Lines: an object a line (RFC 8259), its members the columns. Numbers keep every digit they are written with."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.errors import DeliveryError
from nomotheta.kernel import objects
from nomotheta.kinds.native import without_exponents
from nomotheta.source.base import LineBatch, Odd
from nomotheta.source.json_objects import FaultError, members_of
from nomotheta.source.line_blocks import LineBlock, LineFile, set_aside

_SAMPLE = 1000


@dataclass(slots=True)
class ObjectBatch(LineBatch):
    """A batch of objects. Texts are in quotes: a null word among them is one only where the kind is not text."""

    def with_quotes(self) -> bool:
        """Always."""
        return True


@dataclass(slots=True)
class JsonLinesFile(LineFile):
    """A file of JSON Lines. `_seen` are the members that any object had so far, of those that `_sound` lines held."""

    _seen: set[str] = field(default_factory=set)
    _sound: int = 0
    _wanted: list[str] = field(default_factory=list)

    def header_lines(self) -> int:
        """None: every line is an object."""
        return 0

    def read_header(self) -> list[str] | None:
        """The members that the charter wants, and those that most of the first objects have.

        Raises:
            DeliveryError: the file cannot be read, or holds one JSON array.
        """
        seen = Counter[str]()
        objects_read = lines = 0
        for block in self.blocks():
            for line in block.data.split(b"\n", _SAMPLE)[:_SAMPLE]:
                if not lines and line.lstrip().startswith(b"["):
                    raise self._array(line)
                lines += bool(line.strip())
                try:
                    seen.update(list(members_of(line.decode("utf-8", "replace"))))
                except FaultError:
                    continue
                objects_read += 1
            break
        wanted = self._wanted = self._names(seen) if self.charter else []
        often = [name for name, times in seen.items() if name not in wanted and 2 * times > objects_read]
        known = [name for name in seen if name in wanted] if not self.charter else wanted
        self.header = [*known, *often] if objects_read or not lines else []
        self.lines = type(self.lines)()
        return self.header

    def _names(self, seen: Counter[str]) -> list[str]:
        """The members that the charter's columns come from: of several names, the one that most of the objects have."""
        charter = self.charter
        assert charter is not None  # noqa: S101
        return [max(charter.names_of(column), key=lambda name: seen[name]) for column in charter.file_columns()]

    def _array(self, line: bytes) -> DeliveryError:
        """What to say of a file that begins with a bracket."""
        told = "the file begins with an array, and JSON Lines has an object on each line"
        mend = "ask for it as JSON Lines: each object of the array on a line of its own, without commas between them"
        return DeliveryError(told, where=f"{self.name}:1", mend=mend)

    def read(self, block: LineBlock, width: int, *, fill: bool = False, cut: bool = False) -> LineBatch:
        """The members of a block's objects; one that the header does not have is a reject, or cut and counted."""
        plain, texts = self.batch(block)
        batch = ObjectBatch(**{name: getattr(plain, name) for name in LineBatch.__dataclass_fields__})
        names = self.header or []
        strict = self.charter is None or self.charter.load.extra_columns != "ignore"
        read = _read(texts, names, strict=strict)
        if cut and strict and read.verdicts.any():
            whole, read = read, _read(texts, names, strict=False)
            batch.alter("cut", np.flatnonzero((whole.verdicts != objects.SOUND) & (read.verdicts == objects.SOUND)))
        odd = [_odd(at, batch.original(at), names) for at in np.flatnonzero(read.verdicts).tolist()]
        texts = set_aside(batch, texts, odd)
        self._sound += len(odd) < len(read.verdicts)
        self._seen.update(name for name, sorts in zip(names, read.sorts, strict=True) if sorts.any())
        keep = pa.array(read.verdicts == objects.SOUND)
        for words, values in zip(read.texts, read.values, strict=True):
            cells = [words.filter(keep), values.filter(keep)] if odd else [words, values]
            batch.columns.append(pa.StructArray.from_arrays([cells[0], without_exponents(cells[1])], ["text", "value"]))  # type: ignore[attr-defined]
        return batch

    def check_whole(self) -> None:
        """Whether every member that is wanted was in some object.

        Raises:
            DeliveryError: one was in none, and may not be missing.
        """
        if self.charter is None or self.charter.load.missing_columns == "null" or not self._sound:
            return
        lacking = [name for name in self._wanted if name not in self._seen]
        if lacking:
            told = "no object has the member " + ", ".join(f"'{name}'" for name in lacking)
            mend = 'ask the sender what changed, or write missing_columns = "null" under [load]'
            raise DeliveryError(told, where=self.name, mend=mend)


def _read(texts: Any, names: Sequence[str], *, strict: bool) -> objects.Objects:
    """The members of the objects in a column of lines, by the kernel where there is one."""
    return objects.read_objects(texts, names, strict=strict) or _slowly(texts, names, strict=strict)


def _slowly(texts: Any, names: Sequence[str], *, strict: bool) -> objects.Objects:
    """The same without the kernel."""
    count = len(texts)
    verdicts = np.zeros(count, np.uint8)
    sorts = [np.zeros(count, np.uint8) for _ in names]
    cells: list[list[tuple[str | None, str | None]]] = [[(None, None)] * count for _ in names]
    places = {name: at for at, name in enumerate(names)}
    for row, text in enumerate(texts.to_pylist()):
        try:
            found = members_of(text, places)
            if strict and len(members_of(text)) > len(found):
                raise FaultError("unknown_member", "")
        except FaultError:
            verdicts[row] = objects.NO_OBJECT
            continue
        for name, cell in found.items():
            cells[places[name]][row] = cell
            word, value = cell
            sorts[places[name]][row] = (
                objects.TEXT if word is not None else objects.VALUE if value is not None else objects.NOTHING
            )
    words, values = ([pa.array([cell[side] for cell in column], pa.string()) for column in cells] for side in (0, 1))
    return objects.Objects(words, values, sorts, verdicts)


def _odd(record: int, line: str, names: Sequence[str]) -> Odd:
    """What is wrong with a line."""
    try:
        members_of(line, names)
        strange = next(name for name in members_of(line) if name not in names)
    except FaultError as fault:
        return Odd(record, fault.reason, fault.message)
    return Odd(record, "unknown_member", f"has a member '{strange}' that most objects do not have")
