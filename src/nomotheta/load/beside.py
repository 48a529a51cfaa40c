"""The names of tables that lie beside one that is loaded."""

from __future__ import annotations

import hashlib

_LONGEST = 32  # bytes that leave room for what follows, in databases that take 63


def beside(table: str) -> str:
    """What such a name begins with: the table's own, or, of a long one, its first letters and a hash."""
    schema, dot, name = table.rpartition(".")
    if len(name.encode()) > _LONGEST:
        short = name.encode()[: _LONGEST - 9].decode(errors="ignore")
        name = f"{short}_{hashlib.blake2b(name.encode(), digest_size=4).hexdigest()}"
    return f"{schema}{dot}{name}"
