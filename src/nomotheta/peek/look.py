"""A file looked at: one pass, whatever its size."""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from itertools import combinations, islice
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError
from nomotheta.events import Listener, Progress, nobody
from nomotheta.frozen import frozen
from nomotheta.kernel import looks
from nomotheta.keys import Hasher, SeenKeys
from nomotheta.kinds.native import as_texts
from nomotheta.peek.column import ColumnLook, blanks_as_null, kind_of, learn_together
from nomotheta.peek.footer import footer_of
from nomotheta.peek.readings import HEAD, Candidate, ReadTogether
from nomotheta.peek.sniff import Sniffed, sniff
from nomotheta.peek.spread import Spread
from nomotheta.source.base import Batch
from nomotheta.source.formats import open_file
from nomotheta.unpack import packing_of, readable

_FIRST_ROWS = 8
_MOST_COLUMNS = 200  # of a file whose rows are compared as a whole
_MOST_PAIRS = 10
_WORKERS = 2


@frozen
class SeenColumn:
    """A column as it was seen. `distinct` is exact or, where it is many, estimated to about 2%.

    `misfits` values are not of the kind, `edges` have white space around them; `layout` is what the kind needs. The
    `longest` and the `shortest` value are in characters.
    """

    name: str
    kind: str
    form: str
    rows: int
    blanks: int
    distinct: int
    distinct_exact: bool
    lowest: str | None
    highest: str | None
    longest: int
    shortest: int
    examples: tuple[str, ...]
    misfits: int
    edges: int
    null_like: tuple[str, ...]
    layout: dict[str, Any]
    spread: Spread | None


@frozen
class Oddity:
    """Something to look at: what, where, how often, an example, and the first line where that is known.

    `reason` is the code with which a load would set such rows aside; empty where it would not.
    """

    what: str
    column: str = ""
    count: int = 0
    example: str = ""
    line: int | None = None
    reason: str = ""


@frozen
class Look:
    """What a file is. `whole` says whether all of it was read; each `…_why` gives the reason of a guess.

    What a format does not have (a delimiter, say) is empty. `footer` is the last line where it is not a row, and
    `footer_pattern` finds the count of rows that it states, if it states one.
    """

    file: str
    file_format: str
    file_format_why: str
    bytes_on_disk: int
    packing: str
    encoding: str
    encoding_why: str
    line_ends: dict[str, int]
    delimiter: str
    delimiter_why: str
    quote: str
    header: bool
    header_why: str
    rows: int
    whole: bool
    columns: tuple[SeenColumn, ...]
    keys: tuple[tuple[str, ...], ...]
    oddities: tuple[Oddity, ...]
    first_rows: tuple[tuple[str | None, ...], ...]
    footer: str = ""
    footer_pattern: str = ""
    format: str = "nomotheta/look/1"


def look(
    path: Path, rows: int | None = None, listener: Listener = nobody, *, spreads: bool = True,
    given: Mapping[str, Any] | None = None, more: Sequence[Path] = (),
) -> Look:  # fmt: skip
    """Look at a file of whatever format.

    Args:
        path: the file, plain or packed.
        rows: stop after about so many; all where it is None.
        listener: told of the progress.
        spreads: whether it is asked how the values of each column are spread.
        given: keys of the layout that are known (`delimiter`, `quote`, `encoding`, `header`, `footer`), not guessed.
        more: further files of the same layout and columns, looked at as if they were one with the first.

    Raises:
        DeliveryError: one cannot be read, is damaged or empty, has other columns than the first, or its bytes are in
            no encoding that was tried.
    """
    name = readable(path)
    known = dict(given or {})
    sniffed = sniff(path, name, known)
    for each in more:
        other = sniff(each, readable(each), known)
        if other.names != sniffed.names or other.layout.delimiter != sniffed.layout.delimiter:
            raise DeliveryError(f"its columns are not those of {name}", where=readable(each),
                                mend="look at the files of each kind by themselves")  # fmt: skip
    files = [path, *more]

    def read(sniffed: Sniffed) -> Look:
        return _Look(files, name, sniffed, listener, spreads=spreads).read(rows)

    sniffed, found = _in_its_encoding(sniffed, read, given="encoding" in known)
    footer = None
    if sniffed.layout.format == "delimited" and found.whole and "footer" not in known:
        footer = footer_of(path, sniffed.layout, len(found.columns), found.rows)
    if footer is None:
        return found
    found = read(replace(sniffed, layout=replace(sniffed.layout, footer=1)))
    odd = Oddity("the last line is not a row, but a total or an end mark", example=footer.line)
    return replace(found, footer=footer.line, footer_pattern=footer.pattern, oddities=(odd, *found.oddities))


def _in_its_encoding(sniffed: Sniffed, read: Callable[[Sniffed], Look], *, given: bool) -> tuple[Sniffed, Look]:
    """A look; where what began as ASCII or UTF-8 turns out not to be, in another encoding."""
    if not sniffed.encoding or given:
        return sniffed, read(sniffed)
    try:
        return sniffed, read(sniffed)
    except DeliveryError as error:
        if "is not utf-8" not in error.what:
            raise
    told = "further down there are bytes that are not UTF-8"
    layout = replace(sniffed.layout, encoding="cp1252")
    other = replace(sniffed, layout=layout, encoding="cp1252", encoding_why=told)
    return other, read(other)


class _Look:
    def __init__(
        self, paths: Sequence[Path], name: str, sniffed: Sniffed, listener: Listener, *, spreads: bool
    ) -> None:
        self.spreads = spreads
        self.paths, self.name, self.sniffed, self.listener = paths, name, sniffed, listener
        self.columns = [ColumnLook(each) for each in sniffed.names]
        self.typed = sniffed.layout.traits.columns_known
        self.engine = Hasher()
        self.pool = ThreadPoolExecutor(_WORKERS)
        self.odd: dict[str, Oddity] = {}
        self.counts: Counter[str] = Counter()
        self.first: list[tuple[str | None, ...]] = []
        self.pairs: dict[tuple[int, int], SeenKeys] | None = None
        self.whole_rows, self.copies = SeenKeys(), 0

    def read(self, rows: int | None) -> Look:
        whole = all(self.read_file(path, rows) for path in self.paths)
        size = sum(path.stat().st_size for path in self.paths)
        return self.result(size, packing_of(self.paths[0]) if self.sniffed.layout.is_text else "", whole=whole)

    def read_file(self, path: Path, rows: int | None) -> bool:
        """Look at one of the files; whether it was read to its end."""
        layout = replace(self.sniffed.layout, null_words=[""])
        source = open_file(path, self.name, layout)
        size, done, label = path.stat().st_size, 0, f"reading {path.name}"
        total = None if layout.is_text and packing_of(path) else size
        source.read_header()
        for block in source.blocks():
            if rows is not None and self.counts["rows"] >= rows:
                return False
            batch = source.read(block, self.sniffed.width)
            self.strange(batch)
            if batch.odd:  # what has too few or too many fields is looked at all the same
                batch = source.read(block, self.sniffed.width, fill=True, cut=True)
            self.take(batch)
            done += block.size
            self.listener(Progress(label, done, total, "bytes"))
        self.listener(Progress(label, done, done, "bytes", ended=True))
        return True

    def strange(self, batch: Batch) -> None:
        for odd in batch.odd:
            line = int(batch.line_numbers(np.array([odd.record]))[0])
            self.note(odd.reason, batch.original(odd.record), line)
        self.counts["empty"] += batch.empty

    def take(self, batch: Batch) -> None:
        if not len(batch.records):
            return
        names = [str(at) for at in range(len(self.columns))]
        before = self.counts["rows"]
        if self.typed and not before:
            pairs = zip(self.columns, batch.columns, strict=True)
            self.columns = [ColumnLook(column.name, kind_of(values.type)) for column, values in pairs]
        plain = [_texts(column) for column in batch.columns[: len(names)]]
        few = len(batch.records) <= HEAD
        texts = _together(plain, blanks_as_null) if few else [blanks_as_null(column) for column in plain]
        for at, column in enumerate(self.columns):
            if pa.types.is_struct(batch.columns[at].type) and batch.columns[at].type.get_field_index("text") >= 0:
                column.stored(*(batch.columns[at].field(name) for name in ("text", "value")))
        if few:
            told = learn_together(self.columns, texts, self.hashed)
            together = ReadTogether(told)
            for at, (column, given) in enumerate(zip(self.columns, told, strict=True)):
                column.tell(*given, together.reader(at), functools.partial(together.possible, at))
        else:
            list(self.pool.map(self.take_column, self.columns, texts))
        table = pa.table(texts, names)
        self.counts["rows"] += table.num_rows
        self.pairs_of(table, before)
        self.copies_of(table, before)
        if len(self.first) < _FIRST_ROWS:
            rows = zip(*(column[:_FIRST_ROWS].to_pylist() for column in plain), strict=True)
            self.first += list(rows)[: _FIRST_ROWS - len(self.first)]

    def take_column(self, column: ColumnLook, texts: Any) -> None:
        """Take in a block of one column."""
        column.tell(*column.take(texts, self.hashed))

    def hashed(self, values: Any) -> Any:
        """A hash of each of some texts."""
        found = looks.hashes(values)
        return self.engine.hashes(pa.table([values], ["0"]), ["0"], 0)[0] if found is None else found

    def note(self, reason: str, example: str, line: int) -> None:
        self.counts[reason] += 1
        self.odd.setdefault(reason, Oddity(reason, example=example[:120], line=line))

    def pairs_of(self, table: Any, before: int) -> None:
        """Pairs of columns that may be a key, where no single column is one."""
        if any(column.unique for column in self.columns):
            self.pairs = {}
        if self.pairs is None:
            likely = [at for at, column in enumerate(self.columns) if not column.blanks and column.distinct()[0] > 1]
            self.pairs = (
                {pair: SeenKeys() for pair in islice(combinations(likely, 2), _MOST_PAIRS)} if not before else {}
            )
        for pair, seen in list(self.pairs.items()):
            hashes, rows = self.engine.hashes(table, [str(at) for at in pair], 0)
            repeated, _ = seen.add(hashes, rows + before)
            if len(repeated) or len(rows) < table.num_rows:
                del self.pairs[pair]

    def copies_of(self, table: Any, before: int) -> None:
        """How many rows are equal to one before them in every column."""
        if table.num_rows and table.num_columns <= _MOST_COLUMNS:
            hashes, rows = self.engine.hashes(table, table.column_names, 0, whole_row=True)
            repeated, _ = self.whole_rows.add(hashes, rows + before)
            self.copies += len(repeated)

    # ---- what it comes to

    def result(self, size: int, packing: str, *, whole: bool) -> Look:
        sniffed, layout = self.sniffed, self.sniffed.layout
        self.signs()
        keys: list[tuple[str, ...]] = [(column.name,) for column in self.columns if column.unique and column.rows]
        names = [column.name for column in self.columns]
        keys += [(names[one], names[other]) for one, other in self.pairs or {}]
        delimited = layout.format == "delimited"
        return Look(
            self.name, layout.format, sniffed.format_why, size, packing, sniffed.encoding, sniffed.encoding_why,
            sniffed.line_ends, layout.delimiter if delimited else "", sniffed.delimiter_why,
            layout.quote if delimited else "", bool(layout.header), sniffed.header_why, self.counts["rows"], whole,
            tuple(_seen(column, spread=self.spreads) for column in self.columns), tuple(keys),
            tuple(self.oddities()), tuple(self.first),
        )  # fmt: skip

    def signs(self) -> None:
        """Numbers that could be read in two ways are read as those of the file that can be read in one."""
        found = [(column, column.best(), column.rival()) for column in self.columns]
        unsure = [column for column, _, rival in found if rival is not None]
        sure = Counter(best.layout.decimal_sign for _, best, rival in found if best and rival is None and _marked(best))
        sign = max(sure, key=lambda each: sure[each], default="." if self.sniffed.layout.delimiter == "," else "")
        for column in unsure if sign else ():
            column.agree(sign)

    def oddities(self) -> list[Oddity]:
        words = {
            "too_few_fields": ("record", "with too few fields"), "too_many_fields": ("record", "with too many fields"),
            "stray_quote": ("stray quote", ""), "repeated_header": ("repeat", "of the header further down"),
            "no_object": ("line", "without a JSON object"), "member_twice": ("object", "with a member twice"),
            "unknown_member": ("object", "with a member most do not have"),
        }  # fmt: skip
        found = [
            Oddity(_some(self.counts[reason], *words[reason]), "", self.counts[reason], odd.example, odd.line, reason)
            for reason, odd in self.odd.items()
        ]
        if len(self.sniffed.line_ends) > 1:
            told = ", ".join(f"{count:,} {end}" for end, count in self.sniffed.line_ends.items())
            found.append(Oddity(f"mixed line ends at the start: {told}"))
        if self.counts["empty"]:
            found.append(Oddity(_some(self.counts["empty"], "empty line"), count=self.counts["empty"]))
        if self.copies:
            found.append(Oddity(_some(self.copies, "row", "equal to another throughout"), count=self.copies))
        twice = [name for name, times in Counter(self.sniffed.names).items() if times > 1]
        found += [Oddity("the header has it more than once", name) for name in twice]
        for column in self.columns:
            found += _column_oddities(column, self.copies)
        return found


def _together(columns: Sequence[Any], change: Callable[[Any], Any]) -> list[Any]:
    """Columns of n texts each, all changed at once."""
    whole = change(pa.concat_arrays([*columns, pa.array([], pa.string())]))
    count = len(whole) // max(len(columns), 1)
    return [whole.slice(at * count, count) for at in range(len(columns))]


def _texts(column: Any) -> Any:
    return column if pa.types.is_string(column.type) else as_texts(column)


def _seen(column: ColumnLook, *, spread: bool) -> SeenColumn:
    best = column.best()
    kind = column.kind()
    distinct, exact = column.distinct()
    low, high = column.bounds()
    form = best.form if best is not None and kind.name == best.kind.name else ""
    return SeenColumn(
        column.name, str(kind), form, column.rows, column.blanks, distinct, exact, low, high, column.longest,
        column.shortest or 0, tuple(column.examples), best.misfits if best else 0, column.edges,
        tuple(column.null_like),
        _needs(best) if best and kind.name != "text" and column.native is None else {},
        column.spread() if spread else None,
    )  # fmt: skip


_NEEDS = {
    "decimal": ("decimal_sign", "thousands_sign"),
    "real": ("decimal_sign",),
    "boolean": ("true_words", "false_words"),
    "date": ("date_forms",),
    "time": ("time_forms",),
    "timestamp": ("timestamp_forms",),
    "timestamptz": ("timestamp_forms",),
}


def _needs(best: Candidate) -> dict[str, Any]:
    needed = {key: getattr(best.layout, key) for key in _NEEDS.get(best.kind.name, ())}
    if best.kind.name == "integer" and best.layout.thousands_sign:
        needed = {key: getattr(best.layout, key) for key in _NEEDS["decimal"]}
    if best.layout.two_digit_years_from is not None:
        needed["two_digit_years_from"] = best.layout.two_digit_years_from
    return needed


def _marked(best: Candidate) -> bool:
    """Whether its values show which sign is the decimal sign."""
    return best.kind.name == "decimal" or bool(best.kind.name == "integer" and best.layout.thousands_sign)


def _column_oddities(column: ColumnLook, copies: int) -> Iterator[Oddity]:
    """What is odd about a column of a file in which so many rows are copies of others."""
    name, best = column.name, column.best()
    if column.rows and column.blanks == column.rows:
        yield Oddity("it is blank throughout", name)
    others = column.repeats - copies
    if column.tracked and others > 0 and column.values > 20:
        noun = "row" if others == 1 else "rows"
        yield Oddity(
            f"{noun} that repeat{'s' if others == 1 else ''} a value, where nearly all values are unique", name, others
        )
    if best is None:
        yield from _mixed_forms(column)
    else:
        yield from _kind_oddities(column, best)
    if column.edges:
        yield Oddity("white space at the ends of values", name, column.edges)
    for value, times in column.null_like.items():
        if best is not None or times < column.values:
            yield Oddity(_some(times, "value", "that may mean null"), name, times, value)


def _kind_oddities(column: ColumnLook, best: Candidate) -> Iterator[Oddity]:
    """What is odd about a column of numbers, moments or words."""
    name, candidates = column.name, column.candidates or []
    if best.misfits:
        kind = f"a {_word(best.kind)}" if best.misfits == 1 else f"{_word(best.kind)}s"
        yield Oddity(_some(best.misfits, "value", f"other than {kind}"), name, best.misfits, best.example or "")
    if best.kind.name == "integer" and column.zeros:
        yield Oddity("leading zeros, which a number would lose", name, column.zeros, column.low or "")
    if column.as_text and column.as_value and best.kind.is_number:
        yield Oddity(_some(column.as_text, "number", "stored as text"), name, column.as_text)
    plain = [each for each in candidates if each.kind.name in {"decimal", "integer"} and each.misfits]
    rival = column.rival()
    if rival is not None:
        forms = " or ".join(each.form or "decimal point" for each in (best, rival))
        example = best.grouped_example or rival.grouped_example
        yield Oddity(f"numbers that could be read in two ways: {forms}", name, example=example)
    elif best.layout.thousands_sign and (plain or best.kind.name == "integer") and best.grouped:
        yield Oddity(_some(best.grouped, "number", "with a thousands sign"), name, best.grouped, best.grouped_example)
    moments = {"date", "timestamp"}
    rivals = [each for each in candidates if each is not best and each.kind.name == best.kind.name and not each.misfits]
    if best.kind.name in moments and rivals:
        yield Oddity(f"{best.kind.name}s that could be {best.form} as well as {rivals[0].form}", name)


def _mixed_forms(column: ColumnLook) -> Iterator[Oddity]:
    """Two forms of one kind in a column, neither of which all values have."""
    forms = [each for each in column.mixed if each.kind.name in {"date", "timestamp", "decimal"}]
    if len(forms) > 1:
        told = " and ".join(each.form or "decimal point" for each in forms[:2])
        yield Oddity(f"mixed forms of {_word(forms[0].kind)}s: {told}", column.name, example=forms[0].example or "")


_SAID = {"integer": "whole number", "decimal": "decimal number", "real": "number", "timestamptz": "timestamp"}


def _word(kind: Kind) -> str:
    """What a value of a kind is called."""
    return _SAID.get(kind.name, kind.name)


def _some(count: int, noun: str, more: str = "") -> str:
    """What there is, in the number of its count, which is told beside it."""
    return f"{noun if count == 1 else noun + 's'} {more}".rstrip()
