"""Shell links. Source: [MS-SHLLINK] 2.1 (header), 2.2 (item list), 2.3 (link info), 2.4 (string data)."""

from __future__ import annotations

import struct

import msgspec

from yendo.errors import Unreadable

_NAMES = ((0x04, "description"), (0x08, "relative"), (0x10, "working_folder"), (0x20, "arguments"), (0x40, "icon"))


class ShellLink(msgspec.Struct, frozen=True):
    """What a link says: target path, arguments, working folder, description; empty where it says nothing."""

    target: str = ""
    arguments: str = ""
    working_folder: str = ""
    description: str = ""


def read(data: bytes) -> ShellLink:
    """Decodes a link. Raises Unreadable when it is none, or is cut short."""
    if len(data) < 76 or data[:4] != b"\x4c\0\0\0":
        raise Unreadable("not a shell link")
    try:
        (flags,) = struct.unpack_from("<I", data, 20)
        at, target = 76, ""
        if flags & 1:
            at += 2 + struct.unpack_from("<H", data, at)[0]
        if flags & 2:
            size, head, kind, _, base, _, suffix = struct.unpack_from("<7I", data, at)
            if kind & 1:
                wide = struct.unpack_from("<I", data, at + 28)[0] if head >= 0x24 else 0
                target = _wide(data, at + wide) if wide else _narrow(data, at + base) + _narrow(data, at + suffix)
            at += size
        found: dict[str, str] = {}
        for bit, name in _NAMES:
            if flags & bit:
                (count,) = struct.unpack_from("<H", data, at)
                width = 2 if flags & 0x80 else 1
                raw = data[at + 2 : at + 2 + count * width]
                found[name] = raw.decode("utf-16-le" if width == 2 else "cp1252", "replace").rstrip("\0")
                at += 2 + count * width
    except (struct.error, ValueError) as error:
        raise Unreadable(f"the shell link is cut short: {error}") from error
    return ShellLink(target, found.get("arguments", ""), found.get("working_folder", ""), found.get("description", ""))


def _narrow(data: bytes, at: int) -> str:
    return data[at : data.index(0, at)].decode("cp1252", "replace")


def _wide(data: bytes, at: int) -> str:
    end = at
    while data[end : end + 2] not in (b"\0\0", b""):
        end += 2
    return data[at:end].decode("utf-16-le", "replace")
