"""What became of the records of some loads, as a PNG for readers that show no page."""

from __future__ import annotations

import io
import warnings
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.errors import counted, visible

_INK, _SOFT, _GROUND, _BACK = "#1c2733", "#5b6b7a", "#ffffff", "#7d8b99"
# what becomes of a record, in the words and colours of the picture
FATES: Mapping[str, tuple[str, str, str]] = {
    "loaded": ("loaded", "loaded", "#2e8b57"), "rejected": ("rejected", "rejected", "#d64545"),
    "copies": ("copy", "copies", "#8fa3b5"), "conflicts": ("conflict", "conflicts", "#b7791f"),
    "skipped": ("left out", "left out", "#d9e0e6"),
}  # fmt: skip
_WIDE, _DOTS, _TALL = 6.4, 150, 0.52  # inches of the picture, dots an inch, inches of a load
_LEAST = 0.008  # of the width: a row among millions is to be seen
_MOST_NAME = 48  # characters


def told(account: Mapping[str, Any]) -> str:
    """An account in words: tickets, 3,002 records: 2,992 loaded, 8 rejected, 2 copies."""
    parts = ", ".join(words for _, words, _ in _parts(account))
    return f"{_name(account)}, {counted(account['records'], 'record')}: {parts}"


def account_picture(accounts: Sequence[Mapping[str, Any]]) -> bytes:
    """A bar a load, of its records by what became of them, with the numbers below it.

    Args:
        accounts: for each load its `table`, its `records`, how many of them had each of the `FATES`, and whether it
            was `rolled_back`.
    """
    with warnings.catch_warnings(action="ignore"):  # of letters that the font has not, of what the library will lack
        return _drawn(accounts)


def _drawn(accounts: Sequence[Mapping[str, Any]]) -> bytes:
    import matplotlib as mpl
    from matplotlib.figure import Figure

    with mpl.rc_context({"font.family": "DejaVu Sans", "font.size": 8}):
        figure = Figure(figsize=(_WIDE, _TALL * len(accounts) + 0.1), dpi=_DOTS, facecolor=_GROUND)
        axes = figure.add_axes((0.01, 0.01, 0.98, 0.98))
        for at, account in enumerate(accounts):
            _bar(axes, at, account)
        axes.set_xlim(0, 1)
        axes.set_ylim(len(accounts), 0)
        axes.set_axis_off()
        written = io.BytesIO()
        figure.savefig(written, format="png", metadata={"Software": None})
    return written.getvalue()


def _bar(axes: Any, at: int, account: Mapping[str, Any]) -> None:
    """One load: its name and records, the bar, and its parts with their numbers."""
    axes.text(0, at + 0.2, _name(account), color=_INK, weight="bold", va="center", parse_math=False)
    axes.text(1, at + 0.2, counted(account["records"], "record"), color=_SOFT, ha="right", va="center")
    parts = _parts(account)
    shares = [max(count / max(account["records"], 1), _LEAST) if count else 0.0 for count, *_ in parts]
    left, whole = 0.0, sum(shares) or 1.0
    for share, (*_, colour) in zip(shares, parts, strict=True):
        axes.barh(at + 0.46, share / whole, left=left, height=0.2, color=colour)
        left += share / whole
    x = 0.0
    for _, words, colour in parts:
        axes.barh(at + 0.76, 0.012, left=x, height=0.14, color=colour)
        axes.text(x + 0.018, at + 0.76, words, color=_SOFT, va="center", fontsize=7.5)
        x += 0.018 + 0.0118 * len(words) + 0.02


def _parts(account: Mapping[str, Any]) -> list[tuple[int, str, str]]:
    """The parts of an account: how many records, the same in words, and a colour."""
    found = []
    for fate, (one, more, colour) in FATES.items():
        count = int(account[fate])
        if fate == "loaded" and account["rolled_back"]:
            found.append((count, f"{count:,} rolled back", _BACK))
        elif count or fate == "loaded":
            found.append((count, f"{count:,} {one if count == 1 else more}", colour))
    return found


def _name(account: Mapping[str, Any]) -> str:
    name = visible(str(account["table"]))
    return name if len(name) <= _MOST_NAME else f"{name[: _MOST_NAME - 1]}…"
