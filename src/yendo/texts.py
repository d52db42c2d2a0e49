"""Texts and names that come from outside: what may stand in a line, what can be written at all, what Windows keeps for
itself; and pictures as text.
"""

from __future__ import annotations

import base64
import re

BREAKS = re.compile(r"[\x00-\x1f\x7f\x85\u2028\u2029]+")  # control characters, and everything that ends a line
_DEVICES = frozenset(
    ("con", "prn", "aux", "nul", *(f"{device}{number}" for device in ("com", "lpt") for number in range(1, 10)))
)


def one_line(text: str) -> str:
    """The text in one line, without control characters."""
    return BREAKS.sub(" ", text)


def writable(text: str) -> str:
    """The text as far as it is one: a name on the disk may hold bytes that are none in the system's coding."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def text_of(data: bytes) -> str:
    """The text of a file from elsewhere: by its byte order mark, else UTF-8, else Latin-1. Never fails."""
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, "replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def is_device(part: str) -> bool:
    """Whether Windows takes a part of a path for a device, whatever stands behind a dot."""
    return part.split(".")[0].strip().lower() in _DEVICES


_PICTURES = {b"\x89PNG": "image/png", b"\xff\xd8\xff": "image/jpeg", b"\x00\x00\x01\x00": "image/x-icon"}


def carried(picture: bytes | None) -> str:
    """A PNG, JPEG or icon as an address that a page carries in itself; empty for anything else, and without one."""
    kind = next((kind for head, kind in _PICTURES.items() if picture and picture.startswith(head)), "")
    return f"data:{kind};base64,{base64.b64encode(picture or b'').decode()}" if kind else ""
