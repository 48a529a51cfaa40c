"""The account of a load as a drawing: lines become records, records become rows, and rows the table."""

from __future__ import annotations

import html
from collections.abc import Iterator, Sequence

from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance

_WIDE, _TALL, _TOP = 760, 168, 22  # pixels
_BAR, _LEAST, _LINE = 12, 3, 14  # of a stack's width, of the thinnest part, of a line of text
_AT = (0, 270, 540)  # where the stacks stand


@frozen
class _Part:
    name: str
    count: int
    colour: str
    y: float = 0
    height: float = 0


def flow(balance: Balance, *, undone: bool = False) -> str:
    """The drawing, as an SVG element; counts of nothing are left out.

    Args:
        balance: the load's.
        undone: whether it was rolled back, so that the table is as it was before.
    """
    whole = balance.together()
    lines = _stacked([
        ("in records", whole.record_lines, "bar"), ("header", whole.header, "rest"),
        ("comment", whole.comment, "rest"), ("empty", whole.empty, "rest"), ("footer", whole.footer, "rest"),
    ])  # fmt: skip
    copies = "copy" if balance.copies == 1 else "copies"
    conflicts = "conflict" if balance.conflicts == 1 else "conflicts"
    records = _stacked([
        ("loaded", balance.loaded, "pass"), ("rejected", balance.rejected, "fail"), (copies, balance.copies, "warn"),
        (conflicts, balance.conflicts, "warn"), ("skipped", balance.skipped, "rest"),
    ])  # fmt: skip
    came = balance.inserted if balance.how == "merge" else balance.loaded
    stays = balance.before - balance.removed
    rows = balance.before if undone else stays
    table = _stacked([("loaded", 0 if undone else came, "pass"), ("there before", rows, "bar")])
    after = balance.before if undone else balance.after
    heads = (
        counted(sum(part.count for part in lines), "line"), counted(balance.records, "record"),
        f"{counted(after, 'row')} in the table",
    )  # fmt: skip
    drawn = [*_bands(lines[:1], records), *_bands(records[:1], table[:1] if not undone else [])]
    tall = float(_TALL)
    for x, head, parts in zip(_AT, heads, (lines, records, table), strict=True):
        drawn.append(f'<text x="{x}" y="11" class="head">{html.escape(head)}</text>')
        for part, y in _named(parts):
            drawn += _drawn(x, part, y)
            tall = max(tall, y + 6)
    told = "; ".join(
        f"{head}: {', '.join(f'{part.count:,} {part.name}' for part in parts)}"
        for head, parts in zip(heads, (lines, records, table), strict=True)
    )
    size = f'viewBox="0 0 {_WIDE} {tall:.0f}" class="flow"'
    return f'<svg role="img" aria-label="{html.escape(told)}" {size}>{"".join(drawn)}</svg>'


def _stacked(parts: Sequence[tuple[str, int, str]]) -> list[_Part]:
    """The parts that there are, one below the other, each as high as its share, and none too thin to be seen."""
    there = [part for part in parts if part[1] > 0]
    room = _TALL - _TOP - _LEAST * len(there)
    total = sum(count for _, count, _ in there) or 1
    found, y = [], float(_TOP)
    for name, count, colour in there:
        height = _LEAST + room * count / total
        found.append(_Part(name, count, colour, y, height))
        y += height
    return found


def _bands(ends: Sequence[_Part], starts: Sequence[_Part]) -> Iterator[str]:
    """What goes over from a part into the parts beside it."""
    if not ends or not starts:
        return
    (end,), first, last = ends, starts[0], starts[-1]
    left, right = (_AT[0], _AT[1]) if end.name == "in records" else (_AT[1], _AT[2])
    x, to, middle = left + _BAR, right, (left + _BAR + right) / 2
    bottom = last.y + last.height
    yield (
        f'<path d="M{x} {end.y:.1f}C{middle} {end.y:.1f} {middle} {first.y:.1f} {to} {first.y:.1f}V{bottom:.1f}'
        f'C{middle} {bottom:.1f} {middle} {end.y + end.height:.1f} {x} {end.y + end.height:.1f}Z" '
        f'fill="var(--{end.colour})" fill-opacity="0.14"/>'
    )


def _named(parts: Sequence[_Part]) -> Iterator[tuple[_Part, float]]:
    """Each part, and where its name stands: names that would stand on each other are moved down."""
    free = 0.0
    for part in parts:
        free = max(part.y + min(part.height / 2, 24) + 4, free + _LINE)
        yield part, free


def _drawn(x: int, part: _Part, y: float) -> Iterator[str]:
    """A part of a stack, and what it is."""
    yield f'<rect x="{x}" y="{part.y:.1f}" width="{_BAR}" height="{part.height:.1f}" fill="var(--{part.colour})"/>'
    yield f'<text x="{x + _BAR + 6}" y="{y:.1f}">{part.count:,} {html.escape(part.name)}</text>'
