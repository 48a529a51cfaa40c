"""The names of files that lie elsewhere: a URL, and the name that its copy has in the workspace."""

from __future__ import annotations

import re

FETCHED = "elsewhere"  # the folder of the copies
SCHEMES = ("s3", "sftp", "https", "http")
_LOCAL = re.compile(rf"{FETCHED}/({'|'.join(SCHEMES)})/(.*)", re.DOTALL)


def local_name(pattern: str) -> str:
    """A pattern as that of the copies, if it is a URL; any other as it is.

    Raises:
        ValueError: it is a URL of another kind, or has a password or no path.
    """
    scheme, separator, rest = pattern.partition("://")
    if not separator:
        return pattern
    host, _, path = rest.partition("/")
    if scheme not in SCHEMES:
        raise ValueError(f"'{scheme}://' is not known; known are {', '.join(f'{each}://' for each in SCHEMES)}")
    if ":" in host.rpartition("@")[0]:
        raise ValueError("the url contains a password; keep it in the environment, and name it under [stores]")
    if not host or not path or ".." in rest.split("/"):
        raise ValueError(f"write {scheme}://HOST/FOLDER/file-{{day}}.csv")
    return f"{FETCHED}/{scheme}/{host.replace(':', '%3A')}/{path}"


def is_fetched(name: str) -> bool:
    """Whether a name, or a pattern, is that of a copy of what lies elsewhere."""
    return _LOCAL.match(name) is not None


def as_url(name: str) -> str:
    """The URL of a copy's name; any other name as it is."""
    found = _LOCAL.match(name)
    if found is None:
        return name
    host, slash, path = found[2].partition("/")
    return f"{found[1]}://{host.replace('%3A', ':')}{slash}{path}"
