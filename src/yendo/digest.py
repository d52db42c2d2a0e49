"""The hash by which files are known everywhere here."""

from __future__ import annotations

import hashlib
from pathlib import Path


def of_file(path: Path) -> str:
    """SHA-256 of a file as lower-case hex, read by the piece. Raises OSError."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
