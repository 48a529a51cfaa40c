"""Charters to start from, and metadata for those who send the files."""

from __future__ import annotations

import datetime
import json
import re
import tomllib
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nomotheta.charter import Charter, Compiled
from nomotheta.charter.csvw import is_metadata, metadata_of, propose_from_metadata
from nomotheta.charter.proposal import Proposal, column_name, proposal_text
from nomotheta.errors import DeclarationError, counted
from nomotheta.events import Listener
from nomotheta.layout import Layout
from nomotheta.place.base import Place, PlaceColumn

if TYPE_CHECKING:
    from nomotheta.load.rejects import Reject
    from nomotheta.peek import Look
    from nomotheta.workspace.trial import Trial


def propose_of_files(
    files: Sequence[Path], root: Path, table: str | None, day: datetime.date, listener: Listener,
    into: Sequence[PlaceColumn] | None = None,
) -> tuple[str, str]:  # fmt: skip
    """A charter as TOML, proposed from files of data, or from metadata of CSV on the Web; and the table's name.

    What the charter would set aside of those files is found out by loading them under it, into memory, and is in
    its comments, row by row.
    """
    from nomotheta.peek.propose import pattern_of

    first = files[0]
    if is_metadata(first):
        proposal = propose_from_metadata(first, str(first), root, table, day)
        return proposal_text(proposal), proposal.table
    paths = [file.resolve() for file in files]
    names = [path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path) for path in paths]
    pattern = pattern_of(names)
    plain = pattern[0].rpartition("/")[2].lower().partition(".")[0]
    name = table or re.sub(r"[^a-z]+", "_", re.sub(r"\{[^}]*\}", "", plain)).strip("_") or "table"
    return proposal_text(_fitted(paths, name, pattern, day, listener, into)), name


def _fitted(
    files: Sequence[Path], table: str, pattern: tuple[str, str], day: datetime.date, listener: Listener,
    into: Sequence[PlaceColumn] | None,
) -> Proposal:  # fmt: skip
    """What all but a few rows say, and these rows by their lines."""
    from nomotheta.peek import look
    from nomotheta.peek.propose import Draft, propose_from_look, stated_patterns
    from nomotheta.peek.readings import few_of
    from nomotheta.workspace.trial import try_out

    seen = look(files[0], None, listener, spreads=False, more=files[1:])
    draft = Draft(into=into)
    odd = ""
    headers = dict(_headers(seen))
    while True:
        proposal = propose_from_look(seen, table, pattern, day, draft)
        tolerant = replace(proposal, load=_with_tolerance(proposal, "all", ""))
        trial = try_out(proposal_text(tolerant), files, day, _MOST_FAULTS, listener)
        if trial.refused and draft.footed and seen.footer:  # it states something else, or could be a row
            odd = odd or trial.refused
            last = draft.stated >= len(stated_patterns(seen, proposal.columns))
            draft = replace(draft, stated=draft.stated + 1, footed=not last)
            continue
        by_column = Counter(each.column for each in trial.rejects if each.reason in _OF_VALUES)
        wide = {headers[name] for name, times in by_column.items() if times > max(few_of(seen.rows), seen.rows / 100)}
        if into is None and wide - draft.as_text:
            draft = replace(draft, as_text=draft.as_text | wide)
        elif draft.keyed and trial.balance.conflicts > max(few_of(seen.rows), seen.rows / 100):
            draft = replace(draft, keyed=False)
        else:
            if odd and draft.footed:
                proposal = replace(proposal, notes=[*proposal.notes, f"Odd: {odd}"])
            return _told(proposal, trial, len(files) > 1)


_OF_VALUES = frozenset({"kind", "range", "text_length"})  # reasons that a wider kind does away with
_MOST_FAULTS, _LISTED = 20_000, 50  # faults that are looked at; rows that the comments name one by one


def _headers(seen: Look) -> Iterator[tuple[str, str]]:
    """The names of the charter's columns, and those of the file's."""
    names: list[str] = []
    for column in seen.columns:
        names.append(column_name(column.name, names))
        yield names[-1], column.name


def _with_tolerance(proposal: Proposal, tolerate: str | int, comment: str) -> list[tuple[str, Any, str]]:
    return [(key, tolerate, comment) if key == "tolerate" else (key, value, told) for key, value, told in proposal.load]


def _told(proposal: Proposal, trial: Trial, several: bool) -> Proposal:
    """A proposal that names the rows which it sets aside, and lets just so many be."""
    from nomotheta.peek.propose import TOLERATE

    if trial.refused:
        return replace(proposal, notes=[*proposal.notes, f"Under this charter the file is refused: {trial.refused}"])
    balance, notes = trial.balance, [*proposal.notes]
    aside = balance.rejected + balance.copies + balance.conflicts
    if aside:
        notes.append(
            f"Set aside under this charter: {counted(aside, 'row')} of {balance.records:,} ({balance.aside()}):"
        )
    rows: dict[tuple[str, int], list[Reject]] = {}
    for each in trial.rejects:
        rows.setdefault((each.file, each.line), []).append(each)
    for (file, line), faults in sorted(rows.items())[:_LISTED]:
        where = f"{file}, line {line:,}" if several else f"line {line:,}"
        notes.append(f"  {where}: {'; '.join(_fault(each) for each in faults)}")
    if len(rows) > _LISTED:
        notes.append(f"  and {aside - _LISTED:,} more")
    rejected = balance.rejected + balance.conflicts
    if not rejected:
        return replace(proposal, notes=notes)
    comment = f"just those named above; {TOLERATE}"
    return replace(proposal, notes=notes, load=_with_tolerance(proposal, rejected, comment))


def _fault(each: Reject) -> str:
    """What is wrong with a value, or with a row."""
    if not each.column or each.value is None:
        return each.message
    told, of_value = each.message.removeprefix(f"{each.column} "), each.message.startswith(f"{each.column} ")
    return f"{each.column} '{each.value}'{' ' if of_value else ': '}{told}"


def propose_of_table(place: Callable[[], AbstractContextManager[Place]], table: str, day: datetime.date) -> str:
    """A charter as TOML, proposed from a table as it is."""
    from nomotheta.peek.propose import propose_from_table

    with place() as opened:
        return proposal_text(propose_from_table(opened, table, day))


def write_proposal(text: str, to: Path, name: str) -> Path:
    """Write a proposal where no file is yet: to a path, or into a folder under a name; where it was written.

    Raises:
        DeclarationError: there is one already, or it cannot be written.
    """
    from nomotheta.report.write import write_file

    file = to / name if to.is_dir() or str(to).endswith("/") else to
    if file.exists():
        raise DeclarationError("this file is there already", where=str(file), mend="name another with --to FILE")
    try:
        write_file(file, text)
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None
    return file


def metadata_of_proposal(text: str) -> str:
    """The metadata of a proposed charter, as JSON.

    Raises:
        DeclarationError: its files are not delimited text, which is all that such metadata describes.
    """
    charter = Charter.model_validate(tomllib.loads(text))
    layout = charter.delivery.layout if charter.delivery else Layout()
    return _written(charter, layout if isinstance(layout, Layout) else Layout(), charter.table)


def metadata_of_charter(compiled: Compiled) -> str:
    """The metadata of a charter of the workspace, as JSON.

    Raises:
        DeclarationError: as above.
    """
    return _written(compiled.charter, compiled.layout, compiled.file)


def _written(charter: Charter, layout: Layout, where: str) -> str:
    if layout.format != "delimited":
        what = f"its files are of the format {layout.format}; the metadata describes delimited text"
        raise DeclarationError(what, where=where)
    patterns = charter.delivery.patterns if charter.delivery else []
    name = patterns[0].rpartition("/")[2] if patterns else ""
    if not name or "{" in name or "*" in name or "?" in name:
        name = f"{charter.table}.csv"
    return json.dumps(metadata_of(charter, layout, name), indent=2, ensure_ascii=False) + "\n"
