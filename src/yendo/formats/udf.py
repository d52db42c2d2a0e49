"""Volumes of the Universal Disk Format, as installation media have them: names, sizes, and files where they lie.

Source: ECMA-167 (third edition) and the UDF specification up to 2.01: an anchor in sector 256 leads to the sequence of
volume descriptors (a partition 5, a logical volume 6), that to the set of files (256) and its root; a file entry (261,
extended 266) has its length and where its bytes are, a directory's bytes are identifiers (257). Names are in 8 or 16
bits a letter. Partitions with a map of their own (metadata, virtual, sparable) are told, and not read.
"""

from __future__ import annotations

import bisect
import struct
from collections.abc import Iterator
from typing import BinaryIO, cast

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats.slices import ReadOnly

SECTOR = 2048
ANCHOR = 256  # sectors
MOST_ENTRIES, MOST_DEPTH, MOST_DIRECTORY = 500_000, 64, 64 << 20
_PARTITION, _LOGICAL, _END, _FILE_SET, _NAME, _FILE, _EXTENDED = 5, 6, 8, 256, 257, 261, 266
_DIRECTORY, _DELETED, _PARENT = 2, 4, 8  # bits of an identifier
_LENGTH = 0x3FFFFFFF


class UdfFile(msgspec.Struct, frozen=True):
    """A file: its path with ``/``, its size in bytes, and the number of the block with its entry."""

    path: str
    size: int
    entry: int


class _Extents(ReadOnly):
    """Bytes in several places; one without a place reads as zeros."""

    def __init__(self, file: BinaryIO, places: list[tuple[int | None, int]], size: int) -> None:
        super().__init__(size)
        self._file, self._places = file, places
        self._starts = [0]
        for _, length in places:
            self._starts.append(self._starts[-1] + length)

    def read(self, size: int | None = -1) -> bytes:
        left, found = self.wanted(size), []
        while left:
            number = bisect.bisect_right(self._starts, self._at) - 1
            if number >= len(self._places):
                break  # the file says that it is longer than its places are
            place, length = self._places[number]
            inside = self._at - self._starts[number]
            count = min(left, length - inside)
            if place is None:
                data = b"\0" * count
            else:
                self._file.seek(place + inside)
                data = self._file.read(count)
            if not data:
                break
            found.append(data)
            self._at += len(data)
            left -= len(data)
        return b"".join(found)


class UdfVolume:
    """A volume in a file that is open. Raises Unreadable where it is none, NotCovered where it is of a later kind."""

    def __init__(self, file: BinaryIO) -> None:
        self.file = file
        self.block = SECTOR
        self._partitions: dict[int, int] = {}  # number -> first sector
        self._maps: list[int] = []  # reference -> number
        self.name = ""
        anchor = self._sector(ANCHOR)
        if _tag(anchor) != 2:
            raise Unreadable("there is no volume of this format: no anchor in sector 256")
        length, at = struct.unpack_from("<II", anchor, 16)
        root = self._descriptors(at, min(length // SECTOR, 64))
        self._root = self._set_of_files(root)

    def _sector(self, number: int) -> bytes:
        self.file.seek(number * SECTOR)
        data = self.file.read(SECTOR)
        if len(data) < SECTOR:
            raise Unreadable(f"the volume ends before sector {number}")
        return data

    def _descriptors(self, at: int, count: int) -> tuple[int, int]:
        """The place of the set of files, out of the sequence of descriptors: block and reference of its partition."""
        root: tuple[int, int] | None = None
        for number in range(at, at + count):
            data = self._sector(number)
            kind = _tag(data)
            if kind == _END:
                break
            if kind == _PARTITION:
                self._partitions[struct.unpack_from("<H", data, 22)[0]] = struct.unpack_from("<I", data, 188)[0]
            elif kind == _LOGICAL:
                root = self._logical(data)
        if root is None or not self._partitions:
            raise Unreadable("the volume has no logical volume, or no partition")
        return root

    def _logical(self, data: bytes) -> tuple[int, int]:
        (block,) = struct.unpack_from("<I", data, 212)
        if block != SECTOR:
            raise NotCovered(f"the volume has blocks of {block} bytes; those of {SECTOR} are read")
        self.name = _text(data[84 : 84 + min(data[84 + 127], 127)])
        length, count = struct.unpack_from("<II", data, 264)
        at = 440
        for _ in range(min(count, 16)):
            if at + 6 > min(440 + length, len(data)) or data[at + 1] < 6:
                raise Unreadable("the volume's map of partitions makes no sense")
            if data[at] != 1:
                raise NotCovered("the volume keeps its files behind a map of its own, which is not read")
            self._maps.append(struct.unpack_from("<H", data, at + 4)[0])
            at += data[at + 1]
        block, reference = struct.unpack_from("<IH", data, 252)
        return block, reference

    def _set_of_files(self, place: tuple[int, int]) -> int:
        data = self._block(*place)
        if _tag(data) != _FILE_SET:
            raise Unreadable("the volume's set of files is not where it should be")
        block, reference = struct.unpack_from("<IH", data, 404)
        return self._place(block, reference)

    def _place(self, block: int, reference: int) -> int:
        """A block of a partition as a sector of the file."""
        if reference >= len(self._maps) or self._maps[reference] not in self._partitions:
            raise Unreadable(f"the volume speaks of a partition that it does not have ({reference})")
        return self._partitions[self._maps[reference]] + block

    def _block(self, block: int, reference: int) -> bytes:
        return self._sector(self._place(block, reference))

    # --- files --------------------------------------------------------------------------------------------------

    def files(self) -> Iterator[UdfFile]:
        """Every file, folder by folder. Names that lead elsewhere are left out. Raises Unreadable."""
        waiting, seen, count = [("", self._root, 0)], {self._root}, 0
        while waiting:
            above, entry, depth = waiting.pop()
            if depth > MOST_DEPTH:
                raise Unreadable(f"folders deeper than {MOST_DEPTH}")
            for name, inner, folder in self._names(entry):
                count += 1
                if count > MOST_ENTRIES:
                    raise Unreadable(f"more than {MOST_ENTRIES} names")
                if name in ("", ".", "..") or any(letter in name for letter in '/\\:*?"<>|\0'):
                    continue
                path = f"{above}{name}"
                if not folder:
                    yield UdfFile(path, self._length(inner), inner)
                elif inner not in seen:  # a folder that is in itself is walked once
                    seen.add(inner)
                    waiting.append((f"{path}/", inner, depth + 1))

    def open(self, file: UdfFile) -> BinaryIO:
        """A file's bytes where they lie; read as they are asked for. Raises Unreadable."""
        return self._bytes(file.entry)

    def _names(self, entry: int) -> Iterator[tuple[str, int, bool]]:
        """Name, sector of the entry, whether it is a folder, of what is in a folder."""
        if self._length(entry) > MOST_DIRECTORY:
            raise Unreadable("a folder is longer than any can be")
        data, at = self._bytes(entry).read(), 0
        while at + 38 <= len(data):
            if _tag(data[at : at + 16]) != _NAME:
                raise Unreadable("a folder has something else than names in it")
            bits, length = data[at + 18], data[at + 19]
            block, reference = struct.unpack_from("<IH", data, at + 24)
            (more,) = struct.unpack_from("<H", data, at + 36)
            if not bits & (_DELETED | _PARENT):
                name = _text(data[at + 38 + more : at + 38 + more + length])
                yield name, self._place(block, reference), bool(bits & _DIRECTORY)
            at += (38 + more + length + 3) & ~3

    def _entry(self, sector: int) -> tuple[bytes, int]:
        """A file's entry, and where its list of places begins."""
        data = self._sector(sector)
        kind = _tag(data)
        if kind not in (_FILE, _EXTENDED):
            raise Unreadable(f"there is no file's entry in sector {sector}")
        return data, 168 if kind == _FILE else 208

    def _length(self, sector: int) -> int:
        data, _ = self._entry(sector)
        return int(struct.unpack_from("<Q", data, 56)[0])

    def _bytes(self, sector: int) -> BinaryIO:
        data, at = self._entry(sector)
        size = struct.unpack_from("<Q", data, 56)[0]
        attributes, length = struct.unpack_from("<II", data, at)
        start = at + 8 + attributes
        if start + length > len(data):
            raise Unreadable(f"the file's entry in sector {sector} makes no sense")
        how = struct.unpack_from("<H", data, 34)[0] & 7
        if how == 3:  # the bytes themselves stand in the entry
            return cast(BinaryIO, _Extents(self.file, [(sector * SECTOR + start, length)], min(size, length)))
        if how > 1:
            raise NotCovered("the file's places are of a kind that is not read")
        return cast(BinaryIO, _Extents(self.file, self._places(data[start : start + length], long=how == 1), size))

    def _places(self, data: bytes, *, long: bool) -> list[tuple[int | None, int]]:
        width = 16 if long else 8
        found: list[tuple[int | None, int]] = []
        for at in range(0, len(data) - width + 1, width):
            length, block = struct.unpack_from("<II", data, at)
            kind, count = length >> 30, length & _LENGTH
            if not count:
                break
            if kind == 3:
                raise NotCovered("the file's places go on elsewhere, which is not read")
            reference = struct.unpack_from("<H", data, at + 8)[0] if long else 0
            found.append((None if kind else self._place(block, reference) * SECTOR, count))
        return found


def is_udf(file: BinaryIO) -> bool:
    """Whether the sequence that says what a volume is names this format (NSR02, NSR03)."""
    for number in range(16, 48):
        file.seek(number * SECTOR + 1)
        mark = file.read(5)
        if mark in (b"NSR02", b"NSR03"):
            return True
        if mark not in (b"CD001", b"BEA01", b"BOOT2", b"TEA01"):
            return False
    return False


def _tag(data: bytes) -> int:
    """What a descriptor is; 0 where its head does not add up."""
    if len(data) < 16 or sum(data[:16]) - data[4] & 0xFF != data[4]:
        return 0
    return int(struct.unpack_from("<H", data)[0])


def _text(data: bytes) -> str:
    """A text with its width in front."""
    if not data:
        return ""
    if data[0] == 16:
        return data[1 : 1 + (len(data) - 1) // 2 * 2].decode("utf-16-be", "replace")
    return data[1:].decode("latin-1")
