"""What every step of a workspace works with: its folder, settings, places, charters and memory."""

from __future__ import annotations

import datetime
import tomllib
import uuid
import zoneinfo
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nomotheta.errors import GoneError

if TYPE_CHECKING:
    from nomotheta.charter import Settings
    from nomotheta.ledger import Ledger
    from nomotheta.place.render import Now
    from nomotheta.source.elsewhere import Elsewhere
    from nomotheta.workspace.charters import Charters
    from nomotheta.workspace.engines import Engines
    from nomotheta.workspace.places import Places

MEMORY = ".nomotheta"
SETTINGS, CHARTERS, COMPARISONS, REPORTS = "nomotheta.toml", "charters", "comparisons", "reports"


class Context:
    """A workspace's folder and what it declares. Each part is read, or opened, when it is first asked for."""

    def __init__(self, root: Path) -> None:
        self.root = root

    @cached_property
    def settings(self) -> Settings:
        """What `nomotheta.toml` says.

        Raises:
            DeclarationError: it cannot be read, or something in it is wrong.
        """
        from nomotheta.charter import read_settings
        from nomotheta.workspace.charters import declared_wrong

        settings, _, problems = read_settings(self.root / SETTINGS, SETTINGS)
        if settings is None:
            raise declared_wrong(problems)
        return settings

    @cached_property
    def places(self) -> Places:
        """Where tables live."""
        from nomotheta.workspace.places import Places

        return Places(self.root, self.settings)

    @cached_property
    def engines(self) -> Engines:
        """What carries out loads."""
        from nomotheta.workspace.engines import Engines

        return Engines(self.settings)

    @cached_property
    def charters(self) -> Charters:
        """What tables must be."""
        from nomotheta.workspace.charters import Charters

        return Charters(self.root, self.settings)

    @cached_property
    def ledger(self) -> Ledger:
        """The workspace's memory.

        Raises:
            NomothetaError: it cannot be used.
        """
        from nomotheta.ledger import Ledger

        file = self.root / MEMORY / "ledger.sqlite"
        declared = self.settings.ledger if _is_said(self.root / SETTINGS, "ledger") else None
        if declared is None:
            return Ledger(file)
        from nomotheta.workspace.shared_ledger import shared_ledger  # only now: its driver is not always there

        return Ledger(shared_ledger(declared, self.settings.name, file))

    @cached_property
    def elsewhere(self) -> Elsewhere:
        """What lies elsewhere, behind URLs.

        Raises:
            DeclarationError: a secret of a store is not set.
        """
        from nomotheta.place.connect import with_secrets
        from nomotheta.source.elsewhere import Elsewhere

        def told(value: Any, where: str) -> Any:
            if isinstance(value, dict):
                return {name: told(each, where) for name, each in value.items()}
            return with_secrets(value, where) if isinstance(value, str) else value

        stores = {each.url: told(each.options, f"store {name}") for name, each in self.settings.stores.items()}
        return Elsewhere(self.root, self.root / MEMORY, stores)

    @cached_property
    def identity(self) -> str:
        """What tells this workspace from any other in the places that both load into."""
        return self.ledger.identity(uuid.uuid4().hex)

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone of days and due times."""
        declared = None if "settings" in self.__dict__ else _declared_zone(self.root / SETTINGS)
        return declared or zoneinfo.ZoneInfo(self.settings.time_zone)

    def today(self) -> datetime.date:
        """The day it is in the workspace's time zone."""
        return datetime.datetime.now(self.zone).date()

    def now(self, at: datetime.datetime, day: datetime.date, load_no: int | None = None) -> Now:
        """What conditions may speak of at a moment."""
        from nomotheta.place.render import Now

        return Now(at.astimezone(self.zone), day, load_no)

    def rejects_file(self, load_no: int) -> Path:
        """Where the rejects of a load are kept."""
        return self.root / MEMORY / "rejects" / f"load-{load_no}.parquet"

    def rejects_kept(self, load_no: int) -> Path:
        """Where the rejects of a load are, which are there if it has any.

        Raises:
            GoneError: it has some, and they are not there.
        """
        file = self.rejects_file(load_no)
        load = None if file.exists() else self.ledger.load(load_no)
        if load is not None and load.balance is not None and load.balance.rejected + load.balance.repeated:
            raise GoneError(
                f"the rows that load {load_no} set aside are not here", where=str(file.relative_to(self.root)),
                mend="if another machine carried it out, they are in the same folder there",
            )  # fmt: skip
        return file

    def mended_file(self, load_no: int) -> Path:
        """Where the file of mended rows is kept that a load brought."""
        return self.root / MEMORY / "mended" / f"load-{load_no}.csv"

    def again_file(self, load_no: int) -> Path:
        """Where rows that a load set aside are written while they are loaded again."""
        return self.root / MEMORY / f"again-{load_no}.csv"

    def beside(self) -> Context:
        """The same workspace for another thread: what it declares is shared, its memory is opened once more."""
        other = Context(self.root)
        other.__dict__.update(settings=self.settings, charters=self.charters, engines=self.engines)
        return other

    def close(self) -> None:
        """Let go of the ledger."""
        if "ledger" in self.__dict__:
            self.ledger.close()


def _is_said(path: Path, key: str) -> bool:
    """Whether settings have a key; also where they cannot be read, which is said by who reads them."""
    try:
        with path.open("rb") as file:
            return key in tomllib.load(file)
    except FileNotFoundError:
        return False
    except (OSError, ValueError):
        return True


def _declared_zone(path: Path) -> zoneinfo.ZoneInfo | None:
    """The zone that plain settings name, without a look at the rest; None where that is not so plain."""
    try:
        with path.open("rb") as file:
            return zoneinfo.ZoneInfo(tomllib.load(file)["time_zone"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def moment() -> datetime.datetime:
    """The present, in UTC."""
    return datetime.datetime.now(datetime.UTC)
