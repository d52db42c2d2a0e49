"""Writes modern app packages and bundles of them, in bounded memory. The same files give the same bytes.

Source: the packaging layout: an archive, a list of types, and a block map with the SHA-256 of every 64 KB, each of
which is packed so that it can be unpacked alone.
"""

from __future__ import annotations

import base64
import hashlib
import io
import os
import struct
import zlib
from collections import Counter, deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import BinaryIO
from urllib.parse import quote
from xml.sax.saxutils import quoteattr

import msgspec

from yendo.formats.app_manifest import BLOCK, BLOCK_MAP, SIGNATURE, TYPES

LEVEL = 6
MANIFEST = "AppxManifest.xml"
BUNDLE_MANIFEST = "AppxMetadata/AppxBundleManifest.xml"
_HASHES = "http://www.w3.org/2001/04/xmlenc#sha256"
_MAP = "http://schemas.microsoft.com/appx/2010/blockmap"
_PARTS = "http://schemas.openxmlformats.org/package/2006/content-types"
_DATE = (1980 - 1980) << 9 | 1 << 5 | 1
_END = b"\x03\x00"  # the last, empty block of what is packed
LARGE = 0xFFFFFFFF
# What is packed already, and is stored.
_PACKED = frozenset(
    ".7z .appx .cab .gif .gz .jpeg .jpg .mp3 .mp4 .msix .png .rar .webp .woff .woff2 .xz .zip .zst".split()
)
_KINDS = {
    ".dll": "application/x-msdownload", ".exe": "application/x-msdownload", ".png": "image/png",
    ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".txt": "text/plain", ".xml": "application/xml",
    ".htm": "text/html", ".html": "text/html", ".msix": "application/vnd.ms-appx", ".appx": "application/vnd.ms-appx",
}  # fmt: skip
_OWN_KINDS = {
    MANIFEST: "application/vnd.ms-appx.manifest+xml",
    BUNDLE_MANIFEST: "application/vnd.ms-appx.bundlemanifest+xml",
    BLOCK_MAP: "application/vnd.ms-appx.blockmap+xml",
    SIGNATURE: "application/vnd.ms-appx.signature",
}


class AppMember(msgspec.Struct, frozen=True):
    """A file of the package: its name in it, with slashes, and its content, or the file that holds it."""

    name: str
    content: bytes | Path


class AppRecord(msgspec.Struct):
    """What the archive's directory says of a file."""

    name: bytes
    method: int
    crc: int
    packed: int
    size: int
    offset: int
    local: int  # bytes of its own head

    def central(self) -> bytes:
        wide = [number for number in (self.size, self.packed, self.offset) if number >= LARGE]
        extra = struct.pack(f"<HH{len(wide)}Q", 1, 8 * len(wide), *wide) if wide else b""
        version = 45 if wide else 20
        head = struct.pack(
            "<4s6HIIIHHHHHII", b"PK\x01\x02", version, version, 0, self.method, 0, _DATE, self.crc,
            min(self.packed, LARGE), min(self.size, LARGE), len(self.name), len(extra), 0, 0, 0, 0,
            min(self.offset, LARGE),
        )  # fmt: skip
        return head + self.name + extra


def part_name(name: str) -> str:
    """A file's name as the archive has it: every character that a part's name cannot have stands there as %XX."""
    return "/".join(quote(part, safe="!$&'()*+,;=:@-._~") for part in name.split("/"))


def write(target: BinaryIO, members: Sequence[AppMember], *, bundle: bool = False) -> None:
    """Writes a package with its block map and list of types; the manifest is one of the members. ``target`` can be
    sought in.

    Raises ValueError where a name is there twice, in large or small letters.
    """
    names = Counter(member.name.lower() for member in members)
    if twice := sorted(name for name, count in names.items() if count > 1):
        raise ValueError(f"the package has a file twice: {twice[0]}")
    entries: list[AppRecord] = []
    lines = [
        f'<?xml version="1.0" encoding="UTF-8" standalone="no"?>\r\n<BlockMap xmlns="{_MAP}" HashMethod="{_HASHES}">'
    ]
    with ThreadPoolExecutor(max_workers=os.cpu_count() or 1) as pool:
        for member in members:
            # packages in a bundle are looked at in place
            stored = bundle and member.name != BUNDLE_MANIFEST
            entry, blocks = _member(target, pool, member, stored=stored)
            entries.append(entry)
            name = quoteattr(member.name.replace("/", "\\"))
            head = f'<File Name={name} Size="{entry.size}" LfhSize="{entry.local}"'
            if not stored:
                lines.append(f"{head}>{''.join(blocks)}</File>" if blocks else f"{head}/>")
    lines.append("</BlockMap>")
    for name, text in ((BLOCK_MAP, "".join(lines)), (TYPES, types_of([one.name for one in members], signed=False))):
        entries.append(put_plain(target, name, text.encode()))
    target.write(directory(entries, target.tell()))


def write_bundle(
    target: BinaryIO, packages: Sequence[AppMember], manifest: Callable[[Mapping[str, int]], bytes]
) -> None:
    """Writes a bundle of packages, each stored as it is; ``manifest`` gives the bundle's, told where each package
    begins in the archive. ``target`` is empty and can be sought in. Raises ValueError where a name is there twice.
    """
    places, at = {}, 0
    for member in packages:
        size = len(member.content) if isinstance(member.content, bytes) else member.content.stat().st_size
        at += _head_size(part_name(member.name), size)
        places[member.name] = at
        at += size
    write(target, [*packages, AppMember(BUNDLE_MANIFEST, manifest(places))], bundle=True)


def _head_size(name: str, size: int) -> int:
    """Bytes of a file's own head; one that may need 64 bits for its sizes has them there."""
    return 30 + len(name) + (20 if size >= LARGE - (size >> 10) - 64 else 0)


def _member(
    target: BinaryIO, pool: ThreadPoolExecutor, member: AppMember, *, stored: bool
) -> tuple[AppRecord, list[str]]:
    """Writes a file; its entry, and the lines of its blocks."""
    content = member.content
    size = len(content) if isinstance(content, bytes) else content.stat().st_size
    name = part_name(member.name).encode("ascii")
    store = stored or not size or Path(member.name).suffix.lower() in _PACKED
    offset = target.tell()
    local = _head_size(part_name(member.name), size)
    target.write(bytes(local))
    crc = packed = read = 0
    blocks: list[str] = []
    with io.BytesIO(content) if isinstance(content, bytes) else content.open("rb") as source:
        for digest, piece, plain in _blocks(pool, source, store=store):
            crc = zlib.crc32(plain, crc)
            read += len(plain)
            target.write(piece)
            packed += len(piece)
            length = "" if store else f' Size="{len(piece)}"'
            blocks.append(f'<Block Hash="{base64.b64encode(digest).decode()}"{length}/>')
    if read != size:
        raise ValueError(f"{member.name} has {read} bytes, and had {size}")
    if not store:
        target.write(_END)
        packed += len(_END)
    entry = AppRecord(name, 0 if store else 8, crc, packed, size, offset, local)
    _head(target, entry)
    return entry, blocks


def _head(target: BinaryIO, entry: AppRecord) -> None:
    """Writes a file's own head, now that it is known."""
    end = target.tell()
    wide = entry.local > 30 + len(entry.name)
    extra = struct.pack("<HHQQ", 1, 16, entry.size, entry.packed) if wide else b""
    sizes = (LARGE, LARGE) if wide else (entry.packed, entry.size)
    target.seek(entry.offset)
    target.write(
        struct.pack(
            "<4s5HIIIHH", b"PK\x03\x04", 45 if wide else 20, 0, entry.method, 0, _DATE, entry.crc, *sizes,
            len(entry.name), len(extra),
        )
    )  # fmt: skip
    target.write(entry.name + extra)
    target.seek(end)


def _blocks(pool: ThreadPoolExecutor, source: BinaryIO, *, store: bool) -> Iterator[tuple[bytes, bytes, bytes]]:
    """The digest of each block, how it is written, and the block; several are packed at once."""
    waiting: deque[Future[tuple[bytes, bytes, bytes]]] = deque()
    while block := source.read(BLOCK):
        waiting.append(pool.submit(_packed, block, store=store))
        if len(waiting) > 64:
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()


def _packed(block: bytes, *, store: bool) -> tuple[bytes, bytes, bytes]:
    digest = hashlib.sha256(block).digest()
    if store:
        return digest, block, block
    packer = zlib.compressobj(LEVEL, zlib.DEFLATED, -15)
    return digest, packer.compress(block) + packer.flush(zlib.Z_FULL_FLUSH), block


def put_plain(target: BinaryIO, name: str, data: bytes) -> AppRecord:
    """Writes a file of the package's own, which the block map does not have."""
    packer = zlib.compressobj(LEVEL, zlib.DEFLATED, -15)
    packed = packer.compress(data) + packer.flush()
    raw = part_name(name).encode() if name != TYPES else name.encode()
    entry = AppRecord(raw, 8, zlib.crc32(data), len(packed), len(data), target.tell(), 30 + len(raw))
    target.write(bytes(entry.local))
    target.write(packed)
    _head(target, entry)
    return entry


def types_of(names: Sequence[str], *, signed: bool) -> str:
    """The list of types: by ending, and by name for the package's own."""
    endings = sorted({ending for name in names if (ending := Path(name).suffix.lower())} | {".xml"})
    lines = [
        f"<Default Extension={quoteattr(quote(ending[1:]))} "
        f'ContentType="{_KINDS.get(ending, "application/octet-stream")}"/>'
        for ending in endings
    ]
    own = [name for name in (MANIFEST, BUNDLE_MANIFEST) if name in names]
    for name in (*own, BLOCK_MAP, *([SIGNATURE] if signed else [])):
        lines.append(f'<Override PartName="/{name}" ContentType="{_OWN_KINDS[name]}"/>')
    lines += [
        f'<Override PartName={quoteattr("/" + part_name(name))} ContentType="application/octet-stream"/>'
        for name in names
        if not Path(name).suffix
    ]
    return f'<?xml version="1.0" encoding="UTF-8"?>\r\n<Types xmlns="{_PARTS}">{"".join(lines)}</Types>'


def directory(entries: Sequence[AppRecord], offset: int) -> bytes:
    """The archive's directory, and its end."""
    listed = b"".join(entry.central() for entry in entries)
    count, size = len(entries), len(listed)
    end = b""
    if count >= 0xFFFF or offset >= LARGE or size >= LARGE:
        end = struct.pack("<4sQHHIIQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, size, offset)
        end += struct.pack("<4sIQI", b"PK\x06\x07", 0, offset + size, 1)
    few = min(count, 0xFFFF)
    end += struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, few, few, min(size, LARGE), min(offset, LARGE), 0)
    return listed + end
