"""Image files of Windows (WIM, and ESD where they are packed as one): their header, and what they say of themselves.

Source: the published description of the Windows Imaging file format: a header of 208 bytes, the place of each resource
in 24 (seven bytes for its packed size, one for flags, eight each for its place and its size), and a document in UTF-16
that describes the images. The header's version is 0x10d00, and 0x0e00 where resources are packed as one.
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats import plain_xml

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MAGIC = b"MSWIM\0\0\0"
MOST = 32 << 20  # bytes of the description
_SIZE, _PACKED_RESOURCE, _SOLID = 208, 4, 0x0E00
_PACKINGS = {0x20000: "XPRESS", 0x40000: "LZX", 0x80000: "LZMS"}
_PROCESSORS = {"0": "x86", "5": "arm", "9": "x64", "12": "arm64"}


class WimImage(msgspec.Struct, frozen=True, kw_only=True):
    """One image as the file describes it. ``build`` is ``10.0.26100.1742`` or empty, ``size`` in bytes as laid out;
    ``edition`` and ``kind`` (Client, Server, WindowsPE) are Windows' own words.
    """

    index: int
    name: str = ""
    description: str = ""
    processor: str = ""
    edition: str = ""
    kind: str = ""
    build: str = ""
    languages: tuple[str, ...] = ()
    size: int = 0
    files: int = 0


class WimFile(msgspec.Struct, frozen=True, kw_only=True):
    """``part`` of ``parts`` where it was split; ``packing`` is XPRESS, LZX, LZMS or nothing; ``solid`` where resources
    are packed as one; ``start`` is the image that a computer may start from, 0 for none.
    """

    images: tuple[WimImage, ...]
    packing: str
    solid: bool
    part: int
    parts: int
    start: int


def is_wim(head: bytes) -> bool:
    return head[:8] == MAGIC


def read(file: BinaryIO) -> WimFile:
    """What an image file says of itself; none of its files is looked at. Raises Unreadable."""
    head = file.read(_SIZE)
    if len(head) < _SIZE or not is_wim(head):
        raise Unreadable("this is no image file of Windows: its header is missing")
    size, version, flags = struct.unpack_from("<III", head, 8)
    part, parts, count = struct.unpack_from("<HHI", head, 40)
    packed, place, plain = _resource(head, 72)
    (start,) = struct.unpack_from("<I", head, 120)
    if size < _SIZE or parts < 1 or not 1 <= part <= parts or count > 10_000:
        raise Unreadable("the image file's header makes no sense")
    if place >= 1 << 60 or head[79] & _PACKED_RESOURCE or packed != plain or plain > MOST:
        raise Unreadable("the image file's description is packed or too long")
    file.seek(place)
    raw = file.read(plain)
    if len(raw) < plain:
        raise Unreadable("the image file ends before its description does")
    packing = next((name for bit, name in _PACKINGS.items() if flags & bit), "") if flags & 2 else ""
    return WimFile(
        images=tuple(_images(raw)) if plain else (), packing=packing, solid=version == _SOLID, part=part, parts=parts,
        start=start,
    )  # fmt: skip


def _resource(head: bytes, at: int) -> tuple[int, int, int]:
    """Packed size, place and size of a resource."""
    place, plain = struct.unpack_from("<QQ", head, at + 8)
    return int.from_bytes(head[at : at + 7], "little"), place, plain


def _images(raw: bytes) -> list[WimImage]:
    try:
        text = raw.decode("utf-16")
    except UnicodeDecodeError as error:
        raise Unreadable(f"the image file's description is no UTF-16: {error}") from error
    root = plain_xml.parsed(text.lstrip("\ufeff").encode(), "the image file's description")
    return [_image(one) for one in root.findall("IMAGE")]


def _image(one: Element) -> WimImage:
    def text(path: str) -> str:
        return (one.findtext(path) or "").strip()[:1000]

    def number(path: str) -> int:
        found = text(path)
        return int(found) if found.isdecimal() and len(found) < 19 else 0

    version = [text(f"WINDOWS/VERSION/{name}") for name in ("MAJOR", "MINOR", "BUILD", "SPBUILD")]
    index = one.get("INDEX", "")
    if not index.isdecimal() or len(index) > 9:
        raise Unreadable("an image of the file has no number")
    return WimImage(
        index=int(index), name=text("DISPLAYNAME") or text("NAME"),
        description=text("DISPLAYDESCRIPTION") or text("DESCRIPTION"),
        processor=_PROCESSORS.get(text("WINDOWS/ARCH"), text("WINDOWS/ARCH")), edition=text("WINDOWS/EDITIONID"),
        kind=text("WINDOWS/INSTALLATIONTYPE"), build=".".join(part for part in version if part),
        languages=tuple((each.text or "").strip() for each in one.findall("WINDOWS/LANGUAGES/LANGUAGE"))[:200],
        size=number("TOTALBYTES"), files=number("FILECOUNT"),
    )  # fmt: skip
