"""What was handed over: a record in the workspace, that later checks hold new builds against."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from yendo import atomic, digest
from yendo.package import build
from yendo.package import manifest as form

FILE = "delivered.json"


class Delivered(msgspec.Struct, frozen=True):
    """A package as it was handed over. ``content`` is what a machine gets of it, ``detect`` its rules, ``at`` UTC."""

    version: str
    revision: int
    digest: str
    content: str
    detect: Any
    at: str


def read(workspace: Path) -> list[Delivered]:
    """Everything that was handed over from a workspace, the oldest first; nothing where the record cannot be read."""
    try:
        return msgspec.json.decode((workspace / FILE).read_bytes(), type=list[Delivered])
    except (OSError, msgspec.MsgspecError):
        return []


def record(workspace: Path, package: Path) -> Delivered:
    """Remembers that a package is handed over, once for the same bytes. Raises Unreadable."""
    manifest = form.read(package)
    sha256 = digest.of_file(package / "manifest.json")
    known = read(workspace)
    for one in known:
        if one.digest == sha256:
            return one
    found = Delivered(
        manifest.version,
        manifest.revision,
        sha256,
        build.content_digest(manifest),
        msgspec.to_builtins(manifest.detect),
        datetime.now(UTC).isoformat(timespec="seconds"),
    )
    atomic.write(workspace / FILE, msgspec.json.format(msgspec.json.encode([*known, found]), indent=2) + b"\n")
    return found
