"""Compiles the kernel into the wheel, which then is one for this platform, whatever its Python.

With a C compiler at hand that is used. Where there is none, the build requires one from the registry (the package
`ziglang`), for this build only. NOMOTHETA_NO_KERNEL=1 leaves the kernel out: the package is complete without it, and
reads more slowly. NOMOTHETA_TARGET names another platform, as `scripts/wheels` does: by zig's name and the wheel's.
"""

from __future__ import annotations

import compileall
import importlib.util
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface
from packaging.tags import platform_tags

FOLDER = "src/nomotheta/kernel"
SOURCES = ("reading.c", "looking.c", "wire.c", "objects.c", "lanes.c", "packets.c")


class Kernel(BuildHookInterface):
    """Adds the compiled kernel to the wheel."""

    def dependencies(self) -> list[str]:
        """A compiler, where the machine has none."""
        return [] if left_out() or (compiler() and not target()) else ["ziglang"]

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile it; and the modules of an editable installation, which nobody else does before their first use."""
        if version == "editable":
            compileall.compile_dir(str(Path(self.root, "src", "nomotheta")), quiet=1)
        sources, made_as = (
            [str(Path(self.root, FOLDER, name)) for name in SOURCES],
            Path(self.root, FOLDER, "kernel.so"),
        )
        zig, tag = target() or ("", next(iter(platform_tags())))
        found = [sys.executable, "-m", "ziglang", "cc", *(["-target", zig] if zig else [])]
        words = compiler() if compiler() and not zig else found if importlib.util.find_spec("ziglang") else []
        if left_out() or not words:
            self.app.display_warning("the kernel is left out" + ("" if left_out() else ": no C compiler was found"))
            return
        with tempfile.TemporaryDirectory() as temporary:
            made = Path(temporary, "kernel.so")
            command = [*words, "-std=c11", "-O3", "-shared", "-fPIC", "-fvisibility=hidden", "-o", str(made), *sources]
            done = subprocess.run(command, capture_output=True, text=True, check=False)  # noqa: S603 - our own source
            if done.returncode:
                self.app.display_warning(f"the kernel could not be compiled and is left out: {done.stderr.strip()}")
                return
            part = made_as.with_suffix(".part")
            shutil.copyfile(made, part)  # so that no half of it is ever in place
            part.replace(made_as)
        build_data["artifacts"].append(f"{FOLDER}/kernel.so")
        build_data["pure_python"], build_data["tag"] = False, f"py3-none-{tag}"


def left_out() -> bool:
    """Whether the kernel is not wanted."""
    return os.environ.get("NOMOTHETA_NO_KERNEL", "") not in {"", "0"}


def target() -> tuple[str, str] | None:
    """Another platform: zig's name for it, and the wheel's."""
    words = os.environ.get("NOMOTHETA_TARGET", "").split()
    return (words[0], words[1]) if len(words) == 2 else None


def compiler() -> list[str]:
    """The machine's own C compiler."""
    words = shlex.split(os.environ.get("CC", ""))
    found = next(filter(shutil.which, ("cc", "gcc", "clang")), "") if sys.platform != "win32" else ""
    return words or ([found] if found else [])
