"""A charter that can be carried out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from nomotheta.charter.check import Check
from nomotheta.charter.model import Charter
from nomotheta.conditions import Kind, Node
from nomotheta.frozen import frozen
from nomotheta.layout import CellForm, Layout


@frozen
class Compiled:
    """A charter that can be carried out: its checks, its layout, the condition of its slice, and its place's name.

    `within` is the check that a row is in the slice; `text` is the charter as it was written. Where files are landed as
    text, `landing` is how they go into the table, and of that `meant` are the kinds
    that the texts stand for, in their `forms`. Where the rows
    come from a landing table, `source` is the charter of that one, and `carried` says which of its columns has what it
    alone knows of the files.
    """

    charter: Charter
    file: str
    checks: tuple[Check, ...]
    layout: Layout
    place: str
    slice: Node | None = None
    within: Check | None = None
    text: str = ""
    landing: Compiled | None = None
    meant: Mapping[str, Kind] = field(default_factory=dict)
    forms: Mapping[str, CellForm] = field(default_factory=dict)
    source: Compiled | None = None
    carried: Mapping[str, str] = field(default_factory=dict)

    @property
    def as_loaded(self) -> Compiled:
        """The charter as its files are loaded."""
        return self.landing or self

    @property
    def carried_at(self) -> dict[str, int]:
        """Where the carried columns are in rows that were taken out of a landing table: behind those of the files."""
        first = len(self.charter.file_columns())
        return {name: first + at for at, name in enumerate(self.carried)}

    def after(self) -> set[str]:
        """The tables that must be loaded before this one: it refers to them, has their rows, or is declared so."""
        referred = {each.table for each in self.charter.references if each.table and each.place in {None, self.place}}
        referred |= {rule.equals.table for rule in self.charter.rules if rule.equals and rule.equals.table}
        referred |= {*self.charter.after}
        return (referred | ({self.source.charter.table} if self.source else set())) - {self.charter.table}
