"""Messages to a system log (RFC 5424): the local one, or one over UDP (RFC 5426) or TCP (RFC 6587), a change a line."""

from __future__ import annotations

import datetime
import json
import os
import re
import socket
from collections.abc import Iterator
from urllib.parse import urlsplit

from nomotheta.errors import visible
from nomotheta.secrets import masked
from nomotheta.tell.parcel import Delivered, Parcel, unsent

_LOCAL, _PORT = "/dev/log", 514
_DAEMON = 3 << 3  # the facility of system daemons
_SEVERITY = {"error": 3, "fail": 4, "warn": 5, "pass": 6}  # error, warning, notice, informational
_MOST = 8000  # bytes of a line, which every receiver of TCP and most of UDP take


def send(parcel: Parcel) -> Delivered:
    """Write the lines.

    Raises:
        NomothetaError: the log cannot be reached.
    """
    scheme, _, rest = parcel.tell.url.partition(":")
    lines = list(lines_of(parcel))
    try:
        if not rest.strip("/"):
            with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as local:
                local.connect(_LOCAL)
                for line in lines:
                    local.send(line)
            return Delivered()
        parts = urlsplit(parcel.tell.url)
        to = (parts.hostname or "localhost", parts.port or _PORT)
        if scheme == "syslog+tcp":
            with socket.create_connection(to, timeout=parcel.seconds) as stream:
                for line in lines:
                    stream.sendall(f"{len(line)} ".encode() + line)
            return Delivered()
        family, kind, *_, address = socket.getaddrinfo(*to, type=socket.SOCK_DGRAM)[0]
        with socket.socket(family, kind) as datagrams:
            for line in lines:
                datagrams.sendto(line, address)
    except OSError as error:
        reason = error.strerror or str(error)
        raise unsent(
            "message", f"the log cannot be reached: {reason}", f"tell {parcel.name}, {masked(parcel.tell.url)}"
        ) from None
    return Delivered()


def lines_of(parcel: Parcel) -> Iterator[bytes]:
    """A line for each change of the docket and for each table that is told of."""
    document = json.loads(parcel.mail.document or "{}")
    moment = parcel.mail.created.astimezone(datetime.UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    head = f"{moment} {_name(socket.gethostname(), 255)} nomotheta {os.getpid()}"
    for each in [*document.get("docket", ()), *document.get("tables", ())]:
        verdict = each.get("verdict", "fail") if each.get("what") != "closed" else "pass"
        fields = {"id": parcel.number, "table": each.get("table", ""), "verdict": verdict, "entry": each.get("entry")}
        data = " ".join(f'{key}="{_escaped(str(value))}"' for key, value in fields.items() if value not in {None, ""})
        sort = "docket" if "entry" in each else "table"
        text = visible(str(each.get("told", "")))
        line = f"<{_DAEMON + _SEVERITY.get(verdict, 5)}>1 {head} {sort} [nomotheta@32473 {data}] \ufeff{text}"
        yield line.encode("utf-8", "replace")[:_MOST]


def _name(text: str, most: int) -> str:
    """A name as the header takes it: printable ASCII without spaces."""
    return re.sub(r"[^!-~]", "_", text)[:most] or "-"


def _escaped(text: str) -> str:
    return re.sub(r'(["\\\]])', r"\\\1", visible(text))
