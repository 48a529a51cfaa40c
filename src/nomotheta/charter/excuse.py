"""The excuses of a charter, given to the checks that they are for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from nomotheta.charter.check import ON_ROWS, Check
from nomotheta.charter.column_checks import column_values
from nomotheta.charter.excused import Excuse, Excused
from nomotheta.charter.model import Charter
from nomotheta.charter.positions import Path
from nomotheta.charter.reader import Reader, sensible
from nomotheta.conditions import Node, build
from nomotheta.errors import did_you_mean

_UNSTORABLE = {"kind", "text_length"}
_BY_ROWS = {*ON_ROWS, "key", "reference"} - _UNSTORABLE


def with_excuses(reader: Reader, charter: Charter, checks: Sequence[Check]) -> list[Check]:
    """The checks, each with its excuses."""
    found = list(checks)
    for at, excused in enumerate(charter.excused):
        base: Path = ("excused", at)
        of = [number for number, check in enumerate(found) if excused.rule in {check.name, _rule_of(charter, check)}]
        if not of:
            names = list(dict.fromkeys([*(rule.name for rule in charter.rules), *(check.name for check in checks)]))
            mend = did_you_mean(excused.rule, names, "rules: " + ", ".join(names[:8]))
            reader.complain((*base, "rule"), f"no rule is called '{excused.rule}'", mend)
            continue
        rowwise = excused.where is not None or excused.keys is not None
        node = _rows(reader, base, charter, excused) if rowwise else None
        if rowwise and node is None:
            continue
        for number in of:
            told = _refused(found[number], rowwise=rowwise)
            if told:
                reader.complain(base, told[0], told[1])
            else:
                excuse = Excuse(excused.reason, excused.by, excused.until, node)
                found[number] = replace(found[number], excuses=(*found[number].excuses, excuse))
    return found


def _rule_of(charter: Charter, check: Check) -> str:
    """The name that the rule of a check has in the charter, which several may share."""
    return charter.rules[int(check.path[1])].name if check.path and check.path[0] == "rules" else ""


def _refused(check: Check, *, rowwise: bool) -> tuple[str, str] | None:
    """Why a check cannot be excused so, and the mend."""
    if check.otherwise == "reject" and (check.sort in _UNSTORABLE or check.sort in {"key", "reference"}):
        what = "what cannot be stored" if check.sort in _UNSTORABLE else f"rows that this {check.sort} sets aside"
        mend = "have the rows corrected" if check.sort in _UNSTORABLE else 'write otherwise = "fail" at it'
        return f"{what} cannot be excused: they are not in the table", mend
    if rowwise and check.sort not in _BY_ROWS:
        return f"'{check.name}' is not about single rows, so that none can be excused", "take 'where' or 'keys' out"
    return None


def _rows(reader: Reader, base: Path, charter: Charter, excused: Excused) -> Node | None:
    """The condition that a row is excused."""
    kinds = charter.kinds()
    if excused.where is not None:
        return sensible(reader, (*base, "where"), excused.where, kinds, "each")
    key = next((each.columns for each in charter.real_keys()), None)
    path = (*base, "keys")
    if key is None:
        reader.complain(path, "rows are named by a key, and the charter has none", "write where = … instead")
        return None
    rows: list[list[Any]] = [each if isinstance(each, list) else [each] for each in excused.keys or ()]
    if any(len(row) != len(key) for row in rows):
        form = "[" + ", ".join(f"{name} of one" for name in key) + "]" if len(key) > 1 else f"{key[0]} of one"
        reader.complain(
            path, f"the key is ({', '.join(key)}), and not all of these are such", f"write keys = [{form}, …]"
        )
        return None
    columns = [
        column_values(reader, path, kinds[name], cells)
        for name, cells in zip(key, zip(*rows, strict=True), strict=True)
    ]
    if any(cells is None for cells in columns):
        return None
    values = zip(*(cells or () for cells in columns), strict=True)
    return build.is_one_of_rows([(name, kinds[name]) for name in key], list(values))
