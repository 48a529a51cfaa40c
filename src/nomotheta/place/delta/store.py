"""Where the files of a lake are: a folder of this machine, or a part of an object store that deltalake reaches."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pyarrow.fs as pafs

from nomotheta.errors import PlaceError
from nomotheta.secrets import masked

LOG, SCHEME = "_delta_log", "nomotheta-lake"


def reason(error: Exception) -> str:
    """What is at the bottom of an error of deltalake, which tells one thing below the other, in one line."""
    lines = [re.sub(r"\x1b\[[0-9;]*m|↳", "", line).strip() for line in str(error).splitlines()]
    lines = [line for line in lines if line]
    if any("credentials" in line for line in lines):
        return "the store wants a key, and none is given: options = { … }"
    return masked(lines[-1].rstrip(".") if lines else type(error).__name__)


class Store:
    """Files by their paths from the root of a lake on, with `/` between folders."""

    def __init__(self, place: str, root: Path | str, options: Mapping[str, str]) -> None:
        self.place, self.options = place, dict(options)
        self.local = root if isinstance(root, Path) else None
        self.root = str(root).rstrip("/")
        if self.local is not None:
            self.files: Any = pafs.SubTreeFileSystem(self.root, pafs.LocalFileSystem())
        else:
            from nomotheta.place.delta.objects import Objects

            with self.reached():
                self.files = pafs.PyFileSystem(Objects(self.root, self.options))

    def uri(self, path: str) -> str:
        """A path as deltalake names it."""
        return f"{self.root}/{path}"

    @contextlib.contextmanager
    def reached(self) -> Any:
        """What goes wrong with files, as the place's error."""
        try:
            yield
        except OSError as error:
            raise PlaceError(f"files cannot be reached: {reason(error)}", where=f"place {self.place}",
                             mend="see that the folder or store is there, and may be written") from None  # fmt: skip

    def folders(self, path: str = "") -> list[str]:
        """The folders in a folder that are not hidden."""
        with self.reached():
            found = self.files.get_file_info(pafs.FileSelector(path, allow_not_found=True))
        names = [each.path.rstrip("/") for each in found if each.type == pafs.FileType.Directory]
        return sorted(each for each in names if each.rpartition("/")[2][:1] not in {"_", "."})

    def has_log(self, path: str) -> bool:
        """Whether a folder holds a Delta table."""
        if self.local is not None:
            return (self.local / path / LOG).is_dir()
        return bool(self.listed(f"{path}/{LOG}"))

    def listed(self, path: str) -> list[tuple[str, int]]:
        """The files in a folder, and how large they are; none where there is no such folder."""
        with self.reached():
            found = self.files.get_file_info(pafs.FileSelector(path, allow_not_found=True))
        return [(each.path, int(each.size or 0)) for each in found if each.type == pafs.FileType.File]

    def holds(self, path: str) -> bool:
        """Whether a file is there."""
        if self.local is not None:
            return (self.local / path).is_file()
        with self.reached():
            return bool(self.files.get_file_info(path).type == pafs.FileType.File)

    def read(self, path: str) -> bytes | None:
        """The bytes of a file, or None where it is not there."""
        with self.reached():
            if not self.holds(path):
                return None
            with self.files.open_input_stream(path) as file:
                return bytes(file.read())

    def write(self, path: str, data: bytes) -> None:
        """Write a file whole."""
        with self.reached():
            self.make_folder(path.rpartition("/")[0])
            with self.files.open_output_stream(path) as file:
                file.write(data)

    def make_folder(self, path: str) -> None:
        """Make a folder, where there are such."""
        if self.local is not None:
            with self.reached():
                (self.local / path).mkdir(parents=True, exist_ok=True)

    def size(self, path: str) -> int:
        """How large a file is."""
        with self.reached():
            return int(self.files.get_file_info(path).size or 0)

    def remove(self, path: str) -> None:
        """Remove a file, if it is there."""
        with contextlib.suppress(OSError):
            self.files.delete_file(path)

    def remove_folder(self, path: str) -> None:
        """Remove a folder and all in it."""
        with self.reached():
            self.files.delete_dir(path)

    def engine_path(self, path: str) -> str:
        """A file as the embedded engine names it."""
        return f"{self.root}/{path}" if self.local is not None else f"{SCHEME}://{path}"

    def known_to(self, connection: Any) -> None:
        """Have the embedded engine read files of an object store through the same access."""
        if self.local is not None:
            return
        from nomotheta.place.delta.objects import for_engine

        connection.register_filesystem(for_engine(self.files))
