"""Messages to a command, which gets the JSON document on its standard input; it has taken it if it ends with 0."""

from __future__ import annotations

import shlex
import subprocess

from nomotheta.errors import visible
from nomotheta.place.connect import with_secrets
from nomotheta.secrets import masked
from nomotheta.tell.mail import shortened
from nomotheta.tell.parcel import Delivered, Parcel, unsent


def send(parcel: Parcel) -> Delivered:
    """Run the command in the workspace's folder; no shell reads it.

    Raises:
        NomothetaError: it is not there, takes too long, or ends with another code than 0.
    """
    where = f"tell {parcel.name}, {masked(parcel.tell.url)}"
    try:
        words = shlex.split(with_secrets(parcel.tell.url.removeprefix("exec:"), f"tell {parcel.name}"))
        done = subprocess.run(  # noqa: S603 - which the workspace's owner has declared
            words, input=(parcel.mail.document or "{}").encode("utf-8", "replace"), cwd=parcel.root,
            capture_output=True, timeout=parcel.seconds, check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        raise unsent("message", f"the command took longer than {parcel.seconds:.0f} s", where) from None
    except (OSError, ValueError, IndexError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise unsent("message", f"the command cannot be run: {reason}", where) from None
    if done.returncode:
        said = visible(" ".join(done.stderr.decode("utf-8", "replace").split()))
        told = f"the command ended with {done.returncode}" + (f": {shortened(said, 200)}" if said else "")
        raise unsent("message", told, where)
    return Delivered()
