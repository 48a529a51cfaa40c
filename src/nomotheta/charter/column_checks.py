"""The checks that a column declares in a word."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from nomotheta.charter.check import Check, Sort
from nomotheta.charter.column import Between, CellRule, Column, Distinct, Pattern
from nomotheta.charter.listed import value_written
from nomotheta.charter.model import Charter
from nomotheta.charter.positions import Path
from nomotheta.charter.reader import Reader
from nomotheta.charter.tolerance import NONE
from nomotheta.charter.values import EXAMPLES, instant, value_of
from nomotheta.conditions import Kind, Node, PatternError, build, check, in_any_case, parse_pattern, quoted
from nomotheta.errors import counted


def column_checks(reader: Reader, charter: Charter, name: str, kind: Kind) -> Iterator[Check]:
    """The checks of one column, in the order in which they are reported."""
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
        values = column_values(reader, (*base, "among"), kind, column.among.values, column.among.file)
        if values:
            shown = ", ".join(str(value) for value in column.among.values[:6]) + (", …" if len(values) > 6 else "")
            shown = f"the values in {column.among.file}" if column.among.file else shown
            yield made("among", build.among(name, kind, values), f"is one of {shown}", column.among)
    if column.pattern:
        yield from _pattern(reader, base, kind, made, column.pattern)
    yield from _text_checks(reader, base, kind, made, column)
    yield from _of_all_rows(reader, base, kind, column, charter)


def _of_all_rows(reader: Reader, base: Path, kind: Kind, column: Column, charter: Charter) -> Iterator[Check]:
    """What is declared of all values together."""
    if column.drift:
        yield from _drift(reader, base, kind, column, charter)
    if column.distinct:
        yield from _distinct(reader, base, column.distinct, charter)


def _between(reader: Reader, base: Path, kind: Kind, made: Callable[..., Check], of: Between) -> Iterator[Check]:
    name = str(base[-1])
    bounds = [None if raw == "" else raw for raw in of.values]
    low, high = column_values(reader, (*base, "between"), kind, bounds) or (None, None)
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


def _pattern(reader: Reader, base: Path, kind: Kind, made: Callable[..., Check], of: Pattern) -> Iterator[Check]:
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
    reader: Reader, base: Path, kind: Kind, made: Callable[..., Check], column: Column
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


def _drift(reader: Reader, base: Path, kind: Kind, column: Column, charter: Charter) -> Iterator[Check]:
    """The distribution of the values of one load, against earlier ones."""
    path = (*base, "drift")
    if column.private:
        reader.complain(path, "values of a private column would be kept", "take 'drift' out")
    elif kind.name in {"uuid", "binary"}:
        reader.complain(path, f"{kind} has no distribution to speak of", "take 'drift' out")
    elif not charter.load_column() and charter.load.how != "overwrite":
        told = "the rows of one load cannot be told apart in this table"
        reader.complain(path, told, 'add a column with from = "@load.no"')
    elif column.drift is not None:
        told = f"{base[-1]} is distributed as usual"
        yield Check(told, "drift", (str(base[-1]),), column.drift.otherwise, path, drift=column.drift, over="load")


def _distinct(reader: Reader, base: Path, of: Distinct, charter: Charter) -> Iterator[Check]:
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


def column_values(
    reader: Reader, path: Path, kind: Kind, raw: Sequence[Any], file: str | None = None
) -> list[Any] | None:  # fmt: skip
    """TOML values, or those of a file, as values of `kind`; None, and a complaint, where one does not fit."""
    made = value_written if file else value_of
    if kind.name == "binary":
        reader.complain(path, "no values are listed of binary columns", "take it out")
        return None
    try:
        return [None if value is None else instant(kind, made(kind, value), reader.zone) for value in raw]
    except ValueError as error:
        told = f"{error}, in the list '{file}'" if file else str(error)
        reader.complain(path, told, f"write values of that kind, such as {EXAMPLES[kind.name]}")
    return None
