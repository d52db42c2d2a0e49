"""Which system this is."""

from __future__ import annotations

import os
import sys

WINDOWS = os.name == "nt"
MACOS = sys.platform == "darwin"
LINUX = sys.platform.startswith("linux")


def open_files(wanted: int) -> int:
    """How many files a program may have open at once, of those wanted."""
    if WINDOWS:
        return wanted
    import resource

    hard = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    return wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)


def load() -> float:
    """How many programs wait for each processor on average; 1 where nobody waits, and where the system does not say."""
    try:
        return max(1.0, os.getloadavg()[0] / (os.cpu_count() or 1))
    except (OSError, AttributeError):
        return 1.0
