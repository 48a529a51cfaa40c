"""What a channel is given to send, and what it says came of it."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import field
from pathlib import Path
from typing import Protocol

from nomotheta.charter import Tell
from nomotheta.errors import NomothetaError
from nomotheta.frozen import frozen
from nomotheta.ledger import Mail


@frozen
class Parcel:
    """A message on its way.

    Args:
        mail: what waits in the outbox.
        tell: the entry that says how, and `name` what that is called.
        root: the folder from which on other folders are named.
        seconds: how long it may take.
        now: the moment, in the workspace's time zone.
        workspace: the id of the workspace whose outbox it is in.
        base: where the workspace's pages are served, if they are.
        last: the number of the last message that goes with it, if several go as one.
    """

    mail: Mail
    tell: Tell
    name: str
    root: Path
    seconds: float
    now: datetime.datetime
    workspace: str
    base: str = ""
    last: int = 0

    @property
    def number(self) -> str:
        """What the message is known by, however often it is sent."""
        return f"{self.workspace}.{self.mail.mail_id}" + (f"-{self.last}" if self.last else "")


@frozen
class Delivered:
    """To whom a message did not go: those to whom it may go later, and those whom the server refuses for good.

    `refused` says why it is taken for nobody, whenever it is sent; it is empty otherwise.
    """

    later: Mapping[str, str] = field(default_factory=dict)
    never: Mapping[str, str] = field(default_factory=dict)
    refused: str = ""


class Channel(Protocol):
    """A module that sends."""

    def send(self, parcel: Parcel) -> Delivered:
        """Hand a message over.

        Raises:
            NomothetaError: that could not be done now; it is tried again with the next run.
        """


def unsent(what: str, reason: str, where: str) -> NomothetaError:
    """A message that could not be handed over now."""
    return NomothetaError(
        f"the {what} could not be sent: {reason}", where=where,
        mend="it stays in the outbox and is tried again with the next run",
    )  # fmt: skip
