"""What every screen is drawn with: consoles, tables, cells, verdicts and errors."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import IO, Any, Literal

from rich import box
from rich.console import Console, ConsoleOptions
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from nomotheta.errors import NomothetaError, counted, visible, visible_lines

SIGNS = {"pass": "✓", "warn": "!", "fail": "✗", "error": "?"}
# colours that read on dark and on light grounds alike
GREEN, YELLOW, RED, MAGENTA = "color(28)", "color(130)", "color(196)", "color(164)"
TONES = {"pass": GREEN, "warn": YELLOW, "fail": RED, "error": MAGENTA}
_BARS = "▁▂▃▄▅▆▇█"
GAP = 3  # characters between the columns of a table
_VALUE = 200  # characters of a value that are shown
_ENDLESS = 1_000_000  # columns: what is read by a program is not folded


class Safe(Console):
    """A console on which no text, wherever it comes from, moves the cursor or changes the terminal."""

    def render(self, renderable: Any, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """What is drawn, with control characters as what they are."""
        for segment in super().render(renderable, options):
            if segment.control or segment.text == "\n" or segment.text.isprintable():
                yield segment
            else:
                yield Segment(visible_lines(segment.text), segment.style)


class _Stripped:
    """A file that gets no spaces at the ends of its lines."""

    def __init__(self, file: IO[str]) -> None:
        self._file = file

    def write(self, text: str) -> int:
        """Write some lines."""
        *lines, rest = text.split("\n")
        return self._file.write("\n".join([*(line.rstrip(" ") for line in lines), rest]))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


def out() -> Console:
    """Stdout."""
    return _console(sys.stdout)


def err() -> Console:
    """Stderr."""
    return _console(sys.stderr)


def _console(file: IO[str]) -> Console:
    """A console as wide as its terminal; elsewhere as COLUMNS says, or as long as its lines are."""
    if file.isatty():
        return Safe(file=file, highlight=False)
    columns = os.environ.get("COLUMNS", "")
    width = int(columns) if columns.isdecimal() and int(columns) else _ENDLESS
    return Safe(file=_Stripped(file), highlight=False, width=width)  # type: ignore[arg-type]


def show_error(error: NomothetaError) -> None:
    """What went wrong, where, and the mend."""
    console = err()
    where = f"{error.where}: " if error.where else ""
    console.print(Text(visible_lines(where + error.what), RED), soft_wrap=True)
    if error.mend:
        console.print(Text(f"→ {visible_lines(error.mend)}"), soft_wrap=True)


def verdict_text(verdict: str) -> Text:
    """A verdict with its sign and colour."""
    return Text(f"{SIGNS.get(verdict, '·')} {verdict}", TONES.get(verdict, ""))


def cell(value: object | None, none: str = "null") -> Text:
    """A value from data; a very long one is cut, and its length is told."""
    if value is None:
        return Text(none, "dim")
    text = visible(value)
    if len(text) > _VALUE:
        return Text(f"{text[:_VALUE]}… ({len(text):,} characters)")
    return Text(text if text == text.strip() and text else f"'{text}'")


def cut(text: Text, most: int) -> Text:
    """A text that takes no more than some columns; it says so where it was cut."""
    if text.cell_len > most:
        text = text.copy()
        text.truncate(most, overflow="ellipsis")
    return text


def number(value: int | None) -> Text:
    """A count."""
    return Text("–", "dim") if value is None else Text(f"{value:,}")


def plain_table(*columns: tuple[str, str]) -> Table:
    """A table without a frame; each column is a heading, and `right`, `whole` (never folded), or left and folded."""
    table = Table(box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for heading, side in columns:
        justify: Literal["right", "left"] = "right" if side == "right" else "left"
        table.add_column(heading, justify=justify, no_wrap=side in {"right", "whole"}, overflow="fold")
    return table


def rows_told(count: int) -> str:
    """A count of rows in words."""
    return counted(count, "row")


class Indented:
    """Something moved to the right, with empty lines below; it is drawn once, without being measured before."""

    def __init__(self, content: Any, by: int, below: int) -> None:
        self._content, self._by, self._below = content, by, below

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterable[Segment]:
        room = options.update_width(max(options.max_width - self._by, 1))
        for line in console.render_lines(self._content, room, pad=False):
            yield Segment(" " * self._by)
            yield from line
            yield Segment.line()
        for _ in range(self._below):
            yield Segment.line()


def indented(content: Any, by: int, below: int = 0) -> Indented:
    """Something moved to the right, with some empty lines below."""
    return Indented(content, by, below)


def relative(path: Path) -> str:
    """A path as it is typed from here."""
    here = Path.cwd()
    return str(path.relative_to(here)) if path.is_relative_to(here) else str(path)


def spark(values: Sequence[int | None]) -> str:
    """Numbers as bars of one line, the highest a full one; a dot where one is not known. One alone says nothing."""
    known = [value for value in values if value is not None]
    if len(values) < 2 or not known:
        return ""
    most = max(*known, 1)
    return "".join("·" if value is None else _BARS[max(value, 0) * (len(_BARS) - 1) // most] for value in values)
