"""Paths as Windows writes them: with a drive, backslashes, and no difference between small and capital letters.

Source: the documentation "Naming Files, Paths, and Namespaces". Nothing here asks a disk.
"""

from __future__ import annotations

SEPARATOR = "\\"
# What the Windows Installer keeps for itself lies below this folder, by its identity on any drive.
INSTALLERS_OWN = "\\windows\\installer\\"


def join(*parts: str) -> str:
    """``C:\\a`` and ``b\\c.txt`` as ``C:\\a\\b\\c.txt``."""
    return SEPARATOR.join(parts)


def split(path: str) -> list[str]:
    return path.split(SEPARATOR)


def name(path: str) -> str:
    """The last part of a path, or of a key of the registry."""
    return path.rpartition(SEPARATOR)[2]


def parents(path: str) -> list[str]:
    """The folders that it lies in, its drive first."""
    parts = split(path)
    return [join(*parts[:number]) for number in range(1, len(parts))]


def depth(path: str) -> int:
    """How many separators it has."""
    return path.count(SEPARATOR)


def into(folder: str) -> str:
    """A folder as the beginning of the paths of what is in it."""
    return folder + SEPARATOR


def bare(folder: str) -> str:
    """Without a separator at its end."""
    return folder.rstrip(SEPARATOR)


def native(path: str) -> str:
    """A path of a package or a plan, as Windows writes it."""
    return path.replace("/", SEPARATOR)


def portable(path: str) -> str:
    """A path of Windows as packages and plans write it."""
    return path.replace(SEPARATOR, "/")


def is_below(path: str, folder: str) -> bool:
    """Whether it lies in a folder, at any depth; their letters are compared as Windows does."""
    return path.lower().startswith(into(folder).lower())
