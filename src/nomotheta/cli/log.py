"""Steps of the work, logged to stderr with the time and how long each took."""

from __future__ import annotations

import datetime
import sys

from nomotheta.errors import visible
from nomotheta.events import Step, watch
from nomotheta.secrets import masked

_MOST = 2000  # characters of a statement


def log_steps() -> None:
    """Log every step from now on: one line each."""
    watch(_log)


def _log(step: Step) -> None:
    text = " ".join(masked(step.what).split())
    shown = visible(text if len(text) <= _MOST else text[:_MOST] + " …")
    now = datetime.datetime.now().astimezone()
    took = f"{step.seconds:8.3f} s" if step.seconds is not None else " " * 10
    print(f"{now:%H:%M:%S}  {took}  {visible(step.where)}: {shown}", file=sys.stderr)  # noqa: T201
