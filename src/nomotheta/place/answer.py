"""Whether a place answers, and what may be done in it."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path

from nomotheta.errors import NomothetaError
from nomotheta.frozen import frozen
from nomotheta.place.connect import connect, file_of
from nomotheta.secrets import masked


@frozen
class PlaceAnswer:
    """What a place said when it was tried.

    `milliseconds` is how long a SELECT took, there and back. What is not known is None; `message` and `mend` say what
    is wrong, or yet to be done.
    """

    name: str
    url: str
    answers: bool
    version: str = ""
    may_create: bool | None = None
    may_write: bool | None = None
    milliseconds: float | None = None
    message: str = ""
    mend: str = ""


def tried(name: str, url: str, root: Path, options: Mapping[str, str] | None = None) -> PlaceAnswer:
    """Open a place, ask it what it is, and close it; what goes wrong is part of the answer."""
    shown = masked(url)
    file = file_of(url, root)
    if file is not None and file.parent.is_dir() and not file.exists():
        version = {"duckdb": "DuckDB", "sqlite": "SQLite"}.get(url.partition("://")[0], "Delta tables")
        what = "folder" if version == "Delta tables" else "file"
        message, mend = f"the {what} is not there yet", "the first load with --create makes it"
        return PlaceAnswer(name, shown, answers=True, version=version, may_create=True, message=message, mend=mend)
    try:
        place = connect(name, url, root, options=options)
    except NomothetaError as error:
        return PlaceAnswer(name, shown, answers=False, message=error.what, mend=error.mend)
    try:
        facts = place.facts()
        started = time.perf_counter()
        place.ask("SELECT 1 AS one")
        taken = 1000 * (time.perf_counter() - started)
        return PlaceAnswer(
            name, shown, True, facts.version, facts.may_create, facts.may_write, round(taken, 1), facts.message,  # noqa: FBT003
            facts.mend,
        )  # fmt: skip
    except NomothetaError as error:
        return PlaceAnswer(name, shown, answers=False, message=error.what, mend=error.mend)
    finally:
        place.close()
