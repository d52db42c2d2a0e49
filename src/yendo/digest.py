"""The hash by which files are known everywhere here, and the one by which the Windows Installer knows them."""

from __future__ import annotations

import hashlib
import struct
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from _typeshed import SupportsRead

PIECE = 1 << 18


def of_file(path: Path) -> str:
    """SHA-256 of a file as lower-case hex, read by the piece. Raises OSError."""
    return _of(path, hashlib.sha256()).hexdigest()


def of_stream(stream: SupportsRead[bytes]) -> str:
    """The same of what is left of a stream."""
    state = hashlib.sha256()
    while piece := stream.read(PIECE):
        state.update(piece)
    return state.hexdigest()


def _of(path: Path, state: hashlib._Hash) -> hashlib._Hash:
    """Half the time of the library's own for small files, and they are many."""
    with path.open("rb", buffering=0) as file:
        while piece := file.read(PIECE):
            state.update(piece)
    return state


def of_installer(data: bytes) -> tuple[int, int, int, int]:
    """The four numbers of table MsiFileHash: the MD5 of a file without a version. Source: MsiGetFileHash."""
    return _numbers(hashlib.md5(data, usedforsecurity=False).digest())


def of_file_for_installer(path: Path) -> tuple[int, int, int, int]:
    """The same of a file, read by the piece. Raises OSError."""
    return _numbers(_of(path, hashlib.md5(usedforsecurity=False)).digest())


def _numbers(digest: bytes) -> tuple[int, int, int, int]:
    one, two, three, four = struct.unpack("<4i", digest)
    return one, two, three, four
