"""The hash by which files are known everywhere here, and the one by which the Windows Installer knows them."""

from __future__ import annotations

import hashlib
import struct
from pathlib import Path


def of_file(path: Path) -> str:
    """SHA-256 of a file as lower-case hex, read by the piece. Raises OSError."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def of_installer(data: bytes) -> tuple[int, int, int, int]:
    """The four numbers of table MsiFileHash: the MD5 of a file without a version. Source: MsiGetFileHash."""
    one, two, three, four = struct.unpack("<4i", hashlib.md5(data, usedforsecurity=False).digest())
    return one, two, three, four
