"""Files as they lie on the disk: those below a folder, quickly, since packages of tens of thousands are walked several
times in one command; and what is in one, up to a limit.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from yendo.errors import Unreadable, Usage


def files_below(top: Path, *, links: bool = False) -> list[tuple[str, Path]]:
    """Every file below a folder with its name below it (``a/b.dat``), in the order of the names' parts.

    Links are not followed; they are left out, or listed like files where ``links`` is set. A folder that is not there
    has no files. Raises OSError.
    """
    if not top.is_dir():
        return []
    return sorted(each_below(top, links=links), key=lambda one: one[0].split("/"))


def each_below(top: Path, *, links: bool = False, closed: bool = False) -> Iterator[tuple[str, Path]]:
    """The same one by one, as they come. Raises OSError, but with ``closed`` passes over folders that may not be looked
    into.
    """
    waiting = [("", top)]
    while waiting:
        before, folder = waiting.pop()
        try:
            entries = os.scandir(folder)
        except OSError:
            if not closed:
                raise
            continue
        with entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append((f"{before}{entry.name}/", folder / entry.name))
                elif entry.is_file(follow_symlinks=False) or (links and entry.is_symlink()):
                    yield before + entry.name, folder / entry.name


def regular(path: Path) -> None:
    """Raises Usage for what is there and no file: reading a pipe would wait for ever."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise Usage(f"{path} is a pipe, a socket or a device, no file to read")


def bytes_in(path: Path, most: int = 64 << 20) -> bytes:
    """A file of at most so many bytes. Raises Unreadable."""
    try:
        if path.stat().st_size > most:
            raise Unreadable(f"{path.name} is larger than {most >> 20} MB")
        return path.read_bytes()
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read: {error.strerror or error}") from error


def text_in(path: Path, most: int = 64 << 20) -> str:
    """The same as text. Raises Unreadable."""
    try:
        return bytes_in(path, most).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise Unreadable(f"{path.name} is no text in UTF-8: {error}") from error
