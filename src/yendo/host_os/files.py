"""Files and folders that take the place of others, that only their owner reads, or that have no name."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from yendo.host_os.system import LINUX, WINDOWS

if TYPE_CHECKING:
    import ctypes

_AT_FDCWD, _EXCHANGE = -100, 2  # Source: renameat2(2)
PATIENCE = 5.0  # seconds for a reader to let a file go, where an open file cannot be replaced


@cache
def file_mode() -> int:
    """The mode of a new file as the person's mask wants it."""
    mask = os.umask(0o077)
    os.umask(mask)
    return 0o666 & ~mask


def replace(new: Path, target: Path) -> None:
    """Puts a file in the place of another in one step.

    Raises OSError, on Windows only after a reader has held it for five seconds.
    """
    until = time.monotonic() + PATIENCE
    while True:
        try:
            new.replace(target)
            return
        except PermissionError:
            if not WINDOWS or target.is_dir() or time.monotonic() > until:
                raise
            time.sleep(0.02)


def exchange(new: Path, target: Path) -> None:
    """Puts a folder in the place of another.

    Where the system has no exchange, the target is absent for a moment, and never half.
    """
    if not target.exists():
        new.rename(target)
        return
    if LINUX and not _libc().renameat2(_AT_FDCWD, os.fsencode(new), _AT_FDCWD, os.fsencode(target), _EXCHANGE):
        return
    old = new.with_name(new.name + ".old")
    target.rename(old)
    try:
        new.rename(target)
    except OSError:
        old.rename(target)
        raise
    shutil.rmtree(old, ignore_errors=True)


@cache
def _libc() -> ctypes.CDLL:
    import ctypes  # only where a folder is put in place of another: it is slow to load

    return ctypes.CDLL(None, use_errno=True)


def private(path: Path) -> None:
    """Makes an empty file that only its owner reads.

    On Windows the folder's rights decide, which are those of the user's profile.
    """
    with contextlib.suppress(FileExistsError):
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    if not WINDOWS:
        path.chmod(0o600)


@contextlib.contextmanager
def nameless(file: BinaryIO) -> Iterator[Path]:
    """A file in memory by a path, for readers that want one; nothing of it stays."""
    file.seek(0)
    if LINUX:
        handle = os.memfd_create("part")
        try:
            with os.fdopen(handle, "wb", closefd=False) as out:
                shutil.copyfileobj(file, out)
            yield Path(f"/proc/self/fd/{handle}")
        finally:
            os.close(handle)
        return
    with tempfile.TemporaryDirectory(prefix="yendo-part-", ignore_cleanup_errors=True) as folder:
        path = Path(folder) / "part"
        with path.open("wb") as out:
            shutil.copyfileobj(file, out)
        yield path


def attributes_of(path: Path) -> tuple[tuple[str, str], ...] | None:
    """The extended attributes of a file or folder, by their names, each value in small hex; None where this computer's
    Python cannot ask for them, or the file system has none. Raises OSError.
    """
    if not hasattr(os, "listxattr"):
        return None
    try:
        names = sorted(os.listxattr(path, follow_symlinks=False))
        return tuple((name, os.getxattr(path, name, follow_symlinks=False).hex()) for name in names)
    except OSError as error:
        if error.errno in (errno.ENOTSUP, errno.EPERM):
            return None
        raise
