"""Windows programs: headers, sections, resources, and what a program says of itself.

Only what is asked for is read, and every count that a file states is bounded, since a program may
be hostile. Source: "PE Format" of the Windows documentation; VS_VERSIONINFO and the icon group
structures of the same.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats.slices import at, size_of

_MACHINES = {0x14C: "x86", 0x8664: "x64", 0xAA64: "arm64", 0x1C4: "arm", 0x1C0: "arm", 0x200: "ia64"}
MAX_SECTIONS, MAX_RESOURCES, MAX_TEXT = 96, 4096, 1 << 20
RT_ICON, RT_VERSION, RT_GROUP_ICON, RT_MANIFEST, RT_RCDATA = 3, 16, 14, 24, 10


class Program(msgspec.Struct, frozen=True):
    """``version`` is VS_FIXEDFILEINFO's file version with four fields, or None."""

    architecture: str
    version: str | None


class Section(msgspec.Struct, frozen=True):
    """``address`` and ``span`` as loaded; ``offset`` and ``size`` in the file, in bytes."""

    name: str
    address: int
    span: int
    offset: int
    size: int


class Resource(msgspec.Struct, frozen=True):
    """One resource: its type and name (number or text), language, offset in the file and size in bytes."""

    type: int | str
    name: int | str
    language: int
    offset: int
    size: int


class Image:
    """A program's headers. Raises Unreadable with the offset that is wrong."""

    def __init__(self, file: BinaryIO, name: str = "the file") -> None:
        self.file, self.name = file, name
        head = at(file, 0, 4096)
        if head[:2] != b"MZ" or len(head) < 64:
            raise Unreadable(f"{name}: not a Windows program (no MZ header)")
        start = struct.unpack_from("<I", head, 60)[0]
        if start + 264 > len(head):
            head = at(file, start, 4096)
            base, start = start, 0
        else:
            base = 0
        if head[start : start + 4] != b"PE\0\0":
            raise Unreadable(f"{name}: not a Windows program (no PE header at offset {base + start})")
        try:
            machine, count, _, _, _, optional, self.characteristics = struct.unpack_from("<HHIIIHH", head, start + 4)
            magic = struct.unpack_from("<H", head, start + 24)[0]
            if magic not in (0x10B, 0x20B):
                raise Unreadable(f"{name}: the header at offset {base + start + 24} is of an unknown kind, {magic:#x}")
            self.bits = 64 if magic == 0x20B else 32
            self.entry = struct.unpack_from("<I", head, start + 40)[0]
            self.subsystem = struct.unpack_from("<H", head, start + 92)[0]
            directories_at = start + 24 + (112 if self.bits == 64 else 96)
            given = struct.unpack_from("<I", head, directories_at - 4)[0]
            self.directories = [
                struct.unpack_from("<II", head, directories_at + 8 * number) for number in range(min(given, 16))
            ]
            table = start + 24 + optional
            if table + 40 * min(count, MAX_SECTIONS) > len(head):
                head, table = at(file, base + table, 40 * min(count, MAX_SECTIONS)), 0
            self.sections = [self._section(head, table + 40 * number) for number in range(min(count, MAX_SECTIONS))]
        except struct.error as error:
            raise Unreadable(f"{name}: the program's headers are cut short") from error
        self.header_offset = base + start
        self.architecture = _MACHINES.get(machine, "unknown")
        self.is_library = bool(self.characteristics & 0x2000)

    @staticmethod
    def _section(head: bytes, offset: int) -> Section:
        raw, span, address, size, where = struct.unpack_from("<8sIIII", head, offset)
        return Section(raw.rstrip(b"\0").decode("latin-1"), address, span, where if size else 0, size)

    @cached_property
    def size(self) -> int:
        """The whole file's, in bytes."""
        return size_of(self.file)

    @property
    def end(self) -> int:
        """Where the image ends and what is appended to it begins, at most the file's size."""
        return min(max((section.offset + section.size for section in self.sections), default=0), self.size)

    @property
    def certificates(self) -> tuple[int, int]:
        """Offset and size of the certificate table; (0, 0) where there is none within the file."""
        offset, size = self.directories[4] if len(self.directories) > 4 else (0, 0)
        return (offset, size) if size and offset + size <= self.size else (0, 0)

    @property
    def appended(self) -> tuple[int, int]:
        """Start and end of what lies behind the image, without the certificates at the end."""
        begin, end = self.end, self.size
        offset, size = self.certificates
        if size and offset >= begin and offset + size >= end - 8:
            end = offset
        return begin, end

    def place(self, address: int) -> int | None:
        """A loaded address (relative to the image) as an offset in the file."""
        for section in self.sections:
            if section.address <= address < section.address + section.size:
                return section.offset + address - section.address
        return None

    def section(self, name: str) -> Section | None:
        return next((section for section in self.sections if section.name == name), None)

    @cached_property
    def resources(self) -> tuple[Resource, ...]:
        """All resources, as far as they can be read; loops and counts past reason are left out."""
        return tuple(self._walk())

    def _walk(self) -> Iterator[Resource]:
        address, size = self.directories[2] if len(self.directories) > 2 else (0, 0)
        base = self.place(address) if size else None
        if base is None:
            return
        # The tables and names come first and are small beside the data; what lies beyond this part is read singly.
        tree = at(self.file, base, min(size, 1 << 18))
        left = MAX_RESOURCES
        seen: set[int] = set()

        def name_of(number: int) -> int | str:
            if not number & 0x80000000:
                return number
            offset = number & 0x7FFFFFFF
            length = int.from_bytes(tree[offset : offset + 2], "little")
            return tree[offset + 2 : offset + 2 + 2 * min(length, 256)].decode("utf-16-le", "replace")

        def entries(offset: int) -> Iterator[tuple[int | str, int]]:
            nonlocal left
            if offset in seen or offset + 16 > len(tree):
                return
            seen.add(offset)
            named, numbered = struct.unpack_from("<HH", tree, offset + 12)
            for index in range(named + numbered):
                if left <= 0 or offset + 24 + 8 * index > len(tree):
                    return
                left -= 1
                number, where = struct.unpack_from("<II", tree, offset + 16 + 8 * index)
                yield name_of(number), where

        for kind, types in entries(0):
            if not types & 0x80000000:
                continue
            for name, languages in entries(types & 0x7FFFFFFF):
                if not languages & 0x80000000:
                    continue
                for language, leaf in entries(languages & 0x7FFFFFFF):
                    if leaf & 0x80000000 or leaf + 8 > len(tree):
                        continue
                    where, length = struct.unpack_from("<II", tree, leaf)
                    offset = self.place(where)
                    if offset is not None and offset + length <= self.size:
                        yield Resource(kind, name, language if isinstance(language, int) else 0, offset, length)

    def resource(self, kind: int | str, name: int | str | None = None) -> Resource | None:
        """The first resource of a type (and name)."""
        return next(
            (entry for entry in self.resources if entry.type == kind and (name is None or entry.name == name)), None
        )

    def read(self, entry: Resource, limit: int = MAX_TEXT) -> bytes:
        return at(self.file, entry.offset, min(entry.size, limit))

    @cached_property
    def words(self) -> dict[str, str]:
        """The texts of the version resource: ``{"ProductName": ...}``; of several languages the first."""
        entry = self.resource(RT_VERSION)
        return version_words(self.read(entry, 1 << 16)) if entry else {}

    @cached_property
    def version(self) -> str | None:
        """The fixed file version, with four fields."""
        entry = self.resource(RT_VERSION)
        data = self.read(entry, 1 << 16) if entry else b""
        found = data.find(b"\xbd\x04\xef\xfe")
        if found < 0 or found + 16 > len(data):
            return None
        high, low = struct.unpack_from("<II", data, found + 8)
        return f"{high >> 16}.{high & 0xFFFF}.{low >> 16}.{low & 0xFFFF}"

    @cached_property
    def manifest(self) -> str:
        """The application manifest's text, or ''."""
        entry = self.resource(RT_MANIFEST)
        data = self.read(entry) if entry else b""
        codec = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
        return data.decode(codec, "replace")

    def icon(self) -> bytes | None:
        """The largest picture of the first icon group, as the bytes of an ``.ico`` file with that one picture."""
        group = self.resource(RT_GROUP_ICON)
        data = self.read(group, 4096) if group else b""
        if len(data) < 6:
            return None
        count = min(struct.unpack_from("<H", data, 4)[0], (len(data) - 6) // 14)
        rows = [struct.unpack_from("<BBBBHHIH", data, 6 + 14 * number) for number in range(count)]
        for row in sorted(rows, key=lambda row: (row[0] or 256, row[5]), reverse=True):
            picture = self.resource(RT_ICON, row[7])
            if picture and picture.size <= MAX_TEXT:
                body = self.read(picture)
                return struct.pack("<HHH", 0, 1, 1) + struct.pack("<BBBBHHII", *row[:6], len(body), 22) + body
        return None

    def imports(self) -> tuple[str, ...]:
        """The names of the libraries that the program is linked to, lower case."""
        address, size = self.directories[1] if len(self.directories) > 1 else (0, 0)
        base = self.place(address) if size else None
        found: list[str] = []
        for number in range(256):
            record = at(self.file, (base or 0) + 20 * number, 20) if base is not None else b""
            if len(record) < 20 or not any(record):
                break
            where = self.place(struct.unpack_from("<I", record, 12)[0])
            if where is not None:
                found.append(at(self.file, where, 256).partition(b"\0")[0].decode("latin-1").lower())
        return tuple(found)


def version_words(data: bytes) -> dict[str, str]:
    """The string pairs of a VS_VERSIONINFO block, read by its nesting: length, value length, type, key,
    padding, value.
    """
    found: dict[str, str] = {}

    def key_at(offset: int, end: int) -> tuple[str, int]:
        stop = offset
        while stop + 1 < end and data[stop : stop + 2] != b"\0\0":
            stop += 2
        return data[offset:stop].decode("utf-16-le", "replace"), (stop + 2 + 3) & ~3

    def blocks(offset: int, end: int, depth: int) -> None:
        while offset + 6 < end and len(found) < 256:
            length, value, _ = struct.unpack_from("<HHH", data, offset)
            if length < 6 or offset + length > end:
                return
            key, body = key_at(offset + 6, offset + length)
            if depth == 3:
                text = data[body : min(body + 2 * value, offset + length)].decode("utf-16-le", "replace")
                found.setdefault(key, text.partition("\0")[0].strip())
            else:
                blocks((body + (value if depth == 0 else 0) + 3) & ~3, offset + length, depth + 1)
            offset = (offset + length + 3) & ~3

    blocks(0, len(data), 0)
    return found


def read(path: Path) -> Program:
    """Reads headers and the version resource only. Raises Unreadable when it is no such program."""
    try:
        with path.open("rb") as file:
            image = Image(file, path.name)
            return Program(image.architecture, image.version)
    except OSError as error:
        raise Unreadable(f"{path.name}: {error.strerror}") from error
