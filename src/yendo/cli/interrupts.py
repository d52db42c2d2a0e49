"""Whether somebody has asked to stop. Python raises that in whatever runs; where it meets a finaliser of a library it
is printed and lost, so what goes on for long asks here as well.
"""

from __future__ import annotations

from types import FrameType

_asked = False


def arrived(number: int, frame: FrameType | None) -> None:
    """The handler of the signals that ask to stop."""
    global _asked
    _asked = True
    raise KeyboardInterrupt


def check() -> None:
    """Raises KeyboardInterrupt where somebody has asked, also where that was lost."""
    if _asked:
        raise KeyboardInterrupt
