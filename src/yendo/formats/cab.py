"""Cabinets. The list of files is read from the header, by us, without the data behind it; unpacking
is libarchive's (MSZIP, LZX) or, where that library is missing, cabarchive's (MSZIP); writing is
cabarchive's. Source for the header: [MS-CAB] 2.1 (CFHEADER), 2.2 (CFFOLDER), 2.3 (CFFILE).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Any, BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import cabinet_dll, libarchive

MAX_TOTAL = 2 << 30
SMALL = 32 << 20  # bytes that are unpacked in memory
MAX_WHOLE = 256 << 20  # bytes of a cabinet that is unpacked whole
CONTINUED = 0xFFFD  # from this number of a folder on, a member begins or ends in another cabinet ([MS-CAB] 2.3)
COMPRESSION = {0: "none", 1: "mszip", 2: "quantum", 3: "lzx"}


class CabFile(msgspec.Struct, frozen=True):
    """One member: its stored name, its size unpacked in bytes, the number of its folder."""

    name: str
    size: int
    folder: int


class CabIndex(msgspec.Struct, frozen=True):
    """What a cabinet says it holds. ``compression`` has one word a folder."""

    files: tuple[CabFile, ...]
    compression: tuple[str, ...]
    size: int
    has_previous: bool
    has_next: bool


def unsafe(name: str) -> str | None:
    """Why a member's name must not become a path, or None when it is harmless."""
    parts = name.replace("\\", "/").split("/")
    if name.startswith(("/", "\\")) or ":" in name:
        return "an absolute path, a drive or a stream"
    if ".." in parts:
        return "it climbs out of its folder"
    if any(ord(character) < 32 for character in name):
        return "a control character"
    return None


def _text(file: BinaryIO) -> bytes:
    out = bytearray()
    while (byte := file.read(1)) != b"\0":
        if not byte or len(out) > 255:
            raise Unreadable("a name in the cabinet has no end")
        out += byte
    return bytes(out)


def index(file: BinaryIO) -> CabIndex:
    """Reads the header and the list of files. Raises Unreadable with the place that is wrong."""
    try:
        start = file.read(36)
        if start[:4] != b"MSCF":
            raise Unreadable("not a cabinet (no MSCF at its start)")
        size, _, files_at, _, _, _, folders, count, flags, _, _ = struct.unpack("<IIIIBBHHHHH", start[8:36])
        per_folder = 0
        if flags & 4:
            header_reserve, per_folder, _ = struct.unpack("<HBB", file.read(4))
            file.read(header_reserve)
        for bit in (1, 2):
            if flags & bit:
                _text(file)
                _text(file)
        compression = []
        for number in range(folders):
            record = file.read(8 + per_folder)
            kind = struct.unpack("<IHH", record[:8])[2] & 0x0F
            if kind not in COMPRESSION:
                raise Unreadable(f"folder {number} of the cabinet uses an unknown compression, {kind}")
            compression.append(COMPRESSION[kind])
        file.seek(files_at)
        members = []
        for number in range(count):
            length, _, folder, _, _, attributes = struct.unpack("<IIHHHH", file.read(16))
            raw = _text(file)
            name = raw.decode("utf-8" if attributes & 0x80 else "cp1252", "replace")
            if folder >= folders and folder < CONTINUED:
                raise Unreadable(f"file {number} of the cabinet lies in folder {folder} of {folders}")
            members.append(CabFile(name, length, folder))
    except struct.error as error:
        raise Unreadable("the cabinet is cut short in its header") from error
    return CabIndex(tuple(members), tuple(compression), size, bool(flags & 1), bool(flags & 2))


def extract(data: BinaryIO, wanted: set[str] | None = None, *, limit: int = MAX_TOTAL) -> Iterator[tuple[str, bytes]]:
    """Unpacks members by name, one at a time. ``wanted`` None means all; ``limit`` is in bytes for the whole cabinet.

    Raises Unreadable on damaged data, a hostile name, or more bytes than the header promised;
    NotCovered for one of a set, and where nothing on this system knows its compression.
    """
    listing, promised = _promised(data, wanted, limit)
    empty = [name for name, size in promised.items() if not size and (wanted is None or name in wanted)]
    yield from ((name, b"") for name in empty)
    wanted = (promised.keys() if wanted is None else wanted & promised.keys()) - set(empty)
    if not wanted:
        return
    left = set(wanted)
    trouble: Unreadable | None = None
    for unpack in _unpackers(listing):
        data.seek(0)
        try:
            for name, content in unpack(data, set(left), promised):
                if len(content) != promised.get(name, -1):
                    stated = promised.get(name)
                    raise Unreadable(f"{name}: {len(content)} bytes where the cabinet's header says {stated}")
                left.discard(name)
                yield name, content
        except Unreadable as error:
            trouble = trouble or error
        if not left:
            return
    raise trouble or Unreadable(f"{min(left)} is listed in the cabinet and cannot be unpacked from it")


def _promised(data: BinaryIO, wanted: set[str] | None, limit: int) -> tuple[CabIndex, dict[str, int]]:
    """What a cabinet lists, and the sizes that it states, where the members that are wanted may be unpacked."""
    data.seek(0)
    listing = index(data)
    for member in listing.files:
        if member.folder >= CONTINUED and (wanted is None or member.name in wanted):
            raise NotCovered(f"{member.name} lies in several cabinets that go on in each other; that is not unpacked")
    promised = {member.name: member.size for member in listing.files}
    for name in promised if wanted is None else wanted & promised.keys():
        if reason := unsafe(name):
            raise Unreadable(f"the cabinet names a file {name!r}: {reason}")
    if sum(promised.values()) > limit:
        raise Unreadable(f"the cabinet promises {sum(promised.values())} bytes unpacked")
    return listing, promised


def pieces(data: BinaryIO, wanted: set[str], *, limit: int = MAX_TOTAL) -> Iterator[tuple[str, Iterator[bytes]]]:
    """The same by the piece, each member's to be taken before the next one: none is held in memory.

    Small cabinets, and all where libarchive is missing, are unpacked member by member as :func:`extract` does.
    """
    listing, promised = _promised(data, wanted, limit)
    library = libarchive.load()
    if library is None or sum(promised.get(name, 0) for name in wanted) <= SMALL:
        yield from ((name, iter((content,))) for name, content in extract(data, wanted, limit=limit))
        return
    left = wanted & promised.keys()
    data.seek(0)
    try:
        for name, entry in _entries(data, left):
            left.discard(name)
            yield name, _blocks(entry, name, promised[name])
    except Unreadable:
        if listing.size > MAX_WHOLE:
            raise
    if left:  # libarchive was seen to refuse sound cabinets
        yield from ((name, iter((content,))) for name, content in extract(data, left, limit=limit))


def _entries(data: BinaryIO, wanted: set[str]) -> Iterator[tuple[str, Any]]:
    """libarchive's entries of the members that are wanted. Raises Unreadable."""
    library = libarchive.load()
    by_slash = {name.replace("\\", "/"): name for name in wanted}  # libarchive gives every name with slashes
    try:
        with library.stream_reader(data, format_name="cab") as archive:
            for entry in archive:
                shown = entry.pathname  # where a name is no text, the library gives bytes, or nothing
                name = by_slash.get(shown.replace("\\", "/")) if isinstance(shown, str) else None
                if name is not None:
                    yield name, entry
    except library.exception.ArchiveError as error:
        raise libarchive.refused("the cabinet's data", error) from error


def _blocks(entry: Any, name: str, promised: int) -> Iterator[bytes]:
    """A member's pieces, as many bytes as the cabinet states. Raises Unreadable."""
    size = 0
    try:
        for block in entry.get_blocks():
            size += len(block)
            if size > promised:
                raise Unreadable(f"{name}: unpacks to more than the {promised} bytes stated")
            yield block
    except libarchive.load().exception.ArchiveError as error:
        raise libarchive.refused("the cabinet's data", error) from error
    if size != promised:
        raise Unreadable(f"{name}: {size} bytes where the cabinet's header says {promised}")


_Unpacker = Callable[[BinaryIO, set[str], Mapping[str, int]], Iterator[tuple[str, bytes]]]


def _unpackers(listing: CabIndex) -> list[_Unpacker]:
    """libarchive, which unpacks by the block; on Windows its own library. Where that refuses a cabinet, or neither is
    here, cabarchive, which unpacks whole and knows no LZX: libarchive was seen to refuse sound cabinets.
    """
    found: list[_Unpacker] = []
    if libarchive.load():
        found.append(_with_libarchive)
    elif cabinet_dll.is_here():
        found.append(cabinet_dll.unpack)
    if set(listing.compression) <= {"none", "mszip"} and listing.size <= MAX_WHOLE:
        found.append(_with_cabarchive)
    if not found:
        raise NotCovered(f"this cabinet is packed with LZX, which needs {libarchive.HOW_TO_GET}")
    return found


def _with_libarchive(data: BinaryIO, wanted: set[str], promised: Mapping[str, int]) -> Iterator[tuple[str, bytes]]:
    for name, entry in _entries(data, wanted):
        yield name, b"".join(_blocks(entry, name, promised[name]))


def _with_cabarchive(data: BinaryIO, wanted: set[str], promised: Mapping[str, int]) -> Iterator[tuple[str, bytes]]:
    import cabarchive

    try:
        archive = cabarchive.CabArchive(data.read())
    except Exception as error:  # its own errors, and those of zlib and struct that it lets through
        raise Unreadable(f"the cabinet's data is damaged: {error}") from error
    for name, member in archive.items():
        if name in wanted:
            yield name, member.buf or b""


def build(files: Iterable[tuple[str, bytes]], *, compress: bool = True) -> bytes:
    """A cabinet with these members, in this order; the same files give the same bytes."""
    import cabarchive

    archive = cabarchive.CabArchive()
    for name, content in files:
        member = cabarchive.CabFile(content)
        member.date, member.time = datetime(2000, 1, 1).date(), datetime(2000, 1, 1).time()
        archive[name] = member
    return bytes(archive.save(compress, sort=False))
