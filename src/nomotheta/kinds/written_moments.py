"""How days and times that are written in declared forms are read by a database, as conditions: see `written`."""

from __future__ import annotations

import calendar
import datetime
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from nomotheta.conditions import Kind, Node, build
from nomotheta.frozen import frozen
from nomotheta.kinds.moments import Form
from nomotheta.kinds.trees import (
    BOOLEAN,
    INTEGER,
    as_kind,
    both,
    chopped,
    end_of,
    is_one_of,
    listed,
    literal,
    matches,
    node_of,
    when,
)  # fmt: skip
from nomotheta.kinds.zones import changes_between
from nomotheta.layout import Layout

ZONED = r"(.|\n)*(Z|[+-](0[0-9]|1[0-5]):?[0-5][0-9])"
_DAY = {"Y", "y", "m", "d"}
_DAYS_TOLD: tuple[set[str], ...] = (set(), {"Y", "m", "d"}, {"y", "m", "d"})
_FRACTION = 9  # digits of a second's fraction, which may be fewer
_MOST_FORMS = 24  # of fixed width, which a column may be written in
_MONTHS_OF_30, _MONTHS_OF_31, _FEBRUARY = (4, 6, 9, 11), (1, 3, 5, 7, 8, 10, 12), (2,)
_LEAP = "([0-9]{2}(0[48]|[2468][048]|[13579][26])|(0[48]|[2468][048]|[13579][26])00)"
_YEAR = "([0-9]{3}[1-9]|[0-9]{2}[1-9]0|[0-9][1-9]00|[1-9]000)"
_DAYS = {"31": "(0[1-9]|[12][0-9]|3[01])", "30": "(0[1-9]|[12][0-9]|30)", "28": "(0[1-9]|1[0-9]|2[0-8])", "29": "29"}
_PLAIN_DAYS = {"d": (1, 28), "m": (1, 12), "H": (0, 23)}  # which are in every calendar
_CLOCK = {
    "H": "([01][0-9]|2[0-3])", "I": "(0[1-9]|1[0-2])", "M": "[0-5][0-9]", "S": "[0-5][0-9]", "p": "[aApP][mM]",
}  # fmt: skip
_MIDNIGHT = {"H": "24", "M": "00", "S": "00"}
_FIRST_YEAR, _END_YEAR = 1900, 2100  # in which the clocks of zones are told to a database
_SECOND, _A_DAY = 1_000_000, 86_400  # microseconds; seconds
_TIMESTAMPTZ = Kind("timestamptz")
_NAMED = {"b", "B"}


@frozen
class _Letters:
    """A form in letters, not bytes; `words` are the names that months have in it, by their numbers."""

    form: Form
    words: Sequence[tuple[int, str]] = ()

    @classmethod
    def all_of(cls, form: Form) -> Iterator[_Letters]:
        """The forms in letters that one of bytes stands for: names of as many bytes may have more or fewer letters."""
        name = next((each for each in form.fields if each[0] in _NAMED), None)
        if name is None:
            yield cls(_in_letters(form, {}))
            return
        sign, at, width = name
        words = [(number, word.decode()) for number, word in enumerate(form.names[sign], 1) if len(word) == width]
        for letters in sorted({len(word) for _, word in words}):
            yield cls(_in_letters(form, {at: letters}), [each for each in words if len(each[1]) == letters])


def _in_letters(form: Form, widths: dict[int, int]) -> Form:
    """A form whose places and widths count letters."""
    bytes_at = {at: bytes([byte]) for at, byte in form.literals}
    fields = {at: (sign, width) for sign, at, width in form.fields}
    at, place, found, literals = 0, 0, [], []
    while at < form.width:
        if at in fields:
            sign, width = fields[at]
            found.append((sign, place, widths.get(at, width)))
            at, place = at + width, place + widths.get(at, width)
            continue
        run = b""
        while at in bytes_at:
            run += bytes_at[at]
            at += 1
        for letter in run.decode():
            literals.append((place, ord(letter)))
            place += 1
    return replace(form, width=place, fields=tuple(found), literals=tuple(literals))


def moment(text: str, kind: Kind, layout: Layout) -> Node | None:
    """A day, a time or both: one form after the other, and the first that fits counts; None where that is too much.

    A timestamptz is the local time as if it were one of UTC.
    """
    declared = {"date": layout.date_forms, "time": layout.time_forms}.get(kind.name, layout.timestamp_forms)
    forms = [form for each in declared for form in Form.all_of(each, layout) if not _is_shorter(form)]
    if len(forms) > _MOST_FORMS:
        return None
    found: Node | None = None
    for letters in reversed([each for form in forms for each in _Letters.all_of(form)]):
        read = _of_form(text, kind, letters, layout)
        if read is None:
            return None
        for condition, value in reversed(read):
            found = when(condition, value, found)
    return found


def _is_shorter(form: Form) -> bool:
    """Whether a form differs from another in nothing but the length of the fraction at its end: the longest is kept."""
    sign, at, width = form.fields[-1] if form.fields else ("", 0, 0)
    return sign == "f" and at + width == form.width and width < _FRACTION


def _of_form(text: str, kind: Kind, letters: _Letters, layout: Layout) -> list[tuple[Node, Node | None]] | None:
    """The conditions that a text has a form, each with its value then; None where a database might see it otherwise."""
    form, words = letters.form, letters.words
    if not _is_sure(letters, kind, layout):
        return None
    exact = _shapes(letters, layout, _CLOCK)
    if exact is None:
        return []
    day, clock = _told(text, letters, layout)
    fields = {_field(sign) for sign, _, _ in form.fields}
    quick = None if words or {"I", "p"} & fields else _quick(text, form)
    matched = matches(text, exact)
    met = Node("quickly", [quick, matched], kind=BOOLEAN) if quick else matched
    told = " || ' ' || ".join(filter(None, (day, clock if kind.name != "date" else "")))
    found: list[tuple[Node, Node | None]] = [(met, as_kind(kind, text if _is_iso(form, kind) else told))]
    late = _shapes(letters, layout, {**_CLOCK, **_MIDNIGHT}) if layout.midnight_24 and "H" in fields else None
    if late is not None and kind.name in {"timestamp", "timestamptz"}:  # 24:00 of the last day is beyond it
        next_day = later(as_kind(kind, f"{day} || ' 00:00:00'"), build.constant(_A_DAY, INTEGER))
        found.append((matches(text, late), when(f"{day} <> '9999-12-31'", next_day)))
    return found


def _is_sure(letters: _Letters, kind: Kind, layout: Layout) -> bool:
    """Whether a form says all that a moment of a kind needs, and each of it once."""
    form, lower = letters.form, [word.lower() for _, word in letters.words]
    fields = {_field(sign) for sign, _, _ in form.fields}
    days, clock = _DAY & fields, fields - _DAY
    hours = clock & {"H", "I"}
    spaced = bool(form.literals) and form.literals[-1] == (form.width - 1, ord(" "))  # it might be that before a zone
    return (
        len(fields) == len(form.fields) and days in _DAYS_TOLD and not spaced
        and len(set(lower)) == len(lower) and ("y" not in days or bool(layout.two_digit_years_from))
        and (not clock or (len(hours) == 1 and clock <= {*_CLOCK, "f"}))
        and bool(days) == (kind.name != "time")
        and (kind.name not in {"date", "time"} or bool(clock) == (kind.name == "time"))
    )  # fmt: skip


def _told(text: str, letters: _Letters, layout: Layout) -> tuple[str, str]:
    """The day and the time that a text tells, in the language, as every database reads them; empty for no day."""
    fields = {_field(sign): (at, width) for sign, at, width in letters.form.fields}

    def part(sign: str) -> str:
        if sign not in fields:
            return "'00'"
        at, width = fields[sign]
        found = f"substring({text}, {at + 1}, {min(width, 6) if sign == 'f' else width})"
        if sign == "m" and letters.words:
            return _number_of(found, letters.words)
        return found if width > 1 or sign == "f" else f"'0' || {found}"

    year, first = part("Y"), layout.two_digit_years_from
    if "y" in fields and first:
        short = part("y")
        century = f"case when {short} >= '{first % 100:02}' then '{first // 100:02}' else '{first // 100 + 1:02}' end"
        year = f"{century} || {short}"
    hour = _hour_of_day(part("I"), part("p") if "p" in fields else "") if "I" in fields else part("H")
    day = f"{year} || '-' || {part('m')} || '-' || {part('d')}" if "d" in fields else ""
    return day, f"{hour} || ':' || {part('M')} || ':' || {part('S')}" + f" || '.' || {part('f')}" * ("f" in fields)


def _field(sign: str) -> str:
    return "m" if sign in _NAMED else sign.removeprefix("-")


def _number_of(text: str, words: Sequence[tuple[int, str]]) -> str:
    """The number of a month by its name, of which no letter but those of ASCII has a case."""
    if all(word.isascii() for _, word in words):
        parts = [f"when lower({text}) = {literal(word)} then '{number:02}'" for number, word in words]
    else:
        parts = [f"when {text} ~ {literal(_any_case(word))} then '{number:02}'" for number, word in words]
    return f"case {' '.join(parts)} end"


def _any_case(word: str) -> str:
    letters = (f"[{each}{each.upper()}]" if each.isascii() and each.isalpha() else _escaped(each) for each in word)
    return "".join(letters)


def _hour_of_day(hour: str, half: str) -> str:
    """An hour of a clock of twelve, of the first half of the day unless it is said to be of the second."""
    whens = [f"when {hour} = '12' then '00'"]
    if half:
        after = " ".join(f"when {hour} = '{number:02}' then '{number % 12 + 12}'" for number in range(1, 13))
        whens.insert(0, f"when substring({half}, 1, 1) in ('p', 'P') then case {after} end")
    return f"case {' '.join(whens)} else {hour} end"


def _shapes(letters: _Letters, layout: Layout, clock: dict[str, str]) -> str | None:
    """The pattern of a form; None where nothing can be written in it."""
    form, words = letters.form, letters.words
    if not _DAY & {_field(sign) for sign, _, _ in form.fields}:
        return _shape(form, clock) or None
    first = layout.two_digit_years_from
    short = any(sign == "y" for sign, _, _ in form.fields)
    years, leap = _short_years(first) if short and first else (_YEAR, _LEAP)
    found = []
    for numbers, days, year in (
        (_MONTHS_OF_31, "31", years), (_MONTHS_OF_30, "30", years), (_FEBRUARY, "28", years), (_FEBRUARY, "29", leap),
    ):  # fmt: skip
        month = "|".join(f"{number:02}" for number in numbers)
        if words:
            month = "|".join(_any_case(word) for number, word in words if number in numbers)
        if month:
            found.append(_shape(form, {**clock, "m": f"({month})", "d": _DAYS[days], "Y": year, "y": year}))
    return "|".join(dict.fromkeys(filter(None, found))) or None


def _is_iso(form: Form, kind: Kind) -> bool:
    """Whether texts of a form are written as every database reads moments."""
    signs = {at: f"%{sign}" for sign, at, _ in form.fields} | {at: chr(letter) for at, letter in form.literals}
    day, clock = "%Y-%m-%d", "%H:%M:%S"
    known = {"date": [day], "time": [clock], "timestamp": [f"{day} {clock}", f"{day}T{clock}"]}
    return "".join(signs[at] for at in sorted(signs)) in known.get(kind.name, ())


def _quick(text: str, form: Form) -> Node | None:
    """A condition that most texts of a form meet, and none of another: where patterns are slow, it is asked first."""
    like, parts = ["_"] * form.width, []
    for at, letter in form.literals:
        like[at] = chr(letter)
    if "f" in (sign for sign, _, _ in form.fields) or {"%", "_"} & {chr(letter) for _, letter in form.literals}:
        return None
    for sign, at, width in form.fields:
        kind, several = sign.removeprefix("-"), []
        if kind in {"Y", "y"}:
            several = [(at, ["19", "20"])] * (kind == "Y")
            several += [(each, [*"0123456789"]) for each in range(at + width - 2, at + width)]
        else:
            least, most = _PLAIN_DAYS.get(kind, (0, 59))
            numbers = [f"{number:{'' if sign.startswith('-') else '02'}}" for number in range(least, most + 1)]
            several = [(at, [number for number in numbers if len(number) == width])]
        for first, values in several:
            part = f"substring({text}, {first + 1}, {len(values[0]) if values else 0})"
            parts.append(f"{part} in ({listed(values)})" if values else "false")
    return node_of(" and ".join([f"{text} like {literal(''.join(like))}", *parts]))


def _short_years(first: int) -> tuple[str, str]:
    """The patterns of years of two digits, and of those that are leap years."""
    years = [(year % 100, year) for year in range(first, first + 100)]
    return "[0-9]{2}", f"({'|'.join(f'{short:02}' for short, year in years if calendar.isleap(year))})"


def _escaped(letter: str) -> str:
    return re.sub(r"([^A-Za-z0-9 ])", r"\\\1", letter) if letter.isascii() else letter


def _shape(form: Form, patterns: dict[str, str]) -> str:
    """The pattern of a form by those of its fields; empty where it cannot write them."""
    parts = {at: _escaped(chr(letter)) for at, letter in form.literals}
    for sign, at, width in form.fields:
        kind, short = _field(sign), sign.startswith("-")
        of = patterns.get(kind, "")
        if kind == "f":
            ends = at + width == form.width
            any_ = ("([0-9]{1,6}|[0-9]{6}0{1,3})", f"[0-9]{{{min(width, 6)}}}" + "0" * (width - 6))
            none = ("0{1,9}", f"0{{{width}}}")
            of = (none if patterns.get("H") == _MIDNIGHT["H"] else any_)[0 if ends else 1]
        parts[at] = _narrowed(of, width) if short else of
        if not parts[at]:
            return ""
    return "".join(parts[at] for at in sorted(parts))


def _narrowed(pattern: str, width: int) -> str:
    """Of the numbers of two digits that a pattern matches, those that are written without a zero before them."""
    numbers = [number for number in range(60) if re.fullmatch(pattern, f"{number:02}") and len(str(number)) == width]
    return f"({'|'.join(map(str, numbers))})" if numbers else ""


# ---- instants


def later(of: Node, seconds: Node) -> Node:
    """A moment so many seconds later."""
    return Node("later", [of, seconds], kind=of.kind)


def before_zone(text: str, empty: str) -> Node:
    """What stands before Z or an offset at the end of a text, and before a space there; null where there is none."""

    def without(letters: int) -> Node:
        rest = chopped(text, letters)
        spaced = Node("=", [end_of(text, letters + 1, 1), node_of("' '")], kind=BOOLEAN)
        return when(spaced, chopped(text, letters + 1), rest)

    signed = Node("or", [is_one_of(end_of(text, at, 1), "+-") for at in (6, 5)], kind=BOOLEAN)
    zoned = Node("or", [is_one_of(end_of(text, 1, 1), "Z"), signed], kind=BOOLEAN)
    colon = is_one_of(end_of(text, 3, 1), ":")
    cut = when(is_one_of(end_of(text, 1, 1), "Z"), without(1), when(colon, without(6), without(5)))
    return when(Node("and", [node_of(f"not ({empty})"), zoned, matches(text, ZONED)], kind=BOOLEAN), cut)


def instant(text: str, zone: str) -> tuple[Node, Node]:
    """The instant of a local time `value` of a zone, or of a time `stated` with an offset; and whether that is known.

    Where the clocks skip a local time, there is none; of one that they show twice, the earlier is meant.
    """
    local, stated = (Node("column", value=name, kind=_TIMESTAMPTZ) for name in ("value", "stated"))
    known = [_within(stated, 2, 9999)]  # so that the offset leads to no year that there is not
    shifted = local
    if zone not in {"UTC", "Etc/UTC"}:
        known.append(_within(local, _FIRST_YEAR, _END_YEAR))
        behind = Node("behind", [local, _behind(local, zone)], value=zone, kind=INTEGER)
        shifted = when(known[1], later(local, behind))
    there = Node("not", [Node("is null", [local], kind=BOOLEAN)], kind=BOOLEAN)
    guarded = when(known[0], later(stated, _west(text)))
    return when(there, shifted, guarded), both(*known)


def _west(text: str) -> Node:
    """By how many seconds the time at the end of a text is behind UTC, of one that ends with an offset or Z."""
    colon = is_one_of(end_of(text, 3, 1), ":")
    hours = when(colon, end_of(text, 5, 2), end_of(text, 4, 2))
    seconds = [
        Node("*", [Node("cast", [of], value=INTEGER, kind=INTEGER), build.constant(each, INTEGER)], kind=INTEGER)
        for of, each in ((hours, 3600), (end_of(text, 2, 2), 60))
    ]
    total = Node("+", seconds, kind=INTEGER)
    east = is_one_of(when(colon, end_of(text, 6, 1), end_of(text, 5, 1)), "+")
    signed = when(east, Node("negative", [total], kind=INTEGER), total)
    return when(is_one_of(end_of(text, 1, 1), "Z"), build.constant(0, INTEGER), signed)


def _within(of: Node, first: int, end: int) -> Node:
    """A moment is null, or of years from one to another."""
    low, high = (_literal(datetime.datetime(year, 1, 1, tzinfo=datetime.UTC)) for year in (first, end))
    inside = Node("and", [Node(">=", [of, low], kind=BOOLEAN), Node("<", [of, high], kind=BOOLEAN)], kind=BOOLEAN)
    return Node("call", [inside, Node("true", kind=BOOLEAN)], value="coalesce", kind=BOOLEAN)


def _literal(value: datetime.datetime) -> Node:
    return Node("literal", value=value, kind=_TIMESTAMPTZ)


def _behind(local: Node, zone: str) -> Node:
    """By how many seconds UTC is ahead of a local time of a zone, null where the clocks skip it."""
    until, offsets, skipped = changes_between(zone, _FIRST_YEAR, _END_YEAR)
    epoch = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)

    def before(micros: int) -> Node:
        limit = _literal(epoch + datetime.timedelta(microseconds=micros))
        return Node("<", [local, limit], kind=BOOLEAN)

    def leaf(at: int) -> Node:
        seconds = build.constant(-offsets[at] // _SECOND, INTEGER)
        gap = at > 0 and skipped[at] > until[at - 1]
        return when(before(skipped[at]), None, seconds) if gap else seconds

    def among(first: int, last: int) -> Node:
        if first == last:
            return leaf(first)
        middle = (first + last + 1) // 2
        return when(before(until[middle - 1]), among(first, middle - 1), among(middle, last))

    return among(0, len(until))


Reader = Callable[[str, Kind, Layout], Node | None]
