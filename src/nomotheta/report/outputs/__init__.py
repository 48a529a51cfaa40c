"""What a run can be written as for other programs. Adding one is one module and its entry here."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.ledger import DocketEntry, RunResult, ShownReject
from nomotheta.report.rows import write_table
from nomotheta.report.write import write_parts


@frozen
class Shown:
    """What is written: a run, what is open in the docket, and when each table passed last, in seconds since 1970.

    `aside` gives the faults of a load whose rows are open, as they may be shown.
    """

    run: RunResult
    entries: Sequence[DocketEntry]
    passed: Mapping[str, float]
    aside: Callable[[int], Sequence[ShownReject]]


class Output(Protocol):
    """A module of this room that writes a form of its own."""

    def written(self, shown: Shown) -> bytes:
        """The content of the file."""


class Rows(Protocol):
    """A module of this room whose form is a table: CSV, or Parquet where the file is called so."""

    def table_of(self, shown: Shown) -> Any:
        """The `pa.Table`."""


# by what it is called: the ending of its file, and what it is; its module is called like it
OUTPUTS: Mapping[str, tuple[str, str]] = {
    "junit": (".xml", "JUnit XML, as build servers read it"),
    "openmetrics": (".txt", "OpenMetrics text, as monitoring reads it"),
    "dqv": (".jsonld", "W3C Data Quality Vocabulary as JSON-LD, for catalogues"),
    "prov": (".jsonld", "W3C PROV as JSON-LD: which file became rows of which table by which load"),
    "findings": (".csv", "CSV or Parquet: a row for each rule of each table"),
    "breaks": (".csv", "CSV or Parquet: the first rows that broke each rule"),
    "rejects": (".csv", "CSV or Parquet: the rows that were set aside"),
    "differences": (".csv", "CSV or Parquet: the rows that differ"),
}


def output(name: str) -> tuple[Callable[[Shown, Path], object], str]:
    """What writes an output into a file, and the ending of its name.

    Raises:
        DeclarationError: there is none of that name.
    """
    if name not in OUTPUTS:
        listed = "; ".join(f"{each}: {told}" for each, (_, told) in OUTPUTS.items())
        told = f"a run is not written as '{name}'"
        raise DeclarationError(told, where="--as", mend=did_you_mean(name, OUTPUTS, listed))
    made: Any = importlib.import_module(f"nomotheta.report.outputs.{name}")
    if hasattr(made, "table_of"):
        return lambda shown, path: write_table(made.table_of(shown), path), OUTPUTS[name][0]
    return lambda shown, path: write_parts(path, [made.written(shown)]), OUTPUTS[name][0]
