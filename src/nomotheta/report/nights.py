"""Nights as small drawings: a strip of verdicts, and bars of numbers, as SVG in the page's own colours."""

from __future__ import annotations

import html
from collections.abc import Mapping, Sequence

from nomotheta.errors import counted, visible
from nomotheta.ledger import Part
from nomotheta.report.words import STATES

_SIDE, _GAP, _FULL = 10, 3, 18  # pixels of a night in a strip, between two, and of the tallest
_HEIGHTS = {"pass": 9, "warn": 13, "fail": _FULL, "error": _FULL}
_WIDE, _TALL, _MOST = 560, 84, 60  # pixels of a chart; nights that it shows
_LEAST = 170  # pixels that two days need below it
GRAVEST = ("error", "fail", "warn", "pass")


def strip(parts: Sequence[Part], nights: int, *, terse: bool = False) -> str:
    """The verdicts of the newest nights, the newest at the right; the graver, the taller, and named when pointed at.

    Args:
        parts: of a table, the oldest first.
        nights: so many places there are; nights that a table lacks are left empty at the left.
        terse: whether those that passed are one shape without names: hundreds of strips are one page.
    """
    shown = parts[-nights:]
    width = nights * (_SIDE + _GAP)
    squares, passed = [], []
    for at, part in enumerate(shown, nights - len(shown)):
        x, tall = at * (_SIDE + _GAP), _HEIGHTS[part.verdict]
        if terse and part.verdict == "pass":  # as most do
            passed.append(f"M{x} {_FULL - tall}h{_SIDE}v{tall}h-{_SIDE}z")
            continue
        squares.append(
            f'<rect x="{x}" y="{_FULL - tall}" width="{_SIDE}" height="{tall}" rx="2" '
            f'fill="var(--{part.verdict})"{_paler(part)}><title>{_told(part)}</title></rect>'
        )
    if passed:
        squares.append(f'<path d="{"".join(passed)}" fill="var(--pass)"/>')
    counts = [f"{count} {each}" for each in GRAVEST if (count := sum(part.verdict == each for part in shown))]
    label = f"the last {counted(len(shown), 'night')}: {', '.join(counts) or 'none'}"
    return (
        f'<svg role="img" aria-label="{label}" width="{width}" height="{_FULL}" '
        f'viewBox="0 0 {width} {_FULL}" class="strip">{"".join(squares)}</svg>'
    )


def _paler(part: Part) -> str:
    """A table that was skipped is drawn paler than one that failed by itself."""
    return ' fill-opacity="0.45"' if part.state == "held back" else ""


def _told(part: Part) -> str:
    rows = f", {counted(part.loaded, 'row')} loaded" if part.loaded is not None else ""
    return html.escape(visible(f"{part.day}: {part.verdict}{rows}"))


def bars(values: Sequence[float | None], labels: Sequence[str], name: str, unit: str, *, small: bool = False) -> str:
    """Numbers by night as bars, each named when it is pointed at; the highest, the last and both ends are written.

    Args:
        values: the numbers, the oldest first; None where there is none.
        labels: the nights.
        name: what they are of, for readers that do not see them.
        unit: `rows`, `bytes`, `s`.
        small: without what is written, to stand in a line.
    """
    values, labels = values[-_MOST:], labels[-_MOST:]
    known = [value for value in values if value is not None]
    if not known:
        return ""
    above, below = (0, 1) if small else (14, 16)
    step, tall = (8, 20) if small else (_WIDE / max(len(values), 12), _TALL)
    most, wide = max(*known, 1e-9), len(values) * step if small else _WIDE
    drawn = []
    for at, (value, label) in enumerate(zip(values, labels, strict=True)):
        if not value:
            continue
        height = max(value / most * (tall - above - below), 1)
        told = html.escape(f"{label}: {_number(value, unit)}")
        drawn.append(
            f'<rect x="{at * step + 1:.1f}" y="{tall - below - height:.1f}" width="{max(step - 2, 1):.1f}" '
            f'height="{height:.1f}"><title>{told}</title></rect>'
        )
    drawn.append(f'<path d="M0 {tall - below + 0.5}H{wide:.0f}" stroke="var(--rest)"/>')
    label = html.escape(visible(f"{name}, {counted(len(known), 'night')}, at most {_number(max(known), unit)}"))
    size = f'width="{wide:.0f}" height="{tall}"' if small else f'viewBox="0 0 {wide} {tall}"'
    sort = "small" if small else "chart"
    texts = "" if small else _written(known, labels, len(values) * step, unit)
    return f'<svg role="img" aria-label="{label}" {size} class="{sort}">{"".join(drawn)}{texts}</svg>'


def run_rows(parts: Sequence[Part], pages: Mapping[int, str]) -> str:
    """The runs of a table as rows of an HTML table, the newest first: a template would take ten times as long.

    Args:
        parts: of the table, the oldest first.
        pages: the files of the pages of runs, seen from those of all tables.
    """
    name, made = html.escape(visible(parts[-1].table)), []
    for part in reversed(parts):
        run = f"run {part.run_id}"
        if part.run_id in pages:
            run = f'<a href="../{pages[part.run_id]}#{name}">{run}</a>'
        cells = [
            ("day", str(part.day)), ("run", run),
            ("verdict", f'<span class="badge {part.verdict}">{part.verdict}</span>'),
            ("what happened", html.escape(STATES[part.state])),
        ]  # fmt: skip
        numbers = {"loaded": part.loaded, "rejected": part.rejected, "in table": part.rows}
        told = {name: "–" if value is None else f"{value:,}" for name, value in numbers.items()}
        told["seconds"] = f"{part.seconds:.1f}"
        made.append("<tr>")
        made += [f'<td data-label="{label}">{text}</td>' for label, text in cells]
        made += [f'<td class="n" data-label="{label}">{text}</td>' for label, text in told.items()]
        made.append("</tr>\n")
    return "".join(made)


def _written(known: Sequence[float], labels: Sequence[str], right: float, unit: str) -> str:
    """What is written in a chart: its highest and last number, and the nights at its ends."""
    first, last, y = html.escape(labels[0]), html.escape(labels[-1]), _TALL - 3
    top = f'<text x="0" y="10">highest {_number(max(known), unit)}, last {_number(known[-1], unit)}</text>'
    if right < _LEAST:
        return f'{top}<text x="0" y="{y}">{first if first == last else f"{first} to {last}"}</text>'
    return f'{top}<text x="0" y="{y}">{first}</text><text x="{right:.1f}" y="{y}" text-anchor="end">{last}</text>'


def _number(value: float, unit: str) -> str:
    """A number with its unit: 1 row, 2 rows, 0.25 s."""
    told = f"{value:,.0f}" if float(value).is_integer() else f"{value:,.2f}"
    return f"{told} {unit.removesuffix('s') if value == 1 and unit != 's' else unit}"
