"""The pictures of an app package, from its program's icon: never enlarged, in the middle of what is asked for."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path

from yendo.errors import Unreadable
from yendo.installers.programs import icon_png

_PLAIN = (0x5B, 0x6B, 0x7B, 0xFF)  # the colour of a picture whose program has no icon


def logos(program: Path | bytes, sizes: list[tuple[int, int]]) -> tuple[dict[tuple[int, int], bytes], bool]:
    """A picture of each size, and whether it shows the program's own icon; else each is of one colour."""
    from PIL import Image

    try:
        if isinstance(program, bytes):
            raise Unreadable("changed by the plan")
        with Image.open(io.BytesIO(icon_png(program)), formats=("PNG",)) as opened:
            icon = opened.convert("RGBA")
        own = True
    except (Unreadable, OSError, ValueError, SyntaxError):
        icon, own = Image.new("RGBA", (256, 256), _PLAIN), False
    found = {}
    for width, height in sizes:
        picture = Image.new("RGBA", (width, height), (0, 0, 0, 0))
        side = min(width, height, *icon.size)
        shown = icon if icon.size == (side, side) else icon.resize((side, side), Image.Resampling.LANCZOS)
        picture.paste(shown, ((width - side) // 2, (height - side) // 2))
        found[width, height] = _png(width, height, picture.tobytes())
    return found, own


def _png(width: int, height: int, pixels: bytes) -> bytes:
    """A picture of four bytes a point as PNG: written here, so that it is the same bytes wherever it is made."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    rows = b"".join(b"\0" + pixels[at : at + 4 * width] for at in range(0, 4 * width * height, 4 * width))
    head = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    packed = chunk(b"IDAT", zlib.compress(rows, 9))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + packed + chunk(b"IEND", b"")
