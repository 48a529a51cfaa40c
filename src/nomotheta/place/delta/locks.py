"""One load at a time into a table of a lake, as far as this machine's programs go.

The commit itself refuses the second of two loads. A lock has it told before it begins; it ends with the program that
has it, however that ends. In an object store there is none.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from typing import Any

from nomotheta.errors import PlaceError
from nomotheta.place.delta.memory import FOLDER
from nomotheta.place.delta.store import Store

try:
    import fcntl
except ImportError:  # pragma: no cover - where there is none, the commit alone decides
    fcntl = None  # type: ignore[assignment]


@contextlib.contextmanager
def locked(store: Store, tables: Sequence[str]) -> Iterator[None]:
    """Nobody else on this machine loads into these tables meanwhile.

    Raises:
        PlaceError: somebody does.
    """
    with contextlib.ExitStack() as held:
        if store.local is not None and fcntl is not None:
            folder = store.local / FOLDER
            with store.reached():
                folder.mkdir(exist_ok=True)
            for table in sorted(set(tables)):
                with store.reached():
                    file = held.enter_context((folder / f"{table.replace('/', '_')}.lock").open("a+"))
                _take(store, table, file)
        yield


def _take(store: Store, table: str, file: Any) -> None:
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.seek(0)
        holder = file.read().strip()
        by = f", by process {holder}" if holder.isdigit() else ""
        raise PlaceError(f"another load into {table} is under way{by}", where=f"place {store.place}",
                         mend="wait until it is done") from None  # fmt: skip
    file.seek(0)
    file.truncate()
    file.write(str(os.getpid()))
    file.flush()
