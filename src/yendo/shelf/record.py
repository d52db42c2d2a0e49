"""What a workspace keeps of its last check and its last build, for a shelf to read."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from yendo import atomic, digest

FILE = ".yendo/claims.json"
_T = TypeVar("_T")


class Claim(msgspec.Struct, frozen=True, array_like=True):
    """One thing: its kind and identity, how a person calls it, and a short hash of how it is to be."""

    kind: str
    identity: str
    label: str
    content: str


class Input(msgspec.Struct, frozen=True, array_like=True):
    """A file that went into a build, below the workspace: size in bytes, time of its last change in nanoseconds, its
    hash.
    """

    path: str
    size: int
    changed: int
    sha256: str

    def is_still(self, workspace: str) -> bool:
        """Whether it is as it was; its content is asked only where its time is another.

        Raises OSError where it is gone.
        """
        path = f"{workspace}/{self.path}"
        found = os.stat(path)  # noqa: PTH116 (it is called thousands of times)
        return found.st_size == self.size and (
            found.st_mtime_ns == self.changed or digest.of_file(Path(path)) == self.sha256
        )


class Claims(msgspec.Struct, frozen=True, omit_defaults=True):
    """``plan`` and ``house`` are hashes of the files that the package was built from; ``digest`` that
    of its manifest.
    """

    id: str
    digest: str
    plan: str
    house: str = ""
    needs: tuple[tuple[str, str], ...] = ()
    claims: tuple[Claim, ...] = ()
    inputs: tuple[Input, ...] = ()
    blind: str = ""


def load(path: Path, kind: type[_T]) -> _T | None:
    """What a file of ours holds; None where it is not there or cannot be read."""
    try:
        return msgspec.json.decode(path.read_bytes(), type=kind)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return None


def read(workspace: Path) -> Claims | None:
    """What was written down at the last build; None where there is nothing that can be read."""
    return load(workspace / FILE, Claims)


def checked(workspace: Path, findings: Any) -> None:
    """Remembers that a plan was looked over, and with how many errors."""
    path = workspace / ".yendo" / "checked.json"
    path.parent.mkdir(exist_ok=True)
    errors = sum(finding.severity == "error" for finding in findings)
    plan = digest.of_file(workspace / "plan.toml")
    atomic.write(path, msgspec.json.encode({"plan": plan, "errors": errors}) + b"\n")


def stale(place: Path, plan: str, known: Claims) -> str:
    """Why what was built is not what would be built now; nothing where it is."""
    if plan != known.plan:
        return "the plan has changed since the build"
    for one in known.inputs:
        try:
            if not one.is_still(str(place)):
                return f"{one.path} has changed since the build"
        except OSError:
            return f"{one.path} is gone since the build"
    if known.house:
        from yendo.plan import house

        above = house.find(place)
        if above is not None and digest.of_file(above) != known.house:
            return "the house file has changed since the build"
    return ""


def stale_package(workspace: Path, package: Path) -> str:
    """Why a package is not what its workspace would build now; nothing where it is, or where nobody can tell."""
    known = load(workspace / FILE, Claims)
    try:
        plan = digest.of_file(workspace / "plan.toml")
        built = digest.of_file(package / "manifest.json")
    except OSError:
        return ""
    return stale(workspace, plan, known) if known is not None and known.digest == built else ""
