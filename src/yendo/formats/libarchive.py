"""The system's libarchive, where it is here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import Any

HOW_TO_GET = "libarchive (Debian: apt-get install libarchive13; macOS has it; for Windows there is none yet)"


@cache
def load() -> Any:
    """The module, or None. Without the library its import fails in ways that differ from system to system."""
    try:
        return import_module("libarchive")
    except (ImportError, OSError, TypeError, AttributeError):
        return None
