"""What a column holds, block by block: the kinds its values fit, how many are blank, distinct, lowest and highest."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind, decimal
from nomotheta.keys import SeenKeys
from nomotheta.kinds import CANONICAL, Misfit, Typed, read_column, show
from nomotheta.layout import Layout
from nomotheta.peek.spread import Frequent, Ranges, Spread, Weights, as_numbers, label_of, most_frequent, weighed

_SKETCH = 2048
HEAD = 100  # values by which kinds are told first
_EXAMPLES, _FIRST = 4, 200  # values that are shown, and among which they are looked for
_FEW = 7  # different numbers that are shown one by one
_NEARLY = 0.01  # of the values may repeat in a column that is nearly a key
_SPOILT = 0.05  # a kind that more of the first block's values do not fit is no candidate
NULL_LIKE = ("null", "none", "nil", "na", "n/a", "#n/a", "nan", "-", "--", "?", "missing", "unknown", "\\n")
_NULLS = pa.array(NULL_LIKE)
_LONGEST_NULL = 4 * max(map(len, NULL_LIKE))  # bytes; capitals of other letters may take more than these
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y%m%d", "%Y/%m/%d", "%d-%m-%Y", "%d.%m.%y")
_STAMPS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M",
           "%d/%m/%Y %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S.%f")  # fmt: skip
_TIMES = ("%H:%M:%S", "%H:%M", "%H:%M:%S.%f")
_WORDS = (("true", "false"), ("yes", "no"), ("y", "n"), ("t", "f"), ("TRUE", "FALSE"), ("True", "False"), ("Y", "N"))


@dataclass(frozen=True, slots=True)
class Reading:
    """A kind in one written form. Whatever reads as it reads as `wider` ones, too, and is the same number there."""

    kind: Kind
    layout: Layout
    form: str = ""
    wider: tuple[str, ...] = ()
    name: str = ""


def read_as(reading: Reading, values: Any) -> Typed:
    """Values as a reading has them."""
    return read_column(values, reading.kind, reading.layout)


Reader = Callable[[Reading, Any], Typed]


class ReadTogether:
    """The values of many columns, few of each, read as one column for every reading that any of them asks for."""

    def __init__(self, given: Sequence[tuple[Any, Weights]]) -> None:
        sizes = [len(values) for values, _ in given]
        self._edges, self._owner = [0, *np.cumsum(sizes).tolist()], np.repeat(np.arange(len(given)), sizes)
        self._all = pa.concat_arrays([*(values for values, _ in given), pa.array([], pa.string())])
        ones = (np.ones(len(values), np.int64) if weights is None else weights for values, weights in given)
        self._weights = np.concatenate([*ones, np.zeros(0, np.int64)])
        self._read: dict[int, Typed] = {}
        self._counts: list[list[int]] | None = None

    def reader(self, column: int) -> Reader:
        """Reads the values of one of the columns."""
        first, last = self._edges[column], self._edges[column + 1]

        def read(reading: Reading, _values: Any) -> Typed:
            typed = self._typed(reading)
            spans = [(each, *np.searchsorted(each.rows, (first, last)).tolist()) for each in typed.misfits]
            own = {each.reason: each.rows[low:high] - first for each, low, high in spans}
            return Typed(typed.values.slice(first, last - first), Misfit.all(**own))

        return read

    def misfits(self, column: int) -> Sequence[int]:
        """How many values of a column do not fit each reading."""
        if self._counts is None:
            self._counts = np.stack([self._misfits(reading) for reading in _readings()], axis=1).tolist()
        return self._counts[column]

    def _misfits(self, reading: Reading) -> NDArray[np.int64]:
        rows = np.concatenate([np.zeros(0, np.int64), *(each.rows for each in self._typed(reading).misfits)])
        return np.bincount(self._owner[rows], self._weights[rows], len(self._edges) - 1).astype(np.int64)

    def _typed(self, reading: Reading) -> Typed:
        return self._read.get(id(reading)) or self._read.setdefault(id(reading), read_as(reading, self._all))


Hashed = Callable[[Any], NDArray[np.uint64]]


@dataclass(frozen=True, slots=True)
class Facts:
    """What is to be known of n values, of one column or of many: an array of n for each.

    `trimmed` are the texts without white space at their ends, `edges` says which had any; `lengths` are in characters;
    `zeros` says which are digits after a zero, and `null_like` which are words that stand for null.
    """

    hashes: NDArray[np.uint64]
    lengths: NDArray[np.float64]
    trimmed: Any
    edges: NDArray[np.bool_]
    zeros: NDArray[np.bool_]
    null_like: NDArray[np.bool_]

    @classmethod
    def of(cls, values: Any, hashed: Hashed) -> Facts:
        """Of some texts, none of them null."""
        trimmed = pc.utf8_trim_whitespace(values)
        sizes = pc.binary_length(trimmed)
        short = np.flatnonzero(pc.less_equal(sizes, _LONGEST_NULL).to_numpy(zero_copy_only=False))
        known = pc.is_in(pc.utf8_lower(trimmed.take(pa.array(short))), _NULLS).to_numpy(zero_copy_only=False)
        null_like = np.zeros(len(values), np.bool_)
        null_like[short[known]] = True
        edges = pc.not_equal(sizes, pc.binary_length(values)).to_numpy(zero_copy_only=False)
        zeros = pc.match_substring_regex(trimmed, "^0[0-9]+$").to_numpy(zero_copy_only=False)
        lengths = pc.utf8_length(values).to_numpy().astype(np.float64)
        return cls(hashed(values), lengths, trimmed, edges, zeros, null_like)

    def part(self, first: int, last: int) -> Facts:
        """Those of some values that stand together."""
        which = slice(first, last)
        return Facts(
            self.hashes[which], self.lengths[which], self.trimmed.slice(first, last - first), self.edges[which],
            self.zeros[which], self.null_like[which],
        )  # fmt: skip


def learn_together(columns: Sequence[ColumnLook], texts: Sequence[Any], hashed: Hashed) -> list[tuple[Any, Weights]]:
    """What `take` of each column gives; where there are few rows of many columns, this is much faster."""
    begun = [column.begin(values) for column, values in zip(columns, texts, strict=True)]
    edges = [0, *np.cumsum([len(values) for values, _ in begun]).tolist()]
    facts = Facts.of(pa.concat_arrays([*(values for values, _ in begun), pa.array([], pa.string())]), hashed)
    return [
        column.learn(values, weights, facts.part(edges[at], edges[at + 1])) if len(values) else (values, None)
        for at, (column, (values, weights)) in enumerate(zip(columns, begun, strict=True))
    ]


@dataclass(slots=True)
class Candidate:
    """A reading that a column may have: how many values do not fit it, and what the others come to.

    A wider one than another that all values fit so far is `waiting`: it is not tried, and takes over what that one has.
    """

    reading: Reading
    misfits: int = 0
    example: str | None = None
    low: Any = None
    high: Any = None
    grouped: int = 0
    grouped_example: str = ""
    waiting: bool = False
    ranges: Ranges = field(init=False)

    def __post_init__(self) -> None:
        self.ranges = Ranges(1.0 if self.kind.name in {"integer", "date"} else 1e-9)

    @property
    def kind(self) -> Kind:
        """What it reads values as."""
        return self.reading.kind

    @property
    def layout(self) -> Layout:
        """The form that it needs."""
        return self.reading.layout

    @property
    def form(self) -> str:
        """The form in words."""
        return self.reading.form

    def take(self, values: Any, weights: Weights, reader: Reader) -> None:
        """Try some values, each of which stands so many times."""
        typed = reader(self.reading, values)
        for misfit in typed.misfits:
            self.misfits += weighed(misfit.rows, weights)
            self.example = self.example or values[int(misfit.rows[0])].as_py()
        if self.layout.thousands_sign:
            self._grouping(values, typed.values, weights)
        if self.kind.name in {"boolean", "uuid", "binary"}:
            return
        if len(values) <= HEAD:
            self.ranges.later(lambda: as_numbers(typed.values, weights))
            there = [value for value in typed.values.to_pylist() if value is not None]
            if there:
                self._within(min(there), max(there))
            return
        self.ranges.settled().add(*as_numbers(typed.values, weights))
        found = pc.min_max(typed.values)
        if found["min"].is_valid:
            self._within(found["min"].as_py(), found["max"].as_py())

    def _within(self, low: Any, high: Any) -> None:
        self.low = low if self.low is None else min(self.low, low)
        self.high = high if self.high is None else max(self.high, high)

    def state(self) -> Candidate:
        """What was seen so far, which stays as it is."""
        kept = copy.copy(self)
        kept.ranges = self.ranges.copied()
        return kept

    def go_on_from(self, other: Candidate) -> None:
        """Take over what a narrower one has seen."""
        self.ranges = other.ranges.copied()
        if other.low is not None:
            plain = float if self.kind.name == "real" else Decimal
            self._within(plain(other.low), plain(other.high))

    def _grouping(self, values: Any, typed: Any, weights: Weights) -> None:
        """How many numbers have a thousands sign."""
        grouped = pc.and_(pc.match_substring(values, self.layout.thousands_sign), pc.is_valid(typed))
        rows = np.flatnonzero(grouped.to_numpy(zero_copy_only=False))
        self.grouped += weighed(rows, weights)
        if len(rows) and not self.grouped_example:
            self.grouped_example = values[int(rows[0])].as_py()


@functools.cache
def _readings() -> Sequence[Reading]:
    """All that a column may be, the narrower before the wider."""
    wide = decimal(38, 12)
    found = [Reading(Kind("boolean"), Layout(true_words=[t], false_words=[f]), f"{t} / {f}") for t, f in _WORDS]
    found.append(Reading(Kind("integer"), Layout(), "", ("point", "comma"), "whole"))
    found += [Reading(Kind("date"), Layout(date_forms=[form]), form) for form in _DATES if "%y" not in form]
    found.append(Reading(wide, Layout(), "", ("point, grouped", "real"), "point"))
    found.append(Reading(wide, Layout(decimal_sign=","), "decimal comma", ("comma, grouped",), "comma"))
    found.append(Reading(wide, Layout(thousands_sign=","), "decimal point, grouping comma", (), "point, grouped"))
    grouped = Layout(decimal_sign=",", thousands_sign=".")
    found.append(Reading(wide, grouped, "decimal comma, grouping point", (), "comma, grouped"))
    found.append(Reading(Kind("real"), Layout(), "with exponents", (), "real"))
    found += [Reading(Kind("time"), Layout(time_forms=[form]), form) for form in _TIMES]
    found += [Reading(Kind("timestamp"), Layout(timestamp_forms=[form]), form) for form in _STAMPS]
    found.append(Reading(Kind("timestamptz"), Layout(timestamp_forms=list(_STAMPS[:2])), "with zone"))
    found.append(Reading(Kind("uuid"), Layout()))
    return found


_NO_HASHES = np.zeros(0, np.uint64)


@dataclass(slots=True)
class ColumnLook:
    """What was seen of one column so far. `native` is its kind where the file itself has one for it."""

    name: str
    native: Kind | None = None
    rows: int = 0
    blanks: int = 0
    longest: int = 0
    edges: int = 0
    zeros: int = 0
    places: int = 0
    null_like: dict[str, int] = field(default_factory=dict)
    examples: list[str] = field(default_factory=list)
    low: str | None = None
    high: str | None = None
    candidates: list[Candidate] | None = None
    mixed: list[Candidate] = field(default_factory=list)
    repeats: int = 0
    tracked: bool = True
    seen: SeenKeys = field(default_factory=SeenKeys)
    sketch: NDArray[np.uint64] = field(default_factory=lambda: np.zeros(0, np.uint64))
    as_text: int = 0
    as_value: int = 0
    frequent: Frequent = field(default_factory=Frequent)
    lengths: Ranges = field(default_factory=lambda: Ranges(1.0))
    varied: bool = False
    first: NDArray[np.uint64] | None = None
    known: tuple[int, Candidate | None] | None = None

    def __post_init__(self) -> None:
        if self.native is not None:
            self.candidates = [Candidate(Reading(self.native, CANONICAL))]

    @property
    def values(self) -> int:
        """How many are not blank."""
        return self.rows - self.blanks

    @property
    def unique(self) -> bool:
        """Whether no row is blank and no value stands twice."""
        return self.tracked and not self.repeats and not self.blanks

    def take(self, texts: Any, hashed: Hashed) -> tuple[Any, Weights]:
        """Take in a block's texts, blanks being null. What stands more than once is looked at once.

        Returns:
            The values whose kind is to be told, and how often each stands.
        """
        values, weights = self.begin(texts)
        return self.learn(values, weights, Facts.of(values, hashed)) if len(values) else (values, None)

    def begin(self, texts: Any) -> tuple[Any, Weights]:
        """The different values of a block's texts, and how often each stands; all of them, where that is once."""
        self.rows += len(texts)
        self.blanks += texts.null_count
        values, weights = texts.drop_null() if texts.null_count else texts, None
        if not self.varied and len(values) > 1:
            encoded, count = values.dictionary_encode(), len(values)
            if 2 * len(encoded.dictionary) <= count:
                weights = np.bincount(encoded.indices.to_numpy(), minlength=len(encoded.dictionary))
                values = encoded.dictionary
            self.varied = 2 * len(encoded.dictionary) > count > _SKETCH
        return values, weights

    def learn(self, values: Any, weights: Weights, facts: Facts) -> tuple[Any, Weights]:
        """Take in what is known of some values; gives back those whose kind is to be told."""
        self._repeats(facts.hashes, weights)
        self.longest = max(self.longest, int(facts.lengths.max()))
        if len(values) <= HEAD:
            self.lengths.later(lambda: (facts.lengths, weights))
        else:
            self.lengths.settled().add(facts.lengths, weights)
        self.frequent.add(values, weights)
        self.edges += weighed(np.flatnonzero(facts.edges), weights)
        self.zeros += weighed(np.flatnonzero(facts.zeros), weights)
        self._text(facts.trimmed)
        return self._without_nulls(facts, weights)

    def _repeats(self, hashes: NDArray[np.uint64], weights: Weights) -> None:
        """How many values stand more than once, and how many different ones there are."""
        if self.first is None and not self.seen.count and not len(self.sketch) and len(hashes) <= HEAD:
            self.first = hashes  # where a few are all there are, to count them is enough
            self._repeated(len(hashes) - len(set(hashes.tolist())), hashes, weights)
            return
        self._settle()
        full = len(self.sketch) == _SKETCH
        self.sketch = np.union1d(self.sketch, hashes[hashes < self.sketch[-1]] if full else hashes)[:_SKETCH]
        if not self.tracked:
            return
        repeated, _ = self.seen.add(hashes, np.arange(len(hashes)))
        self._repeated(len(repeated), hashes, weights)

    def _repeated(self, count: int, hashes: NDArray[np.uint64], weights: Weights) -> None:
        self.repeats += count + (0 if weights is None else int(weights.sum()) - len(hashes))
        self.tracked = self.repeats <= max(2, _NEARLY * self.values)
        self.seen = self.seen if self.tracked else SeenKeys()

    def _settle(self) -> None:
        """Take the first few in with the others."""
        if self.first is not None:
            first, self.first = self.first, _NO_HASHES
            self.sketch = np.union1d(self.sketch, first)
            if self.tracked:
                self.seen.add(first, np.arange(len(first)))

    def stored(self, texts: Any, values: Any) -> None:
        """Count how many cells of a file that knows both hold text, and how many a value of another type."""
        self.as_text += len(texts) - texts.null_count
        self.as_value += len(values) - values.null_count

    def _text(self, values: Any) -> None:
        if len(values) <= HEAD:
            texts = values.to_pylist()
            low, high, first = min(texts), max(texts), dict.fromkeys(texts)
        else:
            found = pc.min_max(values)
            low, high, first = found["min"].as_py(), found["max"].as_py(), dict.fromkeys(values[:_FIRST].to_pylist())
        self.low = low if self.low is None else min(self.low, low)
        self.high = high if self.high is None else max(self.high, high)
        if len(self.examples) < _EXAMPLES:
            new = [value for value in first if value not in self.examples]
            self.examples += new[: _EXAMPLES - len(self.examples)]

    def _without_nulls(self, facts: Facts, weights: Weights) -> tuple[Any, Weights]:
        """The values but those that look like null, which are counted."""
        values, like = facts.trimmed, np.flatnonzero(facts.null_like)
        for at in like.tolist():
            word = values[at].as_py()
            self.null_like[word] = self.null_like.get(word, 0) + (1 if weights is None else int(weights[at]))
        if len(like):
            keep = ~facts.null_like
            values, weights = values.filter(pa.array(keep)), None if weights is None else weights[keep]
        return values, weights

    def tell(
        self,
        values: Any,
        weights: Weights,
        reader: Reader = read_as,
        misfits: Callable[[], Sequence[int]] | None = None,
    ) -> None:
        """Find out what kinds fit some values, as `take` has given them; `misfits` counts those of each reading."""
        if not len(values):
            return
        if self.candidates is None:
            head, often = values[:HEAD], None if weights is None else weights[:HEAD]
            count = len(head) if often is None else int(often.sum())
            counts = misfits() if misfits else [_misfits(head, reading, often) for reading in _readings()]
            self.candidates = self._started(head, count, counts)
        self._try(values, weights, reader)
        most = max(1, _SPOILT * self.values)
        self.candidates = [each for each in self.candidates if each.misfits <= most]

    def _started(self, head: Any, count: int, counts: Sequence[int]) -> list[Candidate]:
        """The kinds that nearly all of the first values fit; those that a good part fits are told where none does."""
        found = []
        most = max(1, _SPOILT * count)
        for reading, misfits in zip(_readings(), counts, strict=True):
            if misfits <= most and misfits < count:
                found.append(Candidate(reading))
            elif misfits <= 0.8 * count:
                self.mixed.append(Candidate(reading, misfits, head[0].as_py()))
        return found

    def _try(self, values: Any, weights: Weights, reader: Reader) -> None:
        """Try what is left; a kind that is wider than one which all values fit so far has to wait."""
        candidates = self.candidates or []
        by_name = {each.reading.name: each for each in candidates if each.reading.name}
        for candidate in candidates:
            wider = [by_name[name] for name in candidate.reading.wider if name in by_name]
            if candidate.waiting:
                for each in wider:
                    each.waiting = True
                continue
            before = candidate.state() if wider else candidate
            candidate.take(values, weights, reader)
            if candidate.kind.name == "decimal" and self.native is None:
                self._scale(values, candidate.layout.decimal_sign)
            for each in wider:
                if candidate.misfits and each.waiting:
                    each.go_on_from(before)
                each.waiting = not candidate.misfits

    def _scale(self, values: Any, mark: str) -> None:
        at = pc.find_substring(values, mark)
        places = pc.if_else(pc.less(at, 0), 0, pc.subtract(pc.subtract(pc.binary_length(values), at), 1))
        self.places = max(self.places, int(pc.max(places).as_py() or 0))

    # ---- what it comes to

    def best(self) -> Candidate | None:
        """The kind that most values fit, the narrower one where two are even; None for a text."""
        if self.known is None or self.known[0] != self.rows:
            most = 0.01 * self.values if self.values else -1
            found = [each for each in self.candidates or [] if each.misfits <= most]
            self.known = self.rows, min(found, key=lambda each: each.misfits, default=None)
        return self.known[1]

    def kind(self) -> Kind:
        """The kind to declare: numbers with leading zeros, and columns that are blank throughout, are texts."""
        if self.native is not None and (not self.values or any(not each.misfits for each in self.candidates or [])):
            return self.native
        best = self.best()
        if best is None or (best.kind.name == "integer" and self.zeros):
            return Kind("text", max(1, self.longest)) if self.longest <= 4000 else Kind("text")
        if best.kind.name == "decimal":
            whole = max(len(str(abs(int(bound)))) for bound in (best.low, best.high))
            scale = min(self.places, 12)
            return decimal(min(38, max(whole + scale, 1)), scale)
        return best.kind

    def distinct(self) -> tuple[int, bool]:
        """How many different values there are, and whether the number is exact or estimated to about 2%."""
        if self.tracked and self.rows:
            return self.values - self.repeats, True
        self._settle()
        if len(self.sketch) < _SKETCH:
            return len(self.sketch), True
        return int((_SKETCH - 1) / (int(self.sketch[-1]) / 2**64)), False

    def spread(self) -> Spread | None:
        """How the values are spread: by value where they are few or words, by range where they are many."""
        best, kind, counts = self.best(), self.kind().name, self.frequent.counts
        if not self.values:
            return None
        ranged = best is not None and kind == best.kind.name and bool(best.ranges.settled().width)
        if counts and (len(counts) <= _FEW or not ranged) and len(counts) <= self.values // 2 + 1:
            numbers = ranged and kind in {"integer", "decimal"} and len(counts) <= _FEW
            return most_frequent(counts, by_value=numbers and not (best and best.layout.thousands_sign))
        if ranged and best is not None:
            edges, found = best.ranges.filled()
            step = edges[1] - edges[0]
            return Spread("ranges", tuple(label_of(edge, kind, step) for edge in edges), tuple(found))
        edges, found = self.lengths.filled()
        return Spread("lengths", tuple(label_of(edge, "integer", 1) for edge in edges), tuple(found))

    def bounds(self) -> tuple[str | None, str | None]:
        """Lowest and highest: by value where the column has a kind, by letters where it is a text."""
        best = self.best()
        if best is None or best.low is None or self.kind().name == "text":
            return self.low, self.high
        return _plain(best.low), _plain(best.high)


def kind_of(kind: Any) -> Kind | None:
    """The kind that stands for an Arrow type; None for texts, which may hold anything, and for what no kind is."""
    tests = {
        "integer": pa.types.is_integer, "real": pa.types.is_floating, "boolean": pa.types.is_boolean,
        "date": pa.types.is_date, "time": pa.types.is_time,
    }  # fmt: skip
    if pa.types.is_uint64(kind):
        return decimal(20, 0)  # half of them are beyond 64 bits with a sign
    if pa.types.is_decimal(kind):
        return decimal(kind.precision, kind.scale) if kind.precision <= 38 and kind.scale >= 0 else None
    if pa.types.is_timestamp(kind):
        return Kind("timestamptz" if kind.tz else "timestamp")
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return Kind("binary")
    return next((Kind(name) for name, test in tests.items() if test(kind)), None)


def blanks_as_null(texts: Any) -> Any:
    """Texts with null for what is empty or only white space."""
    blank = pc.or_(pc.equal(texts, ""), pc.utf8_is_space(texts))
    return pc.if_else(pc.fill_null(blank, fill_value=False), pa.scalar(None, pa.string()), texts)


def _misfits(values: Any, reading: Reading, weights: Weights) -> int:
    return sum(weighed(misfit.rows, weights) for misfit in read_as(reading, values).misfits)


def _plain(value: Any) -> str | None:
    text = show(value)
    return text.rstrip("0").rstrip(".") if text and "." in text and not hasattr(value, "year") else text
