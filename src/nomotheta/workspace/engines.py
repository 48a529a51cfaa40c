"""The engines that a workspace declares: opened with the first load that one carries out, and kept for all."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, cast

from nomotheta.charter import Settings
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.place.connect import with_secrets

if TYPE_CHECKING:
    from nomotheta.cluster.spread import Runs
    from nomotheta.place.base import Place
    from nomotheta.place.delta.place import DeltaPlace

HERE = "none"  # as whoever wants this machine to do it calls it
_lock = threading.Lock()
_open: dict[tuple[str, str], Runs] = {}  # tables may be loaded side by side, and all share an engine


class Engines:
    """Which engine carries out what."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.chosen: str | None = None  # by whoever calls, whatever is declared

    def choose(self, name: str | None) -> None:
        """Have one carry out what comes, or this machine.

        Raises:
            DeclarationError: it is not declared.
        """
        if name is not None and name != HERE and name not in self.settings.engines:
            known = "engines: " + ", ".join([*self.settings.engines, HERE])
            mend = did_you_mean(name, [*self.settings.engines, HERE], known)
            raise DeclarationError(f"no engine '{name}' is declared", where="nomotheta.toml", mend=mend)
        self.chosen = name

    def _named_for(self, place: str) -> str | None:
        """The engine that is chosen, or declared, for a place; None for this machine."""
        declared = self.settings.places.get(place)
        name = self.chosen or (declared.engine if declared is not None else None)
        return None if name == HERE else name

    def asked(self, place: str, opened: Place) -> Place:
        """A place as it is asked: a lake by the engine that is chosen or declared for it, anything else by itself."""
        declared, name = self.settings.places.get(place), self._named_for(place)
        if name is None or declared is None or not declared.is_lake:
            return opened
        from nomotheta.place.spark.lake import SparkLake

        try:
            return cast("Place", SparkLake(cast("DeltaPlace", opened), name, self._engine(name).url))
        except BaseException:
            opened.close()
            raise

    def streams(self, place: str) -> Callable[..., Any] | None:
        """What makes the streams of loads into a place; None where this machine carries them out."""
        declared, name = self.settings.places.get(place), self._named_for(place)
        if name is None:
            return None
        if declared is None or not declared.is_lake:
            raise DeclarationError(f"{place} is a database, and an engine carries out loads into a lake",
                                   where="nomotheta.toml", mend="leave the engine out, or use a lake")  # fmt: skip
        from nomotheta.cluster import Spread

        return Spread.over(self._engine(name))

    def _engine(self, name: str) -> Runs:
        url = with_secrets(self.settings.engines[name].url, f"engine {name}")
        with _lock:
            if (name, url) not in _open:
                from nomotheta.cluster.spark import Spark

                _open[name, url] = Spark(name, url)
            return _open[name, url]
