"""Keys, references and offenders: a query each."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from nomotheta.charter import Check
from nomotheta.conditions import PARAMETERS, own, quoted
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.few import Answer
from nomotheta.rules.finding import Finding, Samples, Verdict, samples_of
from nomotheta.rules.question import BREAKS, SAMPLES, Question, Scope
from nomotheta.rules.shape import check_comparable, existing, held_as

if TYPE_CHECKING:
    from nomotheta.rules.anew import Anew

_TIMES, _LISTED, _REPEATED = (quoted(own(word)) for word in ("times", "listed", "repeated"))
Rest = Callable[["Place | Anew"], list[str]]  # the condition of the rows that are looked at, as who answers has it
_PARAMETERS = re.compile(
    rf"""'(?:[^']|'')*'|"(?:[^"]|"")*"|`[^`]*`|--[^\n]*|/\*.*?\*/|(\$\w*\$).*?\1|::|(?<!\w):({"|".join(PARAMETERS)})\b""",
    re.S,
)


def repeats_of(
    asked: Place | Anew, table: str, parts: Mapping[str, str], where: str | None = None, *, nulls: bool = False
) -> tuple[str, str]:  # fmt: skip
    """The statements that count the rows whose key another row has, and that list such keys; null is not a key.

    Args:
        asked: who answers.
        table: whose rows.
        parts: the values of the key in SQL, as they are compared, by their names.
        where: the condition of the rows that are looked at, in SQL.
        nulls: whether null is a value as any other.
    """
    present = [] if nulls else [f"{sql} IS NOT NULL" for sql in parts.values()]
    rowset = asked.rowset(table, " AND ".join([*present, *([where] if where else [])]) or None)
    named = ", ".join(f"{sql} AS {quoted(name)}" for name, sql in parts.items())
    groups = f"SELECT {named}, count(*) AS {_TIMES} {rowset} GROUP BY {', '.join(parts.values())} HAVING count(*) > 1"
    return f"SELECT coalesce(sum({_TIMES} - 1), 0) AS {quoted(BREAKS)} FROM ({groups}) AS {_REPEATED}", groups


def exactly(asked: Place | Anew, columns: Sequence[str], shape: Mapping[str, PlaceColumn]) -> dict[str, str]:
    """Columns in SQL as they are compared, by their names."""
    return {name: asked.exactly(quoted(name), shape[name]) for name in columns}


def key(question: Question, check: Check) -> Finding:
    """Rows whose key another row of the table has."""
    with question.read_by_us() if question.differs(check) else contextlib.nullcontext():
        return _but_for_excused(question, check, _key)


def _but_for_excused(question: Question, check: Check, work: Callable[[Question, Check, Rest], Finding]) -> Finding:
    """What comes of a check when the rows that are excused are left out, and how much they break more."""
    if question.excused(check) is None:
        return work(question, check, lambda _: [])
    every = work(question, check, lambda _: [])
    rest = work(question, check, lambda by: [f"{question.excused(check, by)} = 0"])
    return replace(rest, rows=every.rows, excused=(every.breaks or 0) - (rest.breaks or 0))


def _key(question: Question, check: Check, rest: Rest) -> Finding:
    asked = question.asked
    parts = {name: asked.render(node, question.now) for name, node in check.parts}
    parts = parts or exactly(asked, check.columns, question.shape)
    where = " AND ".join(rest(asked)) or None
    sql, groups = repeats_of(asked, question.table, parts, where, nulls=check.whole_row or check.nulls)
    rows = question.count(Scope())
    single = next(iter(parts.values())) if len(parts) == 1 and asked is question.place else ""
    if single and question.place.never_repeats(single, asked.rowset(question.table, where)):
        return question.counted_finding(check, 0, rows, sql, lambda: Samples((), ()))
    breaks = int(asked.answer(sql).first()[BREAKS])

    def samples() -> Samples:
        if not check.whole_row and not check.nulls:
            one = ", ".join(parts.values())
            repeated = f"SELECT {', '.join(map(quoted, parts))} FROM ({groups}) AS {_REPEATED}"
            question.keep(check, f"({one}) IN ({repeated})")
        found = asked.answer(f"{groups} ORDER BY {_TIMES} DESC, {', '.join(map(quoted, parts))} LIMIT {SAMPLES}")
        private = {name for name, node in check.parts if question.private & set(node.columns())}
        return samples_of(Answer((*found.columns[:-1], "times"), found.rows), question.private | private)

    finding = question.counted_finding(check, breaks, rows, sql, samples)
    return finding if question.scope_of(check).where is None else replace(finding, over="table")


def reference(question: Question, check: Check) -> Finding:
    """Rows whose values are not listed where they should be."""
    elsewhere = check.place is not None and check.place != question.place.name
    work = _fetched if elsewhere or check.listed is not None else _compared
    with question.read_by_us() if question.differs(check) else contextlib.nullcontext():
        finding = _but_for_excused(question, check, work)
    table = check.listed_in[0] if check.listed_in else ""
    told = question.around.stale(table, check.place or question.place.name) if question.around and table else ""
    if not told:
        return finding
    verdict: Verdict = "warn" if finding.verdict == "pass" else finding.verdict
    return replace(finding, verdict=verdict, message="; ".join(filter(None, [finding.message, told])))


def _fetched(question: Question, check: Check, rest: Rest) -> Finding:
    """The different values that refer, and those that are listed elsewhere, are compared here."""
    import pyarrow as pa  # only now: most references are within one place

    from nomotheta.keys.hashing import Hasher
    from nomotheta.rules.anew import as_kind
    from nomotheta.rules.listing import listed_values, unlisted

    kinds, asked = [question.declared(check, name) for name in check.columns], question.asked
    parts = exactly(asked, check.columns, question.shape)
    named = ", ".join(f"{sql} AS {quoted(name)}" for name, sql in parts.items())
    scope = question.scope_of(check)
    where = question.where(scope, *(f"{quoted(name)} IS NOT NULL" for name in check.columns), *rest(asked))
    rowset = asked.rowset(question.table, where)
    sql = f"SELECT {named}, count(*) AS {_TIMES} {rowset} GROUP BY {', '.join(parts.values())}"
    found = asked.fetch(sql)
    have = {name: as_kind(found.column(at), kind) for at, (name, kind) in enumerate(zip(parts, kinds, strict=True))}
    values = listed_values(check, kinds, question.place, question.around)
    times = [int(each) for each in found.column(len(parts)).to_pylist()]
    unknown = unlisted(pa.table(have), values, Hasher()).tolist()
    breaks = sum(times[at] for at in unknown)
    few = sorted(unknown, key=lambda at: -times[at])[:SAMPLES]
    rows = [(*(column[at].as_py() for column in have.values()), times[at]) for at in few]
    examples = Answer((*check.columns, "times"), rows)
    return question.counted_finding(
        check, breaks, question.count(scope), sql, lambda: samples_of(examples, question.private)
    )


def _compared(question: Question, check: Check, rest: Rest) -> Finding:
    """Those that no row of another table of the place lists."""
    assert check.listed_in is not None  # noqa: S101
    table, listed = check.listed_in
    there = {column.name: column for column in existing(question.place, table)}
    check_comparable(check, [question.declared(check, name) for name in check.columns], there)
    asked = _asked_with(question, check, table, listed, there)
    pairs = zip(check.columns, listed, strict=True)
    mine = asked.named(question.table)
    same = " AND ".join(
        f"{asked.exactly(f'{_LISTED}.{quoted(other)}', there[other])} = "
        f"{asked.exactly(f'{mine}.{quoted(name)}', question.shape[name])}"
        for name, other in pairs
    )
    present = " AND ".join(f"{quoted(name)} IS NOT NULL" for name in check.columns)
    absent = f"NOT EXISTS (SELECT 1 FROM {asked.named(table)} AS {_LISTED} WHERE {same})"
    scope = question.scope_of(check)
    where = question.where(scope, present, absent, *rest(asked), by=asked)
    sql = f"SELECT count(*) AS {quoted(BREAKS)} {asked.rowset(question.table, where)}"
    breaks = int(asked.answer(sql).first()[BREAKS])

    def samples() -> Samples:
        question.keep(check, where, asked)
        return question.sampled(check.columns, where, asked)

    return question.counted_finding(check, breaks, question.count(scope), sql, samples)


def _asked_with(
    question: Question, check: Check, table: str, listed: Sequence[str], there: Mapping[str, PlaceColumn]
) -> Place | Anew:
    """Who compares the columns with those of another table: the place, where both are of the kinds it needs."""
    kinds = [question.declared(check, name) for name in check.columns]
    alike = all(held_as(there[name], kind) for name, kind in zip(listed, kinds, strict=True))
    if question.asked is question.place and alike:
        return question.place
    from nomotheta.rules.anew import Anew, columns_of, listed_columns

    if table == question.table:
        return Anew(question.place, {table: columns_of(question)})
    others = listed_columns([there[name] for name in listed], kinds)
    return Anew(question.place, {question.table: columns_of(question), table: others})


def offenders(question: Question, check: Check) -> Finding:
    """The rows that a query of the analyst's own finds."""
    query = bound(check.query, question)
    sql = f"SELECT count(*) AS nomotheta_breaks {among(query)}"
    breaks = int(question.place.ask(sql).column(0)[0].as_py())
    scope = question.scope_of(check)

    def samples() -> Samples:
        found = Answer.of(question.place.ask(f"SELECT * {among(query)}", SAMPLES))
        told = {name.casefold() for name in question.charter.columns}
        computed = [name for name in found.columns if name.casefold() not in told]
        return samples_of(
            found, question.private.union(computed if question.charter.reads_private(check.query) else ())
        )

    return question.counted_finding(check, breaks, question.count(scope), sql, samples)


def among(query: str) -> str:
    """The FROM of a query of the analyst's own. Its name is one that every database knows without quotes."""
    return f"FROM ({query}\n) nomotheta_query"


def bound(query: str, question: Question) -> str:
    """A query with the values of its parameters; what stands in quotes or in comments is none."""

    def value(found: re.Match[str]) -> str:
        name = found[2]
        if name is None:
            return found[0]
        if name == "day":
            return question.place.day(question.now.day)
        return "NULL" if question.now.load_no is None else str(question.now.load_no)

    return _PARAMETERS.sub(value, query)
