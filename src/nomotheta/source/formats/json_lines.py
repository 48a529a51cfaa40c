"""JSON Lines: an object a line (RFC 8259), its members the columns. Numbers keep every digit they are written with."""

from __future__ import annotations

import json
import re
import threading
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.source.base import LineBatch, Odd
from nomotheta.source.line_blocks import LineBlock, LineFile, set_aside

_SAMPLE = 1000
# what has at most 15 digits comes out of a double as it went in; the rest is read digit by digit
_EXACT = r"^-?([0-9]{1,15}|[0-9]*\.[0-9]*)$"


@dataclass(slots=True)
class JsonLinesFile(LineFile):
    """A file of JSON Lines."""

    _local: threading.local = field(default_factory=threading.local)

    def header_lines(self) -> int:
        """None: every line is an object."""
        return 0

    def read_header(self) -> list[str] | None:
        """The names of the members that the charter wants or that most of the first objects have."""
        seen = Counter[str]()
        objects = 0
        for block in self.blocks():
            for line in block.data.split(b"\n", _SAMPLE)[:_SAMPLE]:
                try:
                    value = json.loads(line)
                except (ValueError, RecursionError):
                    continue
                seen.update(list(value) if isinstance(value, dict) else ())
                objects += isinstance(value, dict)
            break
        wanted = self.charter.file_columns().values() if self.charter else ()
        self.header = [
            name for name, times in seen.items() if name in wanted or not self.charter or 2 * times > objects
        ]
        return self.header

    def read(self, block: LineBlock, width: int, *, fill: bool = False, cut: bool = False) -> LineBatch:
        """The members of a block's objects; one that the header does not have sets the row aside, unless it is cut."""
        batch, texts = self.batch(block)
        names = self.header or []
        sorts, members = self._sorts(texts)
        odd = list(_odd(batch, sorts, members, [] if cut else names))
        texts = set_aside(batch, texts, odd)
        batch.columns = self._columns(texts, names)
        return batch

    def _engine(self) -> Any:
        if not hasattr(self._local, "engine"):
            self._local.engine = duckdb.connect(":memory:", config={"threads": 1, "memory_limit": "512MB"})
        return self._local.engine

    def _query(self, sql: str, texts: Any, parameters: Sequence[Any] = ()) -> Any:
        engine = self._engine()
        engine.register("lines", pa.table({"l": texts}))
        try:
            return engine.sql(sql, params=list(parameters)).to_arrow_table()
        finally:
            engine.unregister("lines")

    def _sorts(self, texts: Any) -> tuple[Any, Any]:
        """What each line holds, null where that is no JSON; and the names of its members."""
        found = self._query(
            "SELECT t, CASE WHEN t = 'OBJECT' THEN json_keys(l) END FROM "
            "(SELECT l, CASE WHEN json_valid(l) THEN json_type(l) END AS t FROM lines)",
            texts,
        )
        return tuple(column.combine_chunks() for column in found.columns)

    def _columns(self, texts: Any, names: Sequence[str]) -> list[Any]:
        if not names:
            return []
        paths = ", ".join("?" for _ in names)
        listed = ", ".join(f"r[{at + 1}], s[{at + 1}]" for at in range(len(names)))
        pointers = ["/" + name.replace("~", "~0").replace("/", "~1") for name in names]
        found = self._query(
            f"SELECT {listed} FROM (SELECT json_extract(l, [{paths}]) AS r, json_extract_string(l, [{paths}]) AS s "
            "FROM lines)",
            texts,
            [*pointers, *pointers],
        )
        columns = [column.combine_chunks().cast(pa.string()) for column in found.columns]
        return [self._cells(columns[2 * at], columns[2 * at + 1], texts, name) for at, name in enumerate(names)]

    def _cells(self, raw: Any, strings: Any, texts: Any, name: str) -> Any:
        """One member of all objects: a text where it is one, else the JSON it is; null for null and for nothing."""
        quoted = pc.fill_null(pc.starts_with(raw, '"'), fill_value=False)
        null = pc.or_(pc.is_null(raw), pc.fill_null(pc.equal(raw, "null"), fill_value=False))
        nothing = pa.scalar(None, pa.string())
        words = pc.if_else(quoted, strings, nothing)
        if self.layout.null_words:
            words = pc.if_else(pc.is_in(words, pa.array(self.layout.null_words, pa.string())), nothing, words)
        values = pc.if_else(pc.or_(quoted, null), nothing, raw)
        number = pc.match_substring_regex(values, r"^-?[0-9]")
        unsure = pc.and_(number, pc.invert(pc.and_(pc.match_substring_regex(values, _EXACT), _short(values))))
        rows = np.flatnonzero(pc.fill_null(unsure, fill_value=False).to_numpy(zero_copy_only=False))
        if len(rows):
            mask = np.zeros(len(values), np.bool_)
            mask[rows] = True
            exact = [_number(text, name) for text in texts.take(pa.array(rows)).to_pylist()]
            values = pc.replace_with_mask(values, pa.array(mask), pa.array(exact, pa.string()))
        return pa.StructArray.from_arrays([words, values], ["text", "value"])


def _short(values: Any) -> Any:
    """Whether a number surely has at most 15 digits."""
    return pc.less_equal(pc.binary_length(values), 16)


def _number(line: str, name: str) -> str:
    """A number with every digit it is written with; one with a small exponent without it."""
    value = json.loads(line, parse_float=str, parse_int=str)[name]
    if not isinstance(value, str):
        return json.dumps(value)
    number = Decimal(value)
    return format(number, "f") if abs(number.adjusted()) < 100 else value


def _odd(batch: LineBatch, sorts: Any, members: Any, known: Sequence[str]) -> Any:
    """The lines that are no objects, and those with a name twice or with one that nothing is known of."""
    wrong = pc.fill_null(pc.not_equal(sorts, "OBJECT"), fill_value=True).to_numpy(zero_copy_only=False)
    found: dict[int, Odd] = {}
    for at in np.flatnonzero(wrong):
        sort = sorts[int(at)].as_py()
        told = f"is JSON, but no object: {sort.lower()}" if sort else f"is no JSON{_where(batch.original(int(at)))}"
        found[int(at)] = Odd(int(at), "no_object", told)
    flat, parents = members.flatten(), pc.list_parent_indices(members)
    if known and len(flat):
        strange = np.flatnonzero(pc.invert(pc.is_in(flat, pa.array(known, pa.string()))).to_numpy(zero_copy_only=False))
        for at in strange:
            record = parents[int(at)].as_py()
            told = f"has a member '{flat[int(at)].as_py()}' that most objects do not have"
            found.setdefault(record, Odd(record, "unknown_member", told))
    sizes = np.diff(members.offsets.to_numpy())
    for at in np.flatnonzero(sizes > (len(known) or 1)):
        names = members[int(at)].as_py() or []
        twice = next((name for place, name in enumerate(names) if name in names[:place]), None)
        if twice is not None:
            found.setdefault(int(at), Odd(int(at), "member_twice", f"has the member '{twice}' twice"))
    return [found[at] for at in sorted(found)]


def _where(text: str) -> str:
    try:
        json.loads(text)
    except (ValueError, RecursionError) as error:
        place = re.sub(r" \(char.*|: line \d+ column \d+", "", str(error))
        return f" ({place}, character {getattr(error, 'pos', 0) + 1})"
    return ""
