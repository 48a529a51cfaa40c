"""An object store as a file system of Arrow's, through the access that deltalake has to it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pyarrow as pa
from deltalake.fs import DeltaStorageHandler
from fsspec.implementations.arrow import ArrowFSWrapper

from nomotheta.place.delta.store import SCHEME


class Objects(DeltaStorageHandler):  # type: ignore[misc]
    """The same, but what is written to it may be of any buffer: its streams take bytes alone."""

    def open_output_stream(self, path: str, metadata: Mapping[str, str] | None = None) -> Any:
        """A stream that writes an object."""
        return pa.PythonFile(_AsBytes(self._handler.open_output_stream(path, dict(metadata or {}) or None)), mode="w")


class _AsBytes:
    """A stream that is given any buffer, and hands bytes on."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self.closed = False

    def write(self, data: Any) -> int:
        written = bytes(data)
        self._stream.write(written)
        return len(written)

    def tell(self) -> int:
        return int(self._stream.tell())

    def flush(self) -> None:
        """It is written in its own time."""

    def writable(self) -> bool:
        return True

    def close(self) -> None:
        if not self.closed:
            self.closed = True
            self._stream.close()


class _ForEngine(ArrowFSWrapper):  # type: ignore[misc]
    """The same files as the embedded engine names them."""

    protocol = SCHEME

    @classmethod
    def _strip_protocol(cls, path: str) -> str:
        return path.removeprefix(f"{SCHEME}://").rstrip("/")

    def glob(self, path: str, **_: Any) -> list[str]:
        """The engine names files one by one."""
        return [path]


def for_engine(files: Any) -> Any:
    """A file system of Arrow's as one that the embedded engine takes."""
    return _ForEngine(files, skip_instance_cache=True)
