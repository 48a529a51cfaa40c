"""What an interrupt (Ctrl-C) does: it ends the process at once while nothing is begun, and from then on is raised.

This is imported before anything else, and imports next to nothing.
"""

from __future__ import annotations

import os
import signal

TYPE_CHECKING = False
if TYPE_CHECKING:
    from types import FrameType

INTERRUPTED = 130
_A_MOMENT = 0.02  # seconds until an interrupt that has to wait is looked at again
_NOT_WITHIN = ("<frozen importlib", f"{os.sep}pydantic{os.sep}")  # what an exception would leave half made, or end


def end_at_once() -> None:
    """Have an interrupt end the process: what is imported, or read, can be left as it is."""
    _settle(_end)


def raise_interrupts() -> None:
    """Have an interrupt raise `KeyboardInterrupt` from now on: what was begun is to be undone.

    It waits until what is being imported has been: libraries do not bear to be imported by halves.
    """
    _settle(_raise)


def ignore_interrupts() -> None:
    """Let interrupts be: everything is done, and the process ends by itself."""
    _settle(signal.SIG_IGN)
    if hasattr(signal, "setitimer"):
        signal.setitimer(signal.ITIMER_REAL, 0)


def _settle(handler: object) -> None:
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # as for a process in the background of a shell
        return
    signal.signal(signal.SIGINT, handler)  # type: ignore[arg-type]
    if hasattr(signal, "SIGALRM"):
        signal.signal(signal.SIGALRM, handler)  # type: ignore[arg-type]


def _end(_number: int, _frame: FrameType | None) -> None:
    os.write(2, b"stopped; nothing was begun\n")
    os._exit(INTERRUPTED)


def _raise(_number: int, frame: FrameType | None) -> None:
    while frame is not None and hasattr(signal, "setitimer"):
        if any(part in frame.f_code.co_filename for part in _NOT_WITHIN):
            signal.setitimer(signal.ITIMER_REAL, _A_MOMENT)  # ask again
            return
        frame = frame.f_back
    raise KeyboardInterrupt
