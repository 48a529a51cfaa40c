"""The ways by which others are told, by the schemes of their URLs. Adding one is one module and its entry here."""

from __future__ import annotations

import importlib

from nomotheta.tell.parcel import Channel, Delivered, Parcel

_MODULES = {
    "smtp": "sending", "smtps": "sending", "smtp+starttls": "sending", "folder": "sending", "http": "webhook",
    "https": "webhook", "exec": "command", "syslog": "syslog", "syslog+tcp": "syslog",
}  # fmt: skip


def send(parcel: Parcel) -> Delivered:
    """Hand a message over by the channel that its entry names.

    Raises:
        NomothetaError: that could not be done now; it is tried again with the next run.
    """
    module: Channel = importlib.import_module(f"nomotheta.tell.{_MODULES[parcel.tell.url.partition(':')[0]]}")
    return module.send(parcel)
