"""How texts are read as values, written in the language of conditions: what a database can carry out by itself.

It is the same reading as in `kinds.read`, shape by shape.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

import pyarrow as pa

from nomotheta.conditions import Kind, Node, build, own
from nomotheta.frozen import frozen
from nomotheta.kinds.read import read_column
from nomotheta.kinds.trees import (
    BOOLEAN,
    TEXT,
    as_kind,
    both,
    chopped,
    end_of,
    listed,
    literal,
    matches,
    node_of,
    renamed,
    when,
)
from nomotheta.kinds.written_moments import Reader, before_zone, instant, moment
from nomotheta.layout import Layout

_NAMES = ("text", "plain", "bare", "number", "value", "moment", "stated", "instant")


@frozen
class Written:
    """The reading of a column of texts in steps, each of checked trees over the columns of those before it.

    The first is the text without white space at its ends, by the name `text`, over the column as it is. `value` names
    the column that holds the value after the last: null where the text is none of the kind, and where it means null,
    which `empty` says (never null). `known` says that this is so: where it is not true, the text has to be read by the
    program (None where it always is). Over the column as it is, `trimmed` says that there was some white space.
    """

    kind: Kind
    text: str
    value: str
    steps: Sequence[Mapping[str, Node]]
    empty: Node
    known: Node | None = None
    trimmed: Node | None = None


def written(raw: str, kind: Kind, layout: Layout, zone: str = "UTC", at: int = 0) -> Written | None:
    """How the texts of a column are read as values of a kind; None where only the program can do that.

    `at` tells the columns of the steps from those of other columns.
    """
    steps, source, known = _bare(kind, layout)
    words = [word for word in layout.null_words if word or kind.name != "text"]
    parts = ["text is null"]
    if words:
        parts.append(f"coalesce(text in ({listed(words)}), false)")
    empty = " or ".join(parts)
    value = _READERS[kind.name](source, kind, layout)
    if value is None:
        return None
    if words and (kind.name == "text" or _any_fits(words, kind, layout)):  # else a null word is no value anyway
        value = when(empty, None, value)
    steps.append({"value": value})
    if kind.name == "timestamptz":
        steps[-1] = {"value": value, "moment": before_zone("text", empty)}
        stated = moment("moment", kind, layout)
        last, known = instant("text", zone)
        steps += [{"stated": stated} if stated is not None else {}, {"instant": last}]
    text = _without_edges(kind, layout) if layout.trim else node_of("raw")
    trimmed = node_of("coalesce(char_length(trim(raw)) <> char_length(raw), false)") if layout.trim else None
    names = {each: own(f"{each} {at}") for each in _NAMES}

    def called(node: Node) -> Node:
        return renamed(node, {**names, "raw": raw})

    return Written(
        kind, names["text"], names["instant" if kind.name == "timestamptz" else "value"],
        [{names[name]: called(node) for name, node in step.items()} for step in ({"text": text}, *steps)],
        called(node_of(empty)), known and called(known), trimmed and called(trimmed),
    )  # fmt: skip


def _without_edges(kind: Kind, layout: Layout) -> Node:
    """A text trimmed; an empty one that stood in quotes is one, and one that became empty may mean null."""
    trimmed = node_of("trim(raw)")
    if kind.name != "text" or "" not in layout.null_words:
        return trimmed
    return when(build.not_blank("raw", TEXT), trimmed, when("raw = ''", node_of("raw")))


def _bare(kind: Kind, layout: Layout) -> tuple[list[dict[str, Node]], str, Node | None]:
    """The steps before a text is read, by what name it is known then, and whether a database reads it as we do."""
    steps: list[dict[str, Node]] = []
    source = "text"
    if kind.is_number and layout.number_prefixes:
        steps.append({"plain": node_of(_without_prefix(source, layout.number_prefixes))})
        source = "plain"
    if kind.is_number and layout.number_suffixes:
        steps.append({"bare": _without_suffix(source, layout.number_suffixes)})
        source = "bare"
    if kind.name != "real":
        return steps, source, None
    if layout.thousands_sign:
        steps.append({"number": _ungrouped(source, layout, node_of)})
        source = "number"
    return steps, source, _known(source, layout)


def _without_prefix(text: str, prefixes: Sequence[str]) -> str:
    """A number without a prefix, which a sign may precede; the longest counts."""
    whens = []
    for sign in ("+", "-", ""):
        for prefix in sorted(prefixes, key=len, reverse=True):
            begins, rest = sign + prefix, f"substring({text}, {len(sign + prefix) + 1})"
            taken = f"{literal(sign)} || {rest}" if sign else rest
            whens.append(f"when substring({text}, 1, {len(begins)}) = {literal(begins)} then {taken}")
    return f"case {' '.join(whens)} else {text} end"


def _without_suffix(text: str, suffixes: Sequence[str]) -> Node:
    """A number without a suffix; the longest counts."""
    found = node_of(text)
    for suffix in sorted(suffixes, key=len):
        ends = Node("=", [end_of(text, len(suffix), len(suffix)), node_of(literal(suffix))], kind=BOOLEAN)
        found = when(ends, chopped(text, len(suffix)), found)
    return found


def _any_fits(words: Sequence[str], kind: Kind, layout: Layout) -> bool:
    """Whether one of some texts is a value of a kind."""
    return bool(words) and read_column(pa.array(words, pa.string()), kind, layout).values.null_count < len(words)


# ---- by kind


def _text(text: str, _kind: Kind, _layout: Layout) -> Node:
    return node_of(text)


def _integer(text: str, kind: Kind, layout: Layout) -> Node | None:
    return _ungrouped(text, layout, lambda plain: as_kind(kind, plain))


def _decimal(text: str, kind: Kind, layout: Layout) -> Node | None:
    if layout.decimal_sign == ".":
        return _ungrouped(text, layout, lambda plain: as_kind(kind, plain))

    def pointed(plain: str) -> Node:
        return when(f"position('.' in {plain}) = 0", as_kind(kind, f"replace({plain}, ',', '.')"))

    return _ungrouped(text, layout, pointed)


def _ungrouped(text: str, layout: Layout, read: Callable[[str], Node]) -> Node:
    """A number without its thousands signs, which stand between threes or nowhere."""
    mark = layout.thousands_sign
    if not mark:
        return read(text)
    sign, point = (re.sub(r"([.])", r"\\\1", each) for each in (mark, layout.decimal_sign))
    threes = matches(text, f"[+-]?[1-9][0-9]{{0,2}}({sign}[0-9]{{3}})+({point}[0-9]+)?")
    grouped = when(threes, read(f"replace({text}, {literal(mark)}, '')"))
    return when(f"position({literal(mark)} in {text}) = 0", read(text), grouped)


_PLAIN_REAL = r"[+-]?([0-9]{1,15}(\.[0-9]{1,15})?|\.[0-9]{1,15})([eE][+-]?[0-9]{1,2})?"  # no double ends before it
_REAL = r"[+-]?([0-9]+(\.[0-9]+)?|\.[0-9]+)([eE][+-]?[0-9]+)?"


def _real(text: str, kind: Kind, layout: Layout) -> Node | None:
    point = f"replace({text}, ',', '.')" if layout.decimal_sign == "," else text
    return when(matches(text, _signed(_PLAIN_REAL, layout)), as_kind(kind, point))


def _signed(pattern: str, layout: Layout) -> str:
    return pattern.replace("\\.", ",") if layout.decimal_sign == "," else pattern


def _boolean(text: str, kind: Kind, layout: Layout) -> Node:
    yes, no = (", ".join(map(literal, words)) for words in (layout.true_words, layout.false_words))
    true, false = (Node(word, kind=kind) for word in ("true", "false"))
    return when(f"{text} in ({yes})", true, when(f"{text} in ({no})", false))


def _uuid(text: str, kind: Kind, _layout: Layout) -> Node:
    shape = "[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}"
    return when(matches(text, shape), as_kind(kind, text))


def _binary(text: str, kind: Kind, _layout: Layout) -> Node:
    return when(matches(text, "([0-9a-fA-F]{2})*"), Node("unhex", [node_of(text)], kind=kind))


_READERS: dict[str, Reader] = {
    "text": _text, "integer": _integer, "decimal": _decimal, "real": _real, "boolean": _boolean, "uuid": _uuid,
    "binary": _binary, "date": moment, "time": moment, "timestamp": moment, "timestamptz": moment,
}  # fmt: skip


def _known(text: str, layout: Layout) -> Node:
    """The condition under which a database reads a real as the program does."""
    plain, any_ = (matches(text, _signed(each, layout)) for each in (_PLAIN_REAL, _REAL))
    doubtful = both(Node("not", [plain], kind=BOOLEAN), any_)
    sure = Node("call", [doubtful, Node("false", kind=BOOLEAN)], value="coalesce", kind=BOOLEAN)
    return Node("not", [sure], kind=BOOLEAN)
