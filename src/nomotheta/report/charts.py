"""Small charts as SVG, to stand within a page."""

from __future__ import annotations

import base64
import io
from typing import Any

from nomotheta.errors import visible
from nomotheta.peek import Spread

_INK, _SOFT, _BAR, _REST = "#1c2733", "#5b6b7a", "#3b6ea5", "#b9c6d3"
_WIDTH, _LINE = 3.3, 0.19  # inches


def spread_chart(spread: Spread) -> str:
    """A bar a value, or a histogram, as a `data:` URL of an SVG."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    settings: Any = {
        "svg.fonttype": "none",
        "svg.hashsalt": "nomotheta",
        "font.family": "DejaVu Sans",
        "font.size": 7.5,
    }
    with mpl.rc_context(settings):
        tall = _LINE * (len(spread.counts) + bool(spread.others)) if spread.sort == "values" else 0.78
        figure = Figure(figsize=(_WIDTH, max(tall, 0.25)))
        axes = figure.add_axes((0, 0, 1, 1))
        _bars(axes, spread) if spread.sort == "values" else _histogram(axes, spread)
        axes.set_axis_off()
        written = io.BytesIO()
        figure.savefig(written, format="svg", transparent=True, metadata={"Date": None})
    return "data:image/svg+xml;base64," + base64.b64encode(written.getvalue()).decode()


def _bars(axes: Any, spread: Spread) -> None:
    """The values, each with its count; how many rows have any other is only said, so that it dwarfs none."""
    most = max(spread.counts)
    for at, (label, count) in enumerate(zip(spread.labels, spread.counts, strict=True)):
        axes.barh(at, count / most * 0.5, left=0.36, height=0.62, color=_BAR)
        axes.text(0.35, at, _cut(label), ha="right", va="center", color=_INK, parse_math=False)
        axes.text(0.37 + count / most * 0.5, at, f"{count:,}", ha="left", va="center", color=_SOFT)
    rows = len(spread.counts)
    if spread.others:
        axes.text(0.35, rows, "all others", ha="right", va="center", color=_SOFT)
        axes.text(0.37, rows, f"{spread.others:,}", ha="left", va="center", color=_SOFT)
        rows += 1
    axes.set_xlim(0, 1)
    axes.set_ylim(rows - 0.5, -0.5)


def _histogram(axes: Any, spread: Spread) -> None:
    """The counts from the lowest range to the highest, whose outer edges are written below."""
    counts, most = spread.counts, max(spread.counts)
    for at, count in enumerate(counts):
        axes.bar(at + 0.5, max(count / most, 0.012 if count else 0), width=0.92, color=_BAR)
    axes.plot([0, len(counts)], [0, 0], color=_REST, linewidth=0.8)
    unit = " characters" if spread.sort == "lengths" else ""
    axes.text(0, -0.1, spread.labels[0], ha="left", va="top", color=_SOFT, parse_math=False)
    axes.text(len(counts), -0.1, spread.labels[-1] + unit, ha="right", va="top", color=_SOFT, parse_math=False)
    axes.text(len(counts) / 2, 1.04, f"most in a bar: {most:,}", ha="center", va="bottom", color=_SOFT)
    axes.set_xlim(0, max(len(counts), 1))
    axes.set_ylim(-0.42, 1.32)


def _cut(label: str) -> str:
    text = visible(label)
    return text if len(text) <= 18 else text[:17] + "…"
