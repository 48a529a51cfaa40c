"""Compiles the kernel where there is a C compiler. Without one the package is complete, and reads more slowly."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

FOLDER = "src/nomotheta/kernel"
SOURCES = ("reading.c", "looking.c", "wire.c", "objects.c")


class Kernel(BuildHookInterface):
    """Adds the compiled kernel to the wheel, which then is one for this platform."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:  # noqa: ARG002
        """Compile it."""
        sources, target = [str(Path(self.root, FOLDER, name)) for name in SOURCES], Path(self.root, FOLDER, "kernel.so")
        words = shlex.split(os.environ.get("CC", ""))
        compiler = (
            words or [found] if (found := next(filter(shutil.which, ("cc", "gcc", "clang")), "")) or words else []
        )
        if not compiler or sys.platform == "win32":
            self.app.display_warning("no C compiler was found: the kernel is left out")
            return
        with tempfile.TemporaryDirectory() as folder:
            made = Path(folder, "kernel.so")
            command = [*compiler, "-O3", "-shared", "-fPIC", "-fvisibility=hidden", "-o", str(made), *sources]
            done = subprocess.run(command, capture_output=True, text=True, check=False)  # noqa: S603 - our own source
            if done.returncode:
                self.app.display_warning(f"the kernel could not be compiled and is left out: {done.stderr.strip()}")
                return
            part = target.with_suffix(".part")
            shutil.copyfile(made, part)  # so that no half of it is ever in place
            part.replace(target)
        build_data["artifacts"].append(f"{FOLDER}/kernel.so")
        build_data["pure_python"], build_data["infer_tag"] = False, True
