"""Volumes of the APFS file system, read-only: every file with owner, mode, size and where it lies.

Source: "Apple File System Reference", and images made by macOS. Encrypted and sealed volumes and disks that are two
in one are refused by name. Snapshots are not looked at: what is read is the state of the last checkpoint.
"""

from __future__ import annotations

import itertools
import stat
import struct
from collections.abc import Iterator
from typing import BinaryIO, Literal, cast

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import packed_content
from yendo.formats.slices import at
from yendo.formats.volume import HOLE, MAX_ITEMS, Extents, VolumeContent, VolumeItem, is_name

MAX_NODES, MAX_DEPTH, MAX_DESCRIPTORS, MAX_ATTRIBUTE = 1 << 19, 64, 1 << 16, 1 << 28
MAX_BLOCKS = 1 << 40
ROOT = 2
_INODE, _ATTRIBUTE, _EXTENT, _ENTRY = 3, 4, 8, 9
_ROOT_NODE, _LEAF, _FIXED = 1, 2, 4
_MASK = (1 << 60) - 1
_MOD = 0xFFFFFFFF
_PACKED = 0x20  # UF_COMPRESSED
_OWN = (".fseventsd", ".HFS+ Private Directory Data\r")  # the system's own, at the top


def is_volume(file: BinaryIO, start: int = 0) -> bool:
    return bool(at(file, start + 32, 4) == b"NXSB")


def checksum(block: bytes) -> int:
    """Of all behind the first eight bytes, after Fletcher, as the file system's own description has it."""
    words: tuple[int, ...] = struct.unpack_from(f"<{len(block) // 4 - 2}I", block, 8)
    first = sum(words) % _MOD
    second = sum(itertools.accumulate(words)) % _MOD
    low = _MOD - (first + second) % _MOD
    return (_MOD - (first + low) % _MOD) << 32 | low


class _Inode(msgspec.Struct, frozen=True):
    """``content`` is the number under which its extents stand."""

    content: int
    mode: int
    user: int
    group: int
    flags: int
    size: int


class _Attribute(msgspec.Struct, frozen=True):
    """``data``, or the ``content`` whose extents have it, of ``size`` bytes."""

    data: bytes
    content: int = 0
    size: int = 0


class _Tree(msgspec.Struct):
    """What a volume's tree says, by the number of the file."""

    label: str
    inodes: dict[int, _Inode] = {}
    entries: list[tuple[int, str, int]] = []  # folder, name, number
    extents: dict[int, list[tuple[int, int, int]]] = {}  # where in the file, first block, bytes
    attributes: dict[tuple[int, str], _Attribute] = {}


class Apfs:
    """The volumes of a container in an open file, from ``start`` on. Raises Unreadable, NotCovered.

    Where there are several, each is a folder by its name.
    """

    def __init__(self, file: BinaryIO, start: int = 0, name: str = "the volume") -> None:
        self._file, self._start, self._name = file, start, name
        head = at(file, start, 4096)
        if len(head) < 4096 or head[32:36] != b"NXSB":
            raise Unreadable(f"{name} is no container of APFS")
        (self.block,) = struct.unpack_from("<I", head, 36)
        if not 4096 <= self.block <= 1 << 16 or self.block & (self.block - 1):
            raise Unreadable(f"{name}: blocks of {self.block} bytes")
        self._nodes = 0
        numbers, virtual = self._last_checkpoint(head)
        self._volumes = [self._read_volume(virtual.get(one, 0)) for one in numbers]
        self.label = " and ".join(one.label for one in self._volumes)

    # blocks and trees

    def _object(self, place: int) -> bytes:
        """A block whose checksum holds. Raises Unreadable."""
        data = b"" if place >= MAX_BLOCKS else at(self._file, self._start + place * self.block, self.block)
        if len(data) < self.block or struct.unpack_from("<Q", data)[0] != checksum(data):
            raise Unreadable(f"{self._name}: block {place} of the container is not what its checksum is over")
        return data

    def _last_checkpoint(self, first: bytes) -> tuple[list[int], dict[int, int]]:
        """The volumes, and where objects lie, by the newest head of the container that is whole with its map."""
        heads = self._heads(first)
        if not heads:
            raise Unreadable(f"{self._name}: no head of the container is whole")
        for tried, head in enumerate(heads, 1):
            if struct.unpack_from("<Q", head, 64)[0] & 0x100:
                raise NotCovered(f"{self._name} lies on two disks in one, which is not read")
            numbers = [one for one in struct.unpack_from("<100Q", head, 184) if one]
            if not numbers:
                raise Unreadable(f"{self._name}: no volume is in the container")
            try:
                return numbers, self._object_map(struct.unpack_from("<Q", head, 160)[0])
            except Unreadable:
                if tried == min(len(heads), 16):
                    raise
        raise AssertionError

    def _heads(self, head: bytes) -> list[bytes]:
        """Those that are whole, the newest first; the one in front may be older than the last."""
        count, (base,) = struct.unpack_from("<I", head, 104)[0], struct.unpack_from("<Q", head, 112)
        if count >> 31 or base >= MAX_BLOCKS:
            raise NotCovered(f"{self._name}: a container whose checkpoints do not lie in one place is not read")
        found: dict[int, bytes] = {}
        for number in range(min(count, MAX_DESCRIPTORS)):
            place = self._start + (base + number) * self.block
            if at(self._file, place + 32, 4) != b"NXSB":
                continue
            data = at(self._file, place, self.block)
            (written,) = struct.unpack_from("<Q", data, 16)
            if len(data) == self.block and struct.unpack_from("<Q", data)[0] == checksum(data):
                found[written] = data
                if len(found) > 64:
                    del found[min(found)]
        if not found and struct.unpack_from("<Q", head)[0] == checksum(at(self._file, self._start, self.block)):
            return [head]
        return [found[written] for written in sorted(found, reverse=True)]

    def _records(self, root: int, virtual: dict[int, int] | None) -> Iterator[tuple[bytes, bytes]]:
        """The keys and values of a tree's leaves, in their order; ``virtual`` says where numbered nodes lie."""
        waiting = [(root, 0)]
        while waiting:
            number, deep = waiting.pop()
            self._nodes += 1
            if self._nodes > MAX_NODES or deep > MAX_DEPTH:
                raise Unreadable(f"{self._name}: a tree that has no end")
            place = number if virtual is None else virtual.get(number)
            if place is None:
                raise Unreadable(f"{self._name}: node {number} is nowhere")
            node = self._object(place)
            flags = struct.unpack_from("<H", node, 32)[0]
            found = list(self._in_node(node, flags))
            if flags & _LEAF:
                yield from found
            else:
                children = [struct.unpack_from("<Q", value)[0] for _, value in found if len(value) >= 8]
                waiting += [(one, deep + 1) for one in reversed(children)]

    def _in_node(self, node: bytes, flags: int) -> Iterator[tuple[bytes, bytes]]:
        count, offset, length = struct.unpack_from("<IHH", node, 36)
        table, end = 56 + offset, self.block - (40 if flags & _ROOT_NODE else 0)
        keys = table + length
        width = 4 if flags & _FIXED else 8
        if table + count * width > keys or keys > end:
            raise Unreadable(f"{self._name}: a node with {count} records has no room for them")
        for number in range(count):
            if flags & _FIXED:
                at_key, at_value = struct.unpack_from("<HH", node, table + 4 * number)
                key_size, value_size = 16, 16 if flags & _LEAF else 8
            else:
                at_key, key_size, at_value, value_size = struct.unpack_from("<4H", node, table + 8 * number)
            if at_value == 0xFFFF:
                yield node[keys + at_key : keys + at_key + key_size], b""
                continue
            if keys + at_key + key_size > end or not keys <= end - at_value <= end - value_size:
                raise Unreadable(f"{self._name}: a record that lies outside its node")
            yield node[keys + at_key : keys + at_key + key_size], node[end - at_value : end - at_value + value_size]

    def _object_map(self, place: int) -> dict[int, int]:
        """Where each numbered object lies, in its newest form."""
        head = self._object(place)
        newest: dict[int, tuple[int, int]] = {}
        for key, value in self._records(struct.unpack_from("<Q", head, 48)[0], None):
            if len(value) < 16:
                continue
            number, written = struct.unpack_from("<QQ", key)
            flags, _, block = struct.unpack_from("<IIQ", value)
            if written >= newest.get(number, (-1, 0))[0]:
                newest[number] = (written, 0 if flags & 1 else block)
            if len(newest) > MAX_NODES:
                raise Unreadable(f"{self._name}: more than {MAX_NODES} objects")
        return {number: block for number, (_, block) in newest.items() if block}

    # volumes

    def _read_volume(self, place: int) -> _Tree:
        head = self._object(place)
        if head[32:36] != b"APSB":
            raise Unreadable(f"{self._name}: what should be a volume is none")
        label = head[704:960].split(b"\0")[0].decode("utf-8", "replace")
        features, flags = struct.unpack_from("<Q", head, 56)[0], struct.unpack_from("<Q", head, 264)[0]
        if not flags & 1:
            raise NotCovered(f"the volume {label} of {self._name} is encrypted, and is not read")
        if features & 0x20:
            raise NotCovered(f"the volume {label} of {self._name} is sealed, as the system's own is, and is not read")
        virtual = self._object_map(struct.unpack_from("<Q", head, 128)[0])
        tree = _Tree(label)
        hashed = bool(features & 0x9)
        for key, value in self._records(struct.unpack_from("<Q", head, 136)[0], virtual):
            if len(key) >= 8:
                first = struct.unpack_from("<Q", key)[0]
                self._take(tree, first & _MASK, first >> 60, key, value, hashed)
            if len(tree.inodes) + len(tree.entries) + len(tree.attributes) > 3 * MAX_ITEMS:
                raise Unreadable(f"{self._name} holds more than {MAX_ITEMS} files")
        return tree

    def _take(self, tree: _Tree, number: int, kind: int, key: bytes, value: bytes, hashed: bool) -> None:
        try:
            if kind == _INODE:
                tree.inodes[number] = _inode(value)
            elif kind == _ENTRY:
                width = 12 if hashed else 10
                tree.entries.append((number, _text(key[width:]), struct.unpack_from("<Q", value)[0]))
            elif kind == _EXTENT:
                length, block = struct.unpack_from("<QQ", value)
                if block >= MAX_BLOCKS:
                    raise Unreadable(f"{self._name}: a piece of a file at block {block}")
                where = struct.unpack_from("<Q", key, 8)[0]
                tree.extents.setdefault(number, []).append((where, block, length & ((1 << 56) - 1)))
            elif kind == _ATTRIBUTE:
                flags, length = struct.unpack_from("<HH", value)
                if flags & 1:
                    content, size = struct.unpack_from("<QQ", value, 4)
                    one = _Attribute(b"", content, size)
                else:
                    one = _Attribute(value[4 : 4 + length])
                tree.attributes[number, _text(key[10:])] = one
        except struct.error as error:
            raise Unreadable(f"{self._name}: a record of {len(value)} bytes is too short") from error

    def items(self) -> list[VolumeItem]:
        """Everything on it, in the order of the paths; what the system keeps for itself is left out."""
        found: list[VolumeItem] = []
        for index, tree in enumerate(self._volumes):
            above = f"{tree.label.replace('/', ':')}/" if len(self._volumes) > 1 else ""
            found += self._items_of(index, tree, above)
            if len(found) > MAX_ITEMS:
                raise Unreadable(f"{self._name} holds more than {MAX_ITEMS} files")
        return sorted(found, key=lambda item: item.path.split("/"))

    def _items_of(self, index: int, tree: _Tree, above: str) -> Iterator[VolumeItem]:
        inside: dict[int, list[tuple[str, int]]] = {}
        for folder, name, number in tree.entries:
            inside.setdefault(folder, []).append((name, number))
        waiting, seen = [(ROOT, above)], {ROOT}
        while waiting:
            folder, path = waiting.pop()
            for name, number in inside.get(folder, []):
                inode = tree.inodes.get(number)
                name = name.replace("/", ":")  # as Unix programs see it
                if inode is None or not is_name(name) or path.count("/") > MAX_DEPTH or path + name in _OWN:
                    continue
                kind = stat.S_IFMT(inode.mode)
                if kind == stat.S_IFDIR and number not in seen:
                    seen.add(number)
                    waiting.append((number, f"{path}{name}/"))
                if kind in (stat.S_IFDIR, stat.S_IFREG, stat.S_IFLNK):
                    yield self._item(index, tree, number, f"{path}{name}")

    def _item(self, index: int, tree: _Tree, number: int, path: str) -> VolumeItem:
        inode = tree.inodes[number]
        kind: Literal["file", "folder", "link", "packed"] = "file"
        size, places = inode.size, self._places(tree, inode.content, inode.size)
        if stat.S_ISDIR(inode.mode):
            kind, size, places = "folder", 0, ()
        elif stat.S_ISLNK(inode.mode):
            kind, places = "link", ()
            size = len(tree.attributes.get((number, "com.apple.fs.symlink"), _Attribute(b"")).data)
        elif inode.flags & _PACKED and (head := tree.attributes.get((number, packed_content.HEAD))):
            size = packed_content.size_of(head.data)
            kind = "file" if packed_content.is_known(head.data) else "packed"
            places = ()
        mode = inode.mode & 0o7777
        return VolumeItem(path, kind, mode, inode.user, inode.group, size, places, number | index << 60)

    def _places(self, tree: _Tree, content: int, size: int) -> Extents:
        """Where a content lies, holes among it. Raises Unreadable."""
        found: list[tuple[int, int]] = []
        end = 0
        for where, block, length in sorted(tree.extents.get(content, ())):
            if where < end or where % self.block or length % self.block:
                raise Unreadable(f"{self._name}: pieces of a file lie over one another")
            if where > end:
                found.append((HOLE, (where - end) // self.block))
            found.append((block or HOLE, length // self.block))
            end = where + length
        if size > end:
            found.append((HOLE, -(-(size - end) // self.block)))
        return tuple(found)

    def open(self, item: VolumeItem) -> BinaryIO:
        """A file's content, or the path that a link leads to. Raises Unreadable while it is read."""
        tree, number = self._volumes[item.number >> 60], item.number & _MASK
        if item.kind == "link":
            return self._attribute(tree, number, "com.apple.fs.symlink")
        if item.size and not item.places:
            head = self._attribute(tree, number, packed_content.HEAD).read(1 << 16)
            fork = self._attribute(tree, number, "com.apple.ResourceFork")
            return packed_content.opened(head, fork)
        return self._content(item.places, item.size)

    def _content(self, places: Extents, size: int) -> BinaryIO:
        return cast(BinaryIO, VolumeContent(self._file, self._start, self.block, places, size))

    def _attribute(self, tree: _Tree, number: int, name: str) -> BinaryIO:
        one = tree.attributes.get((number, name), _Attribute(b""))
        if one.content:
            return self._content(self._places(tree, one.content, one.size), min(one.size, MAX_ATTRIBUTE))
        return packed_content.in_memory(one.data)


def _text(data: bytes) -> str:
    return data.split(b"\0")[0].decode("utf-8", "replace")


def _inode(value: bytes) -> _Inode:
    content = struct.unpack_from("<Q", value, 8)[0]
    flags, user, group, mode = struct.unpack_from("<IIIH", value, 68)
    return _Inode(content, mode, user, group, flags, _size(value))


def _size(value: bytes) -> int:
    """A file's size in bytes, which stands among the fields behind the record."""
    if len(value) < 96:
        return 0
    (count,) = struct.unpack_from("<H", value, 92)
    place = 96 + 4 * count
    for number in range(min(count, 64)):
        kind, _, length = struct.unpack_from("<BBH", value, 96 + 4 * number)
        if kind == 8:
            return int(struct.unpack_from("<Q", value, place)[0])
        place += -(-length // 8) * 8
    return 0
