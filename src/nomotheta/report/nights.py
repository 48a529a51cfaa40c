"""Nights as small drawings: a strip of verdicts, and bars of numbers, as SVG in the page's own colours."""

from __future__ import annotations

import html
from collections.abc import Sequence

from nomotheta.errors import counted, visible
from nomotheta.ledger import Part

_SIDE, _GAP = 10, 3  # pixels of a night in a strip, and between two
_WIDE, _TALL, _MOST = 560, 84, 60  # pixels of a chart; nights that it shows
_LEAST = 170  # pixels that two days need below it
GRAVEST = ("error", "fail", "warn", "pass")


def strip(parts: Sequence[Part], nights: int) -> str:
    """The verdicts of the newest nights, the newest at the right; each says what it is of when it is pointed at."""
    shown = parts[-nights:]
    width = nights * (_SIDE + _GAP)
    squares = [
        f'<rect x="{(nights - len(shown) + at) * (_SIDE + _GAP)}" y="0" width="{_SIDE}" height="18" rx="2" '
        f'fill="var(--{part.verdict})"{_hatched(part)}><title>{_told(part)}</title></rect>'
        for at, part in enumerate(shown)
    ]
    counts = [f"{count} {each}" for each in GRAVEST if (count := sum(part.verdict == each for part in shown))]
    label = f"the last {counted(len(shown), 'night')}: {', '.join(counts) or 'none'}"
    return f'<svg role="img" aria-label="{label}" width="{width}" height="18" class="strip">{"".join(squares)}</svg>'


def _hatched(part: Part) -> str:
    """A table that was skipped is drawn paler than one that failed by itself."""
    return ' fill-opacity="0.45"' if part.state == "held back" else ""


def _told(part: Part) -> str:
    rows = f", {counted(part.loaded, 'row')} loaded" if part.loaded is not None else ""
    return html.escape(visible(f"{part.day}: {part.verdict}{rows}"))


def bars(values: Sequence[float | None], labels: Sequence[str], name: str, unit: str) -> str:
    """Numbers by night as bars, each named when it is pointed at; the highest and both ends are written."""
    values, labels = values[-_MOST:], labels[-_MOST:]
    known = [value for value in values if value is not None]
    if not known:
        return ""
    most, step = max(*known, 1e-9), _WIDE / max(len(values), 12)
    drawn = []
    for at, (value, label) in enumerate(zip(values, labels, strict=True)):
        if value is None:
            continue
        height = max(value / most * (_TALL - 30), 1 if value else 0)
        told = html.escape(f"{label}: {_number(value)} {unit}")
        drawn.append(
            f'<rect x="{at * step + 1:.1f}" y="{_TALL - 16 - height:.1f}" width="{max(step - 2, 1):.1f}" '
            f'height="{height:.1f}" fill="var(--bar)"><title>{told}</title></rect>'
        )
    base = f'<path d="M0 {_TALL - 15.5}H{_WIDE}" stroke="var(--rest)"/>'
    first, last, below = html.escape(labels[0]), html.escape(labels[-1]), _TALL - 3
    right = max(len(values) * step, _LEAST)
    end = f'<text x="{right:.1f}" y="{below}" text-anchor="end">{last}</text>'
    start = f'<text x="0" y="{below}">{first}</text>' if len(values) > 1 else ""
    top = f'<text x="0" y="10">most {_number(max(known))} {unit}, last {_number(known[-1])}</text>'
    label = html.escape(f"{name}, {counted(len(known), 'night')}, at most {_number(max(known))} {unit}")
    return (
        f'<svg role="img" aria-label="{label}" viewBox="0 0 {_WIDE} {_TALL}" class="chart">'
        f"{base}{''.join(drawn)}{top}{start}{end}</svg>"
    )


def _number(value: float) -> str:
    return f"{value:,.0f}" if float(value).is_integer() else f"{value:,.2f}"
