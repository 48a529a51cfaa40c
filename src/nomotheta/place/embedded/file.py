"""The file of an embedded database, before it is opened."""

from __future__ import annotations

from pathlib import Path

from nomotheta.errors import PlaceError


def check_file(path: Path, name: str, shown: str, *, create: bool) -> None:
    """Whether a database's file is there, or may be made.

    Raises:
        PlaceError: it is not, or its folder is not.
    """
    if path.exists():
        return
    if not create:
        raise PlaceError(f"the database {shown} is not there", where=f"place {name}",
                         mend="load a table with --create, or correct the url in nomotheta.toml")  # fmt: skip
    if not path.parent.is_dir():
        raise PlaceError(f"the folder of {shown} is not there", where=f"place {name}",
                         mend=f"create {path.parent.name}/ or correct the url in nomotheta.toml")  # fmt: skip
