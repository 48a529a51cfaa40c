"""A ledger that several machines share."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.charter.settings import LedgerAt
from nomotheta.errors import DeclarationError
from nomotheta.place.connect import with_secrets

if TYPE_CHECKING:
    from nomotheta.ledger.database import Database


def shared_ledger(declared: LedgerAt, workspace: str, before: Path) -> Database:
    """The ledger in PostgreSQL of a workspace, by its name; one that is new takes over what was kept in a file before.

    Raises:
        DeclarationError: the driver is not installed, or a secret is not set.
        NomothetaError: it cannot be used.
    """
    try:
        from nomotheta.ledger.postgresql import PostgresLedger
    except ModuleNotFoundError as error:
        raise DeclarationError(
            f"a ledger in PostgreSQL needs a driver that is not installed: {error.name}",
            where="nomotheta.toml, [ledger]", mend="pip install 'nomotheta[postgresql]'",
        ) from None  # fmt: skip
    return PostgresLedger(with_secrets(declared.url, "[ledger]"), declared.db_schema, workspace, before)
