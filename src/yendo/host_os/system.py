"""Which system this is."""

from __future__ import annotations

import os
import sys

WINDOWS = os.name == "nt"
MACOS = sys.platform == "darwin"
LINUX = sys.platform.startswith("linux")


def load() -> float:
    """How many programs wait for each processor on average; 1 where nobody waits, and where the system does not say."""
    try:
        return max(1.0, os.getloadavg()[0] / (os.cpu_count() or 1))
    except (OSError, AttributeError):
        return 1.0
