"""The files below a folder, quickly: packages of tens of thousands are walked several times in one command."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from yendo.errors import Usage


def files_below(top: Path, *, links: bool = False) -> list[tuple[str, Path]]:
    """Every file below a folder with its name below it (``a/b.dat``), in the order of the names' parts.

    Links are not followed; they are left out, or listed like files where ``links`` is set. A folder that is not there
    has no files. Raises OSError.
    """
    if not top.is_dir():
        return []
    return sorted(_below(top, "", links), key=lambda one: one[0].split("/"))


def _below(folder: Path, before: str, links: bool) -> Iterator[tuple[str, Path]]:
    with os.scandir(folder) as entries:
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                yield from _below(folder / entry.name, f"{before}{entry.name}/", links)
            elif entry.is_file(follow_symlinks=False) or (links and entry.is_symlink()):
                yield before + entry.name, folder / entry.name


def regular(path: Path) -> None:
    """Raises Usage for what is there and no file: reading a pipe would wait for ever."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise Usage(f"{path} is a pipe, a socket or a device, no file to read")
