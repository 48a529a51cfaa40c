"""What a column holds, block by block: the kinds its values fit, how many are blank, distinct, lowest and highest."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.charter import Layout
from nomotheta.conditions import Kind, decimal
from nomotheta.kinds import CANONICAL, read_column, show
from nomotheta.load import SeenKeys
from nomotheta.peek.spread import Frequent, Ranges, Spread, as_numbers, label_of, most_frequent

_SKETCH = 2048
_EXAMPLES = 4
_FEW = 7  # different numbers that are shown one by one
_NEARLY = 0.01  # of the values may repeat in a column that is nearly a key
_SPOILT = 0.05  # a kind that more of the first block's values do not fit is no candidate
NULL_LIKE = ("null", "none", "nil", "na", "n/a", "#n/a", "nan", "-", "--", "?", "missing", "unknown", "\\n")
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y%m%d", "%Y/%m/%d", "%d-%m-%Y", "%d.%m.%y")
_STAMPS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M",
           "%d/%m/%Y %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S.%f")  # fmt: skip
_TIMES = ("%H:%M:%S", "%H:%M", "%H:%M:%S.%f")
_WORDS = (("true", "false"), ("yes", "no"), ("y", "n"), ("t", "f"), ("TRUE", "FALSE"), ("True", "False"), ("Y", "N"))


@dataclass(slots=True)
class Candidate:
    """A kind that a column may have, in one written form, and how many values do not fit it."""

    kind: Kind
    layout: Layout
    form: str
    misfits: int = 0
    example: str | None = None
    low: Any = None
    high: Any = None
    grouped: int = 0
    grouped_example: str = ""
    ranges: Ranges = field(init=False)

    def __post_init__(self) -> None:
        self.ranges = Ranges(1.0 if self.kind.name in {"integer", "date"} else 1e-9)


def _candidates() -> list[Candidate]:
    wide = decimal(38, 12)
    found = [Candidate(Kind("boolean"), Layout(true_words=[t], false_words=[f]), f"{t} / {f}") for t, f in _WORDS]
    found.append(Candidate(Kind("integer"), Layout(), ""))
    found += [Candidate(Kind("date"), Layout(date_forms=[form]), form) for form in _DATES if "%y" not in form]
    found.append(Candidate(wide, Layout(), ""))
    found.append(Candidate(wide, Layout(decimal_sign=","), "decimal comma"))
    found.append(Candidate(wide, Layout(thousands_sign=","), "decimal point, grouping comma"))
    found.append(Candidate(wide, Layout(decimal_sign=",", thousands_sign="."), "decimal comma, grouping point"))
    found.append(Candidate(Kind("real"), Layout(), "with exponents"))
    found += [Candidate(Kind("time"), Layout(time_forms=[form]), form) for form in _TIMES]
    found += [Candidate(Kind("timestamp"), Layout(timestamp_forms=[form]), form) for form in _STAMPS]
    found.append(Candidate(Kind("timestamptz"), Layout(timestamp_forms=list(_STAMPS[:2])), "with zone"))
    found.append(Candidate(Kind("uuid"), Layout(), ""))
    return found


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
    digits: int = 0
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

    def __post_init__(self) -> None:
        if self.native is not None:
            self.candidates = [Candidate(self.native, CANONICAL, "")]

    @property
    def values(self) -> int:
        """How many are not blank."""
        return self.rows - self.blanks

    @property
    def unique(self) -> bool:
        """Whether no row is blank and no value stands twice."""
        return self.tracked and not self.repeats and not self.blanks

    def take(self, texts: Any, hashes: NDArray[np.uint64], present: NDArray[np.int64]) -> None:
        """Take in a block's texts, blanks being null; `hashes` are those of the rows `present`, which are not null."""
        self.sketch = np.union1d(self.sketch, hashes)[:_SKETCH]
        if self.tracked:
            repeated, _ = self.seen.add(hashes, present + self.rows)
            self.repeats += len(repeated)
            self.tracked = self.repeats <= max(2, _NEARLY * (self.values + len(hashes)))
            self.seen = self.seen if self.tracked else SeenKeys()
        self.rows += len(texts)
        self.blanks += texts.null_count
        values = texts.drop_null()
        if not len(values):
            return
        lengths = pc.utf8_length(values)
        self.longest = max(self.longest, int(pc.max(lengths).as_py()))
        self.lengths.add(as_numbers(lengths))
        self.frequent.add(values)
        trimmed = pc.utf8_trim_whitespace(values)
        self.edges += int(pc.sum(pc.not_equal(trimmed, values)).as_py())
        self._text(trimmed)
        self._kinds(trimmed)

    def stored(self, texts: Any, values: Any) -> None:
        """Count how many cells of a file that knows both hold text, and how many a value of another type."""
        self.as_text += len(texts) - texts.null_count
        self.as_value += len(values) - values.null_count

    def _text(self, values: Any) -> None:
        found = pc.min_max(values)
        low, high = found["min"].as_py(), found["max"].as_py()
        self.low = low if self.low is None else min(self.low, low)
        self.high = high if self.high is None else max(self.high, high)
        if len(self.examples) < _EXAMPLES:
            new = [value for value in pc.unique(values[:200]).to_pylist() if value not in self.examples]
            self.examples += new[: _EXAMPLES - len(self.examples)]
        lower = pc.utf8_lower(values)
        like = pc.is_in(lower, pa.array(NULL_LIKE))
        for each in pc.value_counts(values.filter(like)).to_pylist():
            self.null_like[each["values"]] = self.null_like.get(each["values"], 0) + each["counts"]
        self.zeros += int(pc.sum(pc.match_substring_regex(values, "^0[0-9]+$")).as_py() or 0)

    def _kinds(self, values: Any) -> None:
        like = pc.is_in(pc.utf8_lower(values), pa.array(NULL_LIKE))
        values = values.filter(pc.invert(like))
        if not len(values):
            return
        if self.candidates is None:
            self.candidates = self._started(values[:100])
        kept = []
        for candidate in self.candidates:
            self._try(values, candidate)
            if candidate.misfits <= max(1, _SPOILT * self.values):
                kept.append(candidate)
        self.candidates = kept

    def _started(self, head: Any) -> list[Candidate]:
        """The kinds that nearly all of the first values fit; those that a good part fits are told where none does."""
        found = []
        for candidate in _candidates():
            misfits = _misfits(head, candidate)
            if misfits <= max(1, _SPOILT * len(head)):
                found.append(candidate)
            elif misfits <= 0.8 * len(head):
                candidate.misfits = misfits
                candidate.example = head[0].as_py()
                self.mixed.append(candidate)
        return found

    def _try(self, values: Any, candidate: Candidate) -> None:
        typed = read_column(values, candidate.kind, candidate.layout)
        for misfit in typed.misfits:
            candidate.misfits += len(misfit.rows)
            candidate.example = candidate.example or values[int(misfit.rows[0])].as_py()
        if candidate.layout.thousands_sign:
            _count_grouped(values, typed.values, candidate)
        if candidate.kind.name in {"boolean", "uuid", "binary"}:
            return
        candidate.ranges.add(as_numbers(typed.values))
        found = pc.min_max(typed.values)
        if found["min"].is_valid:
            low, high = found["min"].as_py(), found["max"].as_py()
            candidate.low = low if candidate.low is None else min(candidate.low, low)
            candidate.high = high if candidate.high is None else max(candidate.high, high)
        if candidate.kind.name == "decimal":
            self._scale(values, candidate.layout.decimal_sign)

    def _scale(self, values: Any, mark: str) -> None:
        at = pc.find_substring(values, mark)
        places = pc.if_else(pc.less(at, 0), 0, pc.subtract(pc.subtract(pc.binary_length(values), at), 1))
        self.places = max(self.places, int(pc.max(places).as_py() or 0))
        self.digits = max(self.digits, int(pc.max(pc.subtract(pc.binary_length(values), places)).as_py() or 0))

    # ---- what it comes to

    def best(self) -> Candidate | None:
        """The kind that most values fit, the narrower one where two are even; None for a text."""
        found = [each for each in self.candidates or [] if self.values and each.misfits <= 0.01 * self.values]
        return min(found, key=lambda each: each.misfits, default=None)

    def kind(self) -> Kind:
        """The kind to declare: numbers with leading zeros, and columns that are blank throughout, are texts."""
        if self.native is not None:
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
        if len(self.sketch) < _SKETCH:
            return len(self.sketch), True
        return int((_SKETCH - 1) / (int(self.sketch[-1]) / 2**64)), False

    def spread(self) -> Spread | None:
        """How the values are spread: by value where they are few or words, by range where they are many."""
        best, kind, counts = self.best(), self.kind().name, self.frequent.counts
        if not self.values:
            return None
        ranged = best is not None and kind == best.kind.name and bool(best.ranges.width)
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


def _count_grouped(values: Any, typed: Any, candidate: Candidate) -> None:
    """How many numbers have a thousands sign."""
    grouped = pc.and_(pc.match_substring(values, candidate.layout.thousands_sign), pc.is_valid(typed))
    candidate.grouped += int(pc.sum(grouped).as_py() or 0)
    if candidate.grouped and not candidate.grouped_example:
        candidate.grouped_example = values.filter(grouped)[0].as_py()


def _misfits(values: Any, candidate: Candidate) -> int:
    return sum(len(misfit.rows) for misfit in read_column(values, candidate.kind, candidate.layout).misfits)


def _plain(value: Any) -> str | None:
    text = show(value)
    return text.rstrip("0").rstrip(".") if text and "." in text and not hasattr(value, "year") else text
