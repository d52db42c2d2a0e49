"""Whether somebody has asked to stop. Python raises that in whatever runs; where it meets a finaliser of a library, or
what a library in C calls while it unpacks, it is lost. So it is raised again a moment later, and what goes on for long
asks here as well. While modules are loaded it is put off: a library in C that prepares its classes was seen to crash.
"""

from __future__ import annotations

import _thread
import signal
import sys
import threading
from types import FrameType

AGAIN = 0.05  # seconds until a stop that was lost is raised again
LOADED = 0.01  # seconds until it is tried again while modules are loaded

_asked = 0  # the signal that has asked


def arrived(number: int, frame: FrameType | None) -> None:
    """The handler of the signals that ask to stop."""
    global _asked
    _asked = number
    if _loading(frame):
        _in(LOADED)
    else:
        raise KeyboardInterrupt


def _loading(frame: FrameType | None) -> bool:
    """Whether modules are being loaded there."""
    while frame is not None:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            return True
        frame = frame.f_back
    return False


def lost(told: sys.UnraisableHookArgs) -> None:
    """The hook for errors that nobody can catch."""
    if not isinstance(told.exc_value, KeyboardInterrupt):
        if not _asked:  # a library's finaliser that a stop has met has more to say than helps anybody
            sys.__unraisablehook__(told)
        return
    _in(AGAIN)


def _in(seconds: float) -> None:
    again = threading.Timer(seconds, _again)
    again.daemon = True
    again.start()


def _again() -> None:
    """The same signal, since another may be ignored here; a true one where there is one ends a wait too."""
    if hasattr(signal, "pthread_kill"):
        signal.pthread_kill(threading.main_thread().ident or 0, signal.Signals(_asked or signal.SIGINT))
    else:
        _thread.interrupt_main(signal.Signals(_asked or signal.SIGINT))


def check() -> None:
    """Raises KeyboardInterrupt where somebody has asked, also where that was lost."""
    if _asked:
        raise KeyboardInterrupt
