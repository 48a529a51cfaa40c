"""What every step of a workspace works with: its folder, settings, places, charters and memory."""

from __future__ import annotations

import datetime
import uuid
import zoneinfo
from functools import cached_property
from pathlib import Path

from nomotheta.charter import Settings
from nomotheta.ledger import Ledger
from nomotheta.place.render import Now
from nomotheta.workspace.charters import Charters
from nomotheta.workspace.places import Places

MEMORY = ".nomotheta"


class Context:
    """A workspace's folder and what it declares; the ledger is opened when it is first asked."""

    def __init__(self, root: Path, settings: Settings) -> None:
        self.root, self.settings = root, settings
        self.places = Places(root, settings)
        self.charters = Charters(root, settings)

    @cached_property
    def ledger(self) -> Ledger:
        """The workspace's memory."""
        return Ledger(self.root / MEMORY / "ledger.sqlite")

    @cached_property
    def identity(self) -> str:
        """What tells this workspace from any other in the places that both load into."""
        return self.ledger.identity(uuid.uuid4().hex)

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone of days and due times."""
        return zoneinfo.ZoneInfo(self.settings.time_zone)

    def today(self) -> datetime.date:
        """The day it is in the workspace's time zone."""
        return datetime.datetime.now(self.zone).date()

    def now(self, at: datetime.datetime, day: datetime.date, load_no: int | None = None) -> Now:
        """What conditions may speak of at a moment."""
        return Now(at.astimezone(self.zone), day, load_no)

    def rejects_file(self, load_no: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.root / MEMORY / "rejects" / f"load-{load_no}.parquet"

    def mended_file(self, load_no: int) -> Path:
        """Where the file of mended rows is kept that a load brought."""
        return self.root / MEMORY / "mended" / f"load-{load_no}.csv"

    def again_file(self, load_no: int) -> Path:
        """Where rows that a load set aside are written while they are loaded again."""
        return self.root / MEMORY / f"again-{load_no}.csv"

    def close(self) -> None:
        """Let go of the ledger."""
        if "ledger" in self.__dict__:
            self.ledger.close()


def moment() -> datetime.datetime:
    """The present, in UTC."""
    return datetime.datetime.now(datetime.UTC)
