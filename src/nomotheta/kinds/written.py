"""How texts are read as values, written in the language of conditions: what a database can carry out by itself.

It is the same reading as in `kinds.read`, shape by shape. What a database would understand in another way, such as the
names of months or local times of a zone, is not written here: it is read by the program.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable, Sequence

import pyarrow as pa

from nomotheta.conditions import Kind, Node, build, check, parse_pattern, quoted
from nomotheta.frozen import frozen
from nomotheta.kinds.moments import Form
from nomotheta.kinds.read import read_column
from nomotheta.layout import Layout

_BOOLEAN, _TEXT = Kind("boolean"), Kind("text")
_ANY = "text"  # the column, until it is known by its name
_TEXT_ITSELF = quoted(_ANY)
_DAY = {"Y", "y", "m", "d"}
_DAYS_TOLD: tuple[set[str], ...] = (set(), {"Y", "m", "d"}, {"y", "m", "d"})
_ASCII = 126  # the greatest code of a letter that is not more than a byte
_FRACTION = 9  # digits of a second's fraction, which may be fewer
_MOST_FORMS = 12  # of fixed width, which a column may be written in
_MONTHS_OF_30, _MONTHS_OF_31 = "(0[469]|11)", "(0[13578]|1[02])"
_LEAP = "([0-9]{2}(0[48]|[2468][048]|[13579][26])|(0[48]|[2468][048]|[13579][26])00)"
_YEAR = "([0-9]{3}[1-9]|[0-9]{2}[1-9]0|[0-9][1-9]00|[1-9]000)"
_DAYS = {"31": "(0[1-9]|[12][0-9]|3[01])", "30": "(0[1-9]|[12][0-9]|30)", "28": "(0[1-9]|1[0-9]|2[0-8])", "29": "29"}
_PLAIN_DAYS = {"d": (1, 28), "m": (1, 12), "H": (0, 23)}  # which are in every calendar
_CLOCK = {"H": "([01][0-9]|2[0-3])", "M": "[0-5][0-9]", "S": "[0-5][0-9]"}
_UTC = {"UTC", "Etc/UTC"}


@frozen
class Written:
    """The reading of a column of texts in two steps, each of checked trees over one column.

    `text` is its text without white space at its ends, over the column as it is (None where it stays as it is), and
    `trimmed` says that there was some. All else is over that text: `value` is null where it is no value of the kind,
    and where it means null, which `empty` says (never null). `known` says that this is so: where it is not true, the
    text has to be read by the program (None where it always is).
    """

    kind: Kind
    value: Node
    empty: Node
    text: Node | None = None
    trimmed: Node | None = None
    known: Node | None = None


def written(name: str, kind: Kind, layout: Layout, zone: str = "UTC") -> Written | None:
    """How the texts of a column are read as values of a kind; None where only the program can do that."""
    reader = _READERS.get(kind.name)
    affixes = kind.is_number and bool(layout.number_prefixes or layout.number_suffixes)
    if reader is None or affixes or (kind.name == "timestamptz" and zone not in _UTC):
        return None
    value = reader(_TEXT_ITSELF, kind, layout)
    if value is None:
        return None
    words = [word for word in layout.null_words if word or kind.name != "text"]
    parts = [f"{_TEXT_ITSELF} is null"]
    if words:
        parts.append(f"coalesce({_TEXT_ITSELF} in ({', '.join(map(_literal, words))}), false)")
    empty = " or ".join(parts)
    if words and (kind.name == "text" or _any_fits(words, kind, layout)):  # else a null word is no value anyway
        value = _when(empty, None, value)
    text, known = _without_edges(kind, layout) if layout.trim else None, _known(_TEXT_ITSELF, kind, layout)
    trimmed = f"coalesce(char_length(trim({_TEXT_ITSELF})) <> char_length({_TEXT_ITSELF}), false)"
    return Written(
        kind, _of(name, value), _of(name, _node(empty)), text and _of(name, text),
        _of(name, _node(trimmed)) if layout.trim else None, known and _of(name, known),
    )  # fmt: skip


def _without_edges(kind: Kind, layout: Layout) -> Node:
    """A text trimmed; an empty one that stood in quotes is one, and one that became empty may mean null."""
    trimmed = _node(f"trim({_TEXT_ITSELF})")
    if kind.name != "text" or "" not in layout.null_words:
        return trimmed
    return _when(build.not_blank(_ANY, _TEXT), trimmed, _when(f"{_TEXT_ITSELF} = ''", _node(_TEXT_ITSELF)))


def _node(text: str) -> Node:
    """A text of the language as a checked tree; its only column is a text."""
    return check(text, {_ANY: _TEXT}, mode="row value")


def _of(name: str, node: Node) -> Node:
    """A tree over a column that is called otherwise."""
    for each in node.walk():
        if each.op == "column":
            each.value = name
    return node


def _literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _when(condition: str | Node, then: Node | None, other: Node | None = None) -> Node:
    """CASE WHEN … THEN … ELSE … END; None is null."""
    tested = _node(condition) if isinstance(condition, str) else condition
    kind = next(each.kind for each in (then, other) if each is not None)
    nothing = Node("null", kind=kind)
    return Node("case", [tested, then or nothing, *([other] if other else [])], kind=kind)


def _matches(text: str, pattern: str) -> Node:
    """The whole of a text matches a pattern."""
    return Node("match", [_node(text)], value=(parse_pattern(pattern), True), kind=_BOOLEAN)


def _both(*parts: Node) -> Node:
    return parts[0] if len(parts) == 1 else Node("and", [*parts], kind=_BOOLEAN)


def _as(kind: Kind, text: str) -> Node:
    """A text whose shape is known to be that of a kind, as its value."""
    return Node("cast", [_node(text)], value=kind, kind=kind)


def _any_fits(words: Sequence[str], kind: Kind, layout: Layout) -> bool:
    """Whether one of some texts is a value of a kind."""
    return bool(words) and read_column(pa.array(words, pa.string()), kind, layout).values.null_count < len(words)


# ---- by kind


def _text(text: str, _kind: Kind, _layout: Layout) -> Node:
    return _node(text)


def _integer(text: str, kind: Kind, layout: Layout) -> Node | None:
    return _ungrouped(text, layout, lambda plain: _as(kind, plain))


def _decimal(text: str, kind: Kind, layout: Layout) -> Node | None:
    if layout.decimal_sign == ".":
        return _ungrouped(text, layout, lambda plain: _as(kind, plain))

    def pointed(plain: str) -> Node:
        return _when(f"position('.' in {plain}) = 0", _as(kind, f"replace({plain}, ',', '.')"))

    return _ungrouped(text, layout, pointed)


def _ungrouped(text: str, layout: Layout, read: Callable[[str], Node]) -> Node:
    """A number without its thousands signs, which stand between threes or nowhere."""
    mark = layout.thousands_sign
    if not mark:
        return read(text)
    sign, point = (re.sub(r"([.])", r"\\\1", each) for each in (mark, layout.decimal_sign))
    threes = _matches(text, f"[+-]?[1-9][0-9]{{0,2}}({sign}[0-9]{{3}})+({point}[0-9]+)?")
    grouped = _when(threes, read(f"replace({text}, {_literal(mark)}, '')"))
    return _when(f"position({_literal(mark)} in {text}) = 0", read(text), grouped)


_PLAIN_REAL = r"[+-]?([0-9]{1,15}(\.[0-9]{1,15})?|\.[0-9]{1,15})([eE][+-]?[0-9]{1,2})?"  # no double ends before it
_REAL = r"[+-]?([0-9]+(\.[0-9]+)?|\.[0-9]+)([eE][+-]?[0-9]+)?"
_ZONED = r"(.|\n)*(Z|[+-](0[0-9]|1[0-5]):?[0-5][0-9])"


def _real(text: str, kind: Kind, layout: Layout) -> Node | None:
    if layout.thousands_sign:
        return None
    point = f"replace({text}, ',', '.')" if layout.decimal_sign == "," else text
    return _when(_matches(text, _signed(_PLAIN_REAL, layout)), _as(kind, point))


def _signed(pattern: str, layout: Layout) -> str:
    return pattern.replace("\\.", ",") if layout.decimal_sign == "," else pattern


def _boolean(text: str, kind: Kind, layout: Layout) -> Node:
    yes, no = (", ".join(map(_literal, words)) for words in (layout.true_words, layout.false_words))
    true, false = (Node(word, kind=kind) for word in ("true", "false"))
    return _when(f"{text} in ({yes})", true, _when(f"{text} in ({no})", false))


def _uuid(text: str, kind: Kind, _layout: Layout) -> Node:
    shape = "[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}"
    return _when(_matches(text, shape), _as(kind, text))


def _moment(text: str, kind: Kind, layout: Layout) -> Node | None:
    """A day, a time or both: one form after the other, and the first that fits counts."""
    declared = {"date": layout.date_forms, "time": layout.time_forms}.get(kind.name, layout.timestamp_forms)
    if layout.midnight_24 and kind.name in {"timestamp", "timestamptz"}:
        return None
    forms = [form for each in declared for form in Form.all_of(each, layout) if not _is_shorter(form)]
    found: Node | None = None
    if len(forms) > _MOST_FORMS:
        return None
    for form in reversed(forms):
        read = _of_form(text, kind, form, layout)
        if read is None:
            return None
        found = _when(*read, found)
    return found


def _is_shorter(form: Form) -> bool:
    """Whether a form differs from another in nothing but the length of the fraction at its end: the longest is kept."""
    sign, at, width = form.fields[-1] if form.fields else ("", 0, 0)
    return sign == "f" and at + width == form.width and width < _FRACTION


def _of_form(text: str, kind: Kind, form: Form, layout: Layout) -> tuple[Node, Node] | None:
    """The condition that a text has a form, and its value then; None where a database might see it otherwise."""
    fields = {sign.removeprefix("-"): (at, width) for sign, at, width in form.fields}
    days, clock = _DAY & fields.keys(), set(fields) - _DAY
    known = clock <= {"H", "M", "S", "f"} and len(fields) == len(form.fields) and days in _DAYS_TOLD
    if not known or any(byte > _ASCII for _, byte in form.literals):
        return None
    if bool(days) == (kind.name == "time") or (kind.name in {"date", "time"} and bool(days) == bool(clock)):
        return None
    first = layout.two_digit_years_from
    if "y" in days and not first:
        return None
    years = _short_years(first) if "y" in days and first else (_YEAR, _LEAP)
    months = (
        (_MONTHS_OF_31, _DAYS["31"], years[0]), (_MONTHS_OF_30, _DAYS["30"], years[0]), ("02", _DAYS["28"], years[0]),
        ("02", _DAYS["29"], years[1]),
    )  # fmt: skip
    shapes = [_shape(form, *each) for each in months] if days else [_shape(form, "", "", "")]
    if not any(shapes):
        return None

    def part(sign: str) -> str:
        if sign not in fields:
            return "'00'"
        at, width = fields[sign]
        found = f"substring({text}, {at + 1}, {min(width, 6)})"
        return found if width > 1 or sign == "f" else f"'0' || {found}"

    year = part("Y")
    if "y" in days and first:
        short = part("y")
        century = f"case when {short} >= '{first % 100:02}' then '{first // 100:02}' else '{first // 100 + 1:02}' end"
        year = f"{century} || {short}"
    told = [f"{year} || '-' || {part('m')} || '-' || {part('d')}"] * bool(days)
    if kind.name != "date":
        told.append(
            f"{part('H')} || ':' || {part('M')} || ':' || {part('S')}" + f" || '.' || {part('f')}" * ("f" in clock)
        )
    exact = _matches(text, "|".join(dict.fromkeys(filter(None, shapes))))
    quick = _quick(text, form)
    met = Node("quickly", [quick, exact], kind=_BOOLEAN) if quick else exact
    return met, _as(kind, text if _is_iso(form, kind) else " || ' ' || ".join(told))


def _is_iso(form: Form, kind: Kind) -> bool:
    """Whether texts of a form are written as every database reads moments."""
    signs = {at: f"%{sign}" for sign, at, _ in form.fields} | {at: chr(byte) for at, byte in form.literals}
    day, clock = "%Y-%m-%d", "%H:%M:%S"
    known = {"date": [day], "time": [clock], "timestamp": [f"{day} {clock}", f"{day}T{clock}"]}
    return "".join(signs[at] for at in sorted(signs)) in known.get(kind.name, ())


def _quick(text: str, form: Form) -> Node | None:
    """A condition that most texts of a form meet, and none of another: where patterns are slow, it is asked first."""
    like, parts = ["_"] * form.width, []
    for at, byte in form.literals:
        like[at] = chr(byte)
    if "f" in (sign for sign, _, _ in form.fields) or {"%", "_"} & {chr(byte) for _, byte in form.literals}:
        return None
    for sign, at, width in form.fields:
        kind, listed = sign.removeprefix("-"), []
        if kind in {"Y", "y"}:
            listed = [(at, ["19", "20"])] * (kind == "Y")
            listed += [(each, list("0123456789")) for each in range(at + width - 2, at + width)]
        else:
            least, most = _PLAIN_DAYS.get(kind, (0, 59))
            numbers = [f"{number:{'' if sign.startswith('-') else '02'}}" for number in range(least, most + 1)]
            listed = [(at, [number for number in numbers if len(number) == width])]
        for first, values in listed:
            part = f"substring({text}, {first + 1}, {len(values[0]) if values else 0})"
            parts.append(f"{part} in ({', '.join(map(_literal, values))})" if values else "false")
    return _node(" and ".join([f"{text} like {_literal(''.join(like))}", *parts]))


def _short_years(first: int) -> tuple[str, str]:
    """The patterns of years of two digits, and of those that are leap years."""
    years = [(year % 100, year) for year in range(first, first + 100)]
    return "[0-9]{2}", f"({'|'.join(f'{short:02}' for short, year in years if calendar.isleap(year))})"


def _shape(form: Form, month: str, day: str, year: str) -> str:
    """The pattern of a form, for some months of some years and their days; empty where it cannot write them."""
    parts = {at: re.sub(r"([^A-Za-z0-9 ])", r"\\\1", chr(byte)) for at, byte in form.literals}
    for sign, at, width in form.fields:
        kind, short = sign.removeprefix("-"), sign.startswith("-")
        of = {"Y": year, "y": year, "m": month, "d": day}.get(kind) or _CLOCK.get(kind, "")
        if kind == "f":
            ends, exact = at + width == form.width, f"[0-9]{{{min(width, 6)}}}" + "0" * (width - 6)
            of = "([0-9]{1,6}|[0-9]{6}0{1,3})" if ends else exact
        parts[at] = _narrowed(of, width) if short else of
        if not parts[at]:
            return ""
    return "".join(parts[at] for at in sorted(parts))


def _narrowed(pattern: str, width: int) -> str:
    """Of the numbers of two digits that a pattern matches, those that are written without a zero before them."""
    numbers = [number for number in range(60) if re.fullmatch(pattern, f"{number:02}") and len(str(number)) == width]
    return f"({'|'.join(map(str, numbers))})" if numbers else ""


_READERS: dict[str, Callable[[str, Kind, Layout], Node | None]] = {
    "text": _text, "integer": _integer, "decimal": _decimal, "real": _real, "boolean": _boolean, "uuid": _uuid,
    "date": _moment, "time": _moment, "timestamp": _moment, "timestamptz": _moment,
}  # fmt: skip


def _known(text: str, kind: Kind, layout: Layout) -> Node | None:
    """The condition under which a database reads a text as the program does."""
    parts = []
    if kind.name == "real":
        plain, any_ = (_matches(text, _signed(each, layout)) for each in (_PLAIN_REAL, _REAL))
        parts.append(_both(Node("not", [plain], kind=_BOOLEAN), any_))
    if kind.name == "timestamptz":  # one that names its zone
        parts.append(_matches(text, _ZONED))
    if not parts:
        return None
    doubtful = parts[0] if len(parts) == 1 else Node("or", parts, kind=_BOOLEAN)
    sure = Node("call", [doubtful, Node("false", kind=_BOOLEAN)], value="coalesce", kind=_BOOLEAN)
    return Node("not", [sure], kind=_BOOLEAN)
