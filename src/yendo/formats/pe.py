"""What a Windows program says of itself: version and architecture. Reading is pefile's."""

from __future__ import annotations

import mmap
from pathlib import Path

import msgspec

from yendo.errors import Unreadable

_MACHINES = {0x14C: "x86", 0x8664: "x64", 0xAA64: "arm64", 0x1C4: "arm"}


class Program(msgspec.Struct, frozen=True):
    """``version`` is VS_FIXEDFILEINFO's file version with four fields, or None."""

    architecture: str
    version: str | None


def read(path: Path) -> Program:
    """Reads headers and the version resource only. Raises Unreadable when it is no such program."""
    import pefile

    try:
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            image = pefile.PE(data=data, fast_load=True)
            image.parse_data_directories(directories=[pefile.DIRECTORY_ENTRY["IMAGE_DIRECTORY_ENTRY_RESOURCE"]])
            machine = _MACHINES.get(image.FILE_HEADER.Machine, "unknown")
            info = getattr(image, "VS_FIXEDFILEINFO", None)
            version = None
            if info:
                high, low = info[0].FileVersionMS, info[0].FileVersionLS
                version = f"{high >> 16}.{high & 0xFFFF}.{low >> 16}.{low & 0xFFFF}"
            image.close()
    except (OSError, ValueError, pefile.PEFormatError) as error:
        raise Unreadable(f"{path.name}: not a Windows program: {error}") from error
    return Program(machine, version)
