"""Files for others, whole or not at all, with the rights that the user's own files have."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path


def write_file(path: Path, text: str) -> None:
    """Write a file whole or not at all."""
    write_parts(path, (text.encode("utf-8", "surrogateescape"),))


def write_parts(path: Path, parts: Iterable[bytes]) -> None:
    """The same of a file that is made part by part; what the parts raise leaves nothing behind."""
    path.parent.mkdir(parents=True, exist_ok=True)
    swept(path.parent, path.name)
    _written(path, parts)


def write_page(path: Path, text: str) -> None:
    """The same of one of many files of a folder that was `swept` before."""
    path.parent.mkdir(parents=True, exist_ok=True)
    _written(path, (text.encode("utf-8", "surrogateescape"),))


def _written(path: Path, parts: Iterable[bytes]) -> None:
    being_made = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with being_made.open("wb") as file:  # with the rights that the user's mask leaves
            file.writelines(parts)
        being_made.replace(path)
    except BaseException:
        being_made.unlink(missing_ok=True)
        raise


def swept(folder: Path, name: str = "*") -> None:
    """Take away what processes have left behind that were killed while they wrote a file of a folder, or any."""
    for found in folder.glob(f".{name}.*.part"):
        number = found.name.removesuffix(".part").rpartition(".")[2]
        if number.isdecimal() and int(number) != os.getpid():
            import psutil

            if not psutil.pid_exists(int(number)):
                found.unlink(missing_ok=True)
