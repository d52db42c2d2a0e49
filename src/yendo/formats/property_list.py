"""Property lists, in either form, as a table of keys.

Python's own library reads them; it lets through whatever its parsers and its own tables raise, and that ends here.
"""

from __future__ import annotations

import plistlib
from pathlib import Path
from typing import Any

from yendo.errors import Unreadable

MAX = 32 << 20


def parsed(data: bytes, name: str) -> dict[str, Any]:
    """Raises Unreadable."""
    try:
        found = plistlib.loads(data)
    except Exception as error:  # see above
        raise Unreadable(f"{name} is no property list: {error}") from error
    if not isinstance(found, dict):
        raise Unreadable(f"{name} is a property list without keys")
    return found


def read(path: Path, name: str = "", limit: int = MAX) -> dict[str, Any]:
    """That of a file. Raises Unreadable."""
    return parsed(contents(path, name, limit), name or path.name)


def contents(path: Path, name: str = "", limit: int = MAX) -> bytes:
    """A list's file as it is, at most ``limit`` bytes, not through a link. Raises Unreadable."""
    name = name or path.name
    try:
        if path.is_symlink():
            raise Unreadable(f"{name} is a link")
        if path.stat().st_size > limit:
            raise Unreadable(f"{name} is larger than any property list")
        return path.read_bytes()
    except OSError as error:
        raise Unreadable(f"{name} cannot be read: {error.strerror}") from error


def if_any(data: bytes) -> dict[str, Any]:
    """The same; empty where it is none, as its own reader tells what is wrong with it."""
    try:
        return parsed(data, "it")
    except Unreadable:
        return {}
