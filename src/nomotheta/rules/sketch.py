"""What is kept of a column's values, to compare those of later loads with: shares of numbers, counts of words."""

from __future__ import annotations

import datetime
import json
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen

Floats = NDArray[np.float64]
SHARES = tuple(at / 100 for at in range(101))
WORDS = 200  # different ones that are kept; the others are counted together
_EPOCH = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)


@frozen
class Sketch:
    """Of so many values, the one below which each hundredth lies, or how often each of the most frequent is there."""

    count: int
    edges: tuple[float, ...] = ()
    words: Mapping[str, int] = field(default_factory=dict)
    others: int = 0

    def text(self) -> str:
        """It as JSON, as it is kept."""
        parts = {"count": self.count, "edges": list(self.edges), "words": dict(self.words), "others": self.others}
        return json.dumps({name: value for name, value in parts.items() if value}, ensure_ascii=False)

    @classmethod
    def of_text(cls, text: str) -> Sketch:
        """It from what was kept."""
        found = json.loads(text)
        return cls(found.get("count", 0), tuple(found.get("edges", ())), found.get("words", {}), found.get("others", 0))

    def below(self, edges: Floats) -> Floats:
        """The share of values up to each of some edges."""
        return np.interp(edges, *_steps(np.asarray(self.edges)), left=0.0, right=1.0)


_MOST = 1 << 20  # numbers that are gathered: of more, about a half, a quarter or an eighth
_WORDS = 20_000  # different words that are counted


class Gathered:
    """A column's values as they come in, block by block, until there is a sketch of them."""

    def __init__(self, kind: Kind) -> None:
        self._kind, self._count, self._share = kind, 0, 1.0
        self._chance = np.random.default_rng(0)  # the same for the same rows
        self._numbers: list[Floats] = []
        self._kept = 0
        self._words: Counter[str] = Counter()

    def take(self, column: Any) -> None:
        """Take in some more values, an Arrow array of the kind."""
        values = column.drop_null()
        self._count += len(values)
        if self._kind.name in _COUNTED:
            texts = values.cast("string") if self._kind.name == "text" else values
            for each in texts.value_counts().to_pylist() if len(self._words) <= _WORDS else ():
                self._words[str(each["values"])] += each["counts"]
            return
        self._numbers.append(self._some(_floats(values), self._share))
        self._kept += len(self._numbers[-1])
        self._thin()

    def join(self, other: Gathered) -> None:
        """Take in what was gathered elsewhere."""
        self._count += other._count
        self._words.update(other._words)
        share = min(self._share, other._share)
        both = [(self, self._numbers), (other, other._numbers)]
        self._numbers = [each._some(part, share / each._share) for each, parts in both for part in parts]
        self._share, self._kept = share, sum(map(len, self._numbers))
        self._thin()

    def _thin(self) -> None:
        while self._kept > _MOST:
            whole = self._some(np.concatenate(self._numbers), 0.5)
            self._numbers, self._kept, self._share = [whole], len(whole), self._share / 2

    def _some(self, values: Floats, share: float) -> Floats:
        """About such a share of values, by chance: every second one could be always the same one."""
        return values if share == 1 else values[self._chance.random(len(values)) < share]

    def sketch(self) -> Sketch | None:
        """What is kept of them; None where there are more different words than are counted."""
        if self._kind.name in _COUNTED:
            if len(self._words) > _WORDS:
                return None
            kept = dict(sorted(self._words.items(), key=lambda pair: (-pair[1], pair[0]))[:WORDS])
            return Sketch(self._count, words=kept, others=self._count - sum(kept.values()))
        found = np.sort(np.concatenate(self._numbers)) if self._count else np.zeros(0)
        below = [max(-(-len(found) * at // 100) - 1, 0) for at in range(101)] if len(found) else []
        return Sketch(self._count, tuple(found[below].tolist()))


_COUNTED = {"text", "boolean"}  # kinds whose values are counted, and not ranked


def _floats(values: Any) -> Floats:
    """Arrow values as numbers, as `number_of` has each."""
    of = str(values.type)
    if of.startswith("date32"):
        return np.asarray(values.cast("int32").to_numpy(zero_copy_only=False), np.float64) * 86_400
    if of.startswith(("timestamp", "time64")):
        return np.asarray(values.cast("int64").to_numpy(zero_copy_only=False), np.float64) / 1e6
    if of.startswith("decimal128"):  # two words each, the lower first; Arrow's own cast is a last bit off
        words = np.frombuffer(values.buffers()[1], np.int64)[2 * values.offset : 2 * (values.offset + len(values))]
        low, high = words[::2], words[1::2]
        if (high == low >> 63).all():
            return np.asarray(low / 10.0**values.type.scale, np.float64)
    return np.asarray(values.cast("float64").to_numpy(zero_copy_only=False), np.float64)


def _steps(edges: Floats) -> tuple[Floats, Floats]:
    """Edges, each once, with the greatest share that belongs to it."""
    shares = np.asarray(SHARES)
    last = np.append(np.diff(edges) > 0, True)
    return edges[last], shares[last]


def number_of(value: Any, kind: Kind) -> float:
    """A number, or a moment as seconds since 1970; moments may come as their texts in ISO 8601."""
    if isinstance(value, str):
        types: dict[str, Any] = {"date": datetime.date, "time": datetime.time}
        value = types.get(kind.name, datetime.datetime).fromisoformat(value)
    if isinstance(value, datetime.datetime):
        moment = value if value.tzinfo else value.replace(tzinfo=datetime.UTC)
        return (moment - _EPOCH).total_seconds()
    if isinstance(value, datetime.date):
        return float((value - _EPOCH.date()).days * 86_400)
    if isinstance(value, datetime.time):
        return value.hour * 3600 + value.minute * 60 + value.second + value.microsecond / 1e6
    return float(value) if isinstance(value, int | float | Decimal) else float("nan")


@frozen
class Drift:
    """How far a distribution is from those before: `distance` (0 to 1), how likely by `chance`, and what is gone."""

    distance: float
    chance: Callable[[], float]  # worked out where it matters: SciPy takes longer to come than a night to judge
    gone: tuple[str, ...] = ()


def drift(now: Sketch, past: Sequence[Sketch]) -> Drift:
    """A load's values against those of earlier ones.

    Numbers by the two-sample Kolmogorov–Smirnov distance, words by half the sum of the differences of their shares
    (total variation) and Pearson's chi-squared test.
    """
    return _numbers(now, past) if now.edges else _words(now, past)


def _numbers(now: Sketch, past: Sequence[Sketch]) -> Drift:
    edges = np.unique(np.concatenate([np.asarray(each.edges) for each in [now, *past]]))
    counts = np.array([each.count for each in past], np.float64)
    before = np.average([each.below(edges) for each in past], axis=0, weights=counts)
    distance = float(np.abs(now.below(edges) - before).max())
    size = now.count * counts.sum() / (now.count + counts.sum())

    def chance() -> float:
        from scipy.special import kolmogorov  # type: ignore[import-untyped,unused-ignore]

        return float(kolmogorov(distance * np.sqrt(size)))

    return Drift(distance, chance)


_SHARE, _EXPECTED, _ALWAYS = 0.01, 20, 0.9


def _words(now: Sketch, past: Sequence[Sketch]) -> Drift:
    names = sorted({name for each in [now, *past] for name in each.words})
    total = sum(each.count for each in past)
    before = np.array(
        [sum(each.words.get(name, 0) for each in past) for name in names] + [sum(each.others for each in past)]
    )
    here = np.array([now.words.get(name, 0) for name in names] + [now.others])
    shares = before / total
    distance = float(np.abs(here / now.count - shares).sum() / 2)
    pooled = (before + here) / (total + now.count)
    with np.errstate(invalid="ignore", divide="ignore"):
        expected, was = pooled * now.count, pooled * total
        parts = (here - expected) ** 2 / expected + (before - was) ** 2 / was

    def chance() -> float:
        from scipy.special import chdtrc  # type: ignore[import-untyped,unused-ignore]

        return float(chdtrc(max(int((pooled > 0).sum()) - 1, 1), float(np.nansum(parts))))

    gone = tuple(
        name
        for at, name in enumerate(names)
        if not here[at] and shares[at] >= _SHARE and shares[at] * now.count >= _EXPECTED
        and sum(name in each.words for each in past) >= _ALWAYS * len(past)
    )  # fmt: skip
    return Drift(distance, chance, gone)
