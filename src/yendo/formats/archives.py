"""Archives inside other files: which kind, what is in them, and their contents.

Reading is zipfile's and libarchive's; where libarchive is not here (Windows), 7z and rar are 7-Zip's.
"""

from __future__ import annotations

import struct
import zipfile
from collections.abc import Iterator
from typing import Any, BinaryIO, Literal

import msgspec

from yendo.errors import Unreadable
from yendo.formats import cab, libarchive, seven_zip
from yendo.formats.slices import at, size_of

ArchiveKind = Literal["zip", "7z", "rar", "cabinet"]
MAGICS: tuple[tuple[bytes, ArchiveKind], ...] = (
    (b"7z\xbc\xaf\x27\x1c", "7z"),
    (b"Rar!\x1a\x07", "rar"),
    (b"MSCF\0\0\0\0", "cabinet"),
    (b"PK\x03\x04", "zip"),
)
MAX_MEMBERS = 100_000
MAX_DIRECTORY = 64 << 20  # bytes of a list of files; the library reads it whole before it says how many there are


class ArchiveMember(msgspec.Struct, frozen=True):
    """One file in an archive; sizes in bytes, ``packed`` None where the archive does not say it for one file."""

    name: str
    size: int
    packed: int | None = None
    is_link: bool = False


def kind_of(head: bytes) -> ArchiveKind | None:
    return next((kind for magic, kind in MAGICS if head.startswith(magic)), None)


def members(file: BinaryIO, kind: ArchiveKind) -> list[ArchiveMember]:
    """What an archive says it holds. Raises Unreadable, NotCovered."""
    if kind == "cabinet":
        file.seek(0)
        return [ArchiveMember(entry.name, entry.size) for entry in cab.index(file).files]
    if kind == "zip":
        with _zip(file) as archive:
            listed = [info for info in archive.infolist() if info.filename]
            if len(listed) > MAX_MEMBERS:
                raise Unreadable(f"the archive states {len(listed)} files")
            return [
                ArchiveMember(info.filename, info.file_size, info.compress_size, info.external_attr >> 28 == 10)
                for info in listed
                if not info.is_dir()
            ]
    if libarchive.load() is None:
        return [
            ArchiveMember(one.name, one.size, None, one.is_link) for one in seven_zip.members(file, kind, MAX_MEMBERS)
        ]
    return list(_listed(file, kind))


def _stated(file: BinaryIO) -> tuple[int, int]:
    """How many files a zip archive says it has, and the bytes of its list.

    Source: its end record, and the one for large archives.
    """
    size = size_of(file)
    begin = max(0, size - 65557)
    tail = at(file, begin, 65557)
    end = tail.rfind(b"PK\5\6")
    if end < 0 or len(tail) < end + 22:
        return 0, 0
    count, directory = struct.unpack_from("<HI", tail, end + 10)
    locator = tail.rfind(b"PK\6\7", 0, end)
    if locator >= 0 and len(tail) >= locator + 20:
        record = at(file, min(struct.unpack_from("<Q", tail, locator + 8)[0], size), 56)
        if record[:4] == b"PK\6\6" and len(record) == 56:
            count, directory = struct.unpack_from("<QQ", record, 32)
    return count, directory


def _zip(file: BinaryIO) -> zipfile.ZipFile:
    count, directory = _stated(file)
    if count > MAX_MEMBERS or directory > MAX_DIRECTORY:
        raise Unreadable(
            f"the archive states {count} files in a list of {directory} bytes; more than {MAX_MEMBERS} are not listed"
        )
    try:
        return zipfile.ZipFile(file)
    except (zipfile.BadZipFile, ValueError, OSError, NotImplementedError, OverflowError) as error:
        raise Unreadable(f"the zip archive cannot be read: {error}") from error


def _listed(file: BinaryIO, kind: ArchiveKind) -> Iterator[ArchiveMember]:
    for entry in _entries(file, kind):
        if not entry.isdir:
            yield ArchiveMember(_name(entry), entry.size or 0, None, entry.issym or entry.islnk)


def _entries(file: BinaryIO, kind: ArchiveKind) -> Iterator[Any]:
    library = libarchive.load()
    file.seek(0)
    count = 0
    try:
        with library.stream_reader(file, format_name={"7z": "7zip"}.get(kind, "all")) as archive:
            for entry in archive:
                count += 1
                if count > MAX_MEMBERS:
                    raise Unreadable(f"the archive holds more than {MAX_MEMBERS} files")
                yield entry
    except library.exception.ArchiveError as error:
        raise libarchive.refused(f"the {kind} archive", error) from error


def contents(file: BinaryIO, kind: ArchiveKind, wanted: set[str], limit: int) -> Iterator[tuple[str, Iterator[bytes]]]:
    """The named files, each as its pieces, in the archive's order.

    Raises Unreadable where they unpack to more than ``limit`` bytes.
    """
    if kind == "cabinet":
        yield from cab.pieces(file, wanted, limit=limit)
        return
    left = limit

    def counted(pieces: Iterator[bytes], name: str) -> Iterator[bytes]:
        nonlocal left
        for piece in pieces:
            left -= len(piece)
            if left < 0:
                raise Unreadable(f"{name} and what came before unpack to more than {limit} bytes")
            yield piece

    if kind == "zip":
        with _zip(file) as archive:
            for info in archive.infolist():
                if info.filename and info.filename in wanted and not info.is_dir():
                    yield info.filename, counted(_member_pieces(archive, info), info.filename)
        return
    if libarchive.load() is None:
        for name, pieces in seven_zip.contents(file, kind, wanted, MAX_MEMBERS):
            yield name, counted(pieces, name)
        return
    for entry in _entries(file, kind):
        if (name := _name(entry)) in wanted and not entry.isdir:
            yield name, counted(_entry_pieces(entry, 0 if entry.issym or entry.islnk else entry.size), name)


def _name(entry: Any) -> str:
    """A name as text: where it is none, the library gives bytes, or nothing."""
    found = entry.pathname
    return found.decode("utf-8", "replace") if isinstance(found, bytes) else found or ""


def _entry_pieces(entry: Any, stated: int | None) -> Iterator[bytes]:
    """The contents of a member; a volume of a set ends in its middle without the library saying so."""
    library = libarchive.load()
    size = 0
    try:
        for block in entry.get_blocks(1 << 18):
            size += len(block)
            yield block
        if stated and size < stated:
            raise Unreadable(f"{_name(entry)} ends after {size} of {stated} bytes; the archive may be one of several")
    except library.exception.ArchiveError as error:
        raise libarchive.refused(_name(entry), error) from error


def _member_pieces(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> Iterator[bytes]:
    try:
        with archive.open(info) as member:
            while piece := member.read(1 << 18):
                yield piece
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError, ValueError) as error:
        raise Unreadable(f"{info.filename} cannot be unpacked: {error}") from error
    except Exception as error:  # zlib's, lzma's and bz2's own
        raise Unreadable(f"{info.filename} is damaged: {error}") from error


CONFIGURED = b";!@Install@!UTF-8!"
CONFIGURED_END = b";!@InstallEnd@!"
REACH = 65536


class SelfExtractor(msgspec.Struct, frozen=True):
    """An archive behind or inside a program: where it lies, and the configuration in front of it, as its own lines."""

    kind: ArchiveKind
    offset: int
    size: int
    configuration: tuple[tuple[str, str], ...] = ()
    configuration_offset: int = 0
    whole_file: bool = False
    """A zip archive counts its offsets from the start of the program, or of its own; zipfile finds out."""


def find(file: BinaryIO, begin: int, end: int) -> SelfExtractor | None:
    """An archive that begins right behind the image, or behind a configuration there; a zip also by its end."""
    head = at(file, begin, min(REACH, end - begin))
    place = head.find(CONFIGURED[:-6], 0, 1024)
    configuration: tuple[tuple[str, str], ...] = ()
    start = 0
    if place >= 0:
        stop = head.find(CONFIGURED_END[:-1], place)
        if stop < 0:
            return None
        lines = head[head.find(b"!", place + 12) + 1 : stop].decode("utf-8", "replace").splitlines()
        pairs = (line.partition("=") for line in lines if "=" in line and not line.startswith(";"))
        configuration = tuple((key.strip(), value.strip().strip('"')) for key, _, value in pairs)
        start = stop
    for magic, kind in MAGICS:
        found = head.find(magic, start, start + 1024)
        if found >= 0:
            return SelfExtractor(
                kind, begin + found, end - begin - found, configuration, begin + place if place >= 0 else 0
            )
    tail = at(file, max(begin, end - 66000), min(66000, end - begin))
    if tail.rfind(b"PK\x05\x06") >= 0:
        from yendo.formats.slices import part_of

        try:
            if members(part_of(file, 0, end), "zip"):
                return SelfExtractor("zip", begin, end - begin, whole_file=True)
        except Unreadable:
            return None
    return None
