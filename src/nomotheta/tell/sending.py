"""A mail on its way: over SMTP (RFC 5321) or into a folder. Nothing that a server does holds the program for long."""

from __future__ import annotations

import contextlib
import queue
import re
import smtplib
import socket
import ssl
import threading
import urllib.parse
from collections.abc import Callable, Mapping, Sequence
from email.message import EmailMessage
from typing import Any

from nomotheta.errors import NomothetaError, visible
from nomotheta.place.connect import with_secrets
from nomotheta.report.write import write_parts
from nomotheta.secrets import masked
from nomotheta.tell.mail import message_of, shortened
from nomotheta.tell.parcel import Delivered, Parcel, unsent

_FOR_GOOD = 500  # replies from here on say that it is of no use to try again
_REASON = 200  # characters of a server's words that are told


def send(parcel: Parcel) -> Delivered:
    """Hand a mail to its server, or lay it into a folder as a file of its own.

    Raises:
        NomothetaError: the server cannot be reached or does not let us in, a secret is not set, or the folder cannot
            be written.
    """
    tell, name = parcel.tell, parcel.name
    where = f"tell {name}, {masked(tell.url)}"
    message = message_of(parcel.mail, tell, parcel.now, parcel.workspace)
    recipients = [each for each in parcel.mail.recipients if each in tell.to] or tell.to
    try:
        if tell.url.startswith("folder:"):
            folder = parcel.root / tell.url.removeprefix("folder:")
            write_parts(folder / f"mail-{parcel.mail.mail_id}.eml", (message.as_bytes(),))
            return Delivered()
        return _over_smtp(message, recipients, tell.url, f"tell {name}", parcel.seconds)
    except smtplib.SMTPDataError as error:
        reason = _told(error.smtp_error)
        if error.smtp_code >= _FOR_GOOD:
            return Delivered(refused=f"{error.smtp_code} {reason}")
        raise _unsent(f"{error.smtp_code} {reason}", where) from None
    except smtplib.SMTPRecipientsRefused as error:
        return _sorted_out(error.recipients)
    except smtplib.SMTPSenderRefused as error:
        raise _unsent(f"{error.smtp_code} {_told(error.smtp_error)} ({error.sender})", where) from None
    except smtplib.SMTPResponseException as error:
        raise _unsent(f"{error.smtp_code} {_told(error.smtp_error)}", where) from None
    except NomothetaError:
        raise
    except Exception as error:  # whatever a server says, the result of the run is told all the same
        reason = re.sub(r"^\[Errno -?\d+\] ", "", str(error)) or type(error).__name__
        raise _unsent(_told(reason), where) from None


def _unsent(reason: str, where: str) -> NomothetaError:
    return unsent("mail", reason, where)


def _told(reason: Any) -> str:
    """What a server says, in one line."""
    text = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
    return shortened(visible(" ".join(text.split())), _REASON)


def _sorted_out(refused: Mapping[str, tuple[int, Any]]) -> Delivered:
    told = {who: (code, f"{code} {_told(reason)}") for who, (code, reason) in refused.items()}
    return Delivered(
        {who: reason for who, (code, reason) in told.items() if code < _FOR_GOOD},
        {who: reason for who, (code, reason) in told.items() if code >= _FOR_GOOD},
    )


def _over_smtp(message: EmailMessage, recipients: Sequence[str], url: str, name: str, seconds: float) -> Delivered:
    parts = urllib.parse.urlsplit(with_secrets(url, name))
    secure, upgraded = parts.scheme == "smtps", "starttls" in parts.scheme
    port = parts.port or (465 if secure else 587 if upgraded else 25)
    user, password = (urllib.parse.unquote(text or "") for text in (parts.username, parts.password))
    host = parts.hostname or "localhost"
    open_clients: list[smtplib.SMTP] = []

    def talk() -> Delivered:
        context = ssl.create_default_context()
        client = smtplib.SMTP_SSL(timeout=seconds, context=context) if secure else smtplib.SMTP(timeout=seconds)
        client._host = host  # type: ignore[attr-defined]
        open_clients.append(client)
        client.connect(host, port)
        with client:
            if upgraded:
                client.starttls(context=context)
            if user:
                client.login(user, password)
            return _sorted_out(client.send_message(message, to_addrs=list(recipients)))

    try:
        return _within(seconds, talk)
    except TimeoutError:
        for client in open_clients:
            if client.sock is not None:
                with contextlib.suppress(OSError):
                    client.sock.shutdown(socket.SHUT_RDWR)  # which ends its waiting
        raise


def _within(seconds: float, work: Callable[[], Delivered]) -> Delivered:
    """What comes of some work, if it comes in time: a server that answers byte by byte is never late for a socket.

    Raises:
        TimeoutError: it does not.
    """
    found: queue.SimpleQueue[tuple[Delivered | None, BaseException | None]] = queue.SimpleQueue()

    def run() -> None:
        try:
            found.put((work(), None))
        except BaseException as error:
            found.put((None, error))

    threading.Thread(target=run, daemon=True).start()
    try:
        delivered, error = found.get(timeout=seconds)
    except queue.Empty:
        raise TimeoutError(f"the server took longer than {seconds:.0f} s") from None
    if error is not None:
        raise error
    return delivered or Delivered()
