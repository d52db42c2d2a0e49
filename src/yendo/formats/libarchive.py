"""The system's libarchive, where it is here."""

from __future__ import annotations

import re
from functools import cache
from importlib import import_module
from typing import Any

from yendo.errors import NotCovered, Unreadable, YendoError

HOW_TO_GET = "libarchive (Debian: apt-get install libarchive13; macOS has it)"


@cache
def load() -> Any:
    """The module, or None. Without the library its import fails in ways that differ from system to system."""
    try:
        return import_module("libarchive")
    except (ImportError, OSError, TypeError, AttributeError):
        return None


def refused(what: str, error: Exception) -> YendoError:
    """Why something in an archive cannot be read, in words: the library's own, without its inner numbers."""
    said = re.sub(r" \(errno=.*\)$", "", str(error))
    if "encrypt" in said.lower():
        return NotCovered(f"{what} is encrypted; it cannot be read without its password")
    return Unreadable(f"{what} is damaged: {said}")
