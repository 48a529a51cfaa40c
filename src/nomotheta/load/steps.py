"""The team's own steps around a load: SQL before the rows go in, after they are judged, or once they are committed."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal

from nomotheta.errors import DeclarationError, PlaceError, counted
from nomotheta.frozen import frozen
from nomotheta.place.base import Place
from nomotheta.place.statements import can_be_undone, statements_of, temporary_table

When = Literal["before", "after", "after commit"]


@frozen
class Step:
    """One file of statements, and when it is carried out."""

    file: str
    when: When
    statements: tuple[str, ...]

    @property
    def told(self) -> str:
        """What is said of it when it was carried out."""
        return f"carried out {self.file} ({counted(len(self.statements), 'statement')}, {self.when})"


def read_step(root: Path, file: str, values: Mapping[str, str]) -> tuple[str, ...]:
    """The statements of a file, with values in them.

    Raises:
        DeclarationError: it cannot be read, has no statement, or names a value that there is not.
    """
    try:
        text = (root / file).read_text("utf-8-sig")
    except (OSError, ValueError) as error:
        told = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise DeclarationError(f"the step cannot be read: {told}", where=file) from None
    found = tuple(statements_of(text, values, file))
    if not found:
        raise DeclarationError("the step has no statement", where=file, mend="write one, or take the step out")
    return found


def check_steps(place: Place, steps: Sequence[Step]) -> None:
    """Whether what is within the transaction stays there.

    Raises:
        DeclarationError: a statement would end the transaction, or could not be undone with it.
    """
    for step in steps:
        if place.apart_tables:
            told = f"{place.name} is a lake, which carries out no SQL of your own"
            mend = "take the step out of the charter, or load into a database"
            raise DeclarationError(told, where=step.file, mend=mend)
        if step.when == "after commit":
            continue
        for number, statement in enumerate(step.statements, 1):
            if not can_be_undone(statement, place.takes):
                first = statement.split(None, 2)
                told = f"'{' '.join(first[:2])} …' cannot be undone with the load in {place.name}"
                mend = 'write when = "after commit" for it, or another statement'
                raise DeclarationError(told, where=f"{step.file}, statement {number}", mend=mend)


def carry_out(place: Place, steps: Sequence[Step], when: When) -> None:
    """Carry out the steps of a time.

    Raises:
        PlaceError: the place refuses one.
    """
    for step in steps:
        for number, statement in enumerate(step.statements if step.when == when else (), 1):
            try:
                place.carry_out(statement, alone=when == "after commit")
            except PlaceError as error:
                raise PlaceError(error.told, where=f"{step.file}, statement {number}",
                                 mend=f"correct {step.file}, and load again") from None  # fmt: skip


@contextlib.contextmanager
def without_temporary(place: Place, steps: Sequence[Step]) -> Iterator[None]:
    """Take the temporary tables away that steps make, however it ends: a place may be kept for the next table."""
    try:
        yield
    finally:
        made = [temporary_table(statement) for step in steps for statement in step.statements]
        for name in dict.fromkeys(each for each in made if each):
            with contextlib.suppress(PlaceError):
                place.carry_out(place.drops_temporary.format(name.rpartition(".")[2]))
