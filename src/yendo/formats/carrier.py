"""Bootstrappers that carry a manifest and several packages: the section that says where, and the containers.

Source: the section's fixed fields (mark, version, identifier, stub size, original checksum, original
signature, container format, container sizes) as found in files; containers are cabinets.
"""

from __future__ import annotations

import struct
import uuid
from typing import BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats.pe import Image
from yendo.formats.slices import at

SECTION = bytes.fromhex("2e776978").decode() + bytes.fromhex("6275726e").decode()
MARK = 0x00F14300
MAX_CONTAINERS = 64


class Container(msgspec.Struct, frozen=True):
    offset: int
    size: int


class Carrier(msgspec.Struct, frozen=True):
    """``containers``: the first holds the manifest and the window's own files, the others hold packages."""

    version: int
    id: str
    stub_size: int
    containers: tuple[Container, ...]


def find(file: BinaryIO, image: Image) -> Carrier | None:
    """The section, or None where the program has none. Raises Unreadable where it makes no sense."""
    section = image.section(SECTION)
    if section is None:
        return None
    raw = at(file, section.offset, min(section.size, 4096))
    try:
        mark, version, guid, stub, _, signature, signed, form, count = struct.unpack_from("<II16sIIIIII", raw)
        if mark != MARK:
            raise Unreadable(f"the carrier's section at offset {section.offset} begins with {mark:#x}")
        if form != 1:
            raise NotCovered(f"the carrier's containers are of format {form}; this version reads cabinets (1)")
        sizes = struct.unpack_from(f"<{min(count, MAX_CONTAINERS)}I", raw, 48)
    except struct.error as error:
        raise Unreadable(f"the carrier's section at offset {section.offset} is cut short") from error
    containers, place = [], stub
    for number, size in enumerate(sizes):
        if number == 1 and signature:
            place = max(place, signature + signed)
        if place + size > image.size:
            raise Unreadable(
                f"container {number} would end at offset {place + size}, beyond the file's {image.size} bytes"
            )
        containers.append(Container(place, size))
        place += size
    return Carrier(version, "{" + str(uuid.UUID(bytes_le=guid)).upper() + "}", stub, tuple(containers))
