"""The charters of a workspace: read, checked together, and in the order of their references."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

from nomotheta.charter import (
    Compiled,
    Problem,
    Read,
    Settings,
    Shared,
    declared,
    in_order,
    is_shared,
    lint,
    read_charter,
    read_source,
    repeats_untold,
    shared_of,
    unreadable_shared,
    version_of,
)
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.workspace.context import CHARTERS


class Charters:
    """The charters below a workspace's root."""

    def __init__(self, root: Path, settings: Settings) -> None:
        self.root, self.settings = root, settings
        self._reads: dict[str, Read] = {}
        self._declared: dict[str, tuple[str, dict[str, Any]]] = {}

    @cached_property
    def _linted(self) -> tuple[dict[str, Compiled], list[Problem], list[str]]:
        reads: list[Read] = []
        problems: list[Problem] = []
        folder = self.root / CHARTERS
        names = [path.name for path in sorted(folder.glob("*.toml"))]
        also, charters = list[Shared](), list[str]()
        for name in names:
            try:
                values, source = read_source(folder / name, f"{CHARTERS}/{name}")
            except DeclarationError as error:
                problems.append(_unreadable(f"{CHARTERS}/{name}", error))
                text = (folder / name).read_bytes().decode(errors="replace") if (folder / name).is_file() else ""
                seeming = unreadable_shared(problems[-1], text)
                also += [seeming] if seeming else []
                continue
            if is_shared(values):
                also.append(shared_of(values, source))
                problems += also[-1].problems
            else:
                charters.append(name)
        for name in charters:
            read, found = read_charter(folder / name, f"{CHARTERS}/{name}", also)
            problems += found
            reads += [read] if read else []
        problems += _for_nobody(also, [read.charter.table for read in reads]) if len(reads) == len(charters) else []
        self._reads = {read.charter.table: read for read in reads}
        compiled, more = lint(reads, self.settings)
        more += [problem for read in reads for problem in _steps(self.root, read)]
        once = {(each.file, each.line, each.what, each.of): each for each in problems + more}
        return compiled, sorted(once.values(), key=lambda p: (p.file, p.line)), [f"{CHARTERS}/{name}" for name in names]

    def lint(self) -> tuple[list[str], list[Problem]]:
        """The charters' files, and what is wrong with them; nothing of the data is touched."""
        _, problems, names = self._linted
        once = {(each.file, each.line, each.what): each for each in problems}  # one that many charters share
        return names, list(once.values())

    def reads(self) -> Mapping[str, Read]:
        """The charters as they were read, by their tables."""
        return self._linted and self._reads

    def known(self) -> Mapping[str, Compiled]:
        """The charters that can be carried out, by their tables, whatever is wrong with others."""
        compiled, problems, _ = self._linted
        wrong = {problem.of for problem in problems}
        return {table: each for table, each in compiled.items() if each.file not in wrong}

    def notes(self) -> list[str]:
        """Of the charters' loads, those that could not be taken out again, and why."""
        from nomotheta.load.apart import told_apart

        found = [(each, told_apart(each, each.charter.load.how)) for each in self._linted[0].values()]
        lasting = [f"{each.file}: {self._not_undone(each)}: {why}" for each, why in found if why]
        again = [(each, repeats_untold(each.charter)) for each in self._linted[0].values()]
        lasting += [f"{each.file}: {told}" for each, told in again if told]
        return lasting + [note for each in self._linted[0].values() for note in _private_read(each)]

    def _not_undone(self, compiled: Compiled) -> str:
        """What cannot be done, where the rows of loads cannot be told: a lake goes back a version all the same."""
        place = self.settings.places.get(compiled.place)
        lake = place is not None and place.is_lake
        return "only the newest load can be undone" if lake else "a load cannot be undone"

    def compiled(self, tables: Sequence[str] = ()) -> list[Compiled]:
        """The charters of these tables, or all, each after those it refers to.

        Raises:
            DeclarationError: one has problems, or a table has no charter.
        """
        known, problems, names = self._linted
        if not names:
            raise DeclarationError(f"there are no charters in {CHARTERS}/", where=str(self.root),
                                   mend=f"write {CHARTERS}/NAME.toml; see the charter reference")  # fmt: skip
        unknown = [table for table in tables if table not in known]
        files = {known[table].file for table in tables if table in known}
        relevant = problems if unknown or not tables else [each for each in problems if each.of in files]
        if relevant:
            raise declared_wrong(relevant)
        if unknown:
            mend = did_you_mean(unknown[0], known, "charters: " + ", ".join(known))
            raise DeclarationError(f"no charter declares the table '{unknown[0]}'", where=CHARTERS, mend=mend)
        try:
            order = in_order(known)
        except ValueError:  # others refer to each other in a circle, which is told of where they are asked for
            order = in_order({table: known[table] for table in tables or known})
        chosen = set(tables) or set(known)
        return [known[table] for table in order if table in chosen]

    def apart(self, tables: Sequence[str] = ()) -> tuple[list[Compiled], dict[str, DeclarationError]]:
        """The charters of these tables, or all, that are right, in order; and what is wrong with the others, by table.

        A charter that cannot be read at all goes by the name of its file.

        Raises:
            DeclarationError: there is no charter, a table has none, or none of them is right.
        """
        known, problems, _ = self._linted
        by_file: dict[str, list[Problem]] = {}
        for problem in problems:
            by_file.setdefault(problem.of, []).append(problem)
        if not by_file:
            return self.compiled(tables), {}
        broken = {
            table: declared_wrong(found)
            for file, found in by_file.items()
            for table in [name for name, each in known.items() if each.file == file] or [Path(file).stem]
        }
        right = [table for table in known if table not in broken]
        chosen = [table for table in tables if table not in broken] if tables else right
        if not chosen:
            return self.compiled(tables), {}  # which says what is wrong
        own = {table: error for table, error in broken.items() if not tables or table in tables}
        unknown = [table for table in chosen if table not in known]
        if unknown:
            mend = did_you_mean(unknown[0], known, "charters: " + ", ".join(known))
            raise DeclarationError(f"no charter declares the table '{unknown[0]}'", where=CHARTERS, mend=mend)
        order = in_order({table: known[table] for table in right})
        return [known[table] for table in order if table in set(chosen)], own

    def declared(self, compiled: Compiled) -> tuple[str, dict[str, Any]]:
        """The version of a charter, and the keys that it declares."""
        table = compiled.charter.table
        found = self._declared.get(table)
        if found is None:
            document = declared(self._linted[0].get(table, compiled))  # however it is carried out
            found = self._declared[table] = (version_of(document), document)
        return found

    def of(self, table: str) -> Compiled | None:
        """A table's charter, where it has one that is right."""
        return self._linted[0].get(table)


def declared_wrong(problems: Sequence[Problem]) -> DeclarationError:
    """What is wrong with declarations, as one error."""
    told = "\n".join(str(problem) for problem in problems)
    return DeclarationError(told, mend="")


def _steps(root: Path, read: Read) -> Iterator[Problem]:
    """What is wrong with the files of the team's own steps."""
    if not read.charter.steps:
        return
    from nomotheta.load.steps import read_step  # only now: few charters have any

    for at, step in enumerate(read.charter.steps):
        try:
            read_step(root, step.sql, {"day": "", "load_no": ""})
        except DeclarationError as error:
            yield read.source.problem(("steps", at, "sql"), f"{error.where}: {error.what}", error.mend)


def _unreadable(name: str, error: DeclarationError) -> Problem:
    file, _, line = error.where.rpartition(":")
    return Problem(name, int(line) if line.isdigit() and file == name else 1, error.what, error.mend)


def _for_nobody(also: Sequence[Shared], tables: Sequence[str]) -> list[Problem]:
    """Shared files whose patterns match no table, which is more likely a slip than meant."""
    found = []
    for shared in also:
        for at, pattern in enumerate(shared.tables):
            if not any(replace(shared, tables=(pattern,)).is_for(table) for table in tables):
                mend = did_you_mean(pattern, tables, "tables: " + ", ".join(tables))
                found.append(shared.source.problem(("tables", at), f"no table is called '{pattern}'", mend))
    return found


def _private_read(compiled: Compiled) -> list[str]:
    """What is to be known of rules that compute with private values."""
    return [
        f"{compiled.file}: the rule '{check.name}' reads the private column {name}; what it computes is hidden, "
        "unless it is called like another column of the charter"
        for check in compiled.checks
        if check.sort == "offenders"
        for name in compiled.charter.reads_private(check.query)
    ]
