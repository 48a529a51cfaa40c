"""What a column holds, block by block: the kinds its values fit, how many are blank, distinct, lowest and highest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind, decimal
from nomotheta.keys import SeenKeys
from nomotheta.kinds.show import show
from nomotheta.layout import CANONICAL
from nomotheta.peek.facts import Facts, Hashed
from nomotheta.peek.readings import (
    HEAD,
    SPOILT,
    Candidate,
    Possible,
    Reader,
    Reading,
    begun,
    few_of,
    misfits_of,
    possible,
    read_as,
    readings,
)
from nomotheta.peek.spread import Frequent, Ranges, Spread, Weights, label_of, most_frequent

_SKETCH = 2048
_EXAMPLES, _FIRST = 4, 200  # values that are shown, and among which they are looked for
_FEW = 7  # different numbers that are shown one by one
_NEARLY = 0.01  # of the values may repeat in a column that is nearly a key
_NO_HASHES = np.zeros(0, np.uint64)
Fitting = Callable[[], Possible]


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
    waiting: dict[str, Reading] = field(default_factory=dict)
    mixed: list[Candidate] = field(default_factory=list)
    repeats: int = 0
    tracked: bool = True
    seen: SeenKeys = field(default_factory=SeenKeys)
    sketch: NDArray[np.uint64] = field(default_factory=lambda: _NO_HASHES)
    as_text: int = 0
    as_value: int = 0
    frequent: Frequent = field(default_factory=Frequent)
    lengths: Ranges = field(default_factory=lambda: Ranges(1.0))
    varied: bool = False
    first: NDArray[np.uint64] | None = None
    known: tuple[int, Candidate | None] | None = None
    shortest: int | None = None
    decimal_sign: str = ""

    def __post_init__(self) -> None:
        if self.native is not None:
            self.candidates = [Candidate(Reading(self.native, CANONICAL))]

    @property
    def values(self) -> int:
        """How many are not blank."""
        return self.rows - self.blanks

    @property
    def unique(self) -> bool:
        """Whether no row is blank and no value occurs twice."""
        return self.tracked and not self.repeats and not self.blanks

    def take(self, texts: Any, hashed: Hashed) -> tuple[Any, Weights]:
        """Take in a block's texts, blanks being null. What occurs more than once is looked at once.

        Returns:
            The values whose kind is to be told, and how often each occurs.
        """
        values, weights = self.begin(texts)
        return self.learn(values, weights, Facts.of(values, weights, hashed)) if len(values) else (values, None)

    def begin(self, texts: Any) -> tuple[Any, Weights]:
        """The different values of a block's texts, and how often each occurs; all of them, where that is once."""
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
        self.longest = max(self.longest, facts.longest)
        least = int(facts.lengths.min())
        self.shortest = least if self.shortest is None else min(self.shortest, least)
        if len(values) <= HEAD:
            self.lengths.later(lambda: (facts.lengths, weights))
        else:
            self.lengths.settled().add(facts.lengths, weights)
        self.frequent.add(values, weights)
        self.edges += facts.edges
        self.zeros += facts.zeros
        self._text(facts.trimmed)
        return self._without_nulls(facts, weights)

    def _repeats(self, hashes: NDArray[np.uint64], weights: Weights) -> None:
        """How many values occur more than once, and how many different ones there are."""
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
        values = facts.trimmed
        if not facts.likes:
            return values, weights
        for at in np.flatnonzero(facts.null_like).tolist():
            word = values[at].as_py()
            self.null_like[word] = self.null_like.get(word, 0) + (1 if weights is None else int(weights[at]))
        keep = ~facts.null_like
        return values.filter(pa.array(keep)), None if weights is None else weights[keep]

    def tell(self, values: Any, weights: Weights, reader: Reader = read_as, fitting: Fitting | None = None) -> None:
        """Find out what kinds fit some values, as `take` has given them; `fitting` says which fit the first of all."""
        if not len(values):
            return
        if self.candidates is None:
            head, often = values[:HEAD], None if weights is None else weights[:HEAD]
            count = len(head) if often is None else int(often.sum())
            fit, mixed = fitting() if fitting else possible(misfits_of(head, often), count)
            first, waiting = begun(tuple(fit))
            self.candidates, self.waiting = [Candidate(reading) for reading in first], dict(waiting)
            self.mixed += [Candidate(readings()[at], misfits, head[0].as_py()) for at, misfits in mixed]
            self._try(values, weights, reader, first=True)
        else:
            self._try(values, weights, reader, first=False)
        most = max(1, SPOILT * self.values, few_of(self.values))
        self.candidates = [each for each in self.candidates if each.misfits <= most]

    def _try(self, values: Any, weights: Weights, reader: Reader, *, first: bool) -> None:
        """Try what is left; a kind that is wider than one which all values fit so far has to wait."""
        queue, done = list(self.candidates or []), 0
        while done < len(queue):
            candidate = queue[done]
            done += 1
            wider = [name for name in candidate.reading.wider if name in self.waiting]
            before = candidate.state() if wider and not first else None
            candidate.take(values, weights, reader)
            if candidate.kind.name == "decimal" and self.native is None:
                self._scale(values, candidate.layout.decimal_sign)
            if candidate.misfits and wider:
                further = [Candidate(self.waiting.pop(name)) for name in wider]
                if before is not None:
                    for each in further:
                        each.go_on_from(before)
                queue[done:] = sorted([*queue[done:], *further], key=lambda each: each.reading.rank)
        self.candidates = queue

    def _scale(self, values: Any, mark: str) -> None:
        at = pc.find_substring(values, mark)
        places = pc.if_else(pc.less(at, 0), 0, pc.subtract(pc.subtract(pc.binary_length(values), at), 1))
        self.places = max(self.places, int(pc.max(places).as_py() or 0))

    # ---- what it comes to

    def best(self) -> Candidate | None:
        """The kind that most values fit, the narrower one where two are even; None for a text."""
        if self.known is None or self.known[0] != self.rows:
            most = max(0.01 * self.values, few_of(self.values)) if self.values else -1
            found = [each for each in self.candidates or [] if each.misfits <= most]
            self.known = self.rows, min(found, key=lambda each: (each.misfits, self._against(each)), default=None)
        return self.known[1]

    def _against(self, candidate: Candidate) -> bool:
        """Whether a reading takes for a decimal sign, or for a thousands sign, what in this file is the other."""
        layout = candidate.layout
        if not self.decimal_sign or not candidate.kind.is_number:
            return False
        return (
            layout.decimal_sign != self.decimal_sign
            if candidate.kind.name != "integer"
            else (layout.thousands_sign == self.decimal_sign)
        )

    def rival(self) -> Candidate | None:
        """Another number that all values may be as well: what groups digits in one is the decimal sign of the other."""
        best = self.best()
        if best is None or not best.kind.is_number:
            return None
        groups = best.kind.name == "integer"
        sign = best.layout.thousands_sign if groups else best.layout.decimal_sign
        signs = ("decimal_sign", "thousands_sign") if groups else ("thousands_sign", "decimal_sign")
        return next(
            (each for each in self.candidates or []
             if each is not best and each.misfits == best.misfits and sign and getattr(each.layout, signs[0]) == sign
             and each.kind.name == ("decimal" if groups else "integer")
             and (best.grouped or each.grouped)), None,
        )  # fmt: skip

    def agree(self, decimal_sign: str) -> None:
        """Read what could be either by the decimal sign that the file has elsewhere."""
        self.decimal_sign, self.known = decimal_sign, None

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
            labels, bounds = [label_of(edge, kind, step) for edge in edges], self.bounds()
            low, high = best.ends()
            labels[0], labels[-1] = bounds[0] or labels[0], bounds[1] or labels[-1]
            inset = (low - edges[0]) / step, (edges[-1] - high) / step
            return Spread("ranges", tuple(labels), tuple(found), inset=(_part(inset[0]), _part(inset[1])))
        edges, found = self.lengths.filled()
        return Spread("lengths", tuple(label_of(edge, "integer", 1) for edge in edges), tuple(found))

    def bounds(self) -> tuple[str | None, str | None]:
        """Lowest and highest: by value where the column has a kind, by letters where it is a text."""
        best = self.best()
        if best is None or best.low is None or self.kind().name == "text":
            return self.low, self.high
        return _plain(best.low), _plain(best.high)


def _part(share: float) -> float:
    """A share of a bin, of which something is left."""
    return round(min(max(share, 0.0), 0.9), 3)


def learn_together(columns: Sequence[ColumnLook], texts: Sequence[Any], hashed: Hashed) -> list[tuple[Any, Weights]]:
    """What `take` of each column gives; where there are few rows of many columns, this is much faster."""
    begun = [column.begin(values) for column, values in zip(columns, texts, strict=True)]
    there = [at for at, (values, _) in enumerate(begun) if len(values)]
    if there:
        facts = Facts.each([begun[at][0] for at in there], [begun[at][1] for at in there], hashed)
        for at, known in zip(there, facts, strict=True):
            begun[at] = columns[at].learn(*begun[at], known)
    return begun


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


def _plain(value: Any) -> str | None:
    text = show(value)
    return text.rstrip("0").rstrip(".") if text and "." in text and not hasattr(value, "year") else text
