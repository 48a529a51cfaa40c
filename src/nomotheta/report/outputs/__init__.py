"""What a run can be written as for other programs. Adding one is one module and its entry here."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.ledger import DocketEntry, RunResult


@frozen
class Shown:
    """What is written: a run, what is open in the docket, and when each table passed last, in seconds since 1970."""

    run: RunResult
    entries: Sequence[DocketEntry]
    passed: Mapping[str, float]


class Output(Protocol):
    """A module of this room."""

    def written(self, shown: Shown) -> bytes:
        """The content of the file."""


# by what it is called: its module, the ending of its file, and what it is
OUTPUTS: Mapping[str, tuple[str, str, str]] = {
    "junit": ("junit", ".xml", "JUnit XML, as build servers read it"),
    "openmetrics": ("openmetrics", ".txt", "OpenMetrics text, as monitoring reads it"),
    "findings": ("findings", ".csv", "CSV: a line for each rule of each table"),
    "findings-parquet": ("findings_parquet", ".parquet", "the same as Parquet"),
    "dqv": ("dqv", ".jsonld", "W3C Data Quality Vocabulary as JSON-LD, for catalogues"),
    "prov": ("prov", ".jsonld", "W3C PROV as JSON-LD: which file became rows of which table by which load"),
}


def output(name: str) -> tuple[Callable[[Shown], bytes], str]:
    """How an output is written, and the ending of its file.

    Raises:
        DeclarationError: there is none of that name.
    """
    if name not in OUTPUTS:
        listed = "; ".join(f"{each}: {told}" for each, (*_, told) in OUTPUTS.items())
        told = f"a run is not written as '{name}'"
        raise DeclarationError(told, where="--as", mend=did_you_mean(name, OUTPUTS, listed))
    module, ending, _ = OUTPUTS[name]
    return importlib.import_module(f"nomotheta.report.outputs.{module}").written, ending
