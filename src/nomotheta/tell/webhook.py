"""Messages to a web server: CloudEvents 1.0 in JSON, signed by HTTP Message Signatures (RFC 9421) with HMAC-SHA256.

A message has the same id and Idempotency-Key whenever it is sent, so that a receiver takes it once.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import time
from typing import Any

from nomotheta.errors import visible
from nomotheta.place.connect import with_secrets
from nomotheta.secrets import masked
from nomotheta.tell.mail import shortened
from nomotheta.tell.parcel import Delivered, Parcel, unsent

_TYPE = "application/cloudevents+json; charset=UTF-8"
_PAUSES = (0.5, 2.0)  # seconds before the second and the third attempt; more come with later runs
_LATER = frozenset({408, 425, 429})  # of the refusals, those that ask for another attempt
_OK, _MOVED, _REFUSED, _BROKEN = 200, 300, 400, 500
_COVERED = ("content-digest", "content-type", "idempotency-key")


def send(parcel: Parcel) -> Delivered:
    """Post the message; an answer from 400 to 499 is a refusal for good, but for those that ask to wait.

    Raises:
        NomothetaError: the server cannot be reached, does not answer in time, or fails.
    """
    import httpx

    where = f"tell {parcel.name}, {masked(parcel.tell.url)}"
    url = with_secrets(parcel.tell.url, f"tell {parcel.name}")
    body = event_of(parcel)
    headers = headers_of(parcel, body)
    until = time.monotonic() + parcel.seconds
    why = ""
    for pause in (0.0, *_PAUSES):
        left = until - time.monotonic() - pause
        if left <= 0:
            break
        time.sleep(pause)
        try:
            with httpx.Client(timeout=left, trust_env=False) as client:
                code, why = _answer(client, url, body, headers, until)
        except (httpx.HTTPError, httpx.InvalidURL, OSError, TimeoutError) as error:
            why = _told(str(error) or type(error).__name__)
            continue
        if _OK <= code < _MOVED:
            return Delivered()
        if _REFUSED <= code < _BROKEN and code not in _LATER:
            return Delivered(refused=why)
    raise unsent("message", why or f"the server took longer than {parcel.seconds:.0f} s", where)


def _answer(client: Any, url: str, body: bytes, headers: dict[str, str], until: float) -> tuple[int, str]:
    """The status of the answer and what it says; one that never ends is given up."""
    with client.stream("POST", url, content=body, headers=headers) as answer:
        text = b""
        for piece in answer.iter_raw():
            text += piece
            if len(text) > 1000 or time.monotonic() > until:
                break
        return answer.status_code, _told(f"{answer.status_code} {text.decode('utf-8', 'replace')}")


def event_of(parcel: Parcel) -> bytes:
    """The event, as JSON in UTF-8."""
    mail = parcel.mail
    event = {
        "specversion": "1.0", "id": parcel.number, "source": parcel.base or f"urn:nomotheta:{parcel.workspace}",
        "type": "nomotheta.told.v1", "subject": mail.subject, "time": mail.created.isoformat(timespec="seconds"),
        "datacontenttype": "application/json", "data": json.loads(mail.document or "{}"),
    }  # fmt: skip
    return json.dumps(event, ensure_ascii=False).encode("utf-8", "replace")


def headers_of(parcel: Parcel, body: bytes) -> dict[str, str]:
    """The headers of the message; with a secret, signed over its body, its type and its id."""
    headers = {
        "Content-Type": _TYPE, "Idempotency-Key": f'"{parcel.number}"', "User-Agent": "nomotheta",
        "Content-Digest": f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:",
    }  # fmt: skip
    if parcel.tell.secret:
        key = with_secrets(parcel.tell.secret, f"tell {parcel.name}").encode()
        listed = " ".join(f'"{name}"' for name in _COVERED)
        params = f'({listed});created={int(parcel.now.timestamp())};keyid="{_token(parcel.name)}";alg="hmac-sha256"'
        lower = {name.lower(): value for name, value in headers.items()}
        base = "\n".join([*(f'"{name}": {lower[name]}' for name in _COVERED), f'"@signature-params": {params}'])
        mac = base64.b64encode(hmac.new(key, base.encode(), hashlib.sha256).digest()).decode()
        headers |= {"Signature-Input": f"told={params}", "Signature": f"told=:{mac}:"}
    return headers


def _token(name: str) -> str:
    """A name as it may stand in a header."""
    return "".join(sign for sign in name if sign.isascii() and sign.isprintable() and sign not in '"\\')


def _told(text: str) -> str:
    """What a server says, in one line."""
    return shortened(visible(" ".join(text.split())), 200)
