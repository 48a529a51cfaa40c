"""What is settled for the whole process before the program imports anything large: it is to be up at once.

Only a process that is the program's own calls `prepare`. A program that uses Nomotheta as a library decides for itself.
"""

from __future__ import annotations

import atexit
import contextlib
import gc
import os
import sys
from importlib.machinery import ModuleSpec, PathFinder
from typing import Any

_MALLOPT = {-3: 1 << 30, -1: 2**31 - 1, -8: 1}  # glibc's M_MMAP_THRESHOLD, M_TRIM_THRESHOLD and M_ARENA_MAX
_SWITCH = 0.0005  # seconds until a thread that works must let another in: one may have a database waiting
_OBJECTS = 100_000  # made by imports and never let go: there is nothing to be collected among them


class _NoPandas:
    """An importer that knows no pandas: Arrow would import it for its first array wherever it happens to be installed.

    That takes as long as all our own imports together, for something that is never used here.
    """

    @staticmethod
    def find_spec(name: str, _path: Any = None, _target: Any = None) -> None:
        """Refuse pandas, and leave anything else to others.

        Raises:
            ModuleNotFoundError: pandas is asked for.
        """
        if name == "pandas":
            raise ModuleNotFoundError("this process does without pandas", name=name)


def with_pandas() -> None:
    """Let pandas be imported after all: a package that is needed now cannot do without."""
    with contextlib.suppress(ValueError):
        sys.meta_path.remove(_NoPandas)


class _NoPlugins:
    """An importer of the module by which models look for plug-ins, of which there are none here.

    The real one reads all that is installed beside the program. It is read, after all, if anything else of it is asked.
    """

    name = "pydantic.plugin._loader"

    @classmethod
    def find_spec(cls, name: str, path: Any = None, _target: Any = None) -> Any:
        """A module in its place, and nothing for any other name."""
        return ModuleSpec(name, cls, loader_state=path) if name == cls.name else None  # type: ignore[arg-type]

    @staticmethod
    def create_module(_spec: Any) -> None:
        """As usual."""

    @classmethod
    def exec_module(cls, module: Any) -> None:
        """Fill it."""
        path = module.__spec__.loader_state

        def real(wanted: str) -> Any:
            if wanted.startswith("__"):
                raise AttributeError(wanted)
            spec: Any = PathFinder.find_spec(cls.name, path)
            spec.loader.exec_module(module)
            return vars(module)[wanted]

        module.get_plugins, module.__getattr__ = (tuple, real)


def prepare(*, light: bool = False) -> None:
    """Make the process ready: no pandas, no plug-ins for models, no threads for linear algebra, few collections.

    Memory that one block has let go is kept for the next: its pages would have to be cleared anew. What is left at the
    end goes with the process, and is not looked through once more.

    Args:
        light: for what reads no data, or perhaps none: how memory is kept is settled only when `keep_memory` is called.
    """
    gc.set_threshold(_OBJECTS, 50, 100)
    sys.setswitchinterval(_SWITCH)
    atexit.register(gc.freeze)
    if light:
        _waiting.append(True)
    else:
        _keep_memory()
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    own = [each for each, module in ((_NoPandas, "pandas"), (_NoPlugins, _NoPlugins.name)) if module not in sys.modules]
    sys.meta_path[:0] = [each for each in own if each not in sys.meta_path]


_waiting: list[bool] = []


def keep_memory() -> None:
    """Settle how memory is kept, where `prepare` has left that to whoever reads many rows."""
    if _waiting:
        _waiting.clear()
        _keep_memory()


def _keep_memory() -> None:
    import ctypes

    with contextlib.suppress(OSError, AttributeError, TypeError):  # another C library has its own ways
        mallopt = ctypes.CDLL(None).mallopt
        for parameter, value in _MALLOPT.items():
            mallopt(parameter, value)
