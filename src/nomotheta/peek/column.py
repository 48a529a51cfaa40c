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
from nomotheta.kinds import read_column, show
from nomotheta.load import SeenKeys

_SKETCH = 2048
_EXAMPLES = 4
_NEARLY = 0.01  # of the values may repeat in a column that is nearly a key
_SPOILT = 0.05  # a kind that more of the first block's values do not fit is no candidate
NULL_LIKE = ("null", "none", "nil", "na", "n/a", "#n/a", "nan", "-", "--", "?", "missing", "unknown", "\\n")
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y%m%d", "%Y/%m/%d", "%d-%m-%Y", "%d.%m.%y")
_STAMPS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M",
           "%d/%m/%Y %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S.%f")  # fmt: skip
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


def _candidates() -> list[Candidate]:
    wide = decimal(38, 12)
    found = [Candidate(Kind("boolean"), Layout(true_words=[t], false_words=[f]), f"{t} / {f}") for t, f in _WORDS]
    found.append(Candidate(Kind("integer"), Layout(), ""))
    found += [Candidate(Kind("date"), Layout(date_forms=[form]), form) for form in _DATES if "%y" not in form]
    found.append(Candidate(wide, Layout(), ""))
    found.append(Candidate(wide, Layout(decimal_mark=","), "decimal comma"))
    found.append(Candidate(wide, Layout(grouping_mark=","), "decimal point, grouping comma"))
    found.append(Candidate(wide, Layout(decimal_mark=",", grouping_mark="."), "decimal comma, grouping point"))
    found.append(Candidate(Kind("real"), Layout(), "with exponents"))
    found += [Candidate(Kind("time"), Layout(time_forms=[form]), form) for form in ("%H:%M:%S", "%H:%M")]
    found += [Candidate(Kind("timestamp"), Layout(timestamp_forms=[form]), form) for form in _STAMPS]
    found.append(Candidate(Kind("timestamptz"), Layout(timestamp_forms=list(_STAMPS[:2])), "with zone"))
    found.append(Candidate(Kind("uuid"), Layout(), ""))
    return found


@dataclass(slots=True)
class ColumnLook:
    """What was seen of one column so far."""

    name: str
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
        self.longest = max(self.longest, int(pc.max(pc.utf8_length(values)).as_py()))
        trimmed = pc.utf8_trim_whitespace(values)
        self.edges += int(pc.sum(pc.not_equal(trimmed, values)).as_py())
        self._text(trimmed)
        self._kinds(trimmed)

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
        if candidate.kind.name in {"boolean", "uuid"}:
            return
        found = pc.min_max(typed.values)
        if found["min"].is_valid:
            low, high = found["min"].as_py(), found["max"].as_py()
            candidate.low = low if candidate.low is None else min(candidate.low, low)
            candidate.high = high if candidate.high is None else max(candidate.high, high)
        if candidate.kind.name == "decimal":
            self._scale(values, candidate.layout.decimal_mark)

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

    def bounds(self) -> tuple[str | None, str | None]:
        """Lowest and highest: by value where the column has a kind, by letters where it is a text."""
        best = self.best()
        if best is None or best.low is None or self.kind().name == "text":
            return self.low, self.high
        return _plain(best.low), _plain(best.high)


def blanks_as_null(texts: Any) -> Any:
    """Texts with null for what is empty or only white space."""
    blank = pc.or_(pc.equal(texts, ""), pc.utf8_is_space(texts))
    return pc.if_else(pc.fill_null(blank, fill_value=False), pa.scalar(None, pa.string()), texts)


def _misfits(values: Any, candidate: Candidate) -> int:
    return sum(len(misfit.rows) for misfit in read_column(values, candidate.kind, candidate.layout).misfits)


def _plain(value: Any) -> str | None:
    text = show(value)
    return text.rstrip("0").rstrip(".") if text and "." in text and not hasattr(value, "year") else text
