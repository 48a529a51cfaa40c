"""A place from its URL."""

from __future__ import annotations

import importlib
import os
import re
from collections.abc import Callable
from pathlib import Path

from nomotheta.errors import DeclarationError
from nomotheta.place.base import Place


def with_secrets(text: str, where: str) -> str:
    """A declared text with `${ENV_NAME}` filled in.

    Raises:
        DeclarationError: a named variable is not set.
    """

    def value(match: re.Match[str]) -> str:
        found = os.environ.get(match[1])
        if found is None:
            raise DeclarationError(
                f"the environment variable {match[1]} is not set", where=where, mend=f"export {match[1]}=…"
            )
        return found

    return re.sub(r"\$\{([A-Za-z_][A-Za-z0-9_]*)\}", value, text)


def masked(url: str) -> str:
    """A URL without its password, for messages."""
    return re.sub(r"(://[^:/@]*):[^@]*@", r"\1:***@", re.sub(r"(?i)([?&][a-z]*password=)[^&]*", r"\1***", url))


def connect(name: str, url: str, root: Path, *, create: bool = False) -> Place:
    """Open a place; paths in its URL are taken from `root` on.

    Args:
        name: the place's name in the workspace.
        url: such as `duckdb:///warehouse.duckdb`.
        root: the workspace's folder.
        create: make an embedded database that is not there yet.

    Raises:
        DeclarationError: the URL names no database that is known, or a secret is not set.
        PlaceError: it cannot be opened.
    """
    full = with_secrets(url, f"place {name}")
    scheme, separator, _ = full.partition("://")
    opener = _OPENERS.get(scheme) if separator else None
    if opener is None:
        raise DeclarationError(
            f"no place can be opened with '{masked(url)}'", where=f"nomotheta.toml, place {name}",
            mend=f'write url = "duckdb:///warehouse.duckdb"; known are {", ".join(_OPENERS)}',
        )  # fmt: skip
    return opener(name, full, root, create)


def _open_duckdb(name: str, url: str, root: Path, create: bool) -> Place:
    from nomotheta.place.duck import DuckPlace

    path, shown = _duckdb_path(url, root)
    return DuckPlace(name, path, shown=shown, create=create)


def _open_server(name: str, url: str, _root: Path, _create: bool) -> Place:
    scheme = url.partition("://")[0]
    module, place, extra = _SERVERS[scheme]
    try:
        opened: Place = getattr(importlib.import_module(f"nomotheta.place.{module}"), place)(name, url, masked(url))
    except ModuleNotFoundError as error:
        raise DeclarationError(
            f"{scheme} needs a driver that is not installed: {error.name}", where=f"place {name}",
            mend=f"pip install 'nomotheta[{extra}]'",
        ) from None  # fmt: skip
    return opened


_POSTGRES, _MARIADB = ("postgres", "PostgresPlace", "postgresql"), ("mariadb", "MariaPlace", "mariadb")
_SERVERS = {"postgresql": _POSTGRES, "postgres": _POSTGRES, "mariadb": _MARIADB, "mysql": _MARIADB}
_OPENERS: dict[str, Callable[[str, str, Path, bool], Place]] = {
    "duckdb": _open_duckdb, **dict.fromkeys(_SERVERS, _open_server),
}  # fmt: skip


def _duckdb_path(url: str, root: Path) -> tuple[Path, str]:
    rest = url.partition("://")[2].removeprefix("/")
    return root / rest, rest


def rehearsal(name: str, url: str, root: Path, table: str) -> Place:
    """A place in memory that holds a table and its loads' marks as they are in another, and sees its other tables.

    Raises:
        DeclarationError: the URL names no database that is known, or a secret is not set.
        PlaceError: it cannot be opened.
    """
    from nomotheta.place.duck import DuckPlace

    full = with_secrets(url, f"place {name}")
    if not full.startswith("duckdb://"):
        raise DeclarationError(
            f"a load into {masked(url)} cannot be rehearsed yet", where=f"place {name}",
            mend="rehearse with --place and a DuckDB place, or load with after_fail = \"undo\"",
        )  # fmt: skip
    path, shown = _duckdb_path(full, root)
    return DuckPlace.rehearsal(name, path, shown, table)
