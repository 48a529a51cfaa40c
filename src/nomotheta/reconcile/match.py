"""Which column of a source is which of a target, and the kind that both are compared in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace

from nomotheta.charter.differ import MayDiffer, ReconcileKeys
from nomotheta.conditions import ConditionError, Kind, Node, check, common_kind, decimal
from nomotheta.conditions.kind import MOST_DIGITS
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.reconcile.side import Compared

_SAME = MayDiffer()
_TEXT = Kind("text")
_PLACES = 10  # of decimals of which no digits are declared on either side
_WHOLE = 19  # digits of the largest whole number


@frozen
class Columns:
    """The columns of a side: what it is called, and their kinds; None of a type that no kind stands for.

    `also` are further kinds whose values a column holds as they are.
    """

    told: str
    kinds: Mapping[str, Kind | None]
    types: Mapping[str, str] = field(default_factory=dict)
    also: Mapping[str, frozenset[str]] = field(default_factory=dict)

    def known(self) -> dict[str, Kind]:
        """Those that can be spoken of."""
        return {name: kind for name, kind in self.kinds.items() if kind is not None}

    def spelled(self, name: str) -> str | None:
        """A column's own name, by one that may be in another case."""
        if name in self.kinds:
            return name
        alike = [each for each in self.kinds if each.casefold() == name.casefold()]
        return alike[0] if len(alike) == 1 else None


@frozen
class Pair:
    """A column of both sides, called as in the source: the value of each, in the common kind, and how far apart.

    `columns` are those that the values are as they are, None where they are worked out.
    """

    name: str
    values: tuple[Node, Node]
    columns: tuple[str | None, str | None]
    kind: Kind
    may: MayDiffer


@frozen
class Matched:
    """The columns that are compared, those that one side lacks (with its name), those that were left out."""

    pairs: tuple[Pair, ...]
    lacking: tuple[tuple[str, str], ...]
    left_out: tuple[str, ...]
    key: tuple[str, ...]
    distinct: frozenset[str] = frozenset()
    each: bool = False

    def compared(self, private: frozenset[str]) -> Compared:
        """The columns that must be equal."""
        strict = {pair.name: pair.kind for pair in self.pairs if not pair.may.tolerant}
        return Compared(strict, self.key, private & {*strict}, self.distinct, self.each)


def matched(
    source: Columns, target: Columns, said: ReconcileKeys, key: Sequence[str], skip: frozenset[str], where: str
) -> Matched:  # fmt: skip
    """Match the columns of both sides by their names, or as is declared.

    Args:
        source: its columns.
        target: its columns.
        said: what may differ.
        key: by which rows are told apart, if nothing is declared; forgotten where it is not on both sides.
        skip: columns that one side may have for itself, since a load or the database fills them.
        where: for messages.

    Raises:
        DeclarationError: a column that is declared is not there, or values cannot be compared.
    """
    _check_names(source, target, said, where)
    pairs: list[Pair] = []
    alone: list[tuple[str, str]] = []
    for name in _names(source, said):
        may = said.columns.get(name, _SAME)
        other = target.spelled(may.target or name)
        if other is not None and not _is_among(name, said.leave_out):
            pairs.append(_pair(name, other, source, target, may, where))
        else:
            alone.append((name, target.told))
    used = {target.spelled(pair.may.target or pair.name) for pair in pairs}
    mine = {name for name, _ in alone}
    alone += [(name, source.told) for name in target.kinds if name not in used and name not in mine]
    left = [name for name, _ in alone if name in skip or _is_among(name, said.leave_out)]
    if not pairs:
        mend = 'name what belongs together: [columns.NAME] target = "…"'
        raise DeclarationError(f"{source.told} and {target.told} have no column in common", where=where, mend=mend)
    lacking = tuple(each for each in alone if each[0] not in left)
    exact = {pair.name.casefold(): pair.name for pair in pairs if not pair.may.tolerant}
    distinct = frozenset(_compared_exactly(exact, said.distinct, "distinct names", where))
    return Matched(tuple(pairs), lacking, tuple(left), _key(pairs, said, key, where), distinct, said.fingerprints)


def _names(source: Columns, said: ReconcileKeys) -> list[str]:
    """The source's columns, and those that are worked out of them."""
    return [*source.kinds, *(name for name, may in said.columns.items() if may.from_ and name not in source.kinds)]


def _is_among(name: str, names: Sequence[str]) -> bool:
    return name.casefold() in {each.casefold() for each in names}


def _key(pairs: Sequence[Pair], said: ReconcileKeys, key: Sequence[str], where: str) -> tuple[str, ...]:
    """The columns by which rows are told apart."""
    names = {pair.name.casefold(): pair.name for pair in pairs if not pair.may.tolerant}
    chosen = said.key or (key if all(each.casefold() in names for each in key) else [])
    key = _compared_exactly(names, chosen, "the key names", where)
    tolerant = [pair.name for pair in pairs if pair.may.tolerant]
    if tolerant and not chosen:
        told = f"{tolerant[0]} may be apart, which can only be decided where rows are told apart by a key"
        raise DeclarationError(told, where=where, mend='add key = ["…"]')
    return tuple(key)


def _compared_exactly(names: Mapping[str, str], chosen: Sequence[str], what: str, where: str) -> list[str]:
    """Columns as they are called, by names in whatever case."""
    for each in chosen:
        if each.casefold() not in names:
            mend = did_you_mean(each, names.values(), "columns: " + ", ".join(names.values()))
            raise DeclarationError(
                f"{what} {each}, which is not compared exactly on both sides", where=where, mend=mend
            )
    return [names[each.casefold()] for each in chosen]


def _check_names(source: Columns, target: Columns, said: ReconcileKeys, where: str) -> None:
    for name, may in said.columns.items():
        if source.spelled(name) is None and may.from_ is None:
            mend = did_you_mean(name, source.kinds, "columns: " + ", ".join(source.kinds))
            raise DeclarationError(f"{source.told} has no column {name}", where=where, mend=mend)
    for name in said.leave_out:
        if source.spelled(name) is None and target.spelled(name) is None:
            both = dict.fromkeys([*source.kinds, *target.kinds])
            mend = did_you_mean(name, both, "columns: " + ", ".join(both))
            raise DeclarationError(f"{name} is left out, but neither side has such a column", where=where, mend=mend)


def _pair(name: str, other: str, source: Columns, target: Columns, may: MayDiffer, where: str) -> Pair:
    for side, column in ((source, name), (target, other)):
        if column in side.kinds and side.kinds[column] is None:
            told = f"{column} of {side.told} is of the type {side.types.get(column, '')}, which cannot be compared"
            raise DeclarationError(told, where=where, mend=f"leave it out: --without {column}")
    names = (source.spelled(name) or name, other)
    texts = [may.of_source(names[0]), may.of_target(other)]
    sides = _as_meant(source, names[0], target, other)
    plain = [not may.changes and not may.empty_is_null, not may.empty_is_null]
    kinds = [_node(text, side, name, where).kind for text, side in zip(texts, sides, strict=True)]
    for at, have in enumerate(kinds):
        if may.zone and have.name == "timestamptz":
            texts[at], plain[at] = f"{texts[at]} at time zone '{may.zone}'", False
            kinds[at] = Kind("timestamp")
    kind = _common(*kinds, tolerant=may.tolerant)
    if kind is None:
        told = f"{name} is {kinds[0]} in {source.told} and {kinds[1]} in {target.told}: these cannot be compared"
        raise DeclarationError(told, where=where, mend=_mend(kinds[0], kinds[1], name))
    for at, have in enumerate(kinds):
        if have.name != kind.name:
            texts[at], plain[at] = f"cast({texts[at]} as {kind})", False
    source_node, target_node = (_node(text, side, name, where) for text, side in zip(texts, sides, strict=True))
    columns = (names[0] if plain[0] else None, names[1] if plain[1] else None)
    return Pair(name, (source_node, target_node), columns, kind, may)


def _as_meant(source: Columns, name: str, target: Columns, other: str) -> tuple[Columns, Columns]:
    """Both sides, a column of one as the kind of the other's, where it holds that just as well."""
    mine, its = source.kinds.get(name), target.kinds.get(other)
    if mine is None or its is None or mine.name == its.name:
        return source, target
    if its.name in source.also.get(name, ()):
        return replace(source, kinds={**source.kinds, name: its}), target
    if mine.name in target.also.get(other, ()):
        return source, replace(target, kinds={**target.kinds, other: mine})
    return source, target


def _bounded(kind: Kind, other: Kind) -> Kind:
    """A decimal without declared digits as one with those of the other side; what has more keeps them as a text."""
    if kind.digits <= MOST_DIGITS:
        return kind
    return other if other.name == "decimal" and other.digits <= MOST_DIGITS else decimal(MOST_DIGITS, _PLACES)


def _mend(source: Kind, target: Kind, name: str) -> str:
    if {source.name, target.name} == {"timestamp", "timestamptz"}:
        return f'say whose clock the local time is: [columns.{name}] zone = "Atlantic/Faroe"'
    return f'say how it became the other: [columns.{name}] from = "cast({name} as …)"; or leave it out'


def _node(text: str, side: Columns, name: str, where: str) -> Node:
    try:
        return check(text, side.known(), "row value")
    except ConditionError as error:
        told = f"{name}: {error.what}\n{error.pointed(text)}"
        raise DeclarationError(told, where=where, mend=error.hint) from None


def _common(source: Kind, target: Kind, *, tolerant: bool) -> Kind | None:
    """The kind in which all values of both are what they are; None where there is none."""
    if source.name == target.name == "text":
        return _TEXT
    if {source.name, target.name} == {"boolean", "integer"}:
        return Kind("integer")
    source, target = _bounded(source, target), _bounded(target, source)
    found = common_kind(source, target)
    if found is not None and {source.name, target.name} == {"integer", "decimal"}:
        return decimal(min(MOST_DIGITS, max(_WHOLE, found.digits - found.scale) + found.scale), found.scale)
    if found is not None and found.name == "real" and {source.name, target.name} != {"real"} and not tolerant:
        return None  # a decimal is rounded when it becomes a real
    return found
