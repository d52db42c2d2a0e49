"""Disk images of macOS: what lies on the volume inside, and the bundles and packages among it.

Source: the partition maps by Apple's "Inside Macintosh: Devices" and the UEFI specification. Held against volumes that
another writer made, and against other readers.
"""

from __future__ import annotations

import contextlib
import struct
import tempfile
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, cast

import msgspec

from yendo.errors import NotCovered, Unreadable, Usage, YendoError
from yendo.formats import apfs, hfs_plus, udif
from yendo.formats.apfs import Apfs
from yendo.formats.hfs_plus import HfsPlus
from yendo.formats.slices import at
from yendo.formats.volume import Volume, VolumeItem
from yendo.installers.parts import MAX_WRITTEN
from yendo.mac import bundles, reading
from yendo.mac.app import MacApp
from yendo.mac.package import MacPackage

SCHEMA = "yendo.mac-image/1"
MAX_LOOKED_AT, MAX_DEPTH = 50, 3
_HFS, _APFS = "48465300-0000-11aa-aa11-00306543ecac", "7c3457ef-0000-11aa-aa11-00306543ecac"


class MacImage(msgspec.Struct, frozen=True):
    """``packings`` are how its pieces are packed, none for a bare disk; ``licence`` whether one is shown first.

    ``apps`` and ``packages`` are what lies near its top, ``trouble`` what of them could not be read, by its path.
    """

    file: str
    volume: str
    packings: tuple[str, ...]
    licence: bool
    items: tuple[VolumeItem, ...]
    apps: tuple[MacApp, ...] = ()
    packages: tuple[MacPackage, ...] = ()
    trouble: tuple[tuple[str, str], ...] = ()


def is_image(path: Path) -> bool:
    """Whether a file is a disk image of macOS; an ISO that has such a volume too is none."""
    if not path.is_file():
        return False
    with path.open("rb") as file:
        if udif.is_image(file):
            return True
        bare = (
            hfs_plus.is_volume(file) or apfs.is_volume(file) or (at(file, 0, 2) == b"ER" and at(file, 512, 2) == b"PM")
        )
        return bare and at(file, 16 * 2048 + 1, 5) != b"CD001"


@contextlib.contextmanager
def opened(path: Path) -> Iterator[tuple[Volume, udif.DiskImage | None]]:
    """The volume of an image, and the image round it where there is one. Raises Unreadable, NotCovered."""
    with path.open("rb") as file:
        image = udif.DiskImage(file, path.name) if udif.is_image(file) else None
        disk = cast(BinaryIO, image) if image is not None else file
        yield _volume(disk, image, path.name), image


def _volume(disk: BinaryIO, image: udif.DiskImage | None, name: str) -> Volume:
    """Raises Unreadable, NotCovered."""
    named = ("Apple_HFS", "Apple_APFS")
    starts = [0, *(one.start for one in image.partitions if any(kind in one.name for kind in named))] if image else [0]
    starts += _mapped(disk)
    for start in starts:
        if hfs_plus.is_volume(disk, start):
            return HfsPlus(disk, start, name)
        if apfs.is_volume(disk, start):
            return Apfs(disk, start, name)
    raise Unreadable(f"{name} holds no volume of HFS Plus or APFS")


def _mapped(disk: BinaryIO) -> list[int]:
    """Where partitions begin, by either map."""
    found: list[int] = []
    head = at(disk, 512, 512)
    if head[:2] == b"PM":
        (count,) = struct.unpack_from(">I", head, 4)
        for number in range(min(count, 64)):
            entry = at(disk, 512 * (number + 1), 512)
            if entry[:2] == b"PM" and len(entry) == 512 and entry[48:80].rstrip(b"\0").startswith(b"Apple_HFS"):
                found.append(struct.unpack_from(">I", entry, 8)[0] * 512)
    if head[:8] == b"EFI PART" and len(head) >= 88:
        first, count, size = struct.unpack_from("<QII", head, 72)
        for number in range(min(count, 128) if 128 <= size <= 4096 else 0):
            entry = at(disk, first * 512 + number * size, 128)
            if len(entry) == 128 and str(uuid.UUID(bytes_le=entry[:16])) in (_HFS, _APFS):
                found.append(struct.unpack_from("<Q", entry, 32)[0] * 512)
    return [start for start in found if start < udif.MAX_DISK]


def read(path: Path, *, listing: bool = False) -> MacImage:
    """A whole image; with ``listing`` its names alone, from the volume's catalogue. Raises Unreadable, NotCovered."""
    with opened(path) as (volume, image), tempfile.TemporaryDirectory(prefix="yendo-image-") as folder:
        items = volume.items()
        found = MacImage(
            path.name, volume.label, image.packings if image else (), bool(image and image.licence), tuple(items)
        )
        apps: list[MacApp] = []
        packages: list[MacPackage] = []
        trouble: list[tuple[str, str]] = []
        for number, (name, some) in enumerate(near_the_top(items) if not listing else ()):
            place = Path(folder, str(number))
            try:
                if number >= MAX_LOOKED_AT:
                    raise NotCovered(f"more than {MAX_LOOKED_AT} are not looked at")
                extract(volume, some, place)
                if name.endswith(".pkg"):
                    packages.append(reading.read(place / name))
                else:
                    apps.append(bundles.read(place / name))
            except YendoError as error:
                trouble.append((name, str(error)))
        return msgspec.structs.replace(found, apps=tuple(apps), packages=tuple(packages), trouble=tuple(trouble))


def near_the_top(items: list[VolumeItem]) -> Iterator[tuple[str, list[VolumeItem]]]:
    """Bundles and packages that a person sees, each with all that is in it."""
    paths = {item.path for item in items}
    for item in items:
        parts = item.path.split("/")
        if len(parts) > MAX_DEPTH or any(part.endswith(".app") for part in parts[:-1]):
            continue
        if item.kind == "file" and item.path.endswith(".pkg"):
            yield item.path, [item]
        elif item.kind == "folder" and f"{item.path}/Contents/Info.plist" in paths:
            yield item.path, [one for one in items if one.path.startswith(item.path + "/")]


def extract(volume: Volume, items: list[VolumeItem], target: Path) -> None:
    """Writes what lies on a volume below a folder: files first, links last, so that none is written through.

    Raises Unreadable, Usage.
    """
    if sum(item.size for item in items) > MAX_WRITTEN:
        raise Usage(f"more than {MAX_WRITTEN >> 30} GB are not taken out")
    for item in items:
        path = target / item.path
        if item.kind == "folder":
            path.mkdir(parents=True, exist_ok=True)
        elif item.kind == "packed":
            raise NotCovered(f"{item.path} is packed by the file system itself, which is not read")
        elif item.kind == "file":
            path.parent.mkdir(parents=True, exist_ok=True)
            source = volume.open(item)
            with path.open("xb") as out:
                while piece := source.read(1 << 20):
                    out.write(piece)
            path.chmod(0o755 if item.mode & 0o111 else 0o644)
    for item in items:
        if item.kind == "link":
            path = target / item.path
            path.parent.mkdir(parents=True, exist_ok=True)
            path.symlink_to(volume.open(item).read(4096).decode("utf-8", "replace").rstrip("\0") or ".")
