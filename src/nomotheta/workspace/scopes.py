"""The rows of a load, with those that belong to it, as far as they can be told apart in the table."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from nomotheta.charter import Compiled
from nomotheta.conditions import check
from nomotheta.rules.question import Scope

if TYPE_CHECKING:
    from nomotheta.ledger import Ledger


def family(ledger: Ledger, load_no: int) -> set[int]:
    """A load with those that mend its rows, or that whose rows it mends."""
    root = ledger.mends(load_no) or load_no
    return {root, load_no, *ledger.mending(root)}


def scope_of_loads(ledger: Ledger, compiled: Compiled, loads: Iterable[int]) -> Scope:
    """The rows of some loads and of those that mend their rows; the table, where they cannot be told apart."""
    chosen = sorted(loads)
    column = compiled.charter.load_column()
    if column:
        numbers = sorted({number for load_no in chosen for number in family(ledger, load_no)})
        listed = ", ".join(map(str, numbers))
        label = f"load {numbers[0]}" + "".join(f" + {number}" for number in numbers[1:])
        return Scope(label, check(f'"{column}" in ({listed})', compiled.charter.kinds()))
    if compiled.charter.load.how == "overwrite":
        return Scope(f"load {chosen[-1]}", compiled.slice)
    return Scope()
