"""A place from its URL."""

from __future__ import annotations

import importlib
import re
from collections.abc import Callable, Mapping, Set
from pathlib import Path
from typing import Any

from nomotheta.ahead import import_ahead
from nomotheta.errors import DeclarationError
from nomotheta.place.base import Place
from nomotheta.secrets import UnfitError, UnsetError, filled, masked


def with_secrets(text: str, where: str) -> str:
    """A declared URL with `${ENV_NAME}` filled in.

    Raises:
        DeclarationError: a named variable is not set, or holds what cannot stand where it is named.
    """
    try:
        return filled(text)
    except UnfitError as error:
        told = f"the environment variable {error.variable} contains characters that are not allowed there"
        raise DeclarationError(told, where=where, mend="use it in place of the password, or change its value") from None
    except UnsetError as error:
        told = f"the environment variable {error.variable} is not set"
        raise DeclarationError(told, where=where, mend=f"export {error.variable}=…") from None


def connect(
    name: str, url: str, root: Path, *, create: bool = False, options: Mapping[str, str] | None = None
) -> Place:  # fmt: skip
    """Open a place; paths in its URL are taken from `root` on.

    Args:
        name: the place's name in the workspace.
        url: such as `duckdb:///warehouse.duckdb`.
        root: the workspace's folder.
        create: make an embedded database that is not there yet.
        options: how a lake in an object store is reached, with secrets as `${ENV_NAME}`.

    Raises:
        DeclarationError: the URL names no database that is known, or a secret is not set.
        PlaceError: it cannot be opened.
    """
    full = with_secrets(url, f"place {name}")
    opener = opener_of(name, full)
    if opener is _open_lake:
        return _open_lake(name, full, root, create, options)
    return opener(name, full, root, create)


def opener_of(name: str, url: str) -> Callable[[str, str, Path, bool], Place]:
    """What opens a place.

    Raises:
        DeclarationError: the URL names no database that is known.
    """
    scheme, separator, _ = url.partition("://")
    opener = (_OPENERS.get(scheme) or _open_general(scheme)) if separator else None
    if opener is None:
        raise DeclarationError(
            f"no place can be opened with '{masked(url)}'", where=f"nomotheta.toml, place {name}",
            mend=f'write url = "duckdb:///warehouse.duckdb"; known are {", ".join(_OPENERS)}',
        )  # fmt: skip
    return opener


def warm(url: str) -> None:
    """Import what a place needs, beside whatever else is done until it is opened; what is wrong is said then."""
    module, _ = _CLASSES.get(url.partition("://")[0], _GENERAL)
    import_ahead(f"nomotheta.place.{module}")


def _open_file(name: str, url: str, root: Path, create: bool) -> Place:
    scheme = url.partition("://")[0]
    path, shown = _file_path(url, root)
    given = {"patience": _patience(name, url)} if scheme == "sqlite" and "?" in url else {}
    opened: Place = _class(name, scheme)(name, path, shown=shown, create=create, **given)
    return opened


def _open_lake(
    name: str, url: str, root: Path, create: bool, options: Mapping[str, str] | None = None
) -> Place:  # fmt: skip
    scheme = url.partition("://")[0]
    given = {key: with_secrets(value, f"place {name}, {key}") for key, value in (options or {}).items()}
    at, shown = _file_path(url, root) if scheme == "delta" else (url, masked(url))
    opened: Place = _class(name, scheme)(name, at, shown=shown, create=create, options=given)
    return opened


def _patience(name: str, url: str) -> int:
    """The seconds after `lock_wait_timeout=`."""
    found = re.search(r"\?lock_wait_timeout=(\d+)$", url)
    if found is None:
        raise DeclarationError(
            f"'{url.partition('?')[2]}' is not known behind the file's name", where=f"place {name}",
            mend="known: lock_wait_timeout=SECONDS",
        )  # fmt: skip
    return int(found[1])


def _open_server(name: str, url: str, _root: Path, _create: bool) -> Place:
    opened: Place = _class(name, url.partition("://")[0])(name, url, masked(url))
    return opened


def _open_spark(name: str, url: str, _root: Path, _create: bool) -> Place:
    """`spark://host:15002/catalogue.schema;token=…`: the connection string of Spark Connect, but for the schema."""
    at, _, more = url.partition(";")
    server, _, schema = at.removeprefix("spark://").partition("/")
    opened: Place = _class(name, "spark")(name, f"sc://{server}/;{more}".rstrip(";"), masked(url), schema)
    return opened


def _open_general(scheme: str) -> Callable[[str, str, Path, bool], Place] | None:
    """For a dialect of SQLAlchemy; None where there is no such."""
    try:
        from sqlalchemy import exc
        from sqlalchemy.engine import URL
    except ModuleNotFoundError:
        return _open_server  # which says what is to be installed
    try:
        URL.create(scheme).get_dialect()
    except exc.NoSuchModuleError:
        return None
    except ModuleNotFoundError:
        pass  # the dialect is there, and its driver is not: opening it says so
    return _open_server


def _class(name: str, scheme: str) -> Any:
    """The class of a place, imported only now; its driver may be one that not everybody has."""
    module, place = _CLASSES.get(scheme, _GENERAL)
    try:
        return getattr(importlib.import_module(f"nomotheta.place.{module}"), place)
    except ModuleNotFoundError as error:
        raise DeclarationError(
            f"{scheme}:// needs a driver that is not installed: {error.name}", where=f"place {name}",
            mend=f"pip install 'nomotheta[{_extra(module)}]', or 'nomotheta[all]' for all drivers",
        ) from None  # fmt: skip


def _extra(module: str) -> str:
    """The extra of the package that brings a place's driver."""
    return module.rpartition(".")[2] if module.startswith("embedded.") else module.partition(".")[0]


_POSTGRESQL, _MARIADB = ("postgresql.place", "PostgresPlace"), ("mariadb.place", "MariaPlace")
_STORES = ("s3", "gs", "az", "abfss")  # that deltalake reaches by itself
_GENERAL = ("embedded.general", "GeneralPlace")
_CLASSES = {
    "duckdb": ("embedded.duckdb", "DuckPlace"), "sqlite": ("embedded.sqlite", "SqlitePlace"), "postgresql": _POSTGRESQL,
    "postgres": _POSTGRESQL, "mariadb": _MARIADB, "mysql": _MARIADB,
    **dict.fromkeys(("delta", *_STORES), ("delta.place", "DeltaPlace")), "spark": ("spark.place", "SparkPlace"),
}  # fmt: skip
_OPENERS: dict[str, Callable[[str, str, Path, bool], Place]] = {
    **dict.fromkeys(("duckdb", "sqlite"), _open_file),
    **dict.fromkeys(("postgresql", "postgres", "mariadb", "mysql"), _open_server),
    **dict.fromkeys(("delta", *_STORES), _open_lake), "spark": _open_spark,
}  # fmt: skip


def file_of(url: str, root: Path) -> Path | None:
    """The file of an embedded database, or None for a server."""
    return _file_path(url, root)[0] if re.match("(duckdb|sqlite|delta)://", url) else None


def _file_path(url: str, root: Path) -> tuple[Path, str]:
    rest = url.partition("://")[2].removeprefix("/")
    if url.startswith("sqlite"):
        rest = rest.partition("?")[0]
    return root / rest, rest


def rehearsal(
    name: str, url: str, root: Path, tables: Set[str], options: Mapping[str, str] | None = None
) -> tuple[Place, bool]:  # fmt: skip
    """A place for a load that is not to stay, and whether it is one in memory.

    That holds some tables and the marks of loads as they are in a DuckDB file, and sees its other tables. Any other
    database is opened itself: there the load is undone at its end.

    Raises:
        DeclarationError: the URL names no database that is known, or a secret is not set.
        PlaceError: it cannot be opened.
    """
    from nomotheta.place.embedded.duckdb import DuckPlace

    full = with_secrets(url, f"place {name}")
    if not full.startswith("duckdb://"):
        return connect(name, url, root, options=options), False
    path, shown = _file_path(full, root)
    return DuckPlace.rehearsal(name, path, shown, tables), True
