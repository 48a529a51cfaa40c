"""What is kept of a column's values, to compare those of later loads with: shares of numbers, counts of words."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence
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
    """How far a distribution is from those before: `distance` (0 to 1), how likely by chance, and what is gone."""

    distance: float
    chance: float
    gone: tuple[str, ...] = ()


def drift(now: Sketch, past: Sequence[Sketch]) -> Drift:
    """A load's values against those of earlier ones.

    Numbers by the two-sample Kolmogorov–Smirnov distance, words by half the sum of the differences of their shares
    (total variation) and Pearson's chi-squared test.
    """
    return _numbers(now, past) if now.edges else _words(now, past)


def _numbers(now: Sketch, past: Sequence[Sketch]) -> Drift:
    from scipy.special import kolmogorov  # type: ignore[import-untyped,unused-ignore]

    edges = np.unique(np.concatenate([np.asarray(each.edges) for each in [now, *past]]))
    counts = np.array([each.count for each in past], np.float64)
    before = np.average([each.below(edges) for each in past], axis=0, weights=counts)
    distance = float(np.abs(now.below(edges) - before).max())
    size = now.count * counts.sum() / (now.count + counts.sum())
    return Drift(distance, float(kolmogorov(distance * np.sqrt(size))))


_SHARE, _EXPECTED, _ALWAYS = 0.01, 20, 0.9


def _words(now: Sketch, past: Sequence[Sketch]) -> Drift:
    from scipy.special import chdtrc  # type: ignore[import-untyped,unused-ignore]

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
    chance = float(chdtrc(max(int((pooled > 0).sum()) - 1, 1), float(np.nansum(parts))))
    gone = tuple(
        name
        for at, name in enumerate(names)
        if not here[at] and shares[at] >= _SHARE and shares[at] * now.count >= _EXPECTED
        and sum(name in each.words for each in past) >= _ALWAYS * len(past)
    )  # fmt: skip
    return Drift(distance, chance, gone)
