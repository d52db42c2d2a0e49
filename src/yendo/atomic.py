"""Writing so that a thing is there whole or not at all, whenever the process is killed."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from yendo import host_os
from yendo.errors import Usage


@contextlib.contextmanager
def writing(path: Path) -> Iterator[BinaryIO]:
    """A file to fill; it takes the place of ``path`` at the end of the block, and vanishes on any error.

    Raises Usage without its folder.
    """
    if not path.parent.is_dir():
        raise Usage(f"{path} cannot be written: there is no folder {path.parent}")
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
        Path(name).chmod(host_os.file_mode())
        host_os.replace(Path(name), path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def write(path: Path, data: bytes) -> None:
    """Replaces a file's contents in one step."""
    with writing(path) as file:
        file.write(data)


def sweep(folder: Path, beginning: str) -> None:
    """Takes away what killed processes have left in a folder: names that begin so and end with the process' number."""
    for stale in folder.iterdir() if folder.is_dir() else ():
        owner = stale.name.removeprefix(beginning)
        if owner != stale.name and owner.isdigit() and not host_os.is_alive(int(owner)):
            if stale.is_dir():
                shutil.rmtree(stale, ignore_errors=True)
            else:
                stale.unlink(missing_ok=True)


@contextlib.contextmanager
def folder(target: Path) -> Iterator[Path]:
    """A new folder to fill; it takes the place of ``target`` at the end of the block, and vanishes on any error."""
    target.parent.mkdir(parents=True, exist_ok=True)
    sweep(target.parent, f".{target.name}.making-")
    work = target.parent / f".{target.name}.making-{os.getpid()}"
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir()
    try:
        yield work
        host_os.exchange(work, target)
    finally:
        shutil.rmtree(work, ignore_errors=True)
