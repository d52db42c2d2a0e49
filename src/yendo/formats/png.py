"""Writes pictures as PNG, the same bytes wherever it is done. Source: the PNG specification (RGBA of eight bits)."""

from __future__ import annotations

import struct
import zlib


def png(width: int, height: int, points: bytes) -> bytes:
    """A picture of four bytes a point (red, green, blue, alpha), row by row from the top."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    rows = b"".join(b"\0" + points[at : at + 4 * width] for at in range(0, 4 * width * height, 4 * width))
    head = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    packed = chunk(b"IDAT", zlib.compress(rows, 9))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + packed + chunk(b"IEND", b"")
