"""The archive of flat packages: a table of contents in compressed XML, then everything in one heap.

Source: the published description of the format; archives by libarchive and reading by 7-Zip hold it
(``tests/test_mac_packages.py``). Offsets of the heap count from the end of the table.
"""

from __future__ import annotations

import base64
import bz2
import hashlib
import lzma
import struct
import zlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, BinaryIO, Literal

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import plain_xml
from yendo.formats.slices import Slice

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MAGIC = b"xar!"
MAX_TOC, MAX_ENTRIES, MAX_DEPTH = 16 << 20, 100_000, 64
_CHECKSUMS = {1: "sha1", 2: "md5"}
_ENCODINGS = {
    "application/octet-stream": "none",
    "application/x-gzip": "zlib",
    "application/x-bzip2": "bzip2",
    "application/x-lzma": "xz",
    "application/x-xz": "xz",
}


class XarEntry(msgspec.Struct, frozen=True):
    """``path`` has slashes; ``offset`` and ``length`` are those of the packed bytes in the heap, ``size`` is unpacked.

    ``checksum`` is over the packed bytes, as algorithm and hexadecimal digits; empty where none is stated.
    """

    path: str
    kind: Literal["file", "folder", "link", "other"]
    mode: int
    user: int
    group: int
    size: int = 0
    offset: int = 0
    length: int = 0
    encoding: str = "none"
    checksum: tuple[str, str] = ("", "")
    target: str = ""


class XarSignature(msgspec.Struct, frozen=True):
    """A signature over the table's checksum: its style (``RSA`` or ``CMS``), its bytes, and certificates (DER)."""

    style: str
    value: bytes
    certificates: tuple[bytes, ...]


class Xar:
    """One archive. ``entries`` are in the order of the table; ``problem`` says what does not fit together, if anything.

    Raises Unreadable.
    """

    def __init__(self, file: BinaryIO, name: str = "archive") -> None:
        self.file, self.name = file, name
        file.seek(0)
        head = file.read(28)
        if len(head) < 28 or head[:4] != MAGIC:
            raise Unreadable(f"{name} is no archive of a flat package")
        size, _, packed, unpacked, kind = struct.unpack(">HHQQI", head[4:])
        if size < 28 or unpacked > MAX_TOC or packed > MAX_TOC:
            raise Unreadable(f"{name}: its table of contents is larger than any ({MAX_TOC} bytes)")
        file.seek(size)
        self.table = file.read(packed)
        self.heap = size + packed
        self.algorithm = _CHECKSUMS.get(kind, "")
        if kind == 3:  # the name of the algorithm stands in the header
            file.seek(28)
            self.algorithm = file.read(max(0, size - 28)).rstrip(b"\0").decode("ascii", "replace").lower()
        root = plain_xml.parsed(_unpacked(self.table, unpacked, name), f"{name}: its table of contents")
        toc = root.find("toc")
        if toc is None:
            raise Unreadable(f"{name} has no table of contents")
        self.signatures = tuple(self._signatures(toc))
        self.entries = list(_entries(toc, "", 0))
        if len(self.entries) > MAX_ENTRIES:
            raise Unreadable(f"{name} has {len(self.entries)} entries; up to {MAX_ENTRIES} are read")
        self.problem = self._checked(toc)

    def _checked(self, toc: Element) -> str:
        stated = toc.find("checksum")
        if stated is None or not self.algorithm or self.algorithm == "none":
            return "its table of contents has no checksum"
        if self.algorithm not in hashlib.algorithms_available:
            return f"its checksum {self.algorithm} is not known here"
        found = self.at(_number(stated, "offset"), min(_number(stated, "size"), 128))
        return "" if found == self.digest else "its table of contents is not the one that its checksum is over"

    @property
    def digest(self) -> bytes:
        """The checksum of the table as it lies there, which signatures are over."""
        return hashlib.new(self.algorithm, self.table).digest()

    def at(self, offset: int, length: int) -> bytes:
        """Bytes of the heap."""
        self.file.seek(self.heap + offset)
        return self.file.read(length)

    def _signatures(self, toc: Element) -> Iterator[XarSignature]:
        for name in ("signature", "x-signature"):
            for found in toc.findall(name):
                raw = self.at(_number(found, "offset"), min(_number(found, "size"), 1 << 20))
                certificates = tuple(
                    base64.b64decode("".join((element.text or "").split()))
                    for element in found.iter()
                    if element.tag.rpartition("}")[2] == "X509Certificate"
                )
                yield XarSignature(found.get("style", ""), raw, certificates)

    def packed(self, entry: XarEntry) -> Slice:
        """The packed bytes of a file, as they lie there."""
        return Slice(self.file, self.heap + entry.offset, entry.length)

    def read(self, entry: XarEntry, limit: int) -> bytes:
        """A file unpacked. Raises Unreadable where it is larger than ``limit`` or damaged, NotCovered."""
        if entry.size > limit:
            raise Unreadable(f"{entry.path} is larger than it may be ({entry.size} bytes)")
        raw = self.packed(entry).read()
        name, stated = entry.checksum
        if name in hashlib.algorithms_available and hashlib.new(name, raw).hexdigest() != stated.lower():
            raise Unreadable(f"{entry.path} is not what its checksum is over")
        if entry.encoding == "none":
            return raw
        if entry.encoding == "zlib":
            return _unpacked(raw, entry.size, entry.path)
        if entry.encoding not in ("bzip2", "xz"):
            raise NotCovered(f"{entry.path} is packed as {entry.encoding}, which is not known here")
        try:
            state = bz2.BZ2Decompressor() if entry.encoding == "bzip2" else lzma.LZMADecompressor(memlimit=256 << 20)
            return state.decompress(raw, limit + 1)[: limit + 1]
        except (OSError, EOFError, lzma.LZMAError) as error:
            raise Unreadable(f"{entry.path} cannot be unpacked: {error}") from error


def _unpacked(raw: bytes, size: int, name: str) -> bytes:
    """At most ``size`` bytes. Raises Unreadable."""
    try:
        state = zlib.decompressobj()
        data = state.decompress(raw, size + 1)
    except zlib.error as error:
        raise Unreadable(f"{name} cannot be unpacked: {error}") from error
    if len(data) != size:
        raise Unreadable(f"{name} is of another size than it says")
    return data


def _entries(parent: Element, below: str, depth: int) -> Iterator[XarEntry]:
    if depth > MAX_DEPTH:
        raise Unreadable(f"{below} lies deeper than {MAX_DEPTH} folders")
    for found in parent.findall("file"):
        name = _name(found.find("name"))
        path = f"{below}/{name}" if below else name
        kind = (found.findtext("type") or "file").strip()
        data = found.find("data")
        style = data.find("encoding") if data is not None else None
        stated = data.find("archived-checksum") if data is not None else None
        yield XarEntry(
            path,
            "folder" if kind == "directory" else "link" if kind == "symlink" else "file" if kind == "file" else "other",
            _octal(found.findtext("mode")),
            _number(found, "uid"),
            _number(found, "gid"),
            _number(data, "size"),
            _number(data, "offset"),
            _number(data, "length"),
            _encoding(style.get("style", "") if style is not None else ""),
            (stated.get("style", "").lower(), (stated.text or "").strip()) if stated is not None else ("", ""),
            found.findtext("link") or "",
        )
        yield from _entries(found, path, depth + 1)


def _name(element: Element | None) -> str:
    """A name; one beyond ASCII may stand in base64."""
    text = (element.text or "") if element is not None else ""
    if element is not None and element.get("enctype") == "base64":
        try:
            return base64.b64decode(text, validate=True).decode("utf-8", "replace")
        except ValueError as error:
            raise Unreadable(f"{text[:40]!r} is no name") from error
    return text


def _encoding(style: str) -> str:
    return _ENCODINGS.get(style, style) if style else "none"


def _number(element: Element | None, name: str) -> int:
    text = (element.findtext(name) or "0").strip() if element is not None else "0"
    return int(text) if text.isascii() and text.isdigit() and len(text) < 19 else 0


def _octal(text: str | None) -> int:
    try:
        return int((text or "0").strip(), 8) & 0o7777
    except ValueError:
        return 0
