"""What a workspace says of its charters, and proposes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import NomothetaError
from nomotheta.events import Listener, nobody
from nomotheta.workspace.context import moment

if TYPE_CHECKING:
    from nomotheta.charter import Problem
    from nomotheta.peek.table import TableLook


from nomotheta.workspace.opened import Opened


class Declarations(Opened):
    """What a workspace says of its charters, and proposes."""

    # ---- charters

    def lint(self) -> tuple[list[str], list[Problem]]:
        """The charters' files, and what is wrong with them; nothing of the data is touched."""
        from nomotheta.workspace.comparing import lint_comparisons

        names, problems = self.charters.lint()
        more, wrong = lint_comparisons(self.context)
        return [*names, *more], [*problems, *wrong]

    def lint_places(self) -> tuple[list[Problem], list[str], list[NomothetaError]]:
        """The charters held against the real tables: what is wrong, worth knowing, and the places that are silent."""
        from nomotheta.workspace.at_places import held_against_places

        return held_against_places(self.context)

    def notes(self) -> list[str]:
        """What is right, but worth knowing: loads that cannot be taken out again, rules that read private values."""
        return self.charters.notes()

    # ---- looking

    def look_at_table(self, table: str, *, place: str | None = None, where: str = "", by: str = "") -> TableLook:
        """A look at a table: its rows, or those that meet a condition; its declared key, where it has a charter.

        Raises:
            PlaceError: there is no such table, or the place cannot be reached.
            DeclarationError: the condition or the column is none of this table.
        """
        from nomotheta.peek.table import look_at_table

        charters = self.charters.known()
        compiled = charters.get(table)
        name = place or (compiled.place if compiled else next(iter(self.settings.places)))
        now = self.context.now(moment(), self.today(), None)
        key = next((each.columns for each in compiled.charter.real_keys()), ()) if compiled else ()
        with self.places.open(name) as opened:
            return look_at_table(
                opened, table, now, where=where, by=by, key=key, kinds=compiled.charter.kinds() if compiled else None,
                private=compiled.charter.private() if compiled else frozenset(),
            )  # fmt: skip

    # ---- proposal

    def propose_files(
        self, files: Sequence[Path], table: str | None = None, listener: Listener = nobody, *, into: str | None = None,
        place: str | None = None,
    ) -> tuple[str, str]:  # fmt: skip
        """A charter to start from, as TOML, proposed from files of one pattern, and the name of its table.

        Args:
            files: of data, or one of metadata of CSV on the Web.
            table: the table's name; by default that of `into`, or what the files' names say.
            listener: told of the progress.
            into: a table that is there, whose columns and kinds are taken over.
            place: where it is; by default in the first place.

        Raises:
            DeliveryError: a file cannot be read, or the files differ.
            DeclarationError: the metadata describes no such table.
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.proposing import propose_of_files

        columns = None
        if into is not None:
            from nomotheta.rules.shape import existing

            with self.places.open(place or next(iter(self.settings.places))) as opened:
                columns = existing(opened, into)
        return propose_of_files(files, self.root, table or into, self.today(), listener, columns)

    def propose_table(self, table: str, place_name: str | None = None) -> str:
        """A charter to start from, as TOML, proposed from a table as it is.

        Raises:
            PlaceError: the table is not there, or the place cannot be reached.
        """
        from nomotheta.workspace.proposing import propose_of_table

        name = place_name or next(iter(self.settings.places))
        return propose_of_table(lambda: self.places.open(name), table, self.today())

    def metadata(self, table: str) -> str:
        """The metadata (CSV on the Web) of a table's files as its charter declares them, as JSON.

        Raises:
            DeclarationError: there is no such charter, it has problems, or its files are not delimited text.
        """
        from nomotheta.workspace.proposing import metadata_of_charter

        return metadata_of_charter(self.compiled([table])[0])
