"""Whether one cause explains all rows that differ, in a line an analyst would say."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterator, Sequence
from decimal import ROUND_DOWN, ROUND_HALF_EVEN, ROUND_HALF_UP, Decimal, InvalidOperation, localcontext

from nomotheta.conditions import Kind
from nomotheta.errors import counted, visible
from nomotheta.reconcile.side import Compared

Row = tuple[str | None, ...]
Pair = tuple[Row, Row]  # canonical texts of a row, in the source and in the target
Placed = Sequence[tuple[Row, tuple[str, int | None]]]  # rows, with the file and line of each
Others = Callable[[int, str, str | None], bool]
_FEWEST = 2  # rows that make a pattern
_MORE, _LESS = " more than the source", " less than the source"
_DAYS = 10  # characters of a date at the beginning of a moment


def causes_of(
    what: Compared, changed: Sequence[Pair], lacking: tuple[Placed, Placed], sides: Sequence[Placed], others: Others
) -> str:  # fmt: skip
    """What explains all rows that changed, all that are missing, all that are unexpected; empty where nothing does.

    Args:
        what: what was compared.
        changed: rows of one key that differ, in the source and in the target.
        lacking: the rows that only the source has, and those that only the target has, apart from these.
        sides: all rows that were looked at, of both.
        others: whether a side has rows with another value of a column, where none were looked at.
    """
    found = [_of_cells(what, changed) if changed else ""]
    found += (
        [_of_rows(what, side, lacking[side], sides, others) for side in (0, 1)] if what.key or not all(lacking) else []
    )
    return "; ".join(filter(None, found))


# ---- rows that one side lacks


def _of_rows(what: Compared, side: int, mine: Placed, sides: Sequence[Placed], others: Others) -> str:
    if len(mine) < _FEWEST:
        return ""
    rows = f"all {len(mine):,} rows" if len(mine) > _FEWEST else "both rows"
    fate = ("are missing", "are not in the source")[side]
    files = {file for _, (file, _) in mine}
    if len(files) == 1 and {file for _, (file, _) in sides[side]} - files:
        return f"{rows} that {fate} come from {visible(next(iter(files)))}"
    if {row for row, _ in mine} <= {row for row, _ in sides[1 - side]}:
        more, fewer = ("source", "target") if side == 0 else ("target", "source")
        return f"{rows} are copies of rows that the {fewer} has too: the {more} holds them more often"
    for at, (name, kind) in enumerate(what.kinds.items()):
        if kind.name not in {"date", "timestamp", "timestamptz", "text", "integer", "boolean"} or name in what.private:
            continue
        if kind.name == "integer" and name in what.key:
            continue
        of = _day if kind.name.startswith(("date", "timestamp")) else _itself
        values = {of(row[at]) for row, _ in mine}
        rest = {of(row[at]) for row, _ in sides[side]} - values
        if len(values) != 1:
            continue
        value = next(iter(values))
        if rest or others(side, name, value):
            return f"{rows} that {fate} have {name} {'null' if value is None else visible(value)}"
    return ""


def _day(text: str | None) -> str | None:
    return text and text[:_DAYS]


def _itself(text: str | None) -> str | None:
    return text


# ---- rows whose cells differ


def _of_cells(what: Compared, changed: Sequence[Pair]) -> str:
    names = list(what.kinds)
    cells = [
        {at for at, (text, other) in enumerate(zip(*pair, strict=True)) if text != other} for pair in changed
    ]  # fmt: skip
    columns = set[int]().union(*cells)
    several = f"in {'both' if len(changed) == _FEWEST else f'all {len(changed):,}'} rows"
    where = several if len(changed) > 1 else ""
    swapped = _swapped(changed, columns)
    if swapped:
        first, second = (names[at] for at in swapped)
        return f"{first} and {second} are swapped {where}".rstrip()
    if len(columns) > 1 and len(changed) > 1 and all(each == columns for each in cells):
        told = _one_change(what, changed, columns)
        return f"{_listed([names[at] for at in sorted(columns)])}: {told} {where}" if told else ""
    if len(columns) != 1:
        told = _one_change(what, changed, columns) if columns else ""
        return (
            f"{told} in {counted(len(changed), 'row')}, in {_listed([names[at] for at in sorted(columns)])}"
            if told
            else ""
        )
    told = _one_change(what, changed, columns)
    name = names[next(iter(columns))]
    if told and (where or not told.endswith((_MORE, _LESS))):
        return f"{name}: {told} {where}".rstrip()
    return f"only {name} differs, {several}" if len(changed) > 1 else ""


def _listed(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else names[0]


def _swapped(changed: Sequence[Pair], columns: set[int]) -> tuple[int, ...]:
    if len(columns) != 2:
        return ()
    first, second = sorted(columns)
    each = all((row[first], row[second]) == (other[second], other[first]) for row, other in changed)
    return (first, second) if each else ()


def _one_change(what: Compared, changed: Sequence[Pair], columns: set[int]) -> str:
    """What was done to every cell that differs; empty where it is not the same with all."""
    kinds = list(what.kinds.values())
    told: set[str] | None = None
    for row, other in changed:
        for at in columns:
            if row[at] != other[at]:
                here = set(_changes(row[at], other[at], kinds[at]))
                told = here if told is None else told & here
                if not told:
                    return ""
    order = [*_PLAINLY, *sorted(told or (), key=lambda each: (each.endswith((_MORE, _LESS)), each))]
    return min(told, key=order.index) if told else ""


_PLAINLY = (
    "null became empty", "empty became null", "values became null", "nulls became values",
    "spaces were added at the end", "spaces at the end were cut off", "spaces at the edges differ",
    "upper and lower case differ",
)  # fmt: skip


def _changes(text: str | None, other: str | None, kind: Kind) -> Iterator[str]:
    """All that may have been done to make one value of the other."""
    if text is None or other is None:
        yield from _nulls(text, other)
    elif kind.name == "text":
        yield from _of_texts(text, other)
    elif kind.name in {"integer", "decimal"}:
        yield from _of_numbers(text, other)
    elif kind.name in {"date", "timestamp", "timestamptz"}:
        yield from _of_moments(text, other)
    elif kind.name == "boolean":
        yield "true and false are exchanged"


def _nulls(text: str | None, other: str | None) -> Iterator[str]:
    if text == "":
        yield "empty became null"
    elif other == "":
        yield "null became empty"
    else:
        yield "values became null" if other is None else "nulls became values"


def _of_texts(text: str, other: str) -> Iterator[str]:
    if text.strip() == other.strip():
        if text == other.rstrip():
            yield "spaces were added at the end"
        elif other == text.rstrip():
            yield "spaces at the end were cut off"
        yield "spaces at the edges differ"
    if text.casefold() == other.casefold():
        yield "upper and lower case differ"
    if other and text.startswith(other):
        yield f"texts were cut to {counted(len(other), 'character')}"
    for encoding in ("latin-1", "cp1252"):
        if _misread(text, other, encoding):
            yield "UTF-8 was read as another encoding"
    if other.lstrip("0") == text.lstrip("0"):
        yield "zeros at the front differ"


def _misread(text: str, other: str, encoding: str) -> bool:
    try:
        return text.encode().decode(encoding) == other
    except UnicodeDecodeError:
        return False


def _of_numbers(text: str, other: str) -> Iterator[str]:
    try:
        value, its = Decimal(text), Decimal(other)
    except InvalidOperation:
        return
    if value == -its:
        yield "the sign was turned"
    if value and its:
        with localcontext(prec=60):
            share = its / value
        for factor in (10, 100, 1000, 10_000):
            if share == factor:
                yield f"the target is {factor:,} times the source"
            if share * factor == 1:
                yield f"the source is {factor:,} times the target"
    exponent = value.as_tuple().exponent
    places = -exponent if isinstance(exponent, int) else 0
    for kept in range(places):
        step = Decimal(1).scaleb(-kept)
        for how, told in ((ROUND_HALF_UP, "rounded"), (ROUND_HALF_EVEN, "rounded"), (ROUND_DOWN, "cut")):
            if _quantized(value, step, how) == its:
                yield f"values were {told} to {counted(kept, 'decimal place') if kept else 'whole numbers'}"
    with localcontext(prec=60):
        yield f"the target is {_signed(its - value)}"


def _quantized(value: Decimal, step: Decimal, how: str) -> Decimal:
    with localcontext(prec=60):
        return value.quantize(step, how)


def _signed(difference: Decimal) -> str:
    return f"{abs(difference):,f}{_MORE if difference > 0 else _LESS}"


def _of_moments(text: str, other: str) -> Iterator[str]:
    try:
        value, its = (datetime.datetime.fromisoformat(each) for each in (text, other))
    except ValueError:
        return
    shift = its - value
    told = "later" if shift > datetime.timedelta() else "earlier"
    yield f"the target is {_span(abs(shift))} {told}"
    if len(text) > _DAYS and other[:_DAYS] == text[:_DAYS] and its.time() == datetime.time():
        yield "the time of day was lost"
    if its == value.replace(microsecond=its.microsecond):
        yield "fractions of a second differ"
    if (value.year, value.month, value.day) == (its.year, its.day, its.month):
        yield "day and month are exchanged"


def _span(shift: datetime.timedelta) -> str:
    """A span of time in its largest unit that is whole."""
    micros = shift // datetime.timedelta(microseconds=1)
    units: Sequence[tuple[int, str]] = (
        (86_400_000_000, "day"), (3_600_000_000, "hour"), (60_000_000, "minute"), (1_000_000, "second"),
        (1_000, "millisecond"), (1, "microsecond"),
    )  # fmt: skip
    size, name = next(each for each in units if micros % each[0] == 0)
    return counted(micros // size, name)
