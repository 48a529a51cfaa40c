"""Small charts as SVG, to stand within a page."""

from __future__ import annotations

import html
import io
import re
from typing import Any

from nomotheta.errors import visible
from nomotheta.peek import Spread

_INK, _SOFT, _BAR, _REST = "#1c2733", "#5b6b7a", "#3b6ea5", "#b9c6d3"
_COLOURS = {_INK: "ink", _SOFT: "soft", _BAR: "bar", _REST: "rest"}  # those of the style sheet, light or dark
_WIDTH, _LINE = 3.3, 0.19  # inches


def spread_chart(spread: Spread, name: str, number: int) -> str:
    """A bar a value, or a histogram, as an SVG element in the colours of the page it stands on.

    Args:
        spread: what is drawn.
        name: what it is of, for readers that do not see it.
        number: of the chart on its page, which tells its parts from those of others.
    """
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
    return _inline(written.getvalue().decode(), f"{spread.sort} of {name}", number)


def _inline(svg: str, told: str, number: int) -> str:
    """An SVG file as an element: without what only a file has, its ids and colours as the page needs them."""
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    svg = re.sub(r' id="(figure|patch|axes|text|line2d)_\d+"', "", svg)
    svg = re.sub(r'(id="|url\(#|href="#)', rf"\g<1>c{number}-", svg)
    for colour, variable in _COLOURS.items():
        svg = svg.replace(colour, f"var(--{variable})")
    return svg.replace("<svg ", f'<svg role="img" aria-label="{html.escape(visible(told))}" ', 1)


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
    counts, most, (start, end) = spread.counts, max(spread.counts), spread.inset
    last = len(counts) - end
    for at, count in enumerate(counts):
        left, right = max(at + 0.04, start), min(at + 0.96, last)
        axes.bar(
            left, max(count / most, 0.012 if count else 0), width=max(right - left, 0.02), align="edge", color=_BAR
        )
    axes.plot([start, last], [0, 0], color=_REST, linewidth=0.8)
    unit = " characters" if spread.sort == "lengths" else ""
    axes.text(start, -0.1, spread.labels[0], ha="left", va="top", color=_SOFT, parse_math=False)
    axes.text(last, -0.1, spread.labels[-1] + unit, ha="right", va="top", color=_SOFT, parse_math=False)
    axes.text((start + last) / 2, 1.04, f"most in a bar: {most:,}", ha="center", va="bottom", color=_SOFT)
    axes.set_xlim(start, max(last, start + 0.1))
    axes.set_ylim(-0.42, 1.32)


def _cut(label: str) -> str:
    text = visible(label)
    return text if len(text) <= 18 else text[:17] + "…"
