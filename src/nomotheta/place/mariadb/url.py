"""What the URL of a MariaDB place says, as its driver takes it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.kernel import can_copy

_PATIENCE = 10  # seconds until a server that does not answer is given up
_LOCK_PATIENCE = 30  # seconds until a lock that somebody else holds is given up
_PARAMETERS: Mapping[str, Callable[[str], Any]] = {
    "connect_timeout": int, "lock_wait_timeout": int, "unix_socket": str, "ssl_ca": str,
    "ssl_cert": str, "ssl_key": str,
    "ssl_verify_cert": lambda text: text.lower() in {"1", "true", "yes"},
    "ssl_verify_identity": lambda text: text.lower() in {"1", "true", "yes"},
}  # fmt: skip


def settings_of(url: str, where: str) -> tuple[dict[str, Any], int]:
    """What the driver takes, from a URL; and how long to wait for a lock, in seconds.

    Raises:
        DeclarationError: a part of the URL is not known, or it names no database.
    """
    parts = urlsplit(url)
    database = unquote(parts.path.lstrip("/"))
    if not database:
        raise DeclarationError("the url names no database", where=where, mend="write mariadb://USER@HOST/DATABASE")
    given: dict[str, Any] = {"connect_timeout": _PATIENCE, "lock_wait_timeout": _LOCK_PATIENCE}
    for name, value in parse_qsl(parts.query, keep_blank_values=True):
        if name not in _PARAMETERS:
            mend = did_you_mean(name, _PARAMETERS, "known: " + ", ".join(_PARAMETERS))
            raise DeclarationError(f"the url holds '{name}', which is not known", where=where, mend=mend)
        try:
            given[name] = _PARAMETERS[name](value)
        except ValueError:
            raise DeclarationError(f"'{value}' is not a number", where=f"{where}, {name} in its url") from None
    patience = given.pop("lock_wait_timeout")
    try:
        port = parts.port or 3306
    except ValueError:
        raise DeclarationError("the url's port is not a number", where=where, mend="write HOST:3306") from None
    return {
        "host": parts.hostname or "localhost", "port": port, "user": unquote(parts.username or ""),
        "password": unquote(parts.password or ""), "database": database, "charset": "utf8mb4",
        "local_infile": not can_copy(), "autocommit": True, **given,
    }, patience  # fmt: skip
