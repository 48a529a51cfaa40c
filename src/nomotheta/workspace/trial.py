"""Files loaded under a charter that is only proposed, into memory: which of their rows would be set aside, and why."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Sequence
from dataclasses import field
from pathlib import Path

from nomotheta.charter import Compiled, Settings, lint, read_charter
from nomotheta.errors import DeliveryError, PlaceError
from nomotheta.events import Listener
from nomotheta.frozen import frozen
from nomotheta.load.balance import Balance
from nomotheta.load.load import load
from nomotheta.load.order import Order
from nomotheta.load.rejects import Reject, read_rejects
from nomotheta.place.render import Now
from nomotheta.source.delivery import arrived, literal
from nomotheta.workspace.context import moment

_ZONE = "UTC"


@frozen
class Trial:
    """What came of it: the balance and the first faults; or why the files could not be loaded at all."""

    balance: Balance = field(default_factory=Balance)
    rejects: Sequence[Reject] = ()
    refused: str = ""


def try_out(text: str, files: Sequence[Path], day: datetime.date, most: int, listener: Listener) -> Trial:
    """Load files under a charter.

    Args:
        text: the charter as TOML.
        files: what is loaded, whatever files the charter names.
        day: the delivery's.
        most: faults that are wanted.
        listener: told of the progress.
    """
    from nomotheta.place.embedded.duckdb import DuckPlace

    with tempfile.TemporaryDirectory(prefix="nomotheta-") as folder:
        try:
            compiled = compiled_text(text, Path(folder))
            found = [each for path in files for each in arrived(path.parent, [literal(path.name)], compiled.layout)]
            at, rejects = moment(), Path(folder) / "rejects.parquet"
            content = found[0].survey.content
            order = Order(1, "trial", day, at, _ZONE, found, content, content, rejects)
            place = DuckPlace("trial", None)
            try:
                place.create(compiled.charter.table, compiled.charter.kinds())
                now = Now(at, day, 1)
                outcome = load(place, compiled, order, now, lambda *_: [], listener)
            finally:
                place.close()
            return Trial(
                outcome.balance, read_rejects(rejects, most), "" if outcome.state == "loaded" else outcome.message
            )
        except (DeliveryError, PlaceError) as error:
            return Trial(refused=error.what)


def compiled_text(text: str, folder: Path) -> Compiled:
    """A charter that is only proposed, to be carried out.

    Raises:
        DeliveryError: it cannot be.
    """
    path = folder / "charter.toml"
    path.write_text(text, encoding="utf-8")
    read, problems = read_charter(path, path.name)
    settings = Settings.model_validate(
        {"name": "trial", "time_zone": _ZONE, "places": {"trial": {"url": "duckdb:///trial.duckdb"}}}
    )
    found, more = lint([read] if read else [], settings)
    if read is None or problems or more:
        raise DeliveryError("; ".join(each.what for each in [*problems, *more]))
    return found[read.charter.table]
