"""What was handed over: a record in the workspace, that later checks hold new builds against."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from yendo import atomic, digest
from yendo.package import build
from yendo.package import manifest as form

FILE, MAC_FILE = "delivered.json", "delivered-macos.json"


class Delivered(msgspec.Struct, frozen=True):
    """A package as it was handed over. ``content`` is what a machine gets of it, ``detect`` its rules, ``at`` UTC."""

    version: str
    revision: int
    digest: str
    content: str
    detect: Any
    at: str


def read(workspace: Path, file: str = FILE) -> list[Delivered]:
    """Everything that was handed over from a workspace, the oldest first; nothing where the record cannot be read."""
    try:
        return msgspec.json.decode((workspace / file).read_bytes(), type=list[Delivered])
    except (OSError, msgspec.MsgspecError):
        return []


def record(workspace: Path, package: Path) -> Delivered:
    """Remembers that a package is handed over, once for the same bytes. Raises Unreadable."""
    manifest = form.read(package)
    sha256 = digest.of_file(package / "manifest.json")
    detect = msgspec.to_builtins(manifest.detect)
    content = build.content_digest(manifest)
    return remember(workspace, Delivered(manifest.version, manifest.revision, sha256, content, detect, ""))


def remember(workspace: Path, found: Delivered, file: str = FILE) -> Delivered:
    """Puts down that this is handed over now, once for the same bytes."""
    known = read(workspace, file)
    for one in known:
        if one.digest == found.digest:
            return one
    found = msgspec.structs.replace(found, at=datetime.now(UTC).isoformat(timespec="seconds"))
    atomic.write(workspace / file, msgspec.json.format(msgspec.json.encode([*known, found]), indent=2) + b"\n")
    return found
