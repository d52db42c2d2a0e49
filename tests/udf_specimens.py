"""The smallest volume of the Universal Disk Format that holds a few files, written by the specification."""

from __future__ import annotations

import binascii
import struct

SECTOR = 2048
FIRST = 257  # of the sequence of descriptors; the partition begins behind it
START = 260


def tag(kind: int, where: int, body: bytes) -> bytes:
    head = bytearray(struct.pack("<HHBBHHHI", kind, 2, 0, 0, 0, binascii.crc_hqx(body, 0), len(body), where))
    head[4] = sum(head) & 0xFF
    return bytes(head) + body


def sector(data: bytes) -> bytes:
    assert len(data) <= SECTOR
    return data.ljust(SECTOR, b"\0")


def text(name: str) -> bytes:
    try:
        return b"\x08" + name.encode("latin-1")
    except UnicodeEncodeError:
        return b"\x10" + name.encode("utf-16-be")


def entry(where: int, data: bytes, *, folder: bool = False, inline: bool = True, place: int = 0) -> bytes:
    """A file's entry, its bytes in it or elsewhere."""
    kind = struct.pack("<IHHHBBIHH", 0, 4, 0, 1, 0, 4 if folder else 5, 0, 0, 3 if inline else 0)
    places = data if inline else struct.pack("<II", len(data), place)
    body = kind.ljust(40, b"\0") + struct.pack("<Q", len(data))
    body = body.ljust(152, b"\0") + struct.pack("<II", 0, len(places)) + places
    return sector(tag(261, where, body))


def identifier(name: str, block: int, bits: int = 0) -> bytes:
    own = text(name) if name else b""
    body = struct.pack("<HBB", 1, bits, len(own)) + struct.pack("<IIH6x", SECTOR, block, 0) + struct.pack("<H", 0) + own
    whole = tag(257, 0, body)
    return whole + b"\0" * (-len(whole) % 4)


def volume(files: dict[str, bytes], name: str = "TIDE") -> bytes:
    """A volume with these files in its root; those of more than a thousand bytes lie outside their entries."""
    sectors: dict[int, bytes] = {}
    blocks: list[bytes] = [b"", b""]  # the set of files, the root
    names = identifier("", 1, 8)
    for path, data in files.items():
        block = len(blocks)
        inline = len(data) < 1000
        blocks.append(entry(block, data, inline=inline, place=block + 1))
        if not inline:
            padded = data + b"\0" * (-len(data) % SECTOR)
            blocks += [padded[at : at + SECTOR] for at in range(0, len(padded), SECTOR)]
        names += identifier(path, block)
    blocks[0] = sector(tag(256, 0, b"".ljust(384, b"\0") + struct.pack("<IIH6x", SECTOR, 1, 0)))
    blocks[1] = entry(1, names, folder=True)
    for at, mark in ((16, b"BEA01"), (17, b"NSR02"), (18, b"TEA01")):
        sectors[at] = sector(b"\0" + mark + b"\1")
    sectors[256] = sector(tag(2, 256, struct.pack("<II", 3 * SECTOR, FIRST)))
    partition = struct.pack("<IHHB", 1, 1, 0, 0) + b"+NSR02"
    partition = partition.ljust(168, b"\0") + struct.pack("<III", 1, START, len(blocks))
    sectors[FIRST] = sector(tag(5, FIRST, partition.ljust(496, b"\0")))
    own = text(name)
    logical = b"".ljust(68, b"\0") + own.ljust(127, b"\0") + bytes([len(own)]) + struct.pack("<I", SECTOR)
    logical += b"\0*OSTA UDF Compliant".ljust(24, b"\0") + struct.pack("<H", 0x102)
    logical = logical.ljust(232, b"\0") + struct.pack("<IIH6x", SECTOR, 0, 0) + struct.pack("<II", 6, 1)
    sectors[FIRST + 1] = sector(tag(6, FIRST + 1, logical.ljust(424, b"\0") + struct.pack("<BBHH", 1, 6, 1, 0)))
    sectors[FIRST + 2] = sector(tag(8, FIRST + 2, b""))
    for number, data in enumerate(blocks):
        sectors[START + number] = data
    return b"".join(sectors.get(at, b"\0" * SECTOR) for at in range(START + len(blocks)))
