"""The pictures of an app package, from its program's icon: never enlarged, in the middle of what is asked for."""

from __future__ import annotations

import io
from pathlib import Path

from yendo.errors import Unreadable
from yendo.formats.png import png
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
        found[width, height] = png(width, height, picture.tobytes())
    return found, own
