"""Volumes of the HFS Plus file system, read-only: every file with owner, mode, size and where it lies.

Source: Apple's technical note TN1150. What the file system itself has packed is not read, nor what a journal has not
written yet.
"""

from __future__ import annotations

import itertools
import stat
import struct
from collections.abc import Iterator
from typing import BinaryIO, Literal, cast

import msgspec

from yendo.errors import Unreadable
from yendo.formats.slices import at
from yendo.formats.volume import MAX_ITEMS, Extents, VolumeContent, VolumeItem, is_name

MAX_NODES, MAX_DEPTH = 1 << 20, 64
ROOT, _PRIVATE = 2, "\0\0\0\0HFS+ Private Data"
_EXTENTS_FILE = 3
_PACKED = 0x20  # UF_COMPRESSED


def is_volume(file: BinaryIO, start: int = 0) -> bool:
    return at(file, start + 1024, 2) in (b"H+", b"HX")


class _Fork(msgspec.Struct, frozen=True):
    size: int
    blocks: int
    extents: Extents


def _fork(data: bytes, offset: int) -> _Fork:
    size, _, blocks = struct.unpack_from(">QII", data, offset)
    return _Fork(size, blocks, _extents(data, offset + 16))


def _extents(data: bytes, offset: int) -> Extents:
    """Eight of them, as many as there are."""
    pairs = struct.unpack_from(">16I", data, offset)
    return tuple((pairs[2 * n], pairs[2 * n + 1]) for n in range(8) if pairs[2 * n + 1])


class HfsPlus:
    """A volume in an open file, from ``start`` on. Raises Unreadable."""

    def __init__(self, file: BinaryIO, start: int = 0, name: str = "the volume") -> None:
        self._file, self._start, self._name = file, start, name
        head = at(file, start + 1024, 512)
        if len(head) < 512 or head[:2] not in (b"H+", b"HX"):
            raise Unreadable(f"{name} is no volume of HFS Plus")
        self.block, self.blocks = struct.unpack_from(">II", head, 40)
        if not 512 <= self.block <= 1 << 24 or self.block & (self.block - 1):
            raise Unreadable(f"{name}: blocks of {self.block} bytes")
        self._overflow: dict[tuple[int, int], list[tuple[int, Extents]]] = {}
        for key, data in self._tree(_fork(head, 192), _EXTENTS_FILE):
            if len(key) >= 10 and len(data) >= 64:
                kind, _, number, first = struct.unpack_from(">BBII", key)
                self._overflow.setdefault((number, kind), []).append((first, _extents(data, 0)))
        self._catalog = _fork(head, 272)
        self.label = ""

    def items(self) -> list[VolumeItem]:
        """Everything on it, in the order of the paths; what the system keeps for itself is left out."""
        folders: dict[int, tuple[int, str, int, int, int]] = {}
        files: list[tuple[int, str, bytes]] = []
        for key, data in self._tree(self._catalog, 4):
            if len(key) < 6 or len(data) < 2:
                continue
            parent, length = struct.unpack_from(">IH", key)
            if len(key) < 6 + 2 * length:
                raise Unreadable(f"{self._name}: a name of {length} letters")
            name = key[6 : 6 + 2 * length].decode("utf-16-be", "replace").replace("/", ":")
            kind = struct.unpack_from(">h", data)[0]
            if kind == 1 and len(data) >= 48:
                (number,) = struct.unpack_from(">I", data, 8)
                user, group, _, _, mode = struct.unpack_from(">IIBBH", data, 32)
                folders[number] = (parent, name, mode, user, group)
                if number == ROOT:
                    self.label = name
            elif kind == 2 and len(data) >= 248:
                files.append((parent, name, data))
            if len(files) + len(folders) > MAX_ITEMS:
                raise Unreadable(f"{self._name} holds more than {MAX_ITEMS} files")
        return self._placed(folders, files)

    def _placed(
        self, folders: dict[int, tuple[int, str, int, int, int]], files: list[tuple[int, str, bytes]]
    ) -> list[VolumeItem]:
        known: dict[int, str | None] = {ROOT: ""}

        def path_of(number: int, deep: int = 0) -> str | None:
            """A folder's path; None where it lies nowhere, or in what the system keeps for itself."""
            if number not in known:
                known[number] = None  # one that lies in itself lies nowhere
                if number in folders and deep < MAX_DEPTH:
                    parent, name, *_ = folders[number]
                    above = path_of(parent, deep + 1)
                    if above is not None and is_name(name):
                        known[number] = f"{above}/{name}" if above else name
            return known[number]

        found = []
        private = next((number for number, one in folders.items() if one[0] == ROOT and one[1] == _PRIVATE), 0)
        inodes = {name: data for parent, name, data in files if private and parent == private}
        for number, (_, _, mode, user, group) in folders.items():
            if number != ROOT and (path := path_of(number)) is not None:
                found.append(VolumeItem(path, "folder", mode & 0o7777, user, group))
        for parent, name, data in files:
            above = path_of(parent)
            if above is None or not is_name(name):
                continue
            if data[48:56] == b"hlnkhfs+":  # the content of a hard link lies among the system's own
                data = inodes.get(f"iNode{struct.unpack_from('>I', data, 44)[0]}", data)
            found.append(self._file_item(f"{above}/{name}" if above else name, data))
        return sorted(found, key=lambda item: item.path.split("/"))

    def _file_item(self, path: str, data: bytes) -> VolumeItem:
        (number,) = struct.unpack_from(">I", data, 8)
        user, group, _, flags, mode = struct.unpack_from(">IIBBH", data, 32)
        fork = _fork(data, 88)
        kind: Literal["file", "link", "packed"] = "packed" if flags & _PACKED else "file"
        kind = "link" if stat.S_ISLNK(mode) else kind
        return VolumeItem(path, kind, mode & 0o7777, user, group, fork.size, self._all_places(fork, number, 0))

    def _all_places(self, fork: _Fork, number: int, kind: int) -> Extents:
        """A fork's blocks, with those that its record has no room for."""
        places = fork.extents
        if sum(count for _, count in places) < fork.blocks:
            for _, more in sorted(self._overflow.get((number, kind), [])):
                places += more
        return places

    def open(self, item: VolumeItem) -> BinaryIO:
        """A file's content, or the path that a link leads to. Raises Unreadable while it is read."""
        return cast(BinaryIO, VolumeContent(self._file, self._start, self.block, item.places, item.size))

    def _tree(self, fork: _Fork, number: int) -> Iterator[tuple[bytes, bytes]]:
        """The keys and records of a tree's leaves, in their order."""
        if not fork.size:
            return
        places = fork.extents if number == _EXTENTS_FILE else self._all_places(fork, number, 0)
        file = VolumeContent(self._file, self._start, self.block, places, fork.size)
        head = file.read(512)
        if len(head) < 512:
            raise Unreadable(f"{self._name}: a tree without a head")
        first, size = struct.unpack_from(">I", head, 24)[0], struct.unpack_from(">H", head, 32)[0]
        if size < 512 or size & (size - 1):
            raise Unreadable(f"{self._name}: nodes of {size} bytes")
        seen = 0
        while first:
            seen += 1
            if seen > MAX_NODES or (first + 1) * size > fork.size:
                raise Unreadable(f"{self._name}: a tree that has no end")
            file.seek(first * size)
            node = file.read(size)
            following, _, kind, _, count = struct.unpack_from(">IIbBH", node)
            if kind != -1 or 14 + 2 * count > size:
                raise Unreadable(f"{self._name}: a node that is no leaf")
            yield from self._records(node, count, size)
            first = following

    def _records(self, node: bytes, count: int, size: int) -> Iterator[tuple[bytes, bytes]]:
        places = [struct.unpack_from(">H", node, size - 2 * (number + 1))[0] for number in range(count + 1)]
        for begin, end in itertools.pairwise(places):
            if not 14 <= begin < end <= size or begin + 2 > end:
                raise Unreadable(f"{self._name}: a record that lies outside its node")
            (length,) = struct.unpack_from(">H", node, begin)
            behind = begin + 2 + length
            behind += behind & 1
            if behind > end:
                raise Unreadable(f"{self._name}: a key longer than its record")
            yield node[begin + 2 : begin + 2 + length], node[behind:end]
