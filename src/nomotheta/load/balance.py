"""The account of a load: two sums that must each add up."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.tabular import Tabular

if TYPE_CHECKING:
    from nomotheta.place.staging import Merged

_LISTED, _WORST = 8, 5  # files that are shown one by one; of more, those with the most rows set aside
How = Literal["append", "overwrite", "merge"]


def aside_told(rejected: int, copies: int, conflicts: int) -> str:
    """Rows that were set aside, in words; those of a sort that has none are left out, unless none has any."""
    parts = [f"{rejected:,} rejected"] * bool(rejected or not copies + conflicts)
    parts += [f"{copies:,} {'copy' if copies == 1 else 'copies'}"] * bool(copies)
    parts += [counted(conflicts, "conflict")] * bool(conflicts)
    return " + ".join(parts)


@frozen
class Altered:
    """What was done to a file that was not taken as it came: how often, and in which line first.

    `what` is `filled` (rows that were too short), `cut` (rows that were too long), `trimmed` (cells), `nulled` (cells
    with a null word that is not empty), or `blank` (rows without a value that were skipped, or loaded).
    """

    what: str
    count: int
    line: int

    def told(self) -> str:
        """It in words."""
        noun, done = _ALTERED[self.what]
        return f"{counted(self.count, noun)} {done}" + (f", first in line {self.line:,}" if self.line else "")


_ALTERED = {
    "filled": ("short row", "filled with nulls"),
    "cut": ("long row", "cut"),
    "trimmed": ("cell", "trimmed"),
    "nulled": ("cell", "with a null word, loaded as null"),
    "blank": ("row", "without a value"),
}


@frozen
class FileCount:
    """One file's part: its content (BLAKE3), its bytes, its lines by what they are, and its records.

    `skipped` are records without a value, which the charter has left out.
    """

    file: str
    content: str
    bytes: int
    lines: int
    header: int
    comment: int
    empty: int
    footer: int
    record_lines: int
    records: int
    rejected: int
    copies: int
    conflicts: int = 0
    skipped: int = 0
    altered: tuple[Altered, ...] = ()

    @property
    def repeated(self) -> int:
        """Its rows whose key is another row's: copies of that, and those that differ from it."""
        return self.copies + self.conflicts

    @property
    def set_aside(self) -> int:
        """Its rows that were not loaded."""
        return self.rejected + self.repeated

    def aside(self) -> str:
        """Its rows that were not loaded, in words."""
        return aside_told(self.rejected, self.copies, self.conflicts)

    def counted(self) -> int:
        """The lines by what they turned out to be, added up."""
        return self.header + self.comment + self.empty + self.footer + self.record_lines

    def told(self) -> str:
        """The lines by what they turned out to be, in words."""
        rare = ((self.comment, "comment"), (self.footer, "footer"))
        parts = [f"{self.header:,} header", *(f"{count:,} {name}" for count, name in rare if count)]
        return " + ".join([*parts, f"{self.empty:,} empty", f"{self.record_lines:,} in records"])


_COUNTS = [each.name for each in fields(FileCount)][3:-1]
_SUMMED = [each.name for each in fields(FileCount)][2:-1]


@frozen
class Balance(Tabular):
    """Lines: every line is header, comment, empty, footer, or part of a record.

    Rows: every record is loaded, rejected, a copy of a row with its key, in conflict with it, or skipped as blank.

    `before`, `removed` and `after` count the table's rows, in the load's own transaction. Of the rows that a merge
    loaded, `inserted` have new keys, `updated` differed from the row of their key, and `unchanged` did not.
    """

    how: How = "append"
    files: tuple[FileCount, ...] = ()
    lines: int = 0
    records: int = 0
    loaded: int = 0
    rejected: int = 0
    copies: int = 0
    conflicts: int = 0
    skipped: int = 0
    before: int = 0
    removed: int = 0
    after: int = 0
    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    COLUMNS: ClassVar[Mapping[str, str]] = {"file": "text", **dict.fromkeys(_COUNTS, "integer")}

    def caption(self) -> str:
        """The table's rows before and after."""
        return (
            f"{self.how}: {self.before:,} before − {self.removed:,} replaced + {self.loaded:,} loaded → {self.after:,}"
        )

    def as_rows(self) -> list[dict[str, Any]]:
        """Its files, one a row: their lines by what they are, and their records by what became of them."""
        return [{name: getattr(each, name) for name in self.COLUMNS} for each in self.files]

    @classmethod
    def of(
        cls, how: How, files: Sequence[FileCount], loaded: int, before: int, removed: int, after: int,
        merged: Merged | None = None,
    ) -> Balance:  # fmt: skip
        """The account of these files and of what the place counted."""
        return cls(
            how, tuple(files), sum(file.lines for file in files), sum(file.records for file in files), loaded,
            sum(file.rejected for file in files), sum(file.copies for file in files),
            sum(file.conflicts for file in files), sum(file.skipped for file in files), before, removed, after,
            *((merged.inserted, merged.updated, merged.unchanged) if merged else ()),
        )  # fmt: skip

    @property
    def repeated(self) -> int:
        """The rows whose key is another row's: copies of that, and those that differ from it."""
        return self.copies + self.conflicts

    def aside(self) -> str:
        """The rows that were not loaded, in words."""
        skipped = f" + {self.skipped:,} skipped" if self.skipped else ""
        return aside_told(self.rejected, self.copies, self.conflicts) + skipped

    def alterations(self) -> list[str]:
        """What was not taken as it came, in words, by file; of many files all together."""
        if not self.many:
            several = len(self.files) > 1
            return [
                f"{file.file}: {each.told()}" if several else each.told()
                for file in self.files
                for each in file.altered
            ]
        found: dict[str, list[int]] = {}
        for file in self.files:
            for each in file.altered:
                total = found.setdefault(each.what, [0, 0])
                total[0], total[1] = total[0] + each.count, total[1] + 1
        return [
            f"{counted(count, _ALTERED[what][0])} {_ALTERED[what][1]}, in {counted(files, 'file')}"
            for what, (count, files) in found.items()
        ]

    @property
    def many(self) -> bool:
        """Whether its files are too many to be shown one by one."""
        return len(self.files) > _LISTED

    def worst(self) -> tuple[FileCount, ...]:
        """Of many files those with the most rows set aside."""
        worst = sorted((file for file in self.files if file.set_aside), key=lambda file: -file.set_aside)
        return tuple(worst[:_WORST])

    def together(self) -> FileCount:
        """All files as one."""
        name = counted(len(self.files), "file")
        return FileCount(name, "", *(sum(getattr(file, each) for file in self.files) for each in _SUMMED))

    def faults(self) -> list[str]:
        """What does not add up, and by how much; empty where everything does."""
        found = [
            f"{file.file}: {counted(file.lines, 'line')} read, but {file.told()} are {file.counted():,}"
            for file in self.files
            if file.lines != file.counted()
        ]
        kept = self.loaded + self.rejected + self.repeated + self.skipped
        if kept != self.records:
            found.append(
                f"{counted(self.records, 'record')}, but loaded {self.loaded:,} + rejected {self.rejected:,} + "
                f"copies {self.copies:,} + conflicts {self.conflicts:,} + skipped {self.skipped:,} are {kept:,}"
            )
        if self.how == "merge" and self.unchanged < 0:
            found.append(
                f"{counted(self.loaded, 'row')} merged, but {self.inserted:,} inserted + {self.updated:,} updated "
                "are more"
            )
        new, word = (self.inserted, "inserted") if self.how == "merge" else (self.loaded, "loaded")
        if self.after != self.before - self.removed + new:
            found.append(
                f"the table holds {counted(self.after, 'row')}, but before {self.before:,} − "
                f"removed {self.removed:,} + {word} {new:,} are {self.before - self.removed + new:,}"
            )
        return found
