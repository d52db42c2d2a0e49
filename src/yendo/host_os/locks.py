"""Locks that several processes share. The system frees them when their holder ends, however it ends."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path


class Busy(Exception):
    """Somebody else holds the lock."""


@contextlib.contextmanager
def locked(path: Path, *, timeout: float = -1) -> Iterator[None]:
    """Holds a lock for the time of the block.

    ``timeout``: seconds to wait, for ever if negative. Raises Busy, OSError.
    """
    import filelock  # here, since most commands lock nothing and start sooner

    try:
        with filelock.FileLock(str(path), timeout=timeout, thread_local=False):
            yield
    except filelock.Timeout as error:
        raise Busy(str(path)) from error
