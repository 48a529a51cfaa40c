"""A charter's declarations turned into checks: each a condition tree, a key, a reference or a query.

Everything is held against the kinds here, so what reads data later meets no declaration that cannot be meant.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from nomotheta.charter.listed import value_written
from nomotheta.charter.model import (
    ALL,
    NONE,
    Between,
    CellRule,
    Charter,
    Column,
    Distinct,
    Key,
    Otherwise,
    Pattern,
    Tolerance,
)  # fmt: skip
from nomotheta.charter.positions import Path
from nomotheta.charter.read import Problem, Read
from nomotheta.charter.values import EXAMPLES, instant, value_of
from nomotheta.conditions import (
    ConditionError,
    Kind,
    Node,
    PatternError,
    always_the_same,
    build,
    check,
    in_any_case,
    parse_pattern,
    quoted,
)  # fmt: skip
from nomotheta.errors import counted, did_you_mean

Sort = Literal[
    "kind", "text_length", "blank", "between", "among", "pattern", "case", "trimmed", "length", "slice", "key",
    "reference", "each", "whole", "offenders",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that is judged. `path` is its key in the file.

    `node` is its condition, for the sorts that have one; `where` is the one on the rows that it is about, where not
    all are: a row outside meets `node`.
    """

    name: str
    sort: Sort
    columns: tuple[str, ...]
    otherwise: Otherwise
    path: Path = ()
    tolerate: Tolerance = NONE
    node: Node | None = None
    because: str = ""
    over: Literal["load", "table"] | None = None
    listed_in: tuple[str, tuple[str, ...]] | None = None
    query: str = ""
    whole_row: bool = False
    keep: Literal["first", "last", "none"] = "first"
    keep_said: bool = False
    by: str | None = None
    copies: Tolerance = ALL
    where: Node | None = None

    @property
    def on_rows(self) -> bool:
        """Whether it is a condition that each row meets or not."""
        return self.node is not None and self.sort != "whole"


@dataclass(slots=True)
class _Reader:
    read: Read
    zone: str = "UTC"
    problems: list[Problem] = field(default_factory=list)

    def complain(self, path: Path, what: str, mend: str = "", excerpt: str = "") -> None:
        self.problems.append(self.read.source.problem(path, what, mend, excerpt))

    def condition(self, path: Path, text: str, kinds: Mapping[str, Kind], mode: str) -> Node | None:
        try:
            return check(text, kinds, mode)
        except ConditionError as error:
            line = self.read.source.position(path).line + self._line_within(path, text, error.start)
            excerpt = error.pointed(text)
            hint = _habit(text, error) or error.hint or _hint(error.what)
            self.problems.append(Problem(self.read.source.file, line, error.what, hint, excerpt))
        return None

    def _line_within(self, path: Path, text: str, at: int) -> int:
        """How many lines below its key a place in a multi-line text stands."""
        start = self.read.source.position(path).value
        opened_on_next = self.read.source.text[start + 3 : start + 4] == "\n"
        return text.count("\n", 0, at) + opened_on_next if "\n" in text.strip() else 0


def charter_checks(read: Read, zone: str) -> tuple[list[Check], list[Problem]]:
    """All checks of a charter, in the order in which they are reported, and what is wrong with its declarations.

    Args:
        read: the charter.
        zone: of instants that name none.
    """
    reader = _Reader(read, zone)
    charter = read.charter
    found: list[Check] = []
    for name, kind in charter.kinds().items():
        found += _column(reader, charter, name, kind)
    found += _keys(reader, charter)
    found += _references(reader, charter)
    found += _rules(reader, charter)
    _told_apart(reader, found)
    return found, reader.problems


def _told_apart(reader: _Reader, checks: Sequence[Check]) -> None:
    """Checks are known by their names, in findings, in the ledger, and by the rows they set aside."""
    known: dict[str, Check] = {}
    for each in checks:
        first = known.setdefault(each.name, each)
        if first is not each and first.path[0] != "rules":
            told = f"a check is called '{each.name}' already"
            mend = "give the rule another name" if each.path[0] == "rules" else "take one of them out"
            reader.complain(each.path, told, mend)


def slice_node(read: Read) -> tuple[Node | None, list[Problem]]:
    """The condition of `load.slice`, where one is declared."""
    reader = _Reader(read)
    text = read.charter.load.slice
    if text is None:
        return None, []
    return reader.condition(("load", "slice"), text, read.charter.kinds(), "each"), reader.problems


def slice_check(read: Read, node: Node | None) -> Check | None:
    """The check that a row is in the slice which its load replaces: one outside would double with the next load."""
    text = read.charter.load.slice
    if node is None or text is None:
        return None
    within = check(f"({text}\n) is true", read.charter.kinds())
    name = f"in the slice that is replaced: {' '.join(text.split())}"
    return Check(name, "slice", tuple(node.columns()), "reject", ("load", "slice"), node=within)


def _column(reader: _Reader, charter: Charter, name: str, kind: Kind) -> Iterator[Check]:
    column = charter.columns[name]
    base: Path = ("columns", name)

    def made(sort: Sort, node: Node, told: str, of: CellRule) -> Check:
        return Check(f"{name} {told}", sort, (name,), of.otherwise, (*base, sort), of.tolerate, node)

    yield Check(f"{name} is {kind.name if kind.name == 'text' else kind}", "kind", (name,), "reject", base)
    if kind.name == "text" and kind.size is not None:
        told = f"{name} has at most {kind.size} characters"
        yield Check(told, "text_length", (name,), "reject", base, node=build.at_most(name, kind))
    if column.blank.at_most is not None:
        after = column.blank.otherwise if column.blank.otherwise != "reject" else "fail"
        told = f"{name} is blank in {'no row' if column.blank.at_most == NONE else f'at most {column.blank.at_most}'}"
        node = build.not_blank(name, kind)
        yield Check(told, "blank", (name,), after, (*base, "blank"), column.blank.at_most, node)
    elif column.blank.value == "never":
        yield made("blank", build.not_blank(name, kind), "is never blank", column.blank)
    if column.between:
        yield from _between(reader, base, kind, made, column.between)
    if column.among:
        values = _values(reader, (*base, "among"), kind, column.among.values, column.among.file)
        if values:
            shown = ", ".join(str(value) for value in column.among.values[:6]) + (", …" if len(values) > 6 else "")
            shown = f"the values in {column.among.file}" if column.among.file else shown
            yield made("among", build.among(name, kind, values), f"is one of {shown}", column.among)
    if column.pattern:
        yield from _pattern(reader, base, kind, made, column.pattern)
    yield from _text_checks(reader, base, kind, made, column)
    if column.distinct:
        yield from _distinct(reader, base, column.distinct, charter)


def _between(reader: _Reader, base: Path, kind: Kind, made: Callable[..., Check], of: Between) -> Iterator[Check]:
    name = str(base[-1])
    bounds = [None if raw == "" else raw for raw in of.values]
    low, high = _values(reader, (*base, "between"), kind, bounds) or (None, None)
    if low is not None or high is not None:
        least, most = bounds  # as they are written
        if low is not None and high is not None and low > high:
            told = f"no value can be at least {least} and at most {most}"
            reader.complain((*base, "between"), told, f"write between = [{most}, {least}], if that is meant")
        sides = [f"at least {least}"] * (low is not None) + [f"at most {most}"] * (high is not None)
        told = f"between {least} and {most}" if len(sides) == 2 else sides[0]
        yield made("between", build.between(name, kind, low, high), f"is {told}", of)
    if kind.name in {"boolean", "uuid", "binary"} or bounds == [None, None]:
        told = f"{kind} has no order" if bounds != [None, None] else "no bound is given"
        reader.complain((*base, "between"), told, "use 'among'" if bounds != [None, None] else "write [low, high]")


def _pattern(reader: _Reader, base: Path, kind: Kind, made: Callable[..., Check], of: Pattern) -> Iterator[Check]:
    path = (*base, "pattern")
    if kind.name != "text":
        reader.complain(path, f"a pattern needs a text, but {base[-1]} is {kind}", "use 'between' or 'among'")
        return
    try:
        part = parse_pattern(of.value)
    except PatternError as error:
        mend = "see Conditions, patterns, in the charter reference"
        reader.complain(path, f"this pattern {error}", mend, f"{of.value}\n{' ' * error.position}^")
        return
    ignored = of.case == "ignore"
    told = f"matches {of.value}" + (", whatever the case" if ignored else "")
    yield made("pattern", build.matches(str(base[-1]), in_any_case(part) if ignored else part), told, of)


def _text_checks(
    reader: _Reader, base: Path, kind: Kind, made: Callable[..., Check], column: Column
) -> Iterator[Check]:  # fmt: skip
    """The case of letters, white space at the ends, and the number of characters."""
    name = str(base[-1])
    quoted_name = quoted(name)
    wanted: list[tuple[Sort, CellRule, str, str]] = []
    if column.case:
        of = column.case.value
        wanted.append(("case", column.case, f"{quoted_name} = {of}({quoted_name})", f"is in {of} case"))
    if column.trimmed and column.trimmed.value:
        trimmed = f"{quoted_name} = trim({quoted_name})"
        wanted.append(("trimmed", column.trimmed, trimmed, "has no white space at its ends"))
    if column.length:
        least, most = column.length.values
        sides = [f"char_length({quoted_name}) >= {least}"] if least != "" else []
        sides += [f"char_length({quoted_name}) <= {most}"] if most != "" else []
        told = f"{least} to {most}" if len(sides) == 2 else f"at least {least}" if least != "" else f"at most {most}"
        told = str(least) if least == most else told
        if not sides or (least != "" and most != "" and least > most):
            reader.complain((*base, "length"), f"no text has {told} characters", "write length = [LEAST, MOST]")
        else:
            wanted.append(("length", column.length, " and ".join(sides), f"has {told} characters"))
    for sort, of_rule, condition, told in wanted:
        if kind.name != "text":
            reader.complain((*base, sort), f"'{sort}' needs a text, but {name} is {kind}", "take it out")
            continue
        yield made(sort, check(condition, {name: kind}), told, of_rule)


def _distinct(reader: _Reader, base: Path, of: Distinct, charter: Charter) -> Iterator[Check]:
    """How many different values there are, as a condition on the whole."""
    name = str(base[-1])
    bounds = [(each, sign, word) for each, sign, word in ((of.at_least, ">=", "least"), (of.at_most, "<=", "most"))
              if each is not None]  # fmt: skip
    if not bounds:
        reader.complain((*base, "distinct"), "no limit is given", "write distinct = { at_least = 2 }")
    for bound, sign, word in bounds:
        share = f"{bound.share:f} * count({quoted(name)})" if bound.share is not None else ""
        condition = f"count(distinct {quoted(name)}) {sign} {share or bound.rows}"
        if bound.rows is None and bound.share is None:
            reader.complain((*base, "distinct"), "'all' is not a limit", 'write a number, or a share such as "5%"')
            continue
        node = reader.condition((*base, "distinct"), condition, charter.kinds(), "whole")
        if share:
            told = f"{name}: at {word} {bound} of its values are different"
        else:
            told = f"{name} has at {word} {counted(int(bound.rows or 0), 'different value')}"
        yield Check(told, "whole", (name,), of.otherwise, (*base, "distinct"), node=node, over=of.over)


def _keys(reader: _Reader, charter: Charter) -> Iterator[Check]:
    for at, key in enumerate(charter.keys):
        path: Path = ("keys", at, "columns")
        columns = list(charter.file_columns()) if key.whole_row else key.columns
        if _known(reader, path, columns, charter) and _orderly(reader, at, key, charter):
            name = "no row comes twice" if key.whole_row else f"key ({', '.join(columns)}) never repeats"
            yield Check(
                name, "key", tuple(columns), key.otherwise, path, key.tolerate, whole_row=key.whole_row,
                keep=key.keep or "first", keep_said=key.keep is not None, by=key.by, copies=key.copies,
            )  # fmt: skip


def _orderly(reader: _Reader, at: int, key: Key, charter: Charter) -> bool:
    """Whether the row that stays can be told."""
    if key.by:
        kind = charter.kinds().get(key.by)
        if not _known(reader, ("keys", at, "by"), [key.by], charter):
            return False
        if kind is None or kind.name in {"text", "boolean", "uuid", "binary"}:
            told = f"'{key.by}' is {kind}, which does not say what comes last"
            reader.complain(("keys", at, "by"), told, "name a number or a moment")
            return False
    rejecting = [each for each in charter.keys if each.otherwise == "reject"]
    if key.keep not in {None, "first"} and len(rejecting) > 1:
        told = f'keep = "{key.keep}" needs a charter in which no other key sets rows aside'
        reader.complain(("keys", at, "keep"), told, 'write otherwise = "fail" at the other')
        return False
    return True


def _references(reader: _Reader, charter: Charter) -> Iterator[Check]:
    for at, reference in enumerate(charter.references):
        path: Path = ("references", at, "columns")
        if _known(reader, path, reference.columns, charter):
            name = f"{', '.join(reference.columns)} is listed in {reference.listed_in}"
            listed = (reference.table, tuple(reference.listed))
            columns = tuple(reference.columns)
            yield Check(name, "reference", columns, reference.otherwise, path, reference.tolerate, listed_in=listed)


def _rules(reader: _Reader, charter: Charter) -> Iterator[Check]:
    kinds = charter.kinds()
    names: dict[str, int] = {}
    texts: dict[tuple[str, ...], str] = {}
    shared = Counter(rule.name for rule in charter.rules)
    for at, rule in enumerate(charter.rules):
        base: Path = ("rules", at)
        where = " ".join((rule.where or "").split())
        name = f"{rule.name} where {where}" if where and shared[rule.name] > 1 else rule.name
        if name in names:
            first = reader.read.source.position(("rules", names[name], "name")).line
            told = f"the rule '{name}' is declared twice, first in line {first}"
            reader.complain((*base, "name"), told, "rename one, or give each a 'where' of its own")
        names.setdefault(name, at)
        if rule.over == "load" and not charter.load_column() and charter.load.how != "overwrite":
            mend = 'add a column with from = "@load.no"'
            reader.complain((*base, "over"), "the rows of one load cannot be told apart in this table", mend)
        if rule.offenders is not None:
            if not re.match(r"\s*(select|with)\b", rule.offenders, re.I) or ";" in rule.offenders:
                mend = "write select … from … where …, and nothing behind it"
                reader.complain((*base, "offenders"), "offenders is one SELECT, without a semicolon", mend)
                continue
            yield Check(
                name, "offenders", (), rule.otherwise, (*base, "offenders"), rule.tolerate, None, rule.because,
                rule.over, query=rule.offenders,
            )  # fmt: skip
            continue
        sort: Literal["each", "whole"] = "each" if rule.each is not None else "whole"
        text = str(getattr(rule, sort))
        node = _sensible(reader, (*base, sort), text, kinds, sort)
        narrowed = _sensible(reader, (*base, "where"), rule.where, kinds, "each") if rule.where is not None else None
        if node is None or (rule.where is not None and narrowed is None):
            continue
        said = (" ".join(text.split()), where, str(rule.over), rule.otherwise, str(rule.tolerate))
        if said in texts:
            reader.complain((*base, sort), f"the rule '{texts[said]}' says the same", "take one of them out")
        texts.setdefault(said, name)
        if narrowed is not None:
            node = check(f"({rule.where}\n) is not true or ({text}\n)", kinds)
        yield Check(
            name, sort, tuple(node.columns()), rule.otherwise, (*base, sort), rule.tolerate, node, rule.because,
            rule.over, where=narrowed,
        )  # fmt: skip


def _sensible(reader: _Reader, path: Path, text: str, kinds: Mapping[str, Kind], mode: str) -> Node | None:
    """A condition that is of use: one that has the same answer for all rows is complained of."""
    node = reader.condition(path, text, kinds, mode)
    if node is not None and (told := always_the_same(node)):
        reader.complain(path, told, "take it out, or correct it")
    return node


def _known(reader: _Reader, path: Path, names: Sequence[str], charter: Charter) -> bool:
    unknown = [name for name in names if name not in charter.columns]
    for name in unknown:
        hint = did_you_mean(name, charter.columns, "columns: " + ", ".join(charter.columns))
        reader.complain(path, f"no column '{name}'", hint)
    return not unknown


def _values(
    reader: _Reader, path: Path, kind: Kind, raw: Sequence[Any], file: str | None = None
) -> list[Any] | None:  # fmt: skip
    """TOML values, or those of a file, as values of `kind`; None, and a complaint, where one does not fit."""
    made = value_written if file else value_of
    if kind.name == "binary":
        reader.complain(path, f"{path[1]} is binary, and no values are listed of such", "take it out")
        return None
    try:
        return [None if value is None else instant(kind, made(kind, value), reader.zone) for value in raw]
    except ValueError as error:
        told = f"{error}, in the list '{file}'" if file else str(error)
        reader.complain(path, told, f"write values of that kind, such as {EXAMPLES[kind.name]}")
    return None


_HABITS = {
    "ilike": "compare without case: lower(x) like 'a%'",
    "similar": "write regexp_like(x, '[A-Z]{3}')",
    "regexp": "write regexp_like(x, '[A-Z]{3}')",
    "rlike": "write regexp_like(x, '[A-Z]{3}')",
    "date_trunc": "compare parts: extract(year from x) = 2026, or a range: x >= date '2026-01-01'",
    "datediff": "subtract the days: x - y",
    "dateadd": "add days: x + 7",
    "now": "write current_timestamp",
    "getdate": "write current_date",
    "sysdate": "write current_date",
    "isnull": "write x is null, or coalesce(x, 0)",
    "nvl": "write coalesce(x, 0)",
    "ifnull": "write coalesce(x, 0)",
    "len": "write length(x)",
    "substr": "write substring(x from 1 for 3)",
    "if": "write case when … then … else … end, or: not (condition) or then",
    "iif": "write case when … then … else … end",
}  # what is written by habit, from the dialects of databases and from programs


def _habit(text: str, error: ConditionError) -> str:
    """The mend of what another dialect would have taken."""
    if re.match(r"\s*if\b", text, re.I):
        return _HABITS["if"]
    word = re.match(r'"?\w+"?', text[error.start :])
    if word is None:
        return ""
    if word[0].startswith('"') and "column" in error.what:
        return f"a text goes between apostrophes: '{word[0].strip(chr(34))}'"
    return _HABITS.get(word[0].casefold(), "")


def _hint(what: str) -> str:
    """The mend of a condition whose error has no closer one."""
    if what.startswith(("cannot compare", "the values of", "the results of")):
        return "use values of one kind, or cast one of them: cast(x as text)"
    return "see Conditions in the charter reference"
