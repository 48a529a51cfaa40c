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
    _swept(path)
    being_made = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with being_made.open("wb") as file:  # with the rights that the user's mask leaves
            file.writelines(parts)
        being_made.replace(path)
    except BaseException:
        being_made.unlink(missing_ok=True)
        raise


def _swept(path: Path) -> None:
    """What processes have left behind that were killed while they wrote this file."""
    for found in path.parent.glob(f".{path.name}.*.part"):
        number = found.name.removesuffix(".part").rpartition(".")[2]
        if number.isdecimal() and int(number) != os.getpid():
            import psutil

            if not psutil.pid_exists(int(number)):
                found.unlink(missing_ok=True)
