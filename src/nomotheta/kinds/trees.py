"""Trees of conditions about texts, from which their readings are built (`written`)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from nomotheta.conditions import Kind, Node, check, parse_pattern

BOOLEAN, INTEGER, TEXT = Kind("boolean"), Kind("integer"), Kind("text")
_COLUMNS = dict.fromkeys(
    ("raw", "text", "plain", "bare", "number", "moment"), TEXT
)  # until they are known by names of statements


def node_of(text: str) -> Node:
    """A text of the language as a checked tree."""
    return check(text, _COLUMNS, mode="row value")


def literal(text: str) -> str:
    """A text in quotes."""
    return "'" + text.replace("'", "''") + "'"


def listed(texts: Iterable[str]) -> str:
    """Texts in quotes, with commas between them."""
    return ", ".join(map(literal, texts))


def when(condition: str | Node, then: Node | None, other: Node | None = None) -> Node:
    """CASE WHEN … THEN … ELSE … END; None is null."""
    tested = node_of(condition) if isinstance(condition, str) else condition
    kind = next(each.kind for each in (then, other) if each is not None)
    nothing = Node("null", kind=kind)
    return Node("case", [tested, then or nothing, *([other] if other else [])], kind=kind)


def matches(text: str, pattern: str) -> Node:
    """The whole of a text matches a pattern."""
    return Node("match", [node_of(text)], value=(parse_pattern(pattern), True), kind=BOOLEAN)


def both(*parts: Node) -> Node:
    """All of some conditions."""
    return parts[0] if len(parts) == 1 else Node("and", [*parts], kind=BOOLEAN)


def is_one_of(node: Node, letters: str) -> Node:
    """A text is one of some letters."""
    return Node("in", [node, *(Node("string", value=each, kind=TEXT) for each in letters)], kind=BOOLEAN)


def end_of(text: str, last: int, count: int) -> Node:
    """So many letters of a text, of its last; fewer where it has fewer."""
    end = Node("end", [node_of(text)], value=last, kind=TEXT)
    if last == count:
        return end
    numbers = [Node("number", value=str(each), kind=INTEGER) for each in (1, count)]
    return Node("call", [end, *numbers], value="substring", kind=TEXT)


def chopped(text: str, last: int) -> Node:
    """A text without its last letters, of which it has so many."""
    return Node("chop", [node_of(text)], value=last, kind=TEXT)


def as_kind(kind: Kind, text: str) -> Node:
    """A text whose shape is known to be that of a kind, as its value."""
    return Node("cast", [node_of(text)], value=kind, kind=kind)


def renamed(node: Node, names: Mapping[str, str]) -> Node:
    """A tree over columns that are called otherwise, made anew."""
    args = [renamed(arg, names) for arg in node.args]
    value = names.get(node.value, node.value) if node.op == "column" else node.value
    return Node(node.op, args, node.start, node.end, value, node.kind, node.mark)
