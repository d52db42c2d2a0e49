"""Modern app packages and bundles of them: who they say they are.

Source: the package manifest's Identity, and how a full name is put together from it.
"""

from __future__ import annotations

import hashlib
import lzma
import zipfile
import zlib
from pathlib import Path
from typing import BinaryIO

import defusedxml.ElementTree as ElementTree
import msgspec

from yendo.errors import Unreadable

MAX_MANIFEST = 4 << 20
_DIGITS = "0123456789abcdefghjkmnpqrstvwxyz"  # Source: the package identity's base 32, without i, l, o and u
MANIFESTS = ("AppxManifest.xml", "AppxMetadata/AppxBundleManifest.xml")


# What the library raises on a damaged archive, its unpackers included.
DAMAGED = (
    KeyError, OSError, zipfile.BadZipFile, zlib.error, lzma.LZMAError, ElementTree.ParseError, ValueError,
    NotImplementedError, RuntimeError, EOFError,
)  # fmt: skip


class AppIdentity(msgspec.Struct, frozen=True):
    """``version`` in four parts; ``architecture`` and ``resource`` as the manifest has them (a bundle: neutral and
    ``~``).
    """

    name: str
    version: str
    architecture: str
    resource: str
    publisher: str

    @property
    def publisher_id(self) -> str:
        """The publisher as 13 characters: the first 64 bits of its hash, and one more of zero, five bits a
        character.
        """
        bits = int.from_bytes(hashlib.sha256(self.publisher.encode("utf-16-le")).digest()[:8], "big") << 1
        return "".join(_DIGITS[bits >> shift & 31] for shift in range(60, -1, -5))

    @property
    def full_name(self) -> str:
        return f"{self.name}_{self.version}_{self.architecture}_{self.resource}_{self.publisher_id}"


def identity(package: Path | BinaryIO, name: str = "") -> AppIdentity:
    """The identity of a package or bundle. Raises Unreadable."""
    shown = name or (package.name if isinstance(package, Path) else "the file")
    try:
        with zipfile.ZipFile(package) as archive:
            there = set(archive.namelist())
            manifest = next((one for one in MANIFESTS if one in there), MANIFESTS[0])
            info = archive.getinfo(manifest)
            if info.file_size > MAX_MANIFEST:
                raise Unreadable(f"{shown}: its manifest is larger than 4 MB")
            with archive.open(info) as member:
                found = ElementTree.fromstring(member.read(MAX_MANIFEST + 1)[:MAX_MANIFEST]).find("{*}Identity")
    except DAMAGED as error:
        raise Unreadable(f"{shown} is no modern app package: {error}") from error
    if found is None or not found.get("Name") or not found.get("Publisher") or not found.get("Version"):
        raise Unreadable(f"{shown}: its manifest has no whole identity")
    bundle = manifest != MANIFESTS[0]
    return AppIdentity(
        found.get("Name"),
        found.get("Version"),
        found.get("ProcessorArchitecture", "neutral").lower(),
        found.get("ResourceId", "~" if bundle else ""),
        found.get("Publisher"),
    )
