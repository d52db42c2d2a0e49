"""Writing so that a thing is there whole or not at all, whenever the process is killed."""

from __future__ import annotations

import contextlib
import ctypes
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from yendo.errors import Usage

_LIBC = ctypes.CDLL(None, use_errno=True)
_AT_FDCWD, _EXCHANGE = -100, 2


@contextlib.contextmanager
def writing(path: Path) -> Iterator[BinaryIO]:
    """A file to fill; it takes the place of ``path`` at the end of the block, and vanishes on any error. Raises Usage without its folder."""
    if not path.parent.is_dir():
        raise Usage(f"{path} cannot be written: there is no folder {path.parent}")
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
        Path(name).chmod(0o644)
        Path(name).replace(path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def write(path: Path, data: bytes) -> None:
    """Replaces a file's contents in one step."""
    with writing(path) as file:
        file.write(data)


@contextlib.contextmanager
def folder(target: Path) -> Iterator[Path]:
    """A new folder to fill; it takes the place of ``target`` at the end of the block, and vanishes on any error."""
    target.parent.mkdir(parents=True, exist_ok=True)
    for stale in target.parent.glob(f".{target.name}.making-*"):
        owner = stale.name.rpartition("-")[2]
        if owner.isdigit() and not Path(f"/proc/{owner}").exists():
            shutil.rmtree(stale, ignore_errors=True)
    work = target.parent / f".{target.name}.making-{os.getpid()}"
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir()
    try:
        yield work
        exchange(work, target)
    finally:
        shutil.rmtree(work, ignore_errors=True)


def exchange(new: Path, target: Path) -> None:
    """Puts ``new`` where ``target`` is, in one step; what was there is then at ``new``."""
    if not target.exists():
        new.rename(target)
        return
    if _LIBC.renameat2(_AT_FDCWD, os.fsencode(new), _AT_FDCWD, os.fsencode(target), _EXCHANGE):
        old = new.with_name(new.name + ".old")  # no exchange on this file system: absent for a moment, never half
        target.rename(old)
        new.rename(target)
        shutil.rmtree(old, ignore_errors=True)
