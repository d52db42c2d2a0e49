"""Makes disk images of macOS for tests: a volume by another program, packed by ours after what open readers agree on."""

from __future__ import annotations

import bz2
import lzma
import plistlib
import shutil
import struct
import subprocess
import zlib
from importlib import import_module
from pathlib import Path

from conftest import missing

PIECE = 1 << 18
KINDS = {"raw": 1, "zlib": 0x80000005, "bzip2": 0x80000006, "lzma": 0x80000008, "lzfse": 0x80000007, "adc": 0x80000004}


def volume(folder: Path, target: Path) -> bytes:
    """A volume of HFS Plus with what lies in a folder, by a program that we did not write; the bare volume."""
    if not shutil.which("xorriso"):
        missing("xorriso", "apt-get install xorriso")
    line = ["xorriso", "-as", "mkisofs", "-quiet", "-V", "Lantern", "-hfsplus", "-o", target, folder]
    subprocess.run(line, check=True, capture_output=True)
    data = target.read_bytes()
    return data[data.index(b"H+\0\4") - 1024 :]


def packed(kind: str, data: bytes) -> bytes:
    match kind:
        case "zlib":
            return zlib.compress(data)
        case "bzip2":
            return bz2.compress(data)
        case "lzma":
            return lzma.compress(data)
        case "lzfse":
            return bytes(import_module("liblzfse").compress(data))
    return data


def image(disk: bytes, kind: str = "zlib", *, name: str = "disk image (Apple_HFS : 1)", licence: bool = False) -> bytes:
    """The image of a disk: pieces, those of nothing but zeros left out, the list of them, the trailer."""
    disk = disk.ljust(-(-len(disk) // 512) * 512, b"\0")
    parts: list[bytes] = []
    length, entries = 0, b""
    for at in range(0, len(disk), PIECE):
        piece = disk[at : at + PIECE]
        sectors = (at // 512, len(piece) // 512)
        if not any(piece):
            entries += struct.pack(">IIQQQQ", 0, 0, *sectors, length, 0)
            continue
        data = packed(kind, piece)
        entries += struct.pack(">IIQQQQ", KINDS[kind], 0, *sectors, length, len(data))
        parts.append(data)
        length += len(data)
    entries += struct.pack(">IIQQQQ", 0xFFFFFFFF, 0, len(disk) // 512, 0, length, 0)
    body = b"".join(parts)
    count = len(entries) // 40
    sums = struct.pack(">II128s", 2, 32, struct.pack(">I", zlib.crc32(disk)))
    table = struct.pack(">4sIQQQII24s", b"mish", 1, 0, len(disk) // 512, 0, PIECE // 512 + 8, 0, bytes(24))
    table += sums + struct.pack(">I", count) + entries
    given = {"blkx": [{"Attributes": "0x0050", "CFName": name, "Data": table, "ID": "0", "Name": name}]}
    listed = plistlib.dumps({"resource-fork": {**given, **({"LPic": []} if licence else {})}})
    trailer = struct.pack(
        ">4sIIIQQQQQII16s", b"koly", 4, 512, 1, 0, 0, len(body), 0, 0, 1, 1, bytes(16)
    ) + struct.pack(">II128sQQ", 2, 32, bytes(128), len(body), len(listed)) + bytes(120)  # fmt: skip
    trailer += struct.pack(">II128sIQ", 2, 32, bytes(128), 1, len(disk) // 512)
    return body + listed + trailer.ljust(512, b"\0")
