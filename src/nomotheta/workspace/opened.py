"""A workspace opened: what all of its parts stand on."""

from __future__ import annotations

import datetime
import zoneinfo
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Self

from nomotheta.errors import DeclarationError
from nomotheta.workspace.context import SETTINGS, Context

if TYPE_CHECKING:
    from nomotheta.charter import Compiled, Settings
    from nomotheta.ledger import Ledger
    from nomotheta.workspace.charters import Charters
    from nomotheta.workspace.places import Places


def folder_of(folder: Path) -> Path | None:
    """The workspace's folder, at or above a folder; None where there is none."""
    return next((at for at in [folder.resolve(), *folder.resolve().parents] if (at / SETTINGS).is_file()), None)


class Opened:
    """A folder with `nomotheta.toml` and `charters/`, opened; its memory is in `.nomotheta/`."""

    def __init__(self, context: Context) -> None:
        self.context, self.root = context, context.root
        self.led_elsewhere: dict[int, int] = {}  # runs that another machine led, and tells of; tables carried out here

    @classmethod
    def open(cls, folder: Path, *, lazily: bool = False) -> Self:
        """The workspace at or above a folder; `lazily`, its settings are read only when they are needed.

        Raises:
            DeclarationError: there is none, or its settings cannot be read.
        """
        root = folder_of(folder)
        if root is None:
            raise DeclarationError(
                f"there is no {SETTINGS} here or in a folder above", where=str(folder),
                mend="change into a workspace, name one with --workspace FOLDER, or make one: nomotheta begin",
            )  # fmt: skip
        opened = cls(Context(root))
        if not lazily:
            opened.context.settings  # noqa: B018 - what is wrong with them is told at once
        return opened

    def use_engine(self, name: str | None) -> None:
        """Have an engine carry out the loads that follow, or with `none` this machine, whatever places declare.

        Raises:
            DeclarationError: it is not declared.
        """
        if name is not None:
            self.context.engines.choose(name)

    @property
    def settings(self) -> Settings:
        """What `nomotheta.toml` says."""
        return self.context.settings

    @property
    def places(self) -> Places:
        """Where tables live."""
        return self.context.places

    @property
    def charters(self) -> Charters:
        """What tables must be."""
        return self.context.charters

    @property
    def ledger(self) -> Ledger:
        """The workspace's memory."""
        return self.context.ledger

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone of days and due times."""
        return self.context.zone

    def today(self) -> datetime.date:
        """The day it is in the workspace's time zone."""
        return self.context.today()

    def compiled(self, tables: Sequence[str] = ()) -> list[Compiled]:
        """The charters of these tables, or all, each after those it refers to.

        Raises:
            DeclarationError: one has problems, or a table has no charter.
        """
        return self.charters.compiled(tables)

    def charter_of(self, table: str) -> Compiled | None:
        """A table's charter, where it still has one."""
        return self.charters.of(table)

    def close(self) -> None:
        """Let go of the ledger."""
        self.context.close()
